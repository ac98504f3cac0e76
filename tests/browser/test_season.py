"""Seasons in the browser: begun, a round put in, a champion carried on, what compares."""

from playwright.sync_api import expect

from hauch.bench.models import Run
from hauch.season.models import Champion
from tests.browser.base import BrowserTests
from tests.browser.test_accessible import AXE, FITS, LOOK
from tests.seasons import another_round, measure


class SeasonTests(BrowserTests):
    def looked(self, page):
        page.evaluate(AXE)
        self.assertEqual(page.evaluate(LOOK), [])

    def test_a_champion_is_carried_into_the_next_round(self):
        round, test, specimens = another_round(self.built)
        page = self.sign_in("host")
        page.goto(f"{self.live_server_url}/")
        page.get_by_role("link", name="Seasons").click()
        expect(page.get_by_text("No season yet")).to_be_visible()
        page.get_by_label("Title").fill("Loft year")
        page.get_by_label("Best rounds").fill("none")
        page.get_by_role("button", name="Begin").click()
        expect(page.get_by_text("“none” rounds cannot count")).to_be_visible()
        expect(page.get_by_label("Title")).to_have_value("Loft year")
        page.get_by_label("Best rounds").fill("")
        page.get_by_role("button", name="Begin").click()
        expect(page.get_by_text("No round of this season has a standing")).to_be_visible()
        for title in (self.built.round.title, round.title):
            page.get_by_label("Round", exact=True).select_option(label=title)
            page.get_by_role("button", name="Put in").click()
            expect(
                page.locator("aside").get_by_role("link", name=title, exact=True)
            ).to_be_visible()
        expect(page.get_by_text("no standing yet")).to_be_visible()
        page.get_by_role("button", name="Carry on").click()
        expect(page.get_by_role("alert")).to_contain_text("Look the print over first")
        expect(page.get_by_label("As a second reference in")).to_have_value(str(round.pk))
        page.get_by_label("Looked over").check()
        page.get_by_role("button", name="Carry on").click()
        expect(page.get_by_text("Amsel is a second reference of")).to_be_visible()
        self.looked(page)
        page.goto(f"{self.live_server_url}/rounds/{round.slug}/bench/")
        turn = page.locator("section", has=page.get_by_role("heading", name="In turn with"))
        expect(turn).to_contain_text("Amsel, champion of Drying rack R-1")
        expect(turn).to_contain_text("0 runs")
        turn.get_by_role("link", name="Take by hand").click()
        expect(page.get_by_role("heading", level=1)).to_contain_text("Amsel, champion of")
        champion = Champion.objects.get().reference
        measure(self.built, test, self.built.reference, specimens, champion)
        self.assertEqual(Run.objects.filter(reference=champion).count(), 3)
        page.goto(f"{self.live_server_url}/seasons/loft-year/")
        expect(page.get_by_text("Amsel was run again in round 2")).to_be_visible()
        expect(page.get_by_text("before Amsel")).to_be_visible()
        self.looked(page)
        page.set_viewport_size({"width": 390, "height": 844})
        self.assertTrue(page.evaluate(FITS))
        page.goto(f"{self.live_server_url}/rounds/{self.built.round.slug}/verdict/")
        page.get_by_role("link", name="Loft year").click()
        expect(page.get_by_role("heading", name="Loft year")).to_be_visible()
