"""What to change next in the browser: asked, looked at on a phone, begun by a key."""

from playwright.sync_api import expect

from hauch.desk.actions import predict_for
from hauch.desk.tools import TOOLS
from hauch.desk.tools.base import Setting
from tests.browser.base import BrowserTests
from tests.browser.test_accessible import AXE, FITS, LOOK


class NextChangeTests(BrowserTests):
    measured = False

    def test_the_best_change_becomes_the_next_version(self):
        tool, entry = TOOLS["impeller"], self.built.entries["Amsel"]
        predict_for(self.built.host, tool, tool.start(), Setting(), entry.versions.get())
        page = self.sign_in("designer")
        page.goto(self.in_round(f"entries/{entry.pk}/"))
        page.get_by_role("link", name="What to change next").click()
        first = page.locator("main ol li").first
        expect(first).to_contain_text("By the")
        page.evaluate(AXE)
        self.assertEqual(page.evaluate(LOOK), [])
        change = first.locator(".grow").inner_text().split("\n")[0].strip()
        page.set_viewport_size({"width": 390, "height": 844})
        self.assertTrue(page.evaluate(FITS))
        first.get_by_role("button", name="Begin v2: ").focus()
        page.keyboard.press("Enter")
        expect(page.locator("#messages")).to_contain_text("is begun")
        self.assertEqual(entry.versions.get(number=2).changed, change)
        page.go_back()
        expect(page.locator("main ol li").first).to_contain_text("Begin v3")
