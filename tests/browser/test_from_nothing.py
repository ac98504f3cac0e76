"""A newcomer at an empty installation, in the order in which the pages lead: stores, brief, entry, workshop, bench, verdict. The reference goes first."""

import re

from playwright.sync_api import expect

from hauch.people.models import User
from tests.browser.base import BrowserTests
from tests.builder import PASSWORD


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
        page.get_by_label("Take in a meter for").select_option(label="Air speed")
        page.get_by_role("button", name="Take in", exact=True).first.click()
        self.fill({"name": "Vane", "resolution": "0.1", "accuracy": "0.5"})
        page.get_by_role("button", name="Keep").click()
        page.get_by_role("link", name="Stores").first.click()
        page.get_by_label("Put up a").select_option(label="Tunnel")
        page.get_by_role("button", name="Put up", exact=True).click()
        self.fill({"c_bore": "125", "u_bore": "0.2", "c_profile_factor": "0.85", "u_profile_factor": "0.02", "name": "Tube"})
        page.locator("[name=m_air_speed]").select_option(label="Vane")
        page.get_by_role("button", name="Keep").click()

    def take_in_the_reference(self):
        page = self.page
        page.get_by_role("link", name="Stores").first.click()
        page.get_by_text("Take in a reference specimen").click()
        self.fill({"type_name": "Loft-140"})
        page.get_by_label("Serial").fill("L-02")
        page.locator("aside").get_by_role("button", name="Take in", exact=True).click()
        expect(page.get_by_role("heading", name=re.compile("Loft-140 L-02"))).to_be_visible()

    def begin_a_round(self):
        page = self.page
        page.get_by_role("link", name="Hauch, home").click()
        page.get_by_role("link", name="Begin a round").click()
        page.get_by_label("Title").fill("Drying loft")
        page.get_by_text("Most air from a rotor").click()
        page.get_by_role("button", name="Begin", exact=True).click()

    def test_the_first_run_is_the_references_and_nothing_is_lost(self):
        page = self.sign_in_by_hand("host")
        expect(page.get_by_role("heading", name="No round yet")).to_be_visible()
        self.put_up_the_tunnel()
        self.take_in_the_reference()
        self.begin_a_round()
        print(page.url, page.locator("main").inner_text()[:3000])
