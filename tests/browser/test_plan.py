"""Planning a day in the browser: hours, the strip, pins by key and by drag, what breaks, what is done."""

import re
from datetime import UTC, datetime, timedelta

import time_machine
from playwright.sync_api import expect

from hauch.bench.models import Run
from hauch.entries.models import BillItem
from hauch.plan.models import PlannedStep, Wish
from hauch.plan.queries import in_force
from hauch.workshop.actions import add_specimen, set_state
from hauch.workshop.models import Specimen
from tests.browser.base import BrowserTests
from tests.browser.test_accessible import AXE, FITS, LOOK, WIDER
from tests.builder import build
from tests.plans import ALL_DAY, checked, give_hours, made, plan_now, printer


class PlanTests(BrowserTests):
    kinds, measured = ("air", "power", "a plan"), False

    def setUp(self):
        """At nine in the morning: late in the evening a block that is moved on leaves its day."""
        today = datetime.now(tz=UTC).replace(hour=9, minute=2, second=0, microsecond=0)
        travelling = time_machine.travel(today)
        clock = travelling.start()
        self.addCleanup(travelling.stop)
        super().setUp()
        clock.move_to(today + timedelta(minutes=8))  # after the plan that all tests begin with

    def make(self):
        built = build()
        give_hours(built, days=range(7), shifts=ALL_DAY)
        printer()
        made(built.host)
        return built

    def open(self, who="operator", **options):
        self.page = self.new_page(**options) if options else self.page
        self.sign_in(who)
        self.page.goto(self.url("/plan/"))
        return self.page

    def first_block(self):
        return self.page.locator(".strip .bench .step.open[tabindex='0']").first

    def test_a_day_is_planned_and_put_right(self):
        page = self.open("host")
        expect(page.locator(".strip")).to_be_visible()
        expect(page.get_by_text("Next", exact=False).first).to_be_visible()
        page.get_by_label("Days to plan").select_option("7")
        page.get_by_role("button", name="Plan anew").click()
        expect(page.get_by_role("status")).to_contain_text("worked out")
        plan_now()
        expect(page.locator("#planning")).to_have_count(0)  # the page comes anew by itself
        self.assertEqual(in_force().days, 7)
        page.get_by_role("link", name="Day after").click()
        expect(page).to_have_url(re.compile("day=1"))
        page.keyboard.press("[")
        expect(page).to_have_url(re.compile("day=0"))

    def test_a_block_is_pinned_with_the_arrow_keys(self):
        page = self.open()
        step = PlannedStep.objects.get(pk=self.first_block().get_attribute("data-step"))
        self.first_block().focus()
        for _ in range(4):
            page.keyboard.press("ArrowRight")
        expect(page.locator(".strip .moving").first).to_be_attached()
        page.keyboard.press("Enter")
        expect(page.locator("#messages")).to_contain_text("is pinned to")
        self.assertAlmostEqual(step.plan.minute(Wish.objects.get().at), step.begin + 20, delta=3)
        plan_now()
        expect(page.locator(".strip .pinned").first).to_be_attached()
        expect(page.locator(".plan-list .pinned").first).to_be_visible()
        page.locator(".strip .pinned").first.focus()
        page.keyboard.press("Enter")
        page.get_by_role("button", name="Let it be moved again").click()
        expect(page.locator("#messages")).to_contain_text("may be moved again")
        self.assertFalse(Wish.objects.exists())

    def test_arrow_keys_and_escape_change_nothing(self):
        page = self.open()
        self.first_block().focus()
        page.keyboard.press("ArrowRight")
        page.keyboard.press("Escape")
        expect(page.locator(".strip .moving")).to_have_count(0)
        self.assertFalse(Wish.objects.exists())

    def test_a_block_is_dragged(self):
        page = self.open()
        box = self.first_block().locator(".frame").bounding_box()
        page.mouse.move(box["x"] + 6, box["y"] + 8)
        page.mouse.down()
        page.mouse.move(box["x"] + 60, box["y"] + 8, steps=4)
        page.mouse.up()
        expect(page.locator("#messages")).to_contain_text("is pinned to")
        plan_now()
        expect(page.locator(".strip .pinned").first).to_be_attached()

    def test_a_step_tells_itself_and_is_pinned_by_its_form(self):
        page = self.open()
        self.first_block().click()
        card = page.get_by_role("region", name="The chosen step")
        expect(card).to_contain_text("by rule")
        expect(card).to_contain_text("whose order chance set")
        card.get_by_role("button", name="Must be done today").click()
        expect(page.locator("#messages")).to_contain_text("to be done by the end of")
        plan_now()
        expect(page.locator("#planning")).to_have_count(0)

    def test_a_part_breaks_and_the_rest_stays(self):
        page = self.open("host")
        expect(page.locator(".plan-list")).to_contain_text("Amsel (R-1)")
        set_state(self.built.host, self.built.specimens["Amsel"], Specimen.State.BROKEN)
        page.reload()
        caution = page.locator(".caution")
        expect(caution).to_contain_text("Amsel (R-1): the print is broken.")
        caution.get_by_role("button", name="Put it right").click()
        plan_now()
        expect(page.locator(".caution")).to_have_count(0)
        expect(page.locator(".plan-list")).not_to_contain_text("Amsel (R-1)")
        expect(page.get_by_text("no longer wanted")).to_be_visible()

    def test_somebody_is_ill(self):
        page = self.open("host")
        page.get_by_label("Out is").select_option(label="Operator")
        page.get_by_label("Why").fill("a cold")
        page.get_by_role("button", name="Put the plan right").click()
        expect(page.locator("#messages")).to_contain_text("Operator is out")
        plan_now()
        expect(page.locator("#planning")).to_have_count(0)  # the page comes anew by itself
        expect(page.locator("aside")).to_contain_text("Operator is out: a cold.")
        expect(page.locator(".plan-list li.open .where").first).not_to_contain_text("Operator")
        page.get_by_role("button", name="Operator is there again").click()
        expect(page.locator("#messages")).to_contain_text("there again")

    def test_a_run_at_the_bench_ticks_its_step_off(self):
        page = self.open()
        first = page.locator(".plan-list li", has_text="Loft-140 L-02").first
        first.get_by_role("link").click()
        expect(page.get_by_role("heading", level=1)).to_contain_text("Loft-140 L-02")
        channel = "air_speed" if page.locator("#r-air_speed").count() else "voltage"
        for name in [channel] if channel == "air_speed" else ["voltage", "current"]:
            page.locator(f"#r-{name}").focus()
            for value in ("4.00", "4.01"):
                page.keyboard.type(value)
                page.keyboard.press("Space")
        for label, value in (
            ("Room temperature", "21.5"),
            ("Air pressure", "965"),
            ("Relative humidity", "48"),
        ):
            page.get_by_label(label).fill(value)
        page.locator("#accept").click()
        expect(page.locator("#messages")).to_contain_text("Loft-140 L-02, ")
        self.assertEqual(Run.objects.count(), 1)
        page.goto(self.url("/plan/"))
        expect(page.locator(".plan-list li.done")).to_have_count(1)
        expect(page.locator(".strip .lane .happened")).to_have_count(1)

    def test_home_leads_with_what_is_now_and_next(self):
        self.sign_in("host")
        self.page.goto(self.url("/"))
        now = self.page.locator(".plan-today")
        expect(now).to_contain_text("Rack rig")
        now.get_by_role("link", name="Plan of the day").click()
        expect(self.page.locator(".strip")).to_be_visible()

    def test_on_a_phone_the_list_is_read_without_sideways_scrolling(self):
        page = self.open(viewport={"width": 390, "height": 844})
        expect(page.locator(".plan-list li").first).to_be_visible()
        expect(page.locator(".strip")).to_be_hidden()
        self.assertLessEqual(page.evaluate("document.documentElement.scrollWidth"), 390)
        page.goto(self.url("/plan/house/"))
        expect(page.get_by_role("heading", name="Printers and ovens")).to_be_visible()
        self.assertLessEqual(page.evaluate("document.documentElement.scrollWidth"), 390)

    def test_nothing_serious_by_axe_and_nothing_wider_than_a_phone(self):
        version = self.built.specimens["Amsel"].version
        checked(version)
        BillItem.objects.create(version=version, name="Screw M3", quantity=4)
        add_specimen(self.built.host, version, state=Specimen.State.PLANNED)
        made(self.built.host)
        self.sign_in("host")
        found = {}
        for place in ("", "house/", "prints/", "prints/labels/", "parts/", "house/machines/new/"):
            self.page.set_viewport_size({"width": 1280, "height": 800})
            self.page.goto(self.url(f"/plan/{place}"))
            self.page.evaluate(AXE)
            problems = self.page.evaluate(LOOK)
            self.page.set_viewport_size({"width": 390, "height": 800})
            if not self.page.evaluate(FITS):
                problems.append(f"wider than a phone: {self.page.evaluate(WIDER)}")
            if problems:
                found[place] = problems
        self.assertEqual(found, {})

    def test_a_printer_is_added(self):
        page = self.open("host")
        page.get_by_role("link", name="Hours, printers and ovens, deadlines").click()
        page.get_by_role("link", name="Add a printer or an oven").click()
        page.get_by_label("Name").fill("Printer in the shed")
        page.get_by_label("May print with nobody there").check()
        page.get_by_role("button", name="Save").click()
        expect(page.locator("#machines")).to_contain_text("Printer in the shed")
