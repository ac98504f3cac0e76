"""A designer at the Desk: figures follow the keys, curves by handles, wrong input, compare, keep,
Back, working, search, hand to an entry.
"""

import re

from playwright.sync_api import expect

from hauch.desk.jobs import search_later
from hauch.desk.models import Design, Search
from hauch.entries.models import Prediction
from tests.browser.base import BrowserTests
from tests.processes import Machine

WITHIN = 1500
"""Milliseconds from key to picture that a test machine under load must stay below; 200 ms is
measured by hand, see the note in docs/validation.md.
"""

KEY_TO_PICTURE = """async (name) => {
                      const field = document.querySelector(`[name=${name}]`), old = document.getElementById("answer"), start = performance.now();
                      field.value = String(Number.parseFloat(field.value) * 1.004);
                      field.dispatchEvent(new Event("input", { bubbles: true }));
                      return await new Promise((done) => {
                        const look = () => {
                          const now = document.getElementById("answer");
                          if (now && now !== old && now.querySelector("svg.drawing")) requestAnimationFrame(() => done(performance.now() - start));
                          else if (performance.now() - start > 8000) done(8000);
                          else setTimeout(look, 4);
                        };
                        look();
                      });
                    }"""  # noqa: E501
"""Milliseconds from a changed field to the new drawing on the screen."""


class DeskTests(BrowserTests):
    measured = False

    def open(self, tool, who="designer"):
        page = self.sign_in(who)
        page.goto(self.url(f"/desk/{tool}/"))
        self.charts_drawn()
        return page

    def decides(self, label):
        return self.page.locator(".decides", has_text=label).locator(".big")

    def group(self, name):
        self.page.locator("aside summary", has_text=name).click()

    def test_drawing_and_figures_follow_the_keys_and_refusals_keep_the_last_good_one(self):
        page = self.open("rotor")
        before = self.decides("Flow at the duty").inner_text()
        field = page.get_by_label("Blades", exact=True)
        field.fill("11")
        expect(self.decides("Flow at the duty")).not_to_have_text(before)
        expect(page.locator("svg.drawing")).to_have_attribute(
            "aria-label", re.compile("Rotor with 11 blades")
        )
        hub = page.get_by_label("Hub diameter, mm")
        hub.fill("200")
        expect(page.locator("#problems")).to_contain_text(
            "The tip's diameter (134 mm) must be larger than the hub's (200 mm)."
        )
        expect(page.locator("svg.drawing")).to_have_attribute(
            "aria-label", re.compile("Rotor with 11 blades")
        )
        expect(hub).to_have_value("200")
        hub.fill("fifty")
        expect(page.locator("#problems")).to_contain_text("“fifty” is not a number")
        hub.fill("14")
        page.get_by_label("Blades", exact=True).fill("26")
        expect(page.locator("#problems")).to_contain_text("The blades overlap at the hub")
        page.get_by_label("Blades", exact=True).fill("5")
        expect(page.locator("#problems li")).to_have_count(0)

    def test_a_curve_by_handle_and_by_keyboard(self):
        page = self.open("rotor")
        handle = page.locator("[data-curve=pitch] .handle").nth(0)
        field = page.locator("[name=pitch_0]")
        handle.scroll_into_view_if_needed()
        box = handle.bounding_box()
        page.mouse.move(box["x"] + box["width"] / 2, box["y"] + box["height"] / 2)
        page.mouse.down()
        page.mouse.move(box["x"] + box["width"] / 2, box["y"] + 25, steps=4)
        page.mouse.up()
        self.assertLess(float(field.input_value()), 42)
        dragged = float(field.input_value())
        handle.focus()
        page.keyboard.press("ArrowUp")
        self.assertGreater(float(field.input_value()), dragged)
        expect(page.locator("svg.drawing")).to_contain_text(f"{round(float(field.input_value()))}°")
        blades = page.get_by_label("Blades", exact=True)
        blades.focus()
        page.keyboard.press("ArrowUp")
        expect(blades).to_have_value("8")

    def test_inputs_that_do_not_count_are_hidden(self):
        page = self.open("rotor")
        expect(page.get_by_label("Air comes towards it at")).to_be_hidden()
        page.get_by_label("Placed").select_option("free")
        expect(page.get_by_label("Air comes towards it at")).to_be_visible()
        expect(page.get_by_label("Entrance")).to_be_hidden()
        expect(self.decides("Thrust")).to_contain_text("N")

    def test_the_working_opens_by_key_and_gives_the_focus_back(self):
        page = self.open("ring")
        page.keyboard.press("w")
        expect(page.get_by_role("dialog")).to_contain_text("computed rings")
        page.keyboard.press("Escape")
        expect(page.locator("#working .drawer")).to_have_count(0)
        expect(page.locator("[data-key=w]")).to_be_focused()
        expect(page.locator(".remarks li").first).to_contain_text("less air passes the ring's exit")

    def test_keep_compare_change_the_second_chart_and_back(self):
        page = self.open("rotor")
        self.group("Save, compare, export")
        page.get_by_role("button", name="Save", exact=True).click()
        expect(page.locator("#messages")).to_contain_text("Give the design a name")
        self.group("Save, compare, export")
        page.get_by_label("Name", exact=True).fill("Seven")
        page.keyboard.press("Enter")
        expect(page.get_by_role("heading", name="Rotor: Seven")).to_be_visible()
        page.get_by_label("Blades", exact=True).fill("5")
        self.group("Save, compare, export")
        page.get_by_label("Seven").check()
        expect(page.locator(".all-figures thead")).to_contain_text("Seven")
        expect(page.locator(".all-figures tbody tr").first).to_contain_text("%")
        page.locator("#beside").select_option("loading")
        expect(page.locator("#beside")).to_have_value("loading")
        self.charts_drawn()
        page.goto(self.url("/desk/pack/"))
        page.go_back()
        expect(page.get_by_role("heading", name="Rotor: Seven")).to_be_visible()

    def test_after_back_the_answer_fits_what_stands_in_the_fields(self):
        page = self.open("rotor")
        page.get_by_label("Placed").select_option("free")
        expect(self.decides("Thrust")).to_contain_text("N")
        page.goto(self.url("/desk/pack/"))
        page.go_back()
        expect(page.get_by_label("Placed")).to_have_value("free")  # the browser puts it back
        expect(self.decides("Thrust")).to_contain_text("N")

    def test_what_is_typed_before_the_scripts_run_is_answered(self):
        page = self.sign_in("designer")
        page.route("**/desk*.js", lambda route: (page.wait_for_timeout(1500), route.continue_()))
        page.goto(self.url("/desk/rotor/"), wait_until="commit")
        page.get_by_label("Blades", exact=True).fill("9")
        expect(page.locator("svg.drawing")).to_have_attribute(
            "aria-label", re.compile("Rotor with 9 blades")
        )

    def test_files_come_as_downloads_and_the_print_is_shown(self):
        page = self.open("silencer")
        self.group("Save, compare, export")
        with page.expect_download() as download:
            page.get_by_role("button", name="STL", exact=True).click()
        self.assertEqual(download.value.suggested_filename, "silencer.stl")
        self.group("The print")
        page.get_by_role("button", name="Show the print").click()
        expect(page.get_by_alt_text("The part as it would be printed, shaded")).to_be_visible()
        expect(page.locator("#print")).to_contain_text("watertight")

    def test_to_an_entry_as_prediction_and_as_a_new_version(self):
        page = self.open("rotor")
        self.group("Hand to an entry")
        page.get_by_role("button", name="Save as its prediction").click()
        expect(page.locator("#messages")).to_contain_text(
            "Amsel v1 has a prediction for: Air test, Power test"
        )
        self.group("Hand to an entry")
        page.get_by_label("What the version changes").fill("From the Desk.")
        page.get_by_role("button", name="Make the part as a new version").click()
        expect(page.locator("#messages")).to_contain_text("Amsel has version 2, with its files.")
        self.assertEqual(Prediction.objects.filter(version__number=2).count(), 2)
        page.goto(self.url(self.built.entries["Amsel"].get_absolute_url()))
        expect(page.get_by_role("heading", name="Prediction v2")).to_be_visible()
        expect(page.locator("aside")).to_contain_text("Rotor model")
        page.get_by_text("What should it measure?").click()
        page.get_by_label("Airflow", exact=False).first.fill("200")
        page.get_by_role("button", name="Predict").click()
        expect(page.locator("aside")).to_contain_text("Airflow: 200")

    def test_a_search_is_watched_and_its_best_is_kept(self):
        page = self.open("rotor")
        self.group("Search for a better one")
        page.get_by_label("At most this electrical power").fill("4")
        page.get_by_role("button", name="Search", exact=True).click()
        expect(page.get_by_text("Waiting for the worker")).to_be_visible()
        import hauch.desk.search as module

        full = module.ROUNDS
        try:
            module.ROUNDS = 2
            search_later(Search.objects.get().pk)
        finally:
            module.ROUNDS = full
        expect(page.get_by_text("rotors that keep all limits were compared")).to_be_visible()
        page.get_by_label("Save as").fill("Better one")
        page.get_by_role("button", name="Save as a design").click()
        expect(page.get_by_role("heading", name="Rotor: Better one")).to_be_visible()
        self.assertEqual(Design.objects.get().name, "Better one")

    def test_an_operator_sends_a_measured_value_back(self):
        page = self.open("rotor", "operator")
        self.group("Send a measured value back")
        page.get_by_role("button", name="Send back").click()
        expect(page.get_by_text("Type what was measured.")).to_be_visible()
        page.get_by_label("Measured", exact=True).fill("190")
        page.get_by_role("button", name="Send back").click()
        expect(page.locator("#messages")).to_contain_text("the model's figure is now multiplied by")
        expect(page.get_by_label("On the rig")).to_have_value(re.compile(r"\d+"))

    def test_every_tool_answers_a_key_soon_and_draws_its_charts(self):
        page = self.open("rotor")
        for tool, field in (
            ("rotor", "tip"),
            ("impeller", "outer"),
            ("ring", "slot"),
            ("duct", "width"),
            ("intake", "flow"),
            ("silencer", "length"),
            ("jet", "gap"),
            ("cushion", "mass"),
            ("pack", "power"),
        ):
            with self.subTest(tool):
                machine = Machine()
                page.goto(self.url(f"/desk/{tool}/"))
                self.charts_drawn()
                taken = min(
                    page.evaluate(KEY_TO_PICTURE, field) for _ in range(3)
                )  # the best of three: the host may be busy with others
                self.assertLess(taken, machine.seconds(WITHIN))
                self.charts_drawn()

    def test_on_a_phone_nothing_runs_over(self):
        page = self.new_page(viewport={"width": 390, "height": 844})
        self.sign_in("designer", page)
        for path in ("", "rotor/", "duct/", "pack/", "record/"):
            page.goto(self.url(f"/desk/{path}"))
            self.assertLessEqual(page.evaluate("document.documentElement.scrollWidth"), 390, path)
