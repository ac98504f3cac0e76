"""Practice and the soak by hand, in the browser and by keyboard."""

from datetime import timedelta

from django.contrib.sessions.models import Session
from playwright.sync_api import expect

from hauch.core.rig.practice import ORDER
from hauch.practice.exercise import WORDS, session_of
from hauch.rounds.models import Test
from tests.browser.base import BrowserTests
from tests.browser.test_accessible import AXE, FITS, LOOK


class PracticeTests(BrowserTests):
    measured = False

    def kept(self):
        return Session.objects.latest("expire_date").get_decoded()["practice"]

    def test_a_newcomer_goes_through_a_session_by_keyboard(self):
        page = self.sign_in("viewer")
        page.goto(self.url("/"))
        page.get_by_role("link", name="Practice").click()
        page.get_by_role("button", name="Begin").click()
        for number in range(1, len(ORDER) + 1):
            expect(page.get_by_role("heading", level=1)).to_contain_text(f"run {number} of 7")
            self.charts_drawn(3)
            fault = session_of(self.kept()["seed"]).runs[number - 1].fault
            page.get_by_label(WORDS[fault].label).focus()
            page.keyboard.press("Space")
            if number == 2:
                page.set_viewport_size({"width": 390, "height": 800})
                self.assertTrue(page.evaluate(FITS))
                page.evaluate(AXE)
                self.assertEqual(page.evaluate(LOOK), [])
            page.keyboard.press("Enter")
        page.get_by_label("It repeats").check()
        page.get_by_role("button", name="See what was there").click()
        expect(page.get_by_role("heading", level=1)).to_contain_text("of 8 right")
        self.assertIn(page.locator("h1").inner_text(), {"8 of 8 right", "7 of 8 right"})
        page.evaluate(AXE)
        self.assertEqual(page.evaluate(LOOK), [])


class SoakTests(BrowserTests):
    kinds = ("rise",)
    measured = False

    def test_points_are_noted_by_keyboard_and_survive_a_reload(self):
        Test.objects.update(soak=Test.Soak.SETTLED)
        page = self.new_page()
        page.clock.install()
        self.sign_in("operator", page)
        test, specimen = self.built.tests["rise"], self.built.specimens["Amsel"]
        page.goto(self.in_round(f"bench/tests/{test.pk}/?subject=s{specimen.pk}"))
        page.get_by_role("button", name="Start the soak clock").click()
        field = page.get_by_label("Load temperature now")
        field.focus()
        for minute in range(1, 11):
            page.clock.fast_forward(timedelta(minutes=1).seconds * 1000)
            page.keyboard.type(f"{62 - 41 * 2.71828 ** (-minute / 6):.2f}")
            page.keyboard.press("Enter")
            expect(page.locator("[data-soak-points]")).to_contain_text(f"{minute}:0")
            if minute == 4:
                expect(page.locator("[data-soak-forecast]")).to_contain_text("4 of 8 points")
        forecast = page.locator("[data-soak-forecast]")
        expect(forecast).to_contain_text("Heading for 6")
        expect(forecast).to_contain_text("min to go")
        page.reload()
        expect(forecast).to_contain_text("Heading for 6")
        expect(page.locator(".soak-clock")).to_contain_text("Soaks since 10:")
        page.get_by_role("button", name="Take the last back").click()
        expect(page.locator("[data-soak-points]")).not_to_contain_text("10:0")
        page.get_by_label("Load temperature now").fill("warm")
        page.keyboard.press("Enter")
        expect(forecast).to_contain_text("is not a number")
