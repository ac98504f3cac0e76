"""Sound in the browser: from nothing to a level in the standing, by keys, by the microphone."""

import re

from playwright.sync_api import expect

from hauch.sound.models import SoundRecording
from tests.browser.base import BrowserTests
from tests.browser.test_accessible import AXE, FITS, LOOK
from tests.sounds import SAMPLES, analyse_waiting, calibrated, confirm, hand_in

REFUSE = """() => {
  const no = () => Promise.reject(new DOMException("", "NotAllowedError"));
  navigator.mediaDevices.getUserMedia = no;
}"""


class FromNothingTests(BrowserTests):
    """A round without a recording, in the order in which a newcomer goes."""

    def confirm_row(self, page, name, **fields):
        row = page.locator("tr", has_text=name)
        for label, text in fields.items():
            row.get_by_label(re.compile(f"^{label}")).fill(text)

    def test_from_the_bench_to_what_a_meter_misses(self):
        page = self.sign_in("operator")
        page.goto(self.in_round("bench/"))
        page.get_by_role("link", name="Sound recordings").click()
        expect(page.get_by_text("No recording is in yet")).to_be_visible()
        page.get_by_role("link", name="Begin a session").click()
        page.get_by_label("Distance from the part").fill("1 m")
        page.get_by_label("Room").fill("loft")
        page.get_by_label("Calibrated by").select_option("tone")
        page.get_by_role("button", name="Begin").click()
        expect(page.get_by_text("Enter the level that stands on the calibrator")).to_be_visible()
        page.get_by_label("Level of the calibrator").fill("94")
        page.get_by_role("button", name="Begin").click()
        expect(page.get_by_text("Nothing is handed in yet")).to_be_visible()
        names = ("calibrator.flac", "background.flac", "fan.flac", "whistle.flac")
        wrong = {"name": "notes.wav", "mimeType": "audio/wav", "buffer": b"no sound"}
        page.set_input_files("#sound", [wrong])
        page.get_by_role("button", name="Hand in").click()
        expect(page.get_by_text("notes.wav: It is no sound that can be read here")).to_be_visible()
        several = [{"name": n, "mimeType": "", "buffer": (SAMPLES / n).read_bytes()} for n in names]
        page.set_input_files("#sound", [several[0], wrong, *several[1:]])
        page.get_by_role("button", name="Hand in").click()
        expect(page.get_by_text("4 of 5 are in")).to_be_visible()
        expect(page.get_by_text("notes.wav: It is no sound that can be read here")).to_be_visible()
        page.get_by_role("link", name="Look at those that are in").click()
        page.get_by_role("button", name="Confirm, and analyse").click()
        expect(page.get_by_text("fan.flac: Say what part is heard")).to_be_visible()
        expect(page.get_by_label("What calibrator.flac is")).to_have_value("tone")
        expect(page.get_by_label("What background.flac is")).to_have_value("room")
        reference = f"{self.built.reference}, reference"
        self.confirm_row(page, "fan.flac", Part=reference, Blades="7", Speed="1850")
        self.confirm_row(page, "whistle.flac", Part="Amsel, specimen R-1", Blades="7", Speed="1850")
        page.get_by_role("button", name="Confirm, and analyse").click()
        expect(page.get_by_text("waiting for the worker").first).to_be_visible()
        analyse_waiting()
        row = page.locator("tr", has_text="Amsel").last
        expect(row).to_contain_text("58.3")  # it comes by itself
        row.get_by_role("link", name="Amsel").click()
        self.look_at(page)

    def look_at(self, page):
        """The page of the whistle: picture, sound, keys, another stretch, the Desk."""
        expect(page.locator("p.lead")).to_contain_text("a 2,900 Hz whistle is new")
        canvas = page.locator("canvas")
        expect(canvas).to_have_attribute("data-drawn", "yes")
        self.assertEqual(self.charts_drawn(4), 4)
        page.evaluate(AXE)
        self.assertEqual(page.evaluate(LOOK), [])
        before = canvas.screenshot()
        canvas.focus()
        page.keyboard.press("+")
        self.changes_from(before, canvas)
        page.get_by_label("Loop").check()
        page.get_by_role("button", name="Play").click()
        expect(page.get_by_role("button", name="Stop")).to_be_visible()
        expect(canvas).to_have_attribute("data-at", re.compile(r"^[1-9]"), timeout=20_000)
        page.get_by_role("button", name="Stop").click()
        expect(page.get_by_role("button", name="Play")).to_be_visible()
        page.get_by_text("Use another stretch").click()
        page.get_by_label("From, s").fill("1")
        page.get_by_label("To, s").fill("4")
        page.get_by_role("button", name="Use it").click()
        expect(page.get_by_text("Say in a few words why")).to_be_visible()
        page.get_by_label("Why").fill("steady there")
        page.get_by_role("button", name="Use it").click()
        expect(page.get_by_text("You can leave this page")).to_be_visible()
        analyse_waiting()
        expect(page.get_by_text("by hand: steady there")).to_be_visible()
        page.get_by_role("link", name=re.compile("A silencer of")).first.click()
        expect(page.get_by_label("Measured whistle")).to_have_value(re.compile("^2,?900"))


class MicrophoneTests(BrowserTests):
    arguments = ("--use-fake-device-for-media-stream", "--use-fake-ui-for-media-stream")
    measured = False

    def test_recorded_here_and_handed_in(self):
        session = calibrated(self.built)
        page = self.sign_in("operator", self.new_page(permissions=["microphone"]))
        page.goto(self.url(session.get_absolute_url()))
        page.get_by_role("link", name="Record with this device").click()
        page.get_by_label("What is recorded").fill("Amsel, specimen R-1")
        page.get_by_role("button", name="Record").click()
        expect(page.get_by_role("button", name="Stop")).to_be_visible()
        expect(page.locator("[data-number]")).to_contain_text("below full scale")
        expect(page.locator("[data-clock]")).to_have_text(
            re.compile(r"^[2-9]\.\d s"), timeout=30_000
        )
        page.get_by_role("button", name="Stop").click()
        expect(page.get_by_text("s are recorded")).to_be_visible()
        page.get_by_role("button", name="Hand it in").click()
        expect(page.get_by_label(re.compile("^Part that is heard in Amsel"))).to_have_value(
            "Amsel, specimen R-1"
        )
        row = SoundRecording.objects.get(state=SoundRecording.State.NEW)
        self.assertEqual((row.coding, row.channels), ("WAV, 24 bit", 1))
        self.assertGreater(row.seconds, 1.5)

    def test_refused_and_on_a_phone(self):
        session = calibrated(self.built)
        page = self.sign_in("operator", self.new_page(viewport={"width": 390, "height": 844}))
        page.goto(self.url(session.get_absolute_url() + "microphone/"))
        self.assertTrue(page.evaluate(FITS))
        page.evaluate(REFUSE)
        page.get_by_role("button", name="Record").click()
        expect(page.get_by_text("The microphone was refused")).to_be_visible()


class DesignerTests(BrowserTests):
    def test_a_designer_hears_the_own_entry_alone(self):
        session = calibrated(self.built)
        for name, entry in (("whistle.flac", "Amsel"), ("fan.flac", "Binse")):
            confirm(self.built, hand_in(self.built, session, name), self.built.specimens[entry])
        page = self.sign_in("designer")
        page.goto(self.in_round("sound/"))
        expect(page.get_by_role("link", name="Amsel")).to_be_visible()
        expect(page.get_by_text("Binse")).to_have_count(0)
        page.get_by_role("link", name="Amsel").click()
        expect(page.get_by_role("button", name="Play")).to_be_visible()
        expect(page.get_by_role("button", name="Take it out")).to_have_count(0)


class ListeningTests(BrowserTests):
    def setUp(self):
        super().setUp()
        session = calibrated(self.built)
        for name, entry in (("whistle.flac", "Amsel"), ("fan.flac", "Binse")):
            confirm(self.built, hand_in(self.built, session, name), self.built.specimens[entry])

    def test_two_side_by_side_switched_by_keys(self):
        page = self.sign_in("operator")
        page.goto(self.in_round("sound/"))
        page.get_by_role("link", name="Listen to two").click()
        player = page.locator("[data-together]")
        expect(player).to_have_attribute("data-heard", "A")
        page.keyboard.press("Space")
        expect(player).to_have_attribute("data-playing", "yes")
        expect(player).to_have_attribute(
            "data-at", re.compile(r"^(0\.[3-9]|[1-9])"), timeout=20_000
        )
        page.keyboard.press("b")
        expect(player).to_have_attribute("data-heard", "B")
        before = float(player.get_attribute("data-at"))
        page.keyboard.press("a")
        expect(player).to_have_attribute("data-heard", "A")
        self.assertGreaterEqual(float(player.get_attribute("data-at")), before)  # no place is lost
        page.get_by_label("equally loud").check()
        page.evaluate(AXE)
        self.assertEqual(page.evaluate(LOOK), [])

    def test_a_blind_test_to_its_result(self):
        page = self.sign_in("operator")
        page.goto(self.in_round("sound/"))
        page.get_by_role("link", name="Blind listening").click()
        page.get_by_label("Trials of each listener").fill("3")
        for name in ("Amsel", "Binse"):
            page.get_by_label(re.compile(name)).check()
        page.get_by_role("button", name="Open it").click()
        link = page.get_by_label("Send it, or show it").input_value()
        phone = self.new_page(viewport={"width": 390, "height": 844})
        phone.goto(link)
        self.assertTrue(phone.evaluate(FITS))
        phone.get_by_label("Your name or initials").fill("Ilse")
        phone.get_by_role("button", name="Begin").click()
        for trial in (1, 2, 3):
            expect(phone.get_by_text(f"Trial {trial} of 3")).to_be_visible()
            phone.get_by_role("button", name="X", exact=False).first.click()
            expect(phone.locator("[data-together]")).to_have_attribute("data-playing", "yes")
            self.assertTrue(phone.evaluate(FITS))
            phone.get_by_role("button", name="X is A").click()
        expect(phone.get_by_text(re.compile(r"\d of 3 were right"))).to_be_visible()
        page.reload()
        expect(page.get_by_text(re.compile(r"\d of 3 answers are right"))).to_be_visible()
        page.get_by_role("button", name="Close").click()
        expect(page.get_by_text("The listening is closed.")).to_be_visible()
        phone.reload()
        expect(phone.get_by_text("This listening is closed")).to_be_visible()
