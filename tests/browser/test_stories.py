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
        for name, value in (("temperature", "21"), ("pressure", "965"), ("humidity", "48")):
            field = self.page.locator(f"#id_{name}")
            if not field.input_value():
                field.fill(value)
                self.fields += 1

    def read(self, *rows):
        """Rows of readings, each a value for the channels that stand empty; accepted by key."""
        page = self.page
        expect(page.locator("#capture-form")).to_have_attribute("data-ready", "yes")
        self.room()
        for each in rows:
            row = each if isinstance(each, tuple) else (each,)
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
        text = self.answer(hands, "Amsel leads")
        self.assertNotIn("No entry can be ranked", text)
        round = Round.objects.get()
        self.assertEqual(Run.objects.filter(reference=None).count(), 12)
        self.assertEqual(round.tests.count(), 2)
        self.within("Three ducts by air and noise", hands)

    def through_the_gate(self, hands: Hands) -> None:
        """Every caution is looked at and ticked, for all prints at once."""
        page = self.page
        page.get_by_role("link", name="To the safety gate").first.click()
        hands.clicks += 1
        for box in page.locator("[name=confirmed], [name=beside]").all():
            box.check()
            hands.clicks += 1
        hands.press("I have confirmed all of them: onto the bench")
        expect(page.locator("#messages")).to_contain_text("is ready for the bench")

    def test_versions_of_an_intake_against_stock_on_a_flow_bench(self):
        hands = self.begin("Intakes")
        page = self.page
        page.get_by_label("How loud it is").uncheck()
        hands.clicks += 1
        hands.press("Next")
        hands.press("Next")
        hands.fill(c_flow_bench_orifice="40")
        hands.press("Next")
        hands.names("Bell mouth")
        hands.fill(reference="Stock air box")
        hands.press("Set it up and go to the bench")
        first = {
            ("Stock", "area"): [("210", "900"), ("212", "905")],
            ("Bell mouth", "area"): [("230", "900"), ("231", "903")],
        }
        self.measure(hands, first)
        page.keyboard.press("Escape")
        page.keyboard.press("2")
        hands.keys += 2
        hands.press("Bell mouth", "link", nth=0)
        hands.press("Files and papers", "link")
        hands.fill(changed="A larger radius")
        hands.press("Begin v2")
        page.keyboard.press("4")
        hands.keys += 1
        second = first | {("Bell mouth", "area"): [("262", "900"), ("263", "903")]}
        self.measure(hands, second)
        text = self.answer(hands, "Bell mouth is the only entry")
        self.assertIn("v2", text)
        self.within("Versions of an intake on a flow bench", hands)

    def test_a_ring_against_the_open_fan_at_equal_power(self):
        hands = self.begin("Bladeless rings")
        hands.press("Next")
        hands.press("Next")
        hands.fill(equal_value="6", c_tunnel_bore="160")
        hands.press("Next")
        hands.names("Ring with a 1 mm slit", "Ring with a 2 mm slit")
        hands.fill(reference="Open fan")
        hands.press("Set it up and go to the bench")
        sweep = [("2.0 m/s", "3"), ("2.6 m/s", "5"), ("3.0 m/s", "7"), ("3.4 m/s", "10")]
        less = [(f"{0.8 * float(v.split()[0]):.2f} m/s", p) for v, p in sweep]
        figures = {
            ("Open fan", "power"): sweep,
            ("1 mm", "power"): less,
            ("2 mm", "power"): [(f"{0.9 * float(v.split()[0]):.2f} m/s", p) for v, p in sweep],
        }
        self.measure(hands, figures)
        text = self.answer(hands, "Ring with a 2 mm slit leads")
        self.assertIn("It is worse than the reference", text)
        self.assertIn("Open fan 1", text)
        self.within("Ring against open fan at equal power", hands)

    def test_push_pull_cooling_with_soak_and_sum(self):
        hands = self.begin("Rotors")
        page = self.page
        page.get_by_label("How much air it moves").uncheck()
        page.get_by_label("How well it cools").check()
        hands.clicks += 2
        hands.press("Next")
        hands.press("Next")
        hands.fill(diameter="120")
        hands.press("Next")
        hands.names("One pulling", "Push and pull")
        hands.fill(reference="Stock fan")
        hands.choose("decide", "sum")
        hands.press("Set it up and go to the bench")
        self.through_the_gate(hands)
        due = page.locator("li").filter(has_text="Temperature rise")
        due.get_by_role("link", name="Take by hand").first.click()
        hands.clicks += 1
        hands.press("Start the soak clock")
        expect(page.get_by_text("Soaks since 0:0")).to_be_visible()
        page.go_back()
        rise = {"Stock": "49.0", "One": "47.5", "Push": "43.0"}
        loud = {"Stock": "44", "One": "43", "Push": "45"}
        figures = {(n, "rise"): [(v, "21.0")] for n, v in rise.items()}
        figures |= {(n, "Noise"): [(v, "31"), (v,)] for n, v in loud.items()}
        self.measure(hands, figures)
        self.answer(hands, "Push and pull leads")
        self.within("Push-pull cooling with soak and sum", hands)

    def test_four_rotors_shaft_power_with_and_without_a_shroud(self):
        hands = self.begin("Rotors")
        page = self.page
        page.get_by_label("How much air it moves").uncheck()
        page.get_by_label("How loud it is").uncheck()
        page.get_by_label("The shaft power that it takes").check()
        hands.clicks += 3
        hands.fill(condition="the shroud")
        hands.press("Next")
        hands.press("Next")
        hands.fill(diameter="380")
        hands.press("Next")
        names = ["Three blades", "Four blades", "Five blades", "Six blades"]
        hands.names(*names[:3])
        hands.names(*names)  # the fourth field has appeared
        hands.fields -= 3
        hands.fill(reference="Stock rotor")
        hands.press("Set it up and go to the bench")
        self.through_the_gate(hands)
        figures = {}
        for n, name in enumerate(["Stock", *names]):
            for word, factor in (("with the", 0.9), ("without the", 1.0)):
                torque = f"{(120 + 6 * n) * factor:.1f} N mm"
                figures[name, f", {word}"] = [(torque, "8 N mm", "1500")] * 2
        self.measure(hands, figures)
        text = self.answer(hands, "Three blades leads")
        self.assertIn("without the shroud", text)
        self.within("Four rotors' shaft power with and without a shroud", hands)

    def test_cooling_ducts_with_a_panel(self):
        hands = self.begin("Ducts")
        page = self.page
        page.get_by_label("How loud it is").uncheck()
        page.get_by_label("How the result looks to judges").check()
        hands.clicks += 2
        hands.press("Next")
        hands.press("Next")
        hands.fill(c_panel_places="3")
        hands.press("Next")
        hands.names("Two mouths", "Half ring", "Full ring")
        hands.fill(reference="Stock duct")
        hands.press("Set it up and go to the bench")
        points = {"Stock": (4, 5, 4), "Two": (5, 6, 6), "Half": (6, 7, 7), "Full": (8, 8, 9)}
        figures = {(n, "points"): list(v) for n, v in points.items()}
        speed = {"Stock": "3.0", "Two": "3.1", "Half": "3.3", "Full": "3.2"}
        figures |= {(n, "Airflow"): [f"{v} m/s"] * 2 for n, v in speed.items()}
        figures |= {(n, "Points"): rows for (n, test), rows in figures.items() if test == "points"}
        self.measure(hands, figures)
        self.answer(hands, "Full ring leads")
        self.within("Cooling ducts with a panel", hands)

    def test_two_wheels_on_a_kitchen_scale_with_a_prediction(self):
        hands = self.begin("Centrifugal wheels")
        page = self.page
        page.get_by_label("How loud it is").uncheck()
        hands.clicks += 1
        hands.press("Next")
        hands.choose("way_pressure", "plate_pressure:scale_mass")
        expect(page.locator("[name=meter_scale_mass]")).to_be_visible()
        hands.press("Next")
        hands.fill(diameter="90", c_scale_plate_area="80")
        hands.press("Next")
        hands.names("Backward", "Radial")
        hands.fill(reference="Stock wheel")
        hands.press("Set it up and go to the bench")
        page.keyboard.press("2")
        hands.keys += 1
        hands.press("Radial", "link", nth=0)
        page.get_by_label(re.compile("^Pressure")).first.fill("5 mmH2O")
        hands.fields += 1
        hands.press("Predict", exact=True)
        page.keyboard.press("4")
        hands.keys += 1
        self.through_the_gate(hands)
        mass = {"Stock": "38", "Backward": "39", "Radial": "44"}
        self.measure(hands, {(n, "ressure"): [f"{v} g"] * 2 for n, v in mass.items()})
        self.answer(hands, "Radial leads")
        self.within("Two wheels on a kitchen scale with a prediction", hands)

    def test_readings_that_are_pasted_from_a_spreadsheet_and_typed_from_a_form(self):
        hands = self.begin("Ducts")
        page = self.page
        hands.press("Next")
        hands.press("Next")
        hands.press("Next")
        hands.names("Amsel")
        hands.fill(reference="Stock duct", repeats="1")
        hands.press("Set it up and go to the bench")
        hands.press("Form to print", "link")
        expect(page.locator(".paper-form tbody tr")).to_have_count(6)  # noise reads two channels
        expect(page.locator(".paper-form tbody tr").first.locator(".box")).to_have_count(3)
        hands.press("Back to the bench", "link")
        hands.press("Take by hand", "link", nth=0)
        hands.room()
        page.locator("[data-channel]").first.evaluate(
            """(field) => {
                const data = new DataTransfer();
                data.setData("text", "Speed [km/h]\\n11,2\\n11,4\\n3.1 m/s");
                const more = {clipboardData: data, bubbles: true, cancelable: true};
                field.dispatchEvent(new ClipboardEvent("paste", more));
            }"""
        )
        expect(page.locator(".taken-row")).to_have_count(3)
        expect(page.locator("#taken-count")).to_have_text("3 of 3 readings taken")
        hands.press("Accept and show")
        expect(page.get_by_text("Readings as typed")).to_be_visible()
        run = Run.objects.get()
        self.assertEqual([r.typed for r in run.readings.all()], ["11,2", "11,4", "3.1"])
        self.assertAlmostEqual(max(r.value for r in run.readings.all()), 11.4 / 3.6)
