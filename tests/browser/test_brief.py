"""The host's and the keeper's work: write a brief, change a rule after runs, calibrate a rig,
bridge and retire a reference.
"""

from playwright.sync_api import expect

from hauch.rounds.models import Round
from hauch.stores.models import ReferenceSpecimen, Rig
from tests.browser.base import BrowserTests


class WriteABriefTests(BrowserTests):
    measured = False

    def test_from_a_usual_round_to_open(self):
        page = self.sign_in_by_hand("host")
        page.get_by_role("link", name="Write a full brief").click()
        page.get_by_label("Title").fill("Hay loft")
        page.get_by_text("Most air from a rotor").click()
        page.get_by_role("button", name="Begin", exact=True).click()
        page.get_by_label("What may vary, what stays").fill("The rotor only.")
        page.get_by_label("Compared at").select_option("equal electrical power")
        page.get_by_label("namely").fill("zero")
        page.get_by_role("button", name="Save").click()
        expect(page.get_by_text("“zero” is not a number")).to_be_visible()
        expect(page.get_by_label("What may vary, what stays")).to_have_value("The rotor only.")
        page.get_by_label("Compared at").select_option("full throttle")
        page.get_by_label("namely").fill("")
        page.get_by_role("button", name="Save").click()
        expect(page.get_by_role("heading", name="Before it can be opened")).to_be_visible()
        expect(
            page.get_by_text("No reference is set for “Air through the tunnel”").first
        ).to_be_visible()
        page.get_by_role("button", name="Open for entries").click()
        expect(page.locator("#messages")).to_contain_text(
            "The envelope is still the one it started with"
        )
        page.get_by_role("link", name="The envelope with its dimensions").click()
        page.get_by_role("button", name="Save").click()
        page.get_by_role("link", name="Bench").click()
        page.get_by_role("link", name="The reference: does it hold?").click()
        page.get_by_role("button", name="Make it the reference").click()
        expect(page.get_by_text("L-02 has no run with a result yet")).to_be_visible()
        page.keyboard.press("1")
        page.get_by_role("button", name="Open for entries").click()
        expect(page.locator("#messages")).to_contain_text("open for entries")
        page.get_by_role("link", name="Rule sheet").click()
        expect(page.get_by_text("The rank follows air through the tunnel alone.")).to_be_visible()
        expect(page.get_by_text("The rotor only.")).to_be_visible()
        self.assertEqual(Round.objects.get(title="Hay loft").state, "open")

    def test_the_envelope_follows_the_keys_and_keeps_its_last_good_drawing(self):
        page = self.sign_in("host")
        page.goto(self.in_round("brief/envelope/"))
        field = page.get_by_label("Bore, mm")
        field.fill("120")
        expect(page.locator("#drawing")).to_contain_text("⌀ 120 mm")
        field.fill("150")
        expect(page.locator("#drawing")).to_contain_text(
            "The bore (150 mm) and its wall do not fit the mounting square (140 mm)."
        )
        expect(page.locator("#drawing svg")).to_have_count(1)
        field.fill("130")
        expect(page.locator("#drawing .problems")).to_have_count(0)
        page.get_by_label("Name of keep-out 1").fill("rail")
        for label, value in (
            ("x", "40"),
            ("y", "-10"),
            ("z", "0"),
            ("wide", "30"),
            ("high", "20"),
            ("deep", "60"),
        ):
            page.get_by_role("group", name="Keep-out 1").get_by_label(label, exact=True).fill(value)
        expect(page.locator("#drawing")).to_contain_text("“rail” reaches into the bore")
        page.get_by_role("group", name="Keep-out 1").get_by_label("x", exact=True).fill("80")
        expect(page.locator("#drawing .problems")).to_have_count(0)
        page.get_by_label("Why does it change?").fill("The rail was forgotten.")
        page.get_by_role("button", name="Save").click()
        expect(page.locator("#messages")).to_contain_text("The envelope is saved")
        with page.expect_download() as download:
            page.get_by_role("link", name="STEP").click()
        self.assertTrue(download.value.path().read_bytes().startswith(b"ISO-10303-21"))


class ChangeARuleTests(BrowserTests):
    def test_what_it_would_do_is_seen_before_it_is_accepted(self):
        page = self.sign_in("host")
        page.goto(self.in_round("brief/"))
        page.get_by_role("link", name="Change the rules").click()
        page.get_by_label("Weight of Air test").fill("0")
        page.get_by_label("Why do the rules change?").fill("The loft pays for power.")
        page.get_by_role("button", name="See what it would do").click()
        expect(page.locator(".problems")).to_contain_text(
            "The weight of “Air test” is 0. Give a weight above 0"
        )
        page.get_by_label("Weight of Air test").fill("")
        page.get_by_label("Repeats of Power test").fill("4")
        page.get_by_role("button", name="See what it would do").click()
        expect(page.locator(".look .lead")).to_contain_text("The first place goes from Amsel to")
        expect(page.locator(".look")).to_contain_text(
            "13 runs stay valid; 1 more of each entry is due"
        )
        self.assertEqual(self.built.round.rules.count(), 1)
        expect(page.get_by_label("Why do the rules change?")).to_have_value(
            "The loft pays for power."
        )
        page.get_by_role("button", name="Accept as v2").click()
        expect(page.locator("#messages")).to_contain_text("The rules are at version 2")
        expect(page.get_by_role("heading", name="Rules v2, in force")).to_be_visible()
        page.get_by_role("link", name="Standing under these rules").last.click()
        expect(page.locator(".lead")).to_contain_text("Amsel leads with")
        page.go_back()
        page.goto(self.in_round("audit/?what=rules"))
        expect(page.get_by_text("The loft pays for power.")).to_be_visible()

    def test_a_test_is_added_and_named(self):
        page = self.sign_in("host")
        page.goto(self.in_round("brief/rules/"))
        page.get_by_label("Add a test").select_option("Airflow in the tunnel")
        page.get_by_label("called").fill("Air with the lid on")
        page.get_by_role("button", name="Add it").click()
        expect(page.get_by_label("Name of the test Air with the lid on")).to_have_value(
            "Air with the lid on"
        )
        page.get_by_label("Weight of Air with the lid on").fill("1")
        page.get_by_label("Why do the rules change?").fill("Lids are common.")
        page.get_by_role("button", name="See what it would do").click()
        expect(page.locator(".look")).to_contain_text(
            "Air with the lid on New: every entry is to be run."
        )
        page.get_by_role("button", name="Accept as v2").click()
        expect(page.get_by_role("cell", name="Air with the lid on").first).to_be_visible()

    def test_an_objection_is_raised_and_answered(self):
        designer = self.sign_in("designer")
        designer.goto(self.in_round("brief/"))
        designer.get_by_label("objection").check()
        designer.get_by_label("What you ask, or what you object to and why").fill(
            "Power should not count."
        )
        designer.get_by_role("button", name="Send").click()
        expect(designer.get_by_text("Not answered yet.")).to_be_visible()
        host = self.sign_in("host", self.new_page())
        host.goto(self.in_round("brief/"))
        host.get_by_label("Answer").fill("It does, a little.")
        host.get_by_role("button", name="Answer").click()
        designer.reload()
        expect(designer.get_by_text("It does, a little.")).to_be_visible()


class CalibrateTests(BrowserTests):
    measured = False

    def test_a_rig_is_put_up_and_its_profile_factor_found(self):
        page = self.sign_in("operator")
        page.goto(self.url("/stores/"))
        page.get_by_label("Set up a").select_option("Tunnel")
        page.get_by_role("button", name="Set up").click()
        page.get_by_label("Name").fill("Barn tunnel")
        page.get_by_label("Bore of the tube, mm needed").fill("-125")
        expect(page.locator("#drawing")).to_contain_text("cannot be")
        page.get_by_label("Bore of the tube, mm needed").fill("125")
        page.get_by_label("Length of the tube, mm", exact=True).fill("1500")
        expect(page.locator("#drawing")).to_contain_text("⌀ 125 mm")
        page.get_by_label("Air speed", exact=True).select_option("Vane")
        page.get_by_role("button", name="Save").click()
        page.get_by_role("link", name="Find the profile factor by a traverse").click()
        shape = (0.97, 0.93, 0.90, 0.82, 0.60)
        for radius in range(1, 5):
            page.get_by_label(f"Centre speed, radius {radius}").fill("18")
            for point, value in enumerate(shape, start=1):
                page.get_by_label(f"Radius {radius}, point {point}").fill(f"{18 * value:.2f}")
        expect(page.locator("#result")).to_contain_text("0.844")
        self.assertEqual(self.charts_drawn(1), 1)
        page.get_by_role("button", name="Save and use it").click()
        expect(page.get_by_text("Traverse of the tube: k = 0.844")).to_be_visible()
        self.assertAlmostEqual(
            Rig.objects.get(name="Barn tunnel").pairs["profile_factor"][0], 0.844, places=3
        )

    def test_what_is_typed_before_the_scripts_run_is_answered(self):
        page = self.sign_in("operator")
        meter = self.built.tests["air"].rig.meters.first().instrument
        page.route("**/htmx*.js", lambda route: (page.wait_for_timeout(1500), route.continue_()))
        page.goto(self.url(f"/stores/instruments/{meter.pk}/calibrate/"), wait_until="commit")
        page.get_by_label("Point 1, it shows").fill("3.6")
        page.get_by_label("Point 1, the standard shows").fill("3.5")
        expect(page.locator("#result")).to_contain_text("cannot be drawn through one point")

    def test_a_meter_is_calibrated_with_its_residuals_in_sight(self):
        page = self.sign_in("operator")
        page.goto(self.url("/stores/"))
        page.get_by_role("link", name="Vane", exact=True).click()
        page.get_by_role("link", name="Calibrate").click()
        page.get_by_label("Point 1, it shows").fill("3.6")
        page.get_by_label("Point 1, the standard shows").fill("3.5")
        expect(page.locator("#result")).to_contain_text("cannot be drawn through one point")
        for number, (shown, true) in enumerate((("18", "17.6"), ("36", "35.3")), start=2):
            page.get_by_label(f"Point {number}, it shows").fill(shown)
            page.get_by_label(f"Point {number}, the standard shows").fill(true)
        expect(page.locator("#result")).to_contain_text("Slope")
        self.assertEqual(self.charts_drawn(1), 1)
        page.get_by_label("Compared on").fill("2026-04-01")
        page.get_by_role("button", name="Save", exact=True).click()
        expect(page.locator("#messages")).to_contain_text(
            "is calibrated: it holds for runs from 01 Apr 2026 on"
        )
        self.assertEqual(self.charts_drawn(1), 1)


class ReferenceTests(BrowserTests):
    def test_bridge_change_and_retire(self):
        ReferenceSpecimen.objects.create(type=self.built.reference.type, serial="L-03")
        page = self.sign_in("operator")
        page.goto(self.in_round("bench/"))
        page.get_by_role("link", name="The reference: does it hold?").click()
        page.locator("#specimen").select_option(label="Loft-140 L-03, new")
        page.get_by_role("button", name="Run it beside the present one").click()
        expect(page.get_by_text("run beside it since").first).to_be_visible()
        page.get_by_role("link", name="Run it").first.click()
        expect(page.get_by_role("heading", level=1)).to_contain_text("Loft-140 L-03, Air test")
        minute = 600
        for what, speed in (
            (self.built.reference, 4.0),
            ("new", 4.08),
            (self.built.reference, 4.0),
            ("new", 4.08),
        ):
            part = ReferenceSpecimen.objects.get(serial="L-03") if what == "new" else what
            self.built.air(part, minute, (speed, speed + 0.01))
            minute += 5
        page.goto(self.in_round("verdict/reference/"))
        expect(page.get_by_role("main")).to_contain_text("Bridge from L-02 to L-03: +")
        page.locator("#specimen").select_option(label="Loft-140 L-03, in use")
        page.get_by_label("Why").fill("L-02 hums.")
        page.get_by_role("button", name="Make it the reference").click()
        expect(page.locator("#messages")).to_contain_text(
            "Loft-140 L-03 is the reference from now on"
        )
        expect(page.get_by_text("All 9 runs of entries can be compared.").first).to_be_visible()
        page.locator("#out").select_option(label="Loft-140 L-03")
        page.get_by_label("What happened to it").fill("")
        page.get_by_role("button", name="It broke").click()
        expect(page.locator("#messages")).to_contain_text("Say in a few words what happened to it")
        page.get_by_role("link", name="Loft-140 L-02").first.click()
        expect(page.get_by_role("heading", level=1)).to_contain_text("Loft-140 L-02")
        self.assertEqual(self.charts_drawn(1), 1)


class InviteTests(BrowserTests):
    measured = False

    def test_a_stranger_joins_by_a_link(self):
        host = self.sign_in("host")
        host.goto(self.in_round("people/"))
        host.get_by_label("Role", exact=True).select_option("Designer")
        host.get_by_role("button", name="Make a link").click()
        link = host.get_by_label("Invitation link").input_value()
        self.built.round.state = "open"
        self.built.round.save()
        new = self.new_page()
        new.goto(link)
        new.get_by_label("Username").fill("ilvy")
        new.get_by_label("What others call you").fill("Ilvy")
        new.get_by_label("Password").fill("straw-bale-13")
        new.get_by_role("button", name="Join the round").click()
        expect(new.get_by_role("link", name="Ilvy", exact=True)).to_be_visible()
        new.keyboard.press("2")
        new.get_by_label("Name", exact=True).fill("Hummel")
        new.get_by_role("button", name="Hand in").click()
        expect(new.get_by_role("heading", level=1)).to_contain_text("Hummel")
