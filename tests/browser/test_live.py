"""The live bench as a person uses it: a whole run with the keyboard only, a lost connection, a
stall, equal power, phone and dark.
"""

from __future__ import annotations

import re
from datetime import timedelta
from unittest import mock

from django.db.models.functions import Now
from playwright.sync_api import expect

from hauch.bench.models import Live, Observation, Run
from hauch.live.presence import with_absence
from hauch.live.recorder import Recorder
from hauch.rounds.models import Setting, Test
from hauch.stores.models import Rig
from tests.browser.base import PATIENCE
from tests.browser.live_base import LiveBrowserTests
from tests.processes import Machine
from tests.traces import whole


class LiveTests(LiveBrowserTests):
    def open_live(self, name="Amsel"):
        page = self.sign_in("operator")
        page.goto(
            self.in_round(
                f"bench/tests/{self.built.tests['air'].pk}/?subject=s{self.built.specimens[name].pk}"
            )
        )
        page.keyboard.press("Escape")  # out of the first field
        page.keyboard.press("l")
        expect(page.get_by_role("heading", level=1)).to_contain_text(f"{name}, air test")
        expect(page.locator("#still")).to_have_text("The throttle is closed.")
        return page

    def step(self, page, key, now):
        page.keyboard.press(key)
        expect(page.locator(".live-steps [aria-current=step]")).to_contain_text(now)

    def steady(self, page):
        expect(page.locator("#still")).to_have_text("Steady.")

    def take(self, page, number):
        """Ask for readings by key until there are so many; what is told to wait is asked again."""
        rows = page.locator(".live-readings tbody tr")
        for _ in range(40):
            with page.expect_response(lambda answer: answer.request.method == "POST"):
                page.keyboard.press(" ")
            page.wait_for_timeout(700)
            if rows.count() >= number:
                return
        self.fail(f"{rows.count()} of {number} readings were taken.")

    def test_a_whole_run_with_the_keyboard_only(self):
        page = self.open_live()
        self.step(page, "Enter", "Guard")
        self.step(page, "Enter", "Throttle")
        self.step(page, "Enter", "Read")
        self.steady(page)
        page.keyboard.press("n")
        page.keyboard.type("tufts point back")
        for _ in range(20):  # to the button
            page.keyboard.press("Tab")
            if page.evaluate("document.activeElement.textContent") == "Save":
                break
        page.keyboard.press("Enter")
        expect(page.locator(".seen")).to_contain_text("tufts point back")
        page.keyboard.press("Escape")
        rows = page.locator(".live-readings tbody tr")
        self.take(page, 1)
        page.keyboard.press("u")
        expect(page.locator(".live-readings")).to_have_count(0)
        self.take(page, 1)
        self.take(page, 2)
        for _ in range(
            3
        ):  # at once: it is told to wait, unless the machine itself stood still for so long
            taken = rows.count()
            page.keyboard.press(" ")
            expect(page.locator("#guide .problem-line").or_(rows.nth(taken))).to_be_visible()
            if rows.count() == taken:
                break
        expect(page.locator("#guide .problem-line")).to_contain_text("Wait a moment")
        page.keyboard.press("Enter")  # the room is not known yet
        expect(page.locator("#guide .problem-line")).to_contain_text("Room temperature is missing")
        page.keyboard.press("Tab")
        for label, text in (
            ("Room temperature", "21.4"),
            ("Air pressure", "965"),
            ("Relative humidity", "48"),
        ):
            for _ in range(60):
                if page.evaluate(
                    "document.activeElement.labels?.[0]?.textContent ?? ''"
                ).startswith(label):
                    break
                page.keyboard.press("Tab")
            page.keyboard.type(text)
        page.keyboard.press("Escape")
        page.keyboard.press("Enter")
        expect(page.locator("#messages .success")).to_contain_text(
            re.compile(r"Run \d+, Amsel, Air test, repeat 1: 15\d(\.\d)? ± \d(\.\d)? m³/h")
        )
        run = Run.objects.get()
        self.assertEqual((len(run.windows), run.result.missing), (taken, ""))
        self.assertEqual(Observation.objects.get().run_id, run.pk)
        page.goto(self.in_round(f"bench/runs/{run.pk}/"))
        self.assertGreaterEqual(self.charts_drawn(2), 2)
        lag = self.recorder.held  # the recorder still holds the bench for the next repeat
        self.assertEqual(len(lag), 1)

    def test_a_lost_connection_and_a_server_that_comes_back(self):
        page = self.open_live()
        self.step(page, "Enter", "Guard")
        self.step(page, "Enter", "Throttle")
        self.step(page, "Enter", "Read")
        self.steady(page)
        self.server.stop()
        expect(page.locator("#still")).to_have_text("The figure is old.")
        lost = page.locator("#lost")
        expect(lost).to_contain_text("The part runs on at 100 %, as far as is known.")
        expect(lost).to_contain_text("if no page is back within 60 s, the recorder closes")
        page.keyboard.press(" ")
        expect(page.locator("#messages")).to_contain_text(
            "The server cannot be reached. Nothing is lost"
        )
        # Closing the throttle is sent until it got through.
        page.keyboard.press("x")
        expect(lost).to_contain_text("Closing the throttle did not get through")
        page.wait_for_timeout(1_500)
        self.assertEqual(self.meters.bench.rig.throttle, 100.0)
        self.server.start()
        expect(page.locator("#still")).to_have_text("The throttle is closed.")
        self.assertEqual(self.meters.bench.rig.throttle, 0.0)
        expect(lost).to_be_hidden()
        page.wait_for_timeout(1_000)
        # The picture has no gap: what was recorded meanwhile came after.
        times, _ = whole(Live.objects.get().recording)
        self.assertLess(float((times[1:] - times[:-1]).max()), 0.05)
        self.assertTrue(self.troubles)
        self.troubles.clear()

    def test_nobody_there(self):
        """The page says that it is there; without one the throttle closes, whoever ran the part."""
        page = self.open_live()
        self.step(page, "Enter", "Guard")
        self.step(page, "Enter", "Throttle")
        self.step(page, "Enter", "Read")
        self.steady(page)
        Live.objects.update(watched_at=Now() - timedelta(seconds=50))

        def absence() -> float:
            return with_absence(Live.objects.all()).get().absence.total_seconds()

        for _ in range(200):  # until the page says that it is there
            page.wait_for_timeout(100)
            if absence() < 5:
                break
        self.assertLess(absence(), 5)
        self.assertEqual(self.meters.bench.rig.throttle, 100.0)
        address = page.url
        page.close()
        Live.objects.update(watched_at=Now() - timedelta(seconds=57))
        back = self.new_page()
        for _ in range(80):
            back.wait_for_timeout(100)
            if self.meters.bench.rig.throttle == 0.0:
                break
        self.assertEqual(self.meters.bench.rig.throttle, 0.0)
        self.sign_in("host", back)
        back.goto(address)
        expect(back.locator("#events")).to_contain_text(
            "Nobody had this bench's page open for 60 s, the most that the round allows."
        )

    def test_a_meter_that_shows_another_unit_and_a_setting_while_it_spins(self):
        """Three seconds in ft/min are told as such and left out; no hand goes in while it turns."""
        Setting.objects.create(round=self.built.round, label="Lid on")
        page = self.open_live()
        self.step(page, "Enter", "Guard")
        self.step(page, "Enter", "Throttle")
        self.step(page, "Enter", "Read")
        self.steady(page)
        page.get_by_role("button", name="go on at “Lid on”").click()
        expect(page.locator("#guide .problem-line")).to_contain_text("Close the throttle first")
        self.assertEqual(self.meters.bench.rig.throttle, 100.0)
        self.meters.bench.rig.fault("air_speed", "unit", 3.0, 196.85)
        events = page.locator("#events")
        expect(events).to_contain_text("reads in another unit, as ft/min taken for m/s")
        expect(events).not_to_contain_text("spiked")
        # Closed and at rest it may be changed; mount and guard are asked for anew.
        page.keyboard.press("x")
        expect(page.locator("#still")).to_have_text("The throttle is closed.")
        for _ in range(300):
            if Live.objects.get().status["stands"]:
                break
            page.wait_for_timeout(100)
        page.get_by_role("button", name="go on at “Lid on”").click()
        expect(page.locator(".live-steps [aria-current=step]")).to_contain_text("Mount")
        self.assertEqual(Live.objects.get().setting.label, "Lid on")

    def test_one_motor_one_bench(self):
        page = self.open_live()
        rig = self.built.tests["air"].rig
        other = Rig.objects.create(name="Second rig", kind=rig.kind, constants=rig.constants)
        for meter in rig.meters.all():
            other.meters.create(channel=meter.channel, instrument=meter.instrument)
        Test.objects.filter(pk=self.built.tests["power"].pk).update(rig=other)
        second = self.sign_in("host", self.new_page())
        second.goto(
            self.in_round(
                f"bench/tests/{self.built.tests['power'].pk}/"
                f"?subject=s{self.built.specimens['Binse'].pk}"
            )
        )
        second.keyboard.press("l")  # from within the first field, whose letters are keys
        expect(second.locator("#messages")).to_contain_text("is held by another bench: Amsel is on")
        self.assertEqual(Live.objects.count(), 1)
        page.keyboard.press("Enter")
        expect(page.locator(".live-steps [aria-current=step]")).to_contain_text("Guard")

    def test_a_recorder_that_dies_leaves_no_page_that_looks_safe(self):
        page = self.open_live()
        self.step(page, "Enter", "Guard")
        self.step(page, "Enter", "Throttle")
        self.step(page, "Enter", "Read")
        self.steady(page)
        with mock.patch.object(Recorder, "_close"):  # killed: it closes nothing
            self.recorder.stop()
            lost = page.locator("#lost")
            expect(lost).to_contain_text("The recorder does not answer. The part runs on at 100 %")
            expect(lost).to_contain_text("switch the supply off by hand")
        expect(page.locator(".huge")).to_have_class(re.compile("old"))
        for held in self.recorder.held.values():
            held.close()

    def test_two_browsers_see_what_the_other_does(self):
        machine = Machine()
        page = self.open_live()  # within a second on a quiet machine
        other = self.sign_in("host", self.new_page())
        other.goto(page.url)
        expect(other.locator("#still")).to_have_text("The throttle is closed.")
        page.keyboard.press("n")
        page.keyboard.type("a whistle at the lip")
        page.get_by_role("button", name="Save").click()
        expect(other.locator(".seen")).to_contain_text(
            "a whistle at the lip", timeout=machine.seconds(5_000)
        )
        page.keyboard.press("Enter")
        expect(other.locator(".live-steps [aria-current=step]")).to_contain_text(
            "Guard", timeout=machine.seconds(5_000)
        )
        # What is being written in the other one is kept though the recording ends meanwhile.
        other.keyboard.press("n")
        other.keyboard.type("a crack at the root")
        page.keyboard.press("e")
        page.get_by_role("button", name="End it", exact=True).click()
        expect(other.locator("#still")).to_have_text(
            "This recording has ended.", timeout=machine.seconds(5_000)
        )
        other.get_by_role("button", name="Save").click()
        expect(other.locator("dialog#note")).to_be_hidden()
        expect(other.locator("#guide")).to_contain_text("Operator ended it")
        expect(other.locator(".live-throttle")).to_be_hidden()
        self.assertEqual(
            [one.text for one in Observation.objects.order_by("pk")],
            ["a whistle at the lip", "a crack at the root"],
        )
        # Who comes back after the end learns it too, and so does a page that was away.
        late = self.sign_in("host", self.new_page())
        late.goto(other.url)
        expect(late).to_have_url(re.compile("/bench/$"))

    def test_a_stall_is_told_and_becomes_did_not_finish(self):
        page = self.open_live()
        self.step(page, "Enter", "Guard")
        self.step(page, "Enter", "Throttle")
        self.step(page, "Enter", "Read")
        self.steady(page)
        self.meters.bench.rig.fault("", "stall")
        expect(page.locator("#events")).to_contain_text("The part stopped")
        expect(page.locator("#still")).to_have_text("The throttle is closed.")
        page.keyboard.press("d")
        page.keyboard.type("stopped at full throttle, bearing hot")
        page.keyboard.press("Enter")
        expect(page.locator("#messages .success")).to_contain_text("did not finish")
        run = Run.objects.get()
        self.assertEqual((run.state, run.recording_id is not None), ("dnf", True))
        self.assertGreaterEqual(self.charts_drawn(2), 2)

    def test_equal_power_is_searched_by_itself(self):
        type(self.built.round).objects.filter(pk=self.built.round.pk).update(
            equal="power", equal_value=2.5
        )
        page = self.open_live()
        self.step(page, "Enter", "Guard")
        self.step(page, "Enter", "Equal power")
        page.keyboard.press("Enter")
        expect(page.locator("#events")).to_contain_text(
            "Electrical power holds 2.5 W", timeout=2 * PATIENCE
        )
        expect(page.locator(".live-steps [aria-current=step]")).to_contain_text("Read")
        self.assertAlmostEqual(self.meters.bench.rig.now("power"), 2.5, delta=0.12)
        page.keyboard.press("x")
        expect(page.locator("#still")).to_have_text("The throttle is closed.")

    def test_on_a_phone_in_a_dim_workshop_and_two_watch_one_bench(self):
        page = self.open_live()
        phone = self.sign_in(
            "operator",
            self.new_page(
                viewport={"width": 390, "height": 844},
                color_scheme="dark",
                has_touch=True,
                reduced_motion="reduce",
            ),
        )
        phone.goto(page.url)
        expect(phone.locator("#still")).to_have_text("The throttle is closed.")
        self.assertLessEqual(phone.evaluate("document.documentElement.scrollWidth"), 390)
        phone.get_by_role("button", name="It is mounted").tap()
        expect(phone.locator(".live-steps [aria-current=step]")).to_contain_text("Guard")
        phone.locator("[data-channel=speed]").tap()
        expect(phone.locator("#now-label")).to_have_text("Speed")
        page.reload()
        expect(page.locator(".live-steps [aria-current=step]")).to_contain_text("Guard")
        lags = phone.evaluate("window.hauchLags")
        self.assertGreater(len(lags), 5)
