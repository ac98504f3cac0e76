"""Seven stories of newcomers, each from an empty installation to an answer that can be defended, with
the count of clicks and fields that it takes.

The counts go to ``docs/first_hour.md`` by hand; a story that needs more than it may fails.
"""

from __future__ import annotations

import re

from playwright.sync_api import expect

from hauch.bench.models import Run
from hauch.people.models import User
from hauch.rounds.models import Round
from hauch.verdict.models import Standing
from tests.browser.base import BrowserTests
from tests.builder import PASSWORD


class Hands:
    """What a newcomer does with hand and eye, counted: presses of the mouse, fields that are filled
    in, readings that are typed and keys that move on.
    """

    def __init__(self, page):
        self.page = page
        self.clicks = self.fields = self.readings = self.keys = 0

    def press(self, name, role="button", *, nth=0, exact=False):
        self.page.get_by_role(role, name=name, exact=exact).nth(nth).click()
        self.page.wait_for_load_state()
        self.clicks += 1

    def tick(self, label):
        self.page.get_by_label(label, exact=False).first.check()
        self.clicks += 1

    def choose(self, field, value):
        self.page.locator(f"main [name={field}]").select_option(value)
        self.clicks += 1

    def fill(self, **values):
        for name, value in values.items():
            self.page.locator(f"main [name={name}]").first.fill(value)
            self.fields += 1

    def names(self, *names):
        for number, name in enumerate(names):
            self.page.locator("main [name=name]").nth(number).fill(name)
            self.fields += 1

    def room(self):
        """The room, once; afterwards it is offered."""
        for label, value in (
            ("Room temperature", "21"),
            ("Air pressure", "965"),
            ("Relative humidity", "48"),
        ):
            if not self.page.get_by_label(label).input_value():
                self.page.get_by_label(label).fill(value)
                self.fields += 1

    def read(self, *rows):
        """Rows of readings, each a value for the channels that stand empty; accepted by key."""
        page = self.page
        expect(page.locator("#capture-form")).to_have_attribute("data-ready", "yes")
        self.room()
        for row in rows:
            row = row if isinstance(row, tuple) else (row,)
            empty = [box for box in page.locator("[data-channel]").all() if not box.input_value()]
            for box, value in zip(empty, row, strict=False):
                box.fill(str(value))
                self.readings += 1
            box.press("Space")
            self.keys += 1
        with page.expect_navigation():
            page.locator("[data-channel]").first.press("Enter")
        self.keys += 1
        expect(page.locator("#messages")).to_contain_text("Run ")


class StoryTests(BrowserTests):
    kinds, measured = ("nothing",), False

    def make(self):
        return User.objects.create_user("host", password=PASSWORD, first_name="Host", is_staff=True)

    def begin(self, part: str) -> Hands:
        page = self.sign_in_by_hand("host")
        hands = Hands(page)
        hands.press(part)
        return hands

    def next_run(self) -> str:
        """What stands on the page of the run that is due now; empty where all are done."""
        head = self.page.locator("#capture h1")
        return head.text_content().strip() if head.count() else ""

    def measure(self, hands: Hands, figures: dict[str, object], most: int = 60) -> None:
        """Run whatever is due, with readings by the name of the part and the test."""
        self.page.get_by_role("link", name="Take by hand").first.click()
        hands.clicks += 1
        for _ in range(most):
            self.page.wait_for_load_state()
            if not (head := self.next_run()):
                return
            rows = next(
                rows for (part, test), rows in figures.items() if part in head and test in head
            )
            hands.read(*rows)

    def answer(self, hands: Hands, words: str) -> str:
        self.page.keyboard.press("5")
        hands.keys += 1
        expect(self.page.get_by_text(re.compile(words)).first).to_be_visible()
        self.assertEqual(set(Standing.objects.values_list("failure", flat=True)), {""})
        self.assertFalse(Run.objects.filter(result__value=None).exists())
        return self.page.locator("main").text_content()

    def within(self, story: str, hands: Hands, clicks: int = 30, fields: int = 15) -> None:
        print(
            f"\n   {story}: {hands.clicks} clicks, {hands.fields} fields, {hands.readings} readings,"
            f" {hands.keys} keys"
        )
        self.assertLessEqual(hands.clicks, clicks, story)
        self.assertLessEqual(hands.fields, fields, story)

    def test_three_ducts_by_air_and_noise(self):
        hands = self.begin("Ducts")
        hands.press("Next")  # air and noise are ticked
        hands.press("Next")  # a vane, and a phone
        hands.fill(c_tunnel_bore="100")
        hands.press("Next")
        hands.names("Amsel", "Binse", "Kiebitz")
        hands.fill(reference="Stock duct")
        hands.press("Set it up and go to the bench")
        expect(self.page.get_by_role("heading", name="Next: Stock duct 1, Airflow")).to_be_visible()
        speed = {"Stock": "3.0", "Amsel": "3.4", "Binse": "3.1", "Kiebitz": "2.9"}
        loud = {"Stock": "48", "Amsel": "47", "Binse": "46", "Kiebitz": "49"}
        figures = {(name, "Airflow"): [f"{v} m/s", f"{v} m/s"] for name, v in speed.items()}
        figures |= {(name, "Noise"): [(v, "34"), (v,)] for name, v in loud.items()}
        self.measure(hands, figures)
        text = self.answer(hands, "Amsel")
        self.assertNotIn("No entry can be ranked", text)
        round = Round.objects.get()
        self.assertEqual(Run.objects.filter(reference=None).count(), 12)
        self.assertEqual(round.tests.count(), 2)
        self.within("Three ducts by air and noise", hands)
