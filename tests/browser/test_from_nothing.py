"""A newcomer at an empty installation, as `./hauch start --no-demo` leaves it, in the order in
which the pages lead: stores, brief, entry, workshop, bench, verdict. The reference goes first.
"""

import os
import re
import tempfile
from pathlib import Path

from playwright.sync_api import expect

from hauch.bench.models import Run
from hauch.people.models import User
from hauch.verdict.models import Settling, Standing
from hauch.verdict.settling import work_out
from tests.browser.base import BrowserTests
from tests.builder import PASSWORD
from tests.plans import plan_now
from tests.sounds import SAMPLES, analyse_waiting
from tests.web.test_people import code_of


class FromNothingTests(BrowserTests):
    kinds, measured = ("nothing",), False

    def make(self):
        return User.objects.create_user("host", password=PASSWORD, first_name="Host", is_staff=True)

    def fill(self, fields):
        for name, value in fields.items():
            self.page.locator(f"main [name={name}]").fill(value)

    def put_up_the_tunnel(self):
        page = self.page
        page.get_by_role("link", name="Stores").first.click()
        page.get_by_label("Add a meter for").select_option(label="Air speed")
        page.get_by_role("button", name="Add", exact=True).first.click()
        self.fill({"name": "Vane", "resolution": "0.1", "accuracy": "0.5"})
        page.get_by_role("button", name="Save").click()
        page.get_by_role("link", name="Stores").first.click()
        page.get_by_label("Set up a").select_option(label="Tunnel")
        page.get_by_role("button", name="Set up", exact=True).click()
        self.fill(
            {
                "c_bore": "125",
                "u_bore": "0.2",
                "c_profile_factor": "0.85",
                "u_profile_factor": "0.02",
                "name": "Tube",
            }
        )
        page.locator("[name=m_air_speed]").select_option(label="Vane")
        page.get_by_role("button", name="Save").click()

    def take_in_the_reference(self):
        page = self.page
        page.get_by_role("link", name="Stores").first.click()
        page.get_by_text("Add a reference specimen").click()
        self.fill({"type_name": "Loft-140"})
        page.get_by_label("Serial").fill("L-02")
        page.locator("aside").get_by_role("button", name="Add", exact=True).click()
        expect(page.get_by_role("heading", name=re.compile("Loft-140 L-02"))).to_be_visible()

    def begin_a_round(self):
        page = self.page
        page.get_by_role("link", name="Hauch, home").click()
        page.get_by_role("link", name="Write a full brief").click()
        page.get_by_label("Title").fill("Drying loft")
        page.get_by_text("Most air from a rotor").click()
        page.get_by_role("button", name="Begin", exact=True).click()

    def read(self, *values):
        """Two readings by hand, with the room."""
        page = self.page
        expect(page.locator("#r-air_speed")).to_be_focused()
        for value in values:
            page.keyboard.type(value)
            page.keyboard.press("Space")
        for label, value in (
            ("Room temperature", "21.5"),
            ("Air pressure", "965"),
            ("Relative humidity", "48"),
        ):
            if not page.get_by_label(label).input_value():
                page.get_by_label(label).fill(value)
        page.locator("#accept").click()

    def nothing_to_decide_yet(self):
        """What the verdict offers, before an entry was run."""
        page = self.page
        page.get_by_role("link", name="What if?").click()
        expect(page.get_by_text("Nobody is ranked by this")).to_be_visible()
        page.keyboard.press("5")
        page.get_by_role("link", name="Side by side").click()
        expect(page.get_by_text("Nothing was run beside the reference yet")).to_be_visible()
        page.keyboard.press("5")
        page.get_by_role("link", name="What would settle it?").click()
        page.get_by_role("button", name="Work it out").click()
        work_out(Settling.objects.get().pk)
        expect(page.get_by_text("Nobody can be ranked yet")).to_be_visible()

    def one_entry_to_decide_on(self):
        """And with one entry that was repeated."""
        page = self.page
        page.get_by_role("link", name="What if?").click()
        expect(page.get_by_text("The first place stays with Amsel")).to_be_visible()
        page.keyboard.press("5")
        page.get_by_role("link", name="Side by side").click()
        expect(page.get_by_role("cell", name="Air through the tunnel")).to_be_visible()
        page.keyboard.press("2")
        page.locator("main").get_by_role("link", name="Amsel").first.click()
        page.get_by_role("link", name="Accept or reject").click()
        expect(page.get_by_text("No limit is set yet")).to_be_visible()
        page.get_by_label("against the reference").fill("3")
        page.get_by_role("button", name="Set the limits").click()
        expect(page.get_by_text("Accepted: Air through the tunnel rose by")).to_be_visible()
        expect(page.get_by_text("after this version’s first run")).to_be_visible()
        page.get_by_text("Decide", exact=True).click()
        page.get_by_role("button", name="Keep the decision").click()
        expect(page.get_by_text("Say why in a few words")).to_be_visible()
        page.get_by_label("Why").fill("More air than the stock part.")
        page.get_by_role("button", name="Keep the decision").click()
        expect(page.get_by_text("Version 1 is accepted.", exact=True)).to_be_visible()

    def nothing_to_put_beside_it(self):
        """Seasons, with and without, what to change next: each says what is missing."""
        page = self.page
        page.get_by_role("link", name="Hauch, home").click()
        page.get_by_role("link", name="Seasons").click()
        expect(page.get_by_text("No season yet")).to_be_visible()
        page.get_by_label("Title").fill("First year")
        page.get_by_role("button", name="Begin").click()
        expect(page.get_by_text("Put rounds in, in their order")).to_be_visible()
        page.get_by_role("button", name="Put in").click()
        expect(page.get_by_text("Nobody has points yet")).to_be_visible()
        expect(page.get_by_text("Measured of one entry alone: 1 figure")).to_be_visible()
        page.locator("aside").get_by_role("link", name="Drying loft").click()
        expect(page.get_by_role("link", name="First year")).to_be_visible()
        page.get_by_text("What its figures scatter by").click()
        expect(
            page.get_by_text("Too little was repeated on the rigs of this round")
        ).to_be_visible()
        page.get_by_role("link", name="Side by side").click()
        page.get_by_role("link", name="With and without").click()
        expect(page.get_by_text("Nothing was run at two settings yet")).to_be_visible()
        page.keyboard.press("2")
        page.locator("main").get_by_role("link", name="Amsel").first.click()
        page.get_by_role("link", name="What to change next").click()
        expect(page.get_by_text("Nothing is known yet that would make it better")).to_be_visible()

    def plan_the_day(self):
        """What is missing leads to where it is said, and then there is a plan."""
        page = self.page
        page.get_by_role("link", name="Hauch, home").click()
        page.get_by_role("link", name="Plan of the day").click()
        page.get_by_role("button", name="Make a plan").click()
        plan_now()
        expect(page.get_by_text("Nobody has said yet when somebody is there.")).to_be_visible()
        page.get_by_role("link", name="Set hours").click()
        for day in range(7):
            page.locator(f"[name=from_{day}]").first.fill("00:00")
            page.locator(f"[name=to_{day}]").first.fill("23:59")
        page.locator("#hours").get_by_role("button", name="Save").click()
        expect(page.get_by_text("Mo to Su 0:00–23:59")).to_be_visible()
        page.get_by_role("link", name="To the plan").click()
        page.get_by_role("button", name="Make a plan").click()
        plan_now()
        expect(page.get_by_role("heading", name="The day as a list")).to_be_visible()
        expect(page.locator(".plan-list")).to_contain_text("Amsel (D-01)")
        page.locator(".plan-list").get_by_role("link", name="Amsel (D-01)").first.click()
        expect(page.get_by_role("heading", level=1)).to_contain_text("Amsel")

    def changed_while_the_reference_ran(self, name):
        """A sample whose time speaks for a run of another part than the one that is named."""
        folder = tempfile.TemporaryDirectory()
        self.addCleanup(folder.cleanup)
        path = Path(folder.name) / name
        path.write_bytes((SAMPLES / name).read_bytes())
        when = Run.objects.filter(reference__isnull=False).latest("started_at").started_at
        os.utime(path, (when.timestamp(), when.timestamp()))
        return path

    def record_the_sound(self):
        """The part before the calibrator's tone, as a newcomer would: it says what is missing, and is
        analysed by itself once the tone is in.
        """
        page = self.page
        page.keyboard.press("4")
        page.get_by_role("link", name="Sound recordings").click()
        page.get_by_role("link", name="Begin a session").click()
        page.get_by_label("Distance from the part").fill("1 m")
        page.get_by_label("Room").fill("loft")
        page.get_by_label("Calibrated by").select_option("tone")
        page.get_by_label("Level of the calibrator").fill("94")
        page.get_by_role("button", name="Begin").click()
        page.set_input_files("#sound", [self.changed_while_the_reference_ran("fan.flac")])
        page.get_by_role("button", name="Hand in").click()
        row = page.locator("tr", has_text="fan.flac")
        expect(row.get_by_label(re.compile("^Part"))).to_have_value(re.compile("Loft-140"))
        row.get_by_label(re.compile("^Part")).fill("Amsel, specimen D-01")
        page.get_by_role("button", name="Confirm, and analyse").click()
        expect(page.get_by_text("waiting for the worker").first).to_be_visible()
        analyse_waiting()
        page.locator("tr", has_text="fan.flac").get_by_role("link", name="Amsel").click()
        expect(page.get_by_text("tone is in yet")).to_be_visible()
        page.get_by_role("link", name="its session").click()
        page.set_input_files("#sound", [SAMPLES / "calibrator.flac", SAMPLES / "background.flac"])
        page.get_by_role("button", name="Hand in").click()
        page.get_by_role("button", name="Confirm, and analyse").click()
        expect(page.get_by_text("waiting for the worker").first).to_be_visible()
        analyse_waiting()
        row = page.locator("tr", has_text="fan.flac")
        expect(row).to_contain_text("dB")
        row.get_by_role("link", name="Amsel").click()
        expect(page.get_by_role("heading", name="Amsel, sound")).to_be_visible()
        expect(page.get_by_role("row", name="Without the background")).to_contain_text("51.7")

    def test_the_first_run_is_the_references_and_nothing_is_lost(self):
        page = self.sign_in_by_hand("host")
        expect(page.get_by_role("heading", name="What do you want to compare?")).to_be_visible()
        self.put_up_the_tunnel()
        self.take_in_the_reference()
        self.begin_a_round()
        page.get_by_label("What may vary, what stays").fill("The rotor only.")
        page.get_by_role("button", name="Save").click()
        page.get_by_role("link", name="The envelope with its dimensions").click()
        page.get_by_role("button", name="Save").click()
        page.get_by_role("link", name="Bench").click()
        page.get_by_role("link", name="The reference: does it hold?").click()
        page.get_by_role("button", name="Make it the reference").click()
        expect(page.get_by_text("L-02 has no run with a result yet")).to_be_visible()
        page.keyboard.press("1")
        page.get_by_role("button", name="Open for entries").click()
        expect(page.locator("#messages")).to_contain_text("open for entries")
        page.keyboard.press("2")
        page.get_by_label("Name", exact=True).fill("Amsel")
        page.get_by_role("button", name="Hand in").click()
        expect(page.get_by_text("Drop parts here")).to_be_visible()
        page.keyboard.press("3")
        expect(
            page.get_by_role("heading", name="What is printed, and what is ready for the bench")
        ).to_be_visible()
        page.get_by_text("Add or plan a print").click()
        page.get_by_label("Printed of").select_option(label="Amsel, version 1")
        page.locator("main [name=code]").fill("D-01")
        page.locator("aside").get_by_role("button", name="Add", exact=True).click()
        expect(page.get_by_role("heading", name="Steps, in this order")).to_be_visible()
        for left in ("2 of 3 left", "1 of 3 left", "0 of 3 left"):
            page.locator(".work-steps").get_by_role("button", name="Done", exact=True).first.click()
            expect(page.get_by_text(left)).to_be_visible()
        page.get_by_role("link", name="To the safety gate").click()
        expect(page.get_by_text("The tips may run at 30 m/s at most")).to_be_visible()
        for box in page.locator("[name=confirmed]").all():
            box.check()
        page.get_by_role("button", name="onto the bench").click()
        expect(page.locator("#messages")).to_contain_text("D-01 is ready for the bench")
        page.keyboard.press("4")
        expect(page.get_by_text("Loft-140 L-02").first).to_be_visible()
        expect(page.get_by_role("heading", name="Next: Loft-140 L-02")).to_be_visible()
        page.get_by_role("link", name="Take by hand").first.click()
        self.read("14.2", "14.4")
        expect(page.get_by_role("heading", level=1)).to_contain_text("Amsel")  # what is due next
        self.assertEqual(
            [(str(run.reference), run.result.missing) for run in Run.objects.all()],
            [("Loft-140 L-02", "")],
        )
        page.keyboard.press("Escape")  # out of the field
        page.keyboard.press("5")
        expect(page.get_by_text("No entry can be ranked yet")).to_be_visible()
        expect(page.get_by_text("Not complete: air through the tunnel missing.")).to_be_visible()
        self.nothing_to_decide_yet()
        page.keyboard.press("4")
        page.get_by_role("link", name="Take by hand").first.click()
        self.read("15.6", "15.8")
        expect(page.get_by_role("heading", level=1)).to_contain_text("repeat 2")
        page.keyboard.press("Escape")  # out of the field
        page.keyboard.press("5")
        expect(page.get_by_text("nothing was repeated, and the rig's history")).to_be_visible()
        expect(page.get_by_text("not repeated by anyone yet")).to_be_visible()
        page.keyboard.press("4")
        page.get_by_role("link", name="Take by hand").first.click()
        self.read("15.7", "15.9")
        expect(page.get_by_role("heading", level=1)).to_contain_text("repeat 3")
        page.keyboard.press("Escape")  # out of the field
        page.keyboard.press("5")
        expect(page.get_by_text("Amsel is the only entry with all figures")).to_be_visible()
        self.one_entry_to_decide_on()
        self.nothing_to_put_beside_it()
        self.record_the_sound()
        self.plan_the_day()
        self.assertEqual((Run.objects.count(), Standing.objects.get().failure), (3, ""))

    def test_the_first_person_turns_a_second_factor_on_and_signs_in_with_it(self):
        page = self.sign_in_by_hand("host")
        page.get_by_role("link", name="Host", exact=True).click()
        page.get_by_role("link", name="Second factor: off").click()
        page.get_by_label("Code").fill("12 34 56")
        page.get_by_role("button", name="Turn it on").click()
        expect(page.get_by_role("alert")).to_contain_text("not the code that the app shows now")
        page.get_by_label("Code").fill(code_of(User.objects.get(), confirmed=False))
        page.keyboard.press("Enter")
        paper = page.locator(".codes li")
        expect(paper).to_have_count(8)
        on_paper = paper.first.inner_text()
        page.get_by_role("link", name="They are kept").click()
        page.get_by_role("button", name="Sign out").click()
        page.get_by_label("Username").fill("host")
        page.get_by_label("Password").fill(PASSWORD)
        page.keyboard.press("Enter")
        expect(page.get_by_role("heading", name="The code from your app")).to_be_visible()
        page.get_by_label("Code").fill(on_paper)
        page.keyboard.press("Enter")
        expect(page.get_by_role("link", name="Host", exact=True)).to_be_visible()
