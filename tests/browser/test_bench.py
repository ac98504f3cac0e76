"""At the bench: a run by keyboard, a logger's file, things that go wrong."""

from unittest import mock

from playwright.sync_api import expect

from hauch.bench.jobs import import_later
from hauch.bench.models import LogImport, Reading, Recording, Run
from hauch.bench.runs import void_run
from tests.browser.base import BrowserTests
from tests.web.test_actions import DATA


class ByHandTests(BrowserTests):
    def open_capture(self, name="Amsel", test="air"):
        self.page.goto(
            self.in_round(
                f"bench/tests/{self.built.tests[test].pk}/?subject=s{self.built.specimens[name].pk}"
            )
        )
        expect(self.page.locator("#r-air_speed")).to_be_focused()

    def fill_room(self):
        self.page.get_by_label("Room temperature").fill("21,4")
        self.page.get_by_label("Air pressure").fill("965")
        self.page.get_by_label("Relative humidity").fill("48")

    def test_a_whole_run_with_the_keyboard_alone(self):
        page = self.sign_in("operator")
        page.goto(self.in_round("brief/"))
        page.keyboard.press("4")
        expect(page.get_by_role("heading", level=1)).to_contain_text(
            "All runs that the rules ask for are done"
        )
        self.open_capture()
        before = Run.objects.count()
        for value in ("15,8", "15.9", "15.7", "99"):
            page.keyboard.type(value)
            page.keyboard.press("Space")
        expect(page.locator("#taken-count")).to_have_text("4 of 2 readings taken")
        page.keyboard.press("u")
        expect(page.locator("tr.taken-row")).to_have_count(3)
        expect(page.locator("#r-air_speed")).to_have_value("99")
        page.locator("#r-air_speed").fill("15.8")
        page.get_by_label("Room temperature").focus()
        for value in ("21.4", "965", "48"):
            page.keyboard.type(value)
            page.keyboard.press("Tab")
        page.keyboard.press("Escape")
        page.keyboard.press("n")
        page.keyboard.type("a faint whistle, 4 times h")
        page.keyboard.press("Escape")
        page.keyboard.press("Enter")
        expect(page.locator(".big")).to_contain_text("m³/h")
        expect(page.get_by_role("heading", level=1)).to_contain_text("Amsel, Air test, repeat 4")
        self.assertEqual(Run.objects.count(), before + 1)
        run = Run.objects.latest("pk")
        self.assertEqual(
            [round(r.value * 3.6, 6) for r in run.readings.all()], [15.8, 15.9, 15.7, 15.8]
        )
        self.assertEqual(run.note, "a faint whistle, 4 times h")
        expect(page.locator(".big")).to_contain_text("m³/h")
        page.keyboard.press("w")
        expect(page.locator("#working")).to_be_focused()
        expect(page.locator("#working")).to_contain_text("Volume flow")
        expect(page.locator("#working")).to_contain_text("Where the uncertainty comes from")
        self.assertGreaterEqual(self.charts_drawn(1), 1)

    def test_refused_input_loses_nothing(self):
        page = self.sign_in("operator")
        self.open_capture()
        for value in ("15.8", "15.9"):
            page.keyboard.type(value)
            page.keyboard.press("Space")
        page.keyboard.type("16.0")
        page.keyboard.press("Enter")
        expect(page.get_by_text("Air pressure is missing")).to_be_visible()
        expect(page.locator("tr.taken-row")).to_have_count(3)
        self.fill_room()
        page.locator("#show").click()
        expect(page.locator(".big")).to_be_visible()
        self.assertEqual(Reading.objects.filter(run=Run.objects.latest("pk")).count(), 3)

    def test_without_a_network_the_readings_wait_and_are_sent_once(self):
        page = self.sign_in("operator")
        self.open_capture()
        page.keyboard.type("15.8")
        page.keyboard.press("Space")
        self.fill_room()
        before = Run.objects.count()
        page.context.set_offline(True)
        page.locator("#show").click()
        expect(page.locator("#waiting-runs")).to_contain_text("1 run waits in this browser")
        expect(page.locator("tr.taken-row")).to_have_count(0)
        page.keyboard.type("15.9")  # and goes on measuring
        page.keyboard.press("Space")
        page.locator("#show").click()
        expect(page.locator("#waiting-runs")).to_contain_text("2 runs wait in this browser")
        page.context.set_offline(False)
        expect(page.locator("#waiting-runs")).to_be_hidden()
        self.assertEqual(Run.objects.count(), before + 2)
        page.reload()
        page.wait_for_timeout(300)
        self.assertEqual(Run.objects.count(), before + 2)
        self.assertIn("ERR_INTERNET_DISCONNECTED", "".join(self.troubles))
        self.troubles[:] = [
            t for t in self.troubles if "ERR_INTERNET_DISCONNECTED" not in t and "htmx:" not in t
        ]

    def test_a_reading_far_off_the_others_is_marked_and_taken_back(self):
        page = self.sign_in("operator")
        self.open_capture()
        for text in ("15.8", "15.9", "25.8"):
            page.keyboard.type(text)
            page.keyboard.press("Space")
        expect(page.locator("#readings td.odd")).to_have_text("25.8")
        page.keyboard.press("u")
        page.locator("[data-channel]").first.fill("15.7")
        page.keyboard.press("Space")
        expect(page.locator("tr.taken-row")).to_have_count(3)
        expect(page.locator("#readings td.odd")).to_have_count(0)

    def test_reload_and_back_keep_the_readings(self):
        page = self.sign_in("operator")
        self.open_capture()
        page.keyboard.type("15.8")
        page.keyboard.press("Space")
        page.get_by_label("Room temperature").fill("21.4")
        page.reload()
        expect(page.locator("tr.taken-row")).to_have_count(1)
        page.goto(self.in_round("brief/"))
        page.go_back()
        expect(page.locator("tr.taken-row")).to_have_count(1)
        expect(page.get_by_label("Room temperature")).to_have_value("21.4")

    def test_did_not_finish_and_run_the_reference(self):
        page = self.sign_in("operator")
        self.open_capture("Kiebitz")
        page.keyboard.press("Escape")
        page.keyboard.press("d")
        page.get_by_label("Why").fill("two blades rub the frame")
        page.keyboard.press("Enter")
        expect(page.get_by_text("Kiebitz did not finish: two blades rub the frame")).to_be_visible()
        self.open_capture()
        page.keyboard.press("Escape")
        page.keyboard.press("r")
        expect(page.get_by_role("heading", level=1)).to_contain_text("Loft-140 L-02, Air test")
        page.keyboard.press("Escape")
        page.keyboard.press("5")
        expect(page.get_by_text("Did not finish: two blades rub the frame")).to_be_visible()

    def test_enter_on_a_focused_button_is_that_buttons(self):
        page = self.sign_in("operator")
        self.open_capture()
        page.keyboard.type("15.8")
        before = Run.objects.count()
        page.get_by_role("button", name="Did not finish").focus()
        page.keyboard.press("Enter")
        expect(page.get_by_role("dialog", name="Did not finish")).to_be_visible()
        page.keyboard.press("Escape")
        page.get_by_role("button", name="Undo").focus()
        page.keyboard.press(" ")
        expect(page.locator("tr.taken-row")).to_have_count(0)
        self.assertEqual(Run.objects.count(), before)

    def test_a_number_pad_for_one_hand_on_touch_and_on_request(self):
        page = self.page = self.sign_in(
            "operator",
            self.new_page(viewport={"width": 390, "height": 844}, has_touch=True, is_mobile=True),
        )
        self.open_capture()
        pad = page.get_by_role("group", name="Number pad")
        speed = page.locator("#r-air_speed")
        expect(speed).to_have_attribute("inputmode", "none")  # the device's own keyboard stays down
        for key in ("1", "5", "decimal point", "9", "9", "delete the last digit"):
            pad.get_by_role("button", name=key, exact=True).tap()
        expect(speed).to_have_value("15.9")
        expect(speed).to_be_focused()
        pad.get_by_role("button", name="Take reading").tap()
        expect(page.locator("#taken-count")).to_have_text("1 of 2 readings taken")
        page.get_by_label("Room temperature").tap()
        pad.get_by_role("button", name="2", exact=True).tap()
        pad.get_by_role("button", name="Next field").tap()
        pad.get_by_role("button", name="9", exact=True).tap()
        expect(page.get_by_label("Room temperature")).to_have_value("2")
        expect(page.get_by_label("Air pressure")).to_have_value("9")
        self.assertLessEqual(page.evaluate("document.documentElement.scrollWidth"), 390)
        page.locator("#pad-toggle").tap()
        expect(pad).to_be_hidden()
        page.reload()
        expect(page.locator("tr.taken-row")).to_have_count(1)
        expect(pad).to_be_hidden()  # as it was chosen
        expect(page.locator("#r-air_speed")).to_have_attribute("inputmode", "decimal")

    def test_the_number_pad_stays_away_where_there_is_a_keyboard_until_it_is_asked_for(self):
        page = self.sign_in("operator")
        self.open_capture()
        pad = page.get_by_role("group", name="Number pad")
        expect(pad).to_be_hidden()
        page.get_by_role("button", name="Number pad").click()
        expect(pad).to_be_visible()
        page.locator("#r-air_speed").fill("158")
        page.locator("#r-air_speed").evaluate("(field) => field.setSelectionRange(1, 2)")
        pad.get_by_role("button", name="4", exact=True).click()
        pad.get_by_role("button", name="minus").click()
        pad.get_by_role("button", name="delete the last digit").click()
        expect(page.locator("#r-air_speed")).to_have_value("148")

    def test_phone_and_dark(self):
        page = self.new_page(viewport={"width": 390, "height": 844}, color_scheme="dark")
        self.sign_in("operator", page)
        page.goto(
            self.in_round(
                f"bench/tests/{self.built.tests['air'].pk}/?subject=s{self.built.specimens['Amsel'].pk}"
            )
        )
        self.charts_drawn(page=page)
        self.assertLessEqual(page.evaluate("document.documentElement.scrollWidth"), 390)
        self.assertEqual(
            page.evaluate("getComputedStyle(document.body).backgroundColor"), "rgb(12, 25, 31)"
        )


class FileTests(BrowserTests):
    kinds = ("air", "pressure", "noise", "rise", "power")
    measured = False

    def choose(self, name):
        self.page.goto(self.in_round("bench/"))
        self.page.set_input_files("#log", DATA / name)
        self.page.get_by_role("button", name="Preview").click()

    def confirm(self, background=True):
        self.page.get_by_label("What was run").select_option(label="Amsel, specimen R-1")
        self.page.get_by_label("Air pressure").fill("965")
        self.page.get_by_label("Relative humidity").fill("48")
        if background:
            self.page.get_by_label("Background level").fill("36,1 36,0")
        self.page.get_by_role("button", name="Import").click()

    def test_three_kinds_of_logger(self):
        page = self.sign_in("operator")
        self.choose("bench_b_german.csv")
        expect(
            page.get_by_text("1,200 rows, semicolon between columns, decimal comma, Windows-1252")
        ).to_be_visible()
        expect(page.get_by_label("What “Temp. Prüfkörper [°C]” measures")).to_have_value(
            "load_temperature"
        )
        expect(page.get_by_label("Room temperature, °C")).to_have_value("21.5")
        self.confirm()
        expect(
            page.get_by_text("1,200 rows imported as 5 runs: air, pressure, noise, rise, power.")
        ).to_be_visible()
        self.charts_drawn()
        expect(page.get_by_text("5 lost").first).to_be_visible()
        page.keyboard.press("w")
        expect(page.locator("#working")).to_contain_text("profile factor of the tube")

        self.choose("bench_b_german.csv")
        expect(page.get_by_role("heading", level=1)).to_have_text("This file is in already")

        self.choose("bench_a_1hz.csv")
        self.confirm()
        expect(page.get_by_text("1,200 rows imported as 5 runs")).to_be_visible()

        self.choose("bench_c_head.tsv")
        expect(page.get_by_label("Unit of “Air Speed”")).to_have_value("ft/min")
        self.confirm()
        expect(
            page.get_by_text(
                "300 rows imported as 5 runs: air, pressure, noise, rise (no result), power."
            )
        ).to_be_visible()

    def test_a_file_feeds_further_tests_and_comes_in_again_when_its_runs_are_void(self):
        page = self.sign_in("operator")
        self.choose("bench_b_german.csv")
        for test in ("Pressure test", "Noise test", "Rise test", "Power test"):
            page.get_by_label(test).uncheck()
        self.confirm(background=False)
        expect(page.get_by_text("1,200 rows imported as")).to_be_visible()
        self.choose("bench_b_german.csv")
        expect(page.get_by_role("heading", level=1)).to_have_text("This file is in already")
        page.get_by_label("Noise test").check()
        page.get_by_role("button", name="Make the runs").click()
        expect(page.locator("#messages")).to_contain_text("also needs background level")
        page.get_by_text("Feed further tests from").click()
        page.get_by_label("Noise test").check()
        page.get_by_label("Background level").fill("36,1")
        page.get_by_role("button", name="Make the runs").click()
        expect(page.locator("#messages")).to_contain_text("now feeds Noise test too")
        expect(page.locator(".big")).to_contain_text("dB(A)")
        for run in Run.objects.all():
            void_run(self.built.operator, run, "read in wrong columns")
        self.choose("bench_b_german.csv")
        expect(page.get_by_role("heading", level=1)).to_have_text("What is in bench_b_german.csv?")
        self.confirm()
        expect(page.get_by_text("1,200 rows imported as 5 runs")).to_be_visible()
        self.assertEqual(Recording.objects.filter(set_aside_at=None).count(), 1)

    def test_a_broken_file_is_refused_with_its_rows(self):
        page = self.sign_in("operator")
        self.choose("bench_d_broken.csv")
        self.confirm()
        expect(page.get_by_role("heading", level=1)).to_have_text("Nothing was imported")
        expect(page.get_by_role("row", name="90 “OL” in air speed is not a number")).to_be_visible()
        self.assertEqual((Recording.objects.count(), Run.objects.count()), (0, 0))

    def test_a_large_file_is_watched_stopped_and_imported(self):
        page = self.sign_in("operator")
        large = mock.patch("hauch.bench.views_import.AT_ONCE", 1000)
        large.start()
        self.addCleanup(large.stop)
        self.choose("bench_b_german.csv")
        self.confirm()
        expect(page.get_by_text("Waiting for the worker")).to_be_visible()
        page.get_by_role("button", name="Stop").click()
        expect(page.get_by_text("It was stopped by hand.")).to_be_visible()
        page.get_by_role("link", name="Back to its columns").click()
        self.confirm()
        expect(page.get_by_text("Waiting for the worker")).to_be_visible()
        import_later(LogImport.objects.get(ended_at=None).pk)  # as the worker does; the page looks
        expect(page.get_by_text("1,200 rows imported as")).to_be_visible()
        page.locator("#importing").get_by_role("link", name="Run").first.click()
        expect(page.get_by_role("heading", name="Amsel")).to_be_visible()

    def test_a_wrong_unit_is_told_and_mended(self):
        page = self.sign_in("operator")
        self.choose("bench_b_german.csv")
        page.get_by_label("Unit of “Luftgeschw. [m/s]”").fill("furlong")
        self.confirm()
        expect(page.get_by_role("alert").first).to_contain_text(
            "“furlong” is not known for air speed"
        )
        page.get_by_label("Unit of “Luftgeschw. [m/s]”").fill("m/s")
        page.get_by_role("button", name="Import").click()
        expect(page.get_by_text("imported as 5 runs")).to_be_visible()

    def test_a_stalled_rotor(self):
        page = self.sign_in("operator")
        self.choose("bench_e_1hz.csv")
        self.confirm()
        expect(
            page.get_by_text("stood still to the end. Record it as did not finish.")
        ).to_be_visible()
