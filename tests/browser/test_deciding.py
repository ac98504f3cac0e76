"""Deciding in the browser: an order turned by a weight, guesses from the link to their score, a gap
bracketed over three versions.
"""

from datetime import timedelta

from playwright.sync_api import expect

from hauch.entries.models import Version
from hauch.verdict.judging import judge_round
from hauch.workshop.models import Specimen
from tests.browser.base import BrowserTests
from tests.browser.test_accessible import AXE, FITS, LOOK
from tests.builder import START


class TurnedTests(BrowserTests):
    def test_a_weight_turns_the_order(self):
        """Amsel moves most air; all take the same power, so that none leads by it alone."""
        page = self.sign_in("host")
        page.goto(self.in_round("verdict/what-if/"))
        expect(page.get_by_text("The first place stays with Amsel")).to_be_visible()
        slider = page.get_by_label("Weight of Air test")
        slider.focus()
        page.keyboard.press("Home")  # to the left end: the air counts nothing
        expect(page.locator("#w-air")).to_have_value("0")
        expect(page.get_by_text("The first place goes from Amsel")).to_be_visible()
        page.get_by_label("or keep it as").fill("Power alone")
        page.get_by_role("button", name="Keep").last.click()
        expect(page.get_by_role("link", name="Power alone")).to_be_visible()
        page.get_by_role("link", name="Power alone").click()
        expect(page.locator("#w-air")).to_have_value("0")


class GuessTests(BrowserTests):
    measured = False

    def test_from_the_link_to_the_score(self):
        page = self.sign_in("host")
        page.goto(self.in_round("verdict/guesses/"))
        page.get_by_role("button", name="Open the guesses").click()
        link = page.get_by_role("link", name="/guess/").get_attribute("href")
        for name, places in (("Ida", (1, 2, 3)), ("Kuno", (3, 2, 1))):
            phone = self.new_page(viewport={"width": 390, "height": 844})
            phone.goto(f"{self.live_server_url}{link}")
            self.assertTrue(phone.evaluate(FITS))
            phone.get_by_role("button", name="Keep the guess").click()
            expect(phone.get_by_role("alert")).to_contain_text("Say who guesses")
            phone.get_by_label("Your name").fill(name)
            for entry, place in zip(("Amsel", "Binse", "Kiebitz"), places, strict=True):
                phone.get_by_label(entry).fill(str(place))
            phone.get_by_role("button", name="Keep the guess").click()
            expect(phone.get_by_text(f"Your guess is kept, {name}")).to_be_visible()
        self.built.measure_and_judge()
        page.reload()
        expect(page.get_by_text("They are sealed since the first entry was run")).to_be_visible()
        expect(page.get_by_role("row", name="Ida")).to_contain_text("+")
        expect(page.get_by_role("row", name="Kuno")).to_contain_text("−")
        expect(page.locator("[data-chart][data-drawn=yes]")).to_be_visible()
        page.evaluate(AXE)
        self.assertEqual(page.evaluate(LOOK), [])
        phone.reload()
        expect(phone.get_by_text("Yours is kept")).to_be_visible()


class BracketTests(BrowserTests):
    def test_a_gap_of_three_versions(self):
        """0.2 mm rubs a little, 0.5 mm is best, 1 mm lets air back."""
        entry = self.built.entries["Amsel"]
        tried = {0.001: (self.built.specimens["Amsel"], None)}
        for number, (gap, speed) in enumerate(((0.0005, 4.6), (0.0002, 4.3)), 2):
            version = Version.objects.create(entry=entry, number=number, changed=f"Gap {number}")
            print_ = Specimen.objects.create(version=version, code=f"G-{number}", state="ready")
            tried[gap] = (print_, speed)
            for n in range(3):
                minute = 200 + 60 * number + 5 * n
                self.built.air(print_, minute, (speed + 0.01 * (n - 1),) * 2)
                self.built.air(self.built.reference, minute + 2, (4.0, 4.0))
        for gap, (print_, _) in tried.items():
            print_.measures.create(kind="tip_gap", value=gap, at=START + timedelta(hours=20))
        judge_round(self.built.round.pk)
        page = self.sign_in("designer")
        page.goto(self.in_round(f"entries/{entry.pk}/"))
        page.get_by_role("link", name="Accept or reject").click()
        expect(page.get_by_text("The best tip gap lies between")).to_be_visible()
        expect(page.get_by_text("next.")).to_be_visible()
        expect(page.locator("[data-chart][data-drawn=yes]")).to_be_visible()
        page.evaluate(AXE)
        self.assertEqual(page.evaluate(LOOK), [])
        page.get_by_role("link", name="Amsel").first.click()
        page.get_by_role("link", name="What to change next").click()
        expect(page.get_by_text("It was tried in")).to_be_visible()
        expect(page.get_by_role("link", name="the sizes that were tried")).to_be_visible()
