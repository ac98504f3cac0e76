"""The way through a round: home, entries, verdict, export and import; keys and labels on every
page.
"""

import zipfile

from playwright.sync_api import expect

from hauch.entries.models import Entry
from hauch.rounds.models import Round, RuleTerm, RuleVersion
from hauch.verdict.judging import refresh
from hauch.verdict.models import Settling
from hauch.verdict.settling import work_out
from tests.browser.base import BrowserTests


class VerdictTests(BrowserTests):
    def test_figures_open_their_working(self):
        page = self.sign_in("host")
        page.goto(self.in_round("verdict/"))
        expect(page.get_by_role("heading", level=1)).to_have_text(
            "Which rotor dries most for its power?"
        )
        expect(page.locator(".lead")).to_contain_text("Amsel leads with")
        expect(page.locator("#working")).to_contain_text("Amsel, Air test")
        row = page.get_by_role("row").filter(has_text="Binse")
        expect(row).to_contain_text("too close to call")
        row.locator("a.cell").nth(1).click()
        expect(page.locator("#working")).to_contain_text("Binse, Power test")
        expect(page.locator("#working")).to_contain_text("The reference at those moments")
        self.assertEqual(self.charts_drawn(1), 1)
        page.locator("#working").get_by_role("link", name="Run").first.click()
        expect(page.locator("#working")).to_contain_text("Direct current power")

    def test_rules_can_be_compared(self):
        rules = RuleVersion.objects.create(
            round=self.built.round,
            number=2,
            created_by=self.built.host,
            draws=1000,
            reason="Power first.",
        )
        rules.tests.set(self.built.tests.values())
        RuleTerm.objects.create(rules=rules, test=self.built.tests["power"], weight=1)
        refresh(rules)
        page = self.sign_in("host")
        page.goto(self.in_round("verdict/"))
        expect(page.locator(".lead")).not_to_contain_text("Amsel leads with")
        page.get_by_role("link", name="Under rules v1").click()
        expect(page.locator(".lead")).to_contain_text("Amsel leads with")

    def test_a_weight_is_wondered_about_kept_and_proposed(self):
        """From the standing by slider and keys to the look at a change of rules."""
        for n in range(3):
            self.built.power(self.built.specimens["Binse"], 600 + 5 * n, 0.34)
            self.built.power(self.built.reference, 602 + 5 * n, 0.4)
        refresh(self.built.round.rules.get())
        page = self.sign_in("host")
        page.goto(self.in_round("verdict/"))
        page.get_by_role("link", name="What if?").click()
        expect(page.get_by_text("These are the rules as they are")).to_be_visible()
        slider = page.get_by_role("slider", name="Weight of Power test")
        slider.focus()
        page.keyboard.press("End")
        expect(page.get_by_text("The first place goes from Amsel to")).to_be_visible()
        expect(page.locator(".told li").first).to_contain_text("carried by Power test")
        expect(page.locator(".slopes path.up").first).to_be_attached()
        expect(page.get_by_label("Power test", exact=False).nth(1)).not_to_have_value("1")
        self.assertIn("w_power", page.url)
        page.reload()  # the address is what is seen
        expect(page.get_by_text("The first place goes from Amsel to")).to_be_visible()
        page.get_by_label("or keep it as").fill("Power rules")
        page.get_by_role("button", name="Keep").click()
        expect(page.get_by_role("link", name="Power rules")).to_be_visible()
        field = page.locator("#w-air")
        field.fill("much")
        field.blur()
        expect(page.get_by_text("The weight of “Air test”")).to_be_visible()
        page.get_by_role("link", name="Power rules").click()
        page.get_by_role("link", name="Propose it").click()
        expect(page.get_by_text("stand as you wondered")).to_be_visible()
        page.get_by_label("Why do the rules change?").fill("Power matters.")
        page.get_by_role("button", name="See what it would do").click()
        expect(page.get_by_text("What this would do")).to_be_visible()
        expect(page.locator("em.close-call")).to_contain_text("rank")

    def test_what_would_settle_it_goes_to_the_bench(self):
        page = self.sign_in("host")
        page.goto(self.in_round("verdict/"))
        page.get_by_role("link", name="What would settle it?").click()
        page.get_by_label("First place with").select_option("0.99")
        page.get_by_role("button", name="Work it out").click()
        expect(page.get_by_text("It is being worked out")).to_be_visible()
        work_out(Settling.objects.get().pk)
        expect(page.locator("#settling .lead")).to_contain_text("is first with")

    def test_publishing_opens_it_to_viewers(self):
        viewer = self.sign_in("viewer", self.new_page())
        viewer.goto(self.in_round("verdict/"))
        expect(viewer.locator(".lead")).to_contain_text("has not published the standing yet")
        page = self.sign_in("host")
        page.goto(self.in_round("verdict/"))
        page.get_by_role("button", name="Publish").click()
        page.get_by_role("dialog").get_by_role("button", name="Publish").click()
        expect(page.get_by_role("link", name="Verdict published")).to_be_visible()
        viewer.reload()
        expect(viewer.locator(".lead")).to_contain_text("Amsel leads with")

    def test_export_and_import(self):
        page = self.sign_in("host")
        page.goto(self.in_round("verdict/"))
        with page.expect_download() as download:
            page.get_by_role("link", name="Export ZIP").click()
        path = download.value.path()
        self.assertEqual(
            set(zipfile.ZipFile(path).namelist()), {"round.json", "results.csv", "standing.csv"}
        )
        page.goto(self.url("/import/"))
        page.set_input_files("#bundle", path)
        page.get_by_role("button", name="Import").click()
        expect(page.get_by_role("main")).to_contain_text("is here already")
        self.assertEqual(Round.objects.count(), 1)


class EntryTests(BrowserTests):
    def test_a_designer_hands_in_and_withdraws(self):
        Round.objects.update(state="open")
        page = self.sign_in_by_hand("designer")
        page.keyboard.press("h")
        page.get_by_role("link", name="Entries").first.click()
        page.get_by_label("Name", exact=True).fill("<script>alert('Ü')</script>")
        page.get_by_label("Why should it work?").fill("It is thinner.")
        page.get_by_role("button", name="Hand in").click()
        expect(page.get_by_role("heading", level=1)).to_contain_text("<script>alert('Ü')</script>")
        page.get_by_role("link", name="To the entry").click()
        page.get_by_text("Withdraw this entry").click()
        page.get_by_role("button", name="Withdraw").click()
        expect(page.get_by_text("It takes no part in the standing")).to_be_visible()
        self.assertEqual(Entry.objects.latest("pk").state, "withdrawn")

    def test_a_name_that_is_taken_keeps_the_form(self):
        page = self.sign_in("host")
        page.goto(self.in_round("entries/"))
        page.get_by_label("Name", exact=True).fill("amsel")
        page.get_by_label("Why should it work?").fill("A long story.")
        page.get_by_role("button", name="Hand in").click()
        expect(page.get_by_text("An entry of this name is in the round already.")).to_be_visible()
        expect(page.get_by_label("Why should it work?")).to_have_value("A long story.")

    def test_list_is_searched_while_typing_and_pages_are_walked_by_key(self):
        page = self.sign_in("host")
        page.goto(self.in_round("entries/"))
        page.get_by_label("Find by name").fill("kie")
        expect(page.locator("#entries")).not_to_contain_text("Amsel")
        page.get_by_role("link", name="Kiebitz").click()
        self.assertEqual(self.charts_drawn(1), 1)
        page.keyboard.press("[")
        expect(page.get_by_role("heading", level=1)).to_contain_text("Binse")
        page.keyboard.press("]")
        expect(page.get_by_role("heading", level=1)).to_contain_text("Kiebitz")

    def test_a_report_goes_to_paper_without_the_screens_furniture(self):
        page = self.sign_in("designer")
        page.goto(self.url(self.built.entries["Amsel"].get_absolute_url()))
        page.get_by_role("link", name="Report to print").click()
        expect(page.get_by_text("Bench report of")).to_be_visible()
        self.assertEqual(self.charts_drawn(1), 1)
        expect(page.get_by_role("heading", name="Air test", exact=True)).to_be_visible()
        expect(page.get_by_text("came about, the newest with a figure").first).to_be_visible()
        expect(page.get_by_text("How the figure came about")).to_have_count(
            0
        )  # a designer, before publication
        page.emulate_media(media="print")
        for furniture in (
            page.get_by_role("searchbox").first,
            page.get_by_role("button", name="Print"),
        ):
            expect(furniture).to_be_hidden()
        self.assertTrue(page.pdf(format="A4").startswith(b"%PDF"))
        page.emulate_media(media="screen")
        page.get_by_role("link", name="Back to the entry").click()
        expect(page.get_by_role("link", name="Report to print")).to_be_visible()

    def test_a_broken_print_leaves_the_board(self):
        page = self.sign_in("operator")
        page.goto(self.in_round("workshop/"))
        page.get_by_role("link", name="R-3").click()
        page.get_by_label("State of R-3").select_option("broken")
        page.get_by_role("button", name="Set").click()
        expect(page.get_by_text("R-3 is broken.")).to_be_visible()
        self.built.specimens["Kiebitz"].refresh_from_db()
        self.assertEqual(self.built.specimens["Kiebitz"].state, "broken")


class EveryPageTests(BrowserTests):
    NAMES = """[...document.querySelectorAll('input:not([type=hidden]), select, textarea, button, a')].filter(e => {
        const shown = e.offsetParent !== null;
        const name = (e.labels && [...e.labels].map(l => l.textContent).join('')) || e.getAttribute('aria-label') || e.textContent || e.title;
        return shown && !name.trim();
    }).map(e => e.outerHTML.slice(0, 120))"""  # noqa: E501
    OVERFLOW = "document.documentElement.scrollWidth - document.documentElement.clientWidth"

    def test_names_headings_and_width(self):
        page = self.sign_in("host")
        run = self.built.specimens["Amsel"].runs.first()
        rig, meter = run.rig, run.rig.meters.first().instrument
        paths = (
            "/",
            "/stores/",
            "/person/",
            "/import/",
            "/search/?q=amsel",
            "/rounds/new/",
            "/stores/library/import/",
            "/stores/rigs/new/?kind=panel",
            "/stores/instruments/new/?channel=power",
            self.built.reference.get_absolute_url(),
            rig.get_absolute_url(),
            f"{rig.get_absolute_url()}change/",
            f"{rig.get_absolute_url()}calibrate/traverse/",
            f"{rig.get_absolute_url()}calibrate/blank_plate/",
            meter.get_absolute_url(),
            f"{meter.get_absolute_url()}calibrate/",
            f"{meter.get_absolute_url()}change/",
            *(
                f"/rounds/drying-rack/{p}"
                for p in (
                    "brief/",
                    "brief/change/",
                    "brief/envelope/",
                    "brief/rules/",
                    "brief/sheet/",
                    "people/",
                    "audit/",
                    "verdict/reference/",
                    "entries/",
                    f"entries/{self.built.entries['Amsel'].pk}/",
                    f"entries/{self.built.entries['Amsel'].pk}/report/",
                    "workshop/",
                    "bench/",
                    f"bench/runs/{run.pk}/",
                    "verdict/",
                    f"bench/tests/{self.built.tests['air'].pk}/?subject=s{self.built.specimens['Amsel'].pk}",
                )
            ),
        )
        for path in paths:
            page.goto(self.url(path))
            self.charts_drawn()
            with self.subTest(path):
                self.assertEqual(page.evaluate(self.NAMES), [])
                self.assertEqual(page.locator("h1").count(), 1)
                self.assertLessEqual(page.evaluate(self.OVERFLOW), 0)

    def test_keys_dialog_and_no_keys_while_typing(self):
        page = self.sign_in("host")
        page.goto(self.in_round("brief/"))
        page.keyboard.press("?")
        expect(page.get_by_role("dialog", name="Keys")).to_be_visible()
        page.keyboard.press("Escape")
        page.keyboard.press("/")
        page.keyboard.type("5 h")
        expect(page.get_by_role("searchbox").first).to_have_value("5 h")
        self.assertIn("/brief/", page.url)
        page.keyboard.press("Escape")
        page.keyboard.press("2")
        expect(page.get_by_role("heading", level=1)).to_have_text("Entries")
