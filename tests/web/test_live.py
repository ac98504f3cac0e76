"""The live bench: its procedure, what may be done when, runs made of it, exclusions and
observations.
"""

from __future__ import annotations

import io
from datetime import timedelta
from unittest import mock

import numpy as np
from django.core.exceptions import PermissionDenied, ValidationError
from django.db import IntegrityError, transaction
from django.db.models.functions import Now
from django.test import TestCase
from django.urls import reverse
from django.utils import timezone
from PIL import Image

from hauch.bench import exclusions, steady
from hauch.bench.compare import comparisons, orientation_sentence, siblings_of
from hauch.bench.models import Exclusion, Live, Observation, Piece, Recording, Run
from hauch.bench.observations import observe
from hauch.bench.plan import bracket_due, plan_of
from hauch.bench.runs import Room, Subject
from hauch.core.rig.live import LiveRig
from hauch.entries.models import Prediction, Version
from hauch.live import actions as live
from hauch.live import guide, presence, readings
from hauch.live import runs as live_runs
from hauch.live.held import take_up
from hauch.live.protocol import (
    KEPT_WISHES,
    MOST_WAITING,
    Cut,
    Mounted,
    Throttle,
    Wave,
    wanted_of,
)
from hauch.live.stream import changes
from hauch.people.models import AuditEntry
from hauch.rounds.models import Round, Setting, Test
from hauch.rounds.queries import current_rules
from hauch.rounds.references import take_out
from hauch.stores.models import Instrument, Rig
from hauch.workshop import actions as shop
from hauch.workshop.models import Specimen
from tests.builder import PASSWORD, ROOM, build
from tests.traces import whole

CHANNELS = ("air_speed", "sound_level", "voltage", "current", "speed", "throttle")
RATE = 10.0


def png() -> bytes:
    out = io.BytesIO()
    Image.new("RGB", (40, 30), (10, 90, 90)).save(out, "PNG")
    return out.getvalue()


def last_wish(one: Live):
    """What was wanted last."""
    return wanted_of(one).wishes[-1].wish


def compared(run):
    """What a run is held against, as its page asks it."""
    run = Run.objects.get(pk=run.pk)
    return comparisons(run, siblings_of(run))


class LiveCase(TestCase):
    kinds = ("air", "power", "noise", "rise")

    @classmethod
    def setUpTestData(cls):
        cls.built = build(kinds=cls.kinds)

    def setUp(self):
        self.rig = self.built.tests["air"].rig
        motor = Instrument.objects.create(
            name="Motor",
            channel="throttle",
            resolution=0.1,
            resource="X",
            profile={"query": "T?", "unit": "%"},
        )
        self.rig.meters.create(channel="throttle", instrument=motor)
        Instrument.objects.filter(channel__in=CHANNELS).update(
            resource="TCPIP0::127.0.0.1::9::SOCKET"
        )
        self.subject = Subject(specimen=self.built.specimens["Amsel"])

    def begin(self, test="air", subject=None) -> Live:
        return live.begin(self.built.operator, self.built.tests[test], subject or self.subject)

    def record(self, one: Live, seconds: float, throttle: float = 100.0, **status) -> Live:
        """What a recorder would have stored of the last seconds, with the part at a throttle."""
        rig = LiveRig(rate=RATE, seed=7)
        rig.start(0.0)
        rig.set_throttle(throttle)
        rig.speed = 1900.0 * (throttle / 100) ** 0.92
        rig.advance(seconds)
        first, _ = rig.since("speed", -1)
        rows = np.column_stack([rig.since(c, -1)[1] for c in one.recording.columns])
        Recording.objects.filter(pk=one.recording_id).update(
            rate=RATE, started_at=timezone.now() - timedelta(seconds=seconds)
        )
        Live.objects.filter(pk=one.pk).update(boot_at=steady.counted() - seconds)
        Piece.objects.create(
            recording=one.recording,
            first=first,
            count=len(rows),
            data=np.ascontiguousarray(rows, "<f8").tobytes(),
        )
        carried_out = wanted_of(Live.objects.get(pk=one.pk)).wishes[-1].n
        said = {"throttle": throttle, "turned": 0.0, "calm": True, "seen": carried_out}
        Live.objects.filter(pk=one.pk).update(
            heard_at=timezone.now(), status={**said, "stands": throttle == 0, **status}
        )
        return Live.objects.get(pk=one.pk)

    def closed(self, one: Live, **status) -> Live:
        """The throttle is closed and the part stands, or what else the recorder says."""
        one.refresh_from_db()
        said = {**one.status, "throttle": 0.0, "stands": True, **status}
        Live.objects.filter(pk=one.pk).update(status=said)
        return Live.objects.get(pk=one.pk)

    def guarded(self, one: Live) -> Live:
        live.confirm(self.built.operator, one, "mount")
        return live.confirm(self.built.operator, one, "guard")

    def taken(self, one: Live, *windows) -> Live:
        Live.objects.filter(pk=one.pk).update(windows=[list(w) for w in windows])
        return Live.objects.get(pk=one.pk)


class ClockTests(LiveCase):
    """A clock that is set while a bench records neither tears a gap nor goes over what there is."""

    def test_seconds_are_counted_on(self):
        one = self.begin()
        held, _ = take_up(one)
        later, earlier = (timezone.now() + timedelta(hours=h) for h in (1, -1))
        for now in (later, earlier):
            with mock.patch("django.utils.timezone.now", return_value=now):
                self.assertLess(abs(one.seconds()), 5.0)
                self.assertLess(abs(held.clock() - held.origin - one.seconds()), 0.1)
                self.assertLess(abs(take_up(one)[0].clock() - held.clock()), 0.1)

    def test_another_machine_goes_by_its_clock(self):
        one = self.begin()
        with (
            mock.patch("hauch.bench.steady.boot", return_value="another"),
            mock.patch("hauch.bench.steady.counted", return_value=5.0),
        ):
            self.assertLess(abs(one.seconds()), 5.0)
            one.boot = ""  # of an earlier version
            self.assertLess(abs(one.seconds()), 5.0)

    def test_what_is_noted_after_the_end_lies_in_the_recording(self):
        one = self.record(self.begin(), 4.0)
        Live.objects.filter(pk=one.pk).update(
            ended_at=timezone.now() - timedelta(hours=1), boot_at=steady.counted() - 9.0
        )
        seen = live.note(self.built.operator, Live.objects.get(pk=one.pk), "A late whistle.", [])
        self.assertAlmostEqual(seen.at_s, 4.0, delta=0.1)


class PresenceTests(LiveCase):
    """Nobody there: what the round allows, and who counts."""

    def absent(self, one: Live, seconds: float) -> str:
        """Why the throttle closes after so long without a page."""
        Live.objects.filter(pk=one.pk).update(watched_at=Now() - timedelta(seconds=seconds))
        found = presence.with_absence(Live.objects.select_related("round", "test")).get(pk=one.pk)
        return presence.why_closed(found, found.absence.total_seconds())

    def test_the_round_says_for_how_long(self):
        one = self.begin()
        self.assertEqual(self.absent(one, 59), "")
        self.assertIn("page open for 60 s, the most that the round allows", self.absent(one, 61))
        Round.objects.update(presence=30)
        self.assertIn("for 30 s", self.absent(one, 31))
        with self.assertRaisesMessage(IntegrityError, "round_presence_sane"):
            Round.objects.update(presence=3600)

    def test_whoever_has_the_page_open_is_there_and_so_is_who_does_something(self):
        one = self.begin()
        self.assertNotEqual(self.absent(one, 300), "")
        self.client.force_login(self.built.people["host"])
        self.assertEqual(
            self.client.post(reverse("live:here", args=[one.round.slug, one.pk])).status_code, 204
        )
        here = presence.with_absence(Live.objects.all()).get()
        self.assertLess(here.absence.total_seconds(), 5)
        self.absent(one, 300)
        live.confirm(self.built.operator, one, "mount")
        here = presence.with_absence(Live.objects.all()).get()
        self.assertLess(here.absence.total_seconds(), 5)
        for who in ("designer", "viewer"):
            with self.assertRaises(PermissionDenied):
                presence.here(self.built.people[who], one)
        self.client.force_login(self.built.people["viewer"])
        answer = self.client.post(reverse("live:here", args=[one.round.slug, one.pk]))
        self.assertIn(answer.status_code, (403, 404))

    def test_an_unattended_soak_of_a_part_that_has_run_since_its_gate(self):
        specimen = self.built.specimens["Amsel"]
        one = self.begin("rise")
        Test.objects.filter(pk=one.test_id).update(soak="settled")
        Round.objects.update(unattended=20)
        self.assertIn("for 60 s", self.absent(one, 90))  # its first run
        self.built.air(specimen, 0, (3.1, 3.2))
        self.assertEqual(self.absent(one, 90), "")
        self.assertIn("for 20 min", self.absent(one, 1201))
        # What is turned by rule is watched, and so is a test that does not soak.
        Live.objects.update(status={"task": {"kind": "sweep", "done": False}})
        self.assertIn("for 60 s", self.absent(one, 90))
        Live.objects.update(status={})
        Test.objects.filter(pk=one.test_id).update(soak="none")
        self.assertIn("for 60 s", self.absent(one, 90))
        # A gate that was passed anew makes it a first run again.
        Test.objects.filter(pk=one.test_id).update(soak="settled")
        specimen.gates.create(power="lab_supply", cautions=[])
        self.assertIn("for 60 s", self.absent(one, 90))

    def test_only_the_host_says_how_long(self):
        address = reverse("rounds:change", args=[self.built.round.slug])
        self.client.force_login(self.built.people["operator"])
        self.assertEqual(self.client.get(address).status_code, 403)
        self.client.force_login(self.built.people["host"])
        self.assertContains(self.client.get(address), "Throttle closes when nobody is there for, s")
        rules = current_rules(self.built.round).number
        field = self.client.get(address).context["form"].initial
        sent = {k: "" if v is None else v for k, v in field.items()} | {"equal_value": ""}
        self.assertContains(
            self.client.post(address, sent | {"presence": "5"}),
            "20 to 600 s with nobody",
            status_code=422,
        )
        self.assertEqual(
            self.client.post(address, sent | {"presence": "90", "unattended": "15"}).status_code,
            302,
        )
        self.built.round.refresh_from_db()
        self.assertEqual((self.built.round.presence, self.built.round.unattended), (90, 15))
        self.assertEqual(current_rules(self.built.round).number, rules)  # no rule of the contest


class TwoBrowsersTests(LiveCase):
    """What one does stands in the other."""

    def test_each_action_is_counted_and_a_refused_one_is_not(self):
        one = self.begin()
        before = Live.objects.get().changes
        with self.assertRaises(ValidationError):
            live.confirm(self.built.operator, one, "guard")
        self.assertEqual(Live.objects.get().changes, before)
        live.confirm(self.built.operator, one, "mount")
        live.note(self.built.operator, one, "a whistle", [])
        self.assertEqual(Live.objects.get().changes, before + 2)
        self.assertEqual(changes(one.pk), {"changes": before + 2, "ended": False})

    def test_the_end_is_told_with_who_ended_it_and_a_note_is_kept_after_it(self):
        one = self.begin()
        live.end(self.built.people["host"], one)
        self.assertTrue(changes(one.pk)["ended"])
        self.client.force_login(self.built.operator)
        place = [one.round.slug, one.pk]
        answer = self.client.get(reverse("live:guide", args=place), headers={"HX-Request": "true"})
        self.assertContains(answer, "This recording has ended")
        self.assertContains(answer, f"{self.built.people['host']} ended it")
        self.assertContains(answer, "No run was accepted")
        answer = self.client.post(
            reverse("live:step", args=place), {"step": "mount"}, headers={"HX-Request": "true"}
        )
        self.assertContains(answer, "Begin another one", status_code=422)
        self.assertContains(answer, "This recording has ended", status_code=422)
        self.client.post(
            reverse("live:note", args=place), {"text": "a crack"}, headers={"HX-Request": "true"}
        )
        self.assertEqual(Observation.objects.get().text, "a crack")


class BeginTests(LiveCase):
    def test_begins_once_on_a_rig_and_records_what_is_on_a_line(self):
        one = self.begin()
        self.assertEqual(set(one.recording.columns), set(CHANNELS))
        self.assertEqual([(w.n, w.wish) for w in wanted_of(one).wishes], [(1, Mounted(""))])
        self.assertEqual(self.begin().pk, one.pk)
        with self.assertRaisesRegex(ValidationError, "Rack rig is taken: Amsel is on it"):
            self.begin(subject=Subject(reference=self.built.reference))
        live.end(self.built.operator, one)
        self.assertNotEqual(self.begin(subject=Subject(reference=self.built.reference)).pk, one.pk)

    def test_refusals(self):
        with self.assertRaises(PermissionDenied):
            live.begin(self.built.people["designer"], self.built.tests["air"], self.subject)
        Specimen.objects.filter(pk=self.subject.specimen.pk).update(state="printed")
        self.subject.specimen.refresh_from_db()
        with self.assertRaisesRegex(ValidationError, "safety gate"):
            self.begin()
        Instrument.objects.update(resource="")
        with self.assertRaisesRegex(ValidationError, "No meter of Rack rig is read over a line"):
            self.begin(subject=Subject(reference=self.built.reference))

    def beside(self, **meters: Instrument) -> Test:
        """A test on another rig with some of the same meters."""
        noise = self.built.tests["noise"]
        rig = Rig.objects.create(name="Another bench", kind=self.rig.kind)
        for channel, instrument in meters.items():
            rig.meters.create(channel=channel, instrument=instrument)
        Test.objects.filter(pk=noise.pk).update(rig=rig)
        return Test.objects.get(pk=noise.pk)

    def test_a_motor_turns_on_one_bench_at_a_time(self):
        """Whichever of two entries in Stores it is known by, and not even where it is said to be
        shared.
        """
        line = {
            "resource": "TCPIP0::127.0.0.1::10::SOCKET",
            "profile": {"query": "T?", "set": "T {value}", "unit": "%"},
        }
        motor = self.rig.meters.get(channel="throttle").instrument
        Instrument.objects.filter(pk=motor.pk).update(shared=True, **line)
        line["resource"] = "tcpip::127.0.0.1::10::socket"  # the same line, written otherwise
        same = Instrument.objects.create(
            name="The same motor", channel="throttle", shared=True, **line
        )
        one, other = self.begin(), Subject(specimen=self.built.specimens["Kiebitz"])
        test = self.beside(throttle=motor)
        for instrument in (motor, same):
            test.rig.meters.update(instrument=instrument)
            with self.assertRaisesRegex(
                ValidationError,
                r"otor is held by another bench: Amsel.* is on .*, in Air test.* one bench at a time",
            ):
                live.begin(self.built.operator, test, other)
        live.end(self.built.operator, one)
        live.begin(self.built.operator, test, other)

    def test_a_meter_that_only_reads_is_shared_where_its_keeper_says_so(self):
        vane = self.rig.meters.get(channel="air_speed").instrument
        test = self.beside(air_speed=vane)
        self.begin()
        other = Subject(specimen=self.built.specimens["Kiebitz"])
        with self.assertRaisesRegex(ValidationError, "say at the meter that several benches"):
            live.begin(self.built.operator, test, other)
        Instrument.objects.filter(pk=vane.pk).update(shared=True)
        live.begin(self.built.operator, test, other)

    def test_no_throttle_opens_for_what_left_the_bench_meanwhile(self):
        one = self.guarded(self.begin())
        Specimen.objects.filter(pk=one.specimen_id).update(state="printed")
        with self.assertRaisesRegex(ValidationError, "onto a bench through the safety gate"):
            live.set_throttle(self.built.operator, one, 20.0)
        live.set_throttle(self.built.operator, one, 0.0)

    def test_what_turns_is_stopped_when_it_leaves_the_bench(self):
        one = self.record(self.guarded(self.begin()), 30.0)
        other = self.built.specimens["Kiebitz"]
        with self.captureOnCommitCallbacks(execute=True):
            shop.add_step(self.built.operator, other, "glue", "Another one.")
        self.assertNotEqual(last_wish(Live.objects.get(pk=one.pk)), Cut())
        with self.captureOnCommitCallbacks(execute=True):
            shop.add_step(self.built.operator, self.subject.specimen, "glue", "Glue the crack.")
        self.assertEqual(last_wish(Live.objects.get(pk=one.pk)), Cut())

    def test_a_reference_that_goes_out_is_stopped(self):
        one = self.begin(subject=Subject(reference=self.built.reference))
        one = self.record(self.guarded(one), 30.0)
        with self.captureOnCommitCallbacks(execute=True):
            take_out(self.built.host, one.round, self.built.reference, "Cracked.", broken=True)
        self.assertEqual(last_wish(Live.objects.get(pk=one.pk)), Cut())
        with self.assertRaisesRegex(ValidationError, "is marked broken"):
            live.set_throttle(self.built.operator, one, 20.0)

    def test_the_throttle_opens_only_behind_a_closed_guard(self):
        one = self.begin()
        with self.assertRaisesRegex(ValidationError, "Mount the part"):
            live.set_throttle(self.built.operator, one, 50.0)
        with self.assertRaisesRegex(ValidationError, "Mount the part first"):
            live.confirm(self.built.operator, one, "guard")
        live.confirm(self.built.operator, one, "mount")
        with self.assertRaisesRegex(ValidationError, "Close the guard"):
            live.sweep(self.built.operator, one, [10, 20, 30], 10.0)
        live.confirm(self.built.operator, one, "guard")
        self.assertEqual(
            last_wish(live.set_throttle(self.built.operator, one, 50.0)), Throttle(50.0)
        )
        self.assertEqual(last_wish(live.cut(self.built.operator, one)), Cut())
        for wrong in (-1.0, 101.0, float("nan")):
            with self.assertRaisesRegex(ValidationError, "from 0 to 100"):
                live.set_throttle(self.built.operator, one, wrong)

    def test_by_rule(self):
        one = self.guarded(self.begin())
        task = last_wish(live.hold(self.built.operator, one, "power", 3.0))
        self.assertEqual((task.channel, task.target), ("power", 3.0))
        for wrong, words in (
            (lambda: live.hold(self.built.operator, one, "torque", 1.0), "not read on this rig"),
            (lambda: live.hold(self.built.operator, one, "speed", -5.0), "cannot be held"),
            (lambda: live.sweep(self.built.operator, one, [10, 20], 10.0), "three steps"),
            (lambda: live.sweep(self.built.operator, one, [10, 20, 30], 4000.0), "two hours"),
            (lambda: live.confirm(self.built.operator, one, "magic"), "no step"),
            (lambda: live.read_beside(self.built.operator, one, "magic"), "cannot be read beside"),
        ):
            with self.subTest(words), self.assertRaisesRegex(ValidationError, words):
                wrong()


class ReadTests(LiveCase):
    def test_a_reading_waits_until_the_part_runs_steadily(self):
        one = self.guarded(self.begin())
        with self.assertRaisesRegex(ValidationError, "The recorder is silent"):
            live.take(self.built.operator, one)
        one = self.record(one, 3.0)
        with self.assertRaisesRegex(ValidationError, "Only 3 s are recorded"):
            live.take(self.built.operator, one)
        one = self.record(one, 30.0, turned=25.0)
        with self.assertRaisesRegex(ValidationError, "The throttle was turned 5 s ago"):
            live.take(self.built.operator, one)
        one = self.record(one, 30.0, calm=False)
        with self.assertRaisesRegex(ValidationError, "still moving"):
            live.take(self.built.operator, one)
        one = self.record(one, 30.0)
        live.take(self.built.operator, one)
        with self.assertRaisesRegex(ValidationError, "Wait a moment"):
            live.take(self.built.operator, one)
        self.assertEqual(len(live.undo(self.built.operator, one).windows), 0)
        with self.assertRaisesRegex(ValidationError, "no reading to take back"):
            live.undo(self.built.operator, one)

    def test_no_reading_before_its_step(self):
        """At the step Mount, with the throttle closed, standing, without the deciding meter."""
        one = self.record(self.begin(), 40.0)
        for made, said in (
            (lambda: one, "Mount the part"),
            (lambda: self.record(self.guarded(self.closed(one)), 40.0, 0.0), "throttle is closed"),
            (lambda: self.record(one, 40.0, stands=True), "stands still"),
            (lambda: self.record(one, 40.0, silent=["Air speed"]), "No answer from: Air speed"),
        ):
            with self.assertRaisesRegex(ValidationError, said):
                live.take(self.built.operator, made())
        live.take(self.built.operator, self.record(one, 40.0, silent=["Sound level"]))

    def test_no_reading_in_the_middle_of_a_soak_or_before_the_background(self):
        one = self.record(self.guarded(self.begin("noise")), 40.0)
        with self.assertRaisesRegex(ValidationError, "Read the background first"):
            live.take(self.built.operator, one)
        live.end(self.built.operator, one)
        rise = self.built.tests["rise"]
        Test.objects.filter(pk=rise.pk).update(soak=Test.Soak.SETTLED, rig=self.rig)
        rise.refresh_from_db()
        one = self.record(self.guarded(self.begin("rise")), 40.0)
        with self.assertRaisesRegex(ValidationError, "has not settled yet"):
            live.take(self.built.operator, one)
        end = {"end": 60.0, "half": 0.1, "tau": 100.0, "settled": True, "to_go": 0.0}
        live.take(self.built.operator, self.record(one, 40.0, forecast=end))

    def test_accepting_makes_a_run_of_the_windows_and_goes_on(self):
        one = self.taken(
            self.record(self.guarded(self.begin()), 40.0), (10, 14), (15, 19), (30, 34)
        )
        run = live_runs.accept(self.built.operator, one, ROOM, "quiet today")
        self.assertEqual((run.state, run.replicate, run.note), ("valid", 1, "quiet today"))
        self.assertAlmostEqual(run.result.value, 0.0430, delta=0.002)
        self.assertIn(
            ["n", 123.0, ""], [given for s in run.result.working for given in s["inputs"]]
        )
        one.refresh_from_db()
        self.assertEqual((one.windows, one.room["temperature"], one.ended_at), ([], 21.0, None))
        with self.assertRaisesRegex(ValidationError, "at least one reading"):
            live_runs.accept(self.built.operator, one, ROOM)
        again = live_runs.accept(
            self.built.operator, self.taken(one, (20, 24)), ROOM, form_key=run.form_key
        )
        self.assertEqual(again.pk, run.pk)
        second = live_runs.accept(self.built.operator, self.taken(one, (20, 24)), ROOM)
        self.assertEqual((second.replicate, second.recording_id), (2, run.recording_id))
        with self.assertRaises(ValidationError):
            live_runs.accept(self.built.operator, self.taken(one, (25, 29)), Room(None, None, None))

    def test_several_settings_of_one_specimen_in_one_session(self):
        lid = Setting.objects.create(round=self.built.round, label="Lid on")
        one = self.taken(self.record(self.guarded(self.begin()), 40.0), (10, 14))
        with self.assertRaisesRegex(ValidationError, "not accepted yet"):
            live.set_setting(self.built.operator, one, lid)
        a1 = live_runs.accept(self.built.operator, one, ROOM)
        with self.assertRaisesRegex(ValidationError, "Close the throttle first"):
            live.set_setting(self.built.operator, one, lid)  # a hand goes in for it
        one = self.closed(one)
        live.set_setting(self.built.operator, one, lid)
        with self.assertRaisesRegex(ValidationError, "Mount the part"):
            live.set_throttle(self.built.operator, one, 50.0)
        b = live_runs.accept(
            self.built.operator, self.taken(Live.objects.get(pk=one.pk), (18, 22)), ROOM
        )
        live.set_setting(self.built.operator, one, a1.setting)
        live_runs.accept(
            self.built.operator, self.taken(Live.objects.get(pk=one.pk), (28, 32)), ROOM
        )
        self.assertEqual((b.setting.label, b.replicate), ("Lid on", 1))
        row = next(r for r in compared(b) if "A-B-A" in r.what)
        self.assertLess(abs(row.found.change.value), 1.0)
        self.assertEqual(row.found.word, "too close to call")
        # The rig's and the meter's own doubts cancel.
        self.assertLess(row.found.change.expanded, 0.5 * 100 * b.result.expanded / b.result.value)

    def test_a_reading_far_off_asks_before_it_counts(self):
        """One of five readings was taken with another damper, say: it counts only when somebody says
        so, or is left out.
        """
        one = self.record(self.guarded(self.begin()), 60.0)
        rows = np.frombuffer(Piece.objects.get(recording=one.recording).data, "<f8")
        rows = rows.reshape(-1, len(one.recording.columns)).copy()
        column = one.recording.columns.index("air_speed")
        rows[300:350, column] *= 1.4 + 0.02 * np.sin(np.arange(50))
        Piece(recording=one.recording, first=0, count=len(rows), data=rows.tobytes()).save()
        one = self.taken(one, (10, 14), (20, 24), (30, 34), (40, 44), (50, 54))
        with self.assertRaisesRegex(
            ValidationError, "Reading 3 lies far off.*air speed is 1.4 times"
        ):
            live_runs.accept(self.built.operator, one, ROOM)
        self.client.force_login(self.built.operator)
        place = [one.round.slug, one.pk]
        page = self.client.get(reverse("live:guide", args=place), headers={"HX-Request": "true"})
        self.assertContains(page, "It was so: all readings count")
        self.assertContains(page, "leave out</button>", count=1)
        run = live_runs.accept(self.built.operator, one, ROOM, far_off_count=True)
        self.assertEqual(len(run.windows), 5)
        one = self.taken(one, (10, 14), (20, 24), (30, 34), (40, 44), (50, 54))
        self.client.post(
            reverse("live:drop", args=place), {"reading": "3"}, headers={"HX-Request": "true"}
        )
        one = Live.objects.get(pk=one.pk)
        self.assertEqual([w[0] for w in one.windows], [10, 20, 40, 50])
        better = live_runs.accept(self.built.operator, one, ROOM)
        self.assertLess(better.result.u, run.result.u)
        with self.assertRaisesRegex(ValidationError, "no such reading"):
            live.drop(self.built.operator, one, 9)

    def test_the_table_and_the_run_leave_out_the_same(self):
        """Another unit for three seconds within one of the readings."""
        one = self.record(self.guarded(self.begin()), 60.0)
        rows = np.frombuffer(Piece.objects.get(recording=one.recording).data, "<f8")
        rows = rows.reshape(-1, len(one.recording.columns)).copy()
        column = one.recording.columns.index("air_speed")
        good = rows[:, column].copy()
        rows[305:335, column] *= 196.85
        Piece(recording=one.recording, first=0, count=len(rows), data=rows.tobytes()).save()
        one = self.taken(one, (10, 14), (30, 34), (50, 54))
        table = readings.readings_of(one)
        self.assertEqual(table[1].left_out["air_speed"], 30)
        self.assertEqual([row.odd for row in table], [set(), set(), set()])
        self.assertAlmostEqual(table[1].means["air_speed"], good[300:341].mean(), delta=0.05)
        run = live_runs.accept(self.built.operator, one, ROOM)
        bore, factor = 0.1252, 0.846
        self.assertAlmostEqual(
            run.result.as_read or run.result.value,
            factor * np.pi / 4 * bore**2 * np.mean([r.means["air_speed"] for r in table]),
            delta=2e-4,
        )
        self.assertIn(
            "Air speed: reads in another unit, as ft/min taken for m/s, from 30.5 to 33.4 s"
            " (30 samples left out).",
            run.result.troubles,
        )

    def test_at_full_repeats_the_next_setting_comes_before_the_end(self):
        """A, the lid on, A again: each as often as the test asks for; then there is no more."""
        lid = Setting.objects.create(round=self.built.round, label="Lid on")
        Test.objects.filter(pk=self.built.tests["air"].pk).update(repeats=2)
        one = self.record(self.guarded(self.begin()), 90.0)

        def run(start):
            live_runs.accept(
                self.built.operator,
                self.taken(Live.objects.get(pk=one.pk), (start, start + 4)),
                ROOM,
            )
            return Live.objects.select_related("test").get(pk=one.pk)

        def now(one):
            return next(step for step in guide.steps(one, "si") if step.state == "now")

        self.assertEqual(guide.offer(run(10)).settings, [])
        one = run(20)
        self.assertEqual((guide.offer(one).settings, guide.offer(one).closes), ([lid], False))
        self.assertEqual(now(one).key, "cut")  # a hand goes in for it
        one = self.closed(one)
        self.assertEqual(now(one).key, "setting")
        self.client.force_login(self.built.operator)
        place = [one.round.slug, one.pk]
        guided = reverse("live:guide", args=place)
        answer = self.client.get(guided, headers={"HX-Request": "true"})
        self.assertContains(answer, "Go on at “Lid on”")
        self.assertContains(answer, "End, next part <kbd>Enter</kbd>")
        live.set_setting(self.built.operator, one, lid)
        self.assertEqual(guide.offer(run(30)).settings, [])
        one = run(40)
        self.assertEqual(guide.offer(one), guide.Offer([one.test.setting], closes=True))
        answer = self.client.get(guided, headers={"HX-Request": "true"})
        self.assertContains(answer, f"Go on at “{one.test.setting}” <kbd>Enter</kbd>")
        live.set_setting(self.built.operator, one, one.test.setting)
        one = Live.objects.select_related("test").get(pk=one.pk)
        self.assertEqual(guide.offer(one).settings, [])
        self.assertEqual(guide.offer(run(50)).settings, [])
        # The way out goes to what is due.
        answer = self.client.post(
            reverse("live:end", args=place), {"then": "next"}, headers={"HX-Request": "true"}
        )
        self.assertIn("/bench/tests/", answer["HX-Redirect"])

    def test_noise_with_its_background_read_first(self):
        one = self.guarded(self.begin("noise"))
        self.assertIn("background", [s.key for s in guide.steps(one, "si")])
        one = self.record(one, 20.0, throttle=100.0)
        with self.assertRaisesRegex(ValidationError, "Close the throttle first"):
            live.read_beside(self.built.operator, one, "background")
        one = self.record(one, 40.0)
        Live.objects.filter(pk=one.pk).update(beside={"background": [0.0, 0.5]})
        with mock.patch("hauch.core.trace.beside.LEAST", 100):
            run = live_runs.accept(self.built.operator, self.taken(one, (30, 34)), ROOM)
        self.assertIn("too few samples", run.result.missing)
        Live.objects.filter(pk=one.pk).update(beside={"background": [0.0, 2.0]})
        run = live_runs.accept(
            self.built.operator, self.taken(Live.objects.get(pk=one.pk), (30, 34)), ROOM
        )
        self.assertIn(
            "only 0", run.result.missing
        )  # here the part ran all the time: the background is as loud

    def test_did_not_finish_keeps_what_was_recorded(self):
        one = self.record(self.guarded(self.begin()), 30.0)
        with self.assertRaisesRegex(ValidationError, "Say in a few words"):
            live_runs.give_up(self.built.operator, one, " ")
        from hauch.stores.pictures import keep_picture

        run = live_runs.give_up(
            self.built.operator, one, "rubs at the frame", keep_picture(self.built.operator, png())
        )
        self.assertEqual(
            (run.state, run.recording_id, bool(run.picture)), ("dnf", one.recording_id, True)
        )
        one.refresh_from_db()
        self.assertIsNotNone(one.ended_at)
        self.assertEqual(last_wish(one), Cut())
        self.client.login(username="operator", password=PASSWORD)
        page = self.client.get(run.get_absolute_url())
        self.assertContains(page, "Did not finish: rubs at the frame")
        self.assertContains(page, "Air speed")
        self.assertContains(page, "thumb")
        with self.assertRaisesRegex(ValidationError, "This recording has ended"):
            live.take(self.built.operator, one)


class OrderTests(LiveCase):
    def test_wishes_are_kept_in_order_so_that_none_hides_a_cut(self):
        one = self.record(self.guarded(self.begin()), 30.0)
        live.take(self.built.operator, one)
        live.cut(self.built.operator, one)
        live.set_throttle(self.built.operator, one, 10.0)
        wishes = wanted_of(Live.objects.get(pk=one.pk)).wishes
        self.assertEqual([type(w.wish) for w in wishes], [Mounted, Mounted, Wave, Cut, Throttle])
        self.assertEqual([w.n for w in wishes], [1, 2, 3, 4, 5])

    def test_no_wish_is_dropped_while_the_recorder_is_away(self):
        one = self.record(self.guarded(self.begin()), 30.0, seen=-1)
        waiting = len(wanted_of(one).wishes)
        for _ in range(MOST_WAITING - waiting):
            live.set_throttle(self.built.operator, one, 10.0)
        with self.assertRaisesRegex(ValidationError, "wait for the recorder already"):
            live.set_throttle(self.built.operator, one, 20.0)
        live.cut(self.built.operator, one)  # always passed on
        one = Live.objects.get(pk=one.pk)
        wishes = wanted_of(one).wishes
        self.assertEqual([w.n for w in wishes], list(range(1, MOST_WAITING + 2)))
        self.assertEqual(last_wish(one), Cut())
        self.record(one, 30.0, seen=MOST_WAITING + 1)
        live.set_throttle(self.built.operator, one, 20.0)
        kept = [w.n for w in wanted_of(Live.objects.get(pk=one.pk)).wishes]
        self.assertEqual(kept, list(range(MOST_WAITING + 2 - KEPT_WISHES, MOST_WAITING + 3)))

    def test_a_bench_that_was_given_up_says_why_and_can_be_ended(self):
        one = self.record(self.guarded(self.begin()), 30.0, stopped="It was given up: a line.")
        for name, action in (
            ("throttle", lambda: live.set_throttle(self.built.operator, one, 50.0)),
            ("reading", lambda: live.take(self.built.operator, one)),
        ):
            with self.subTest(name), self.assertRaisesRegex(ValidationError, "given up: a line"):
                action()
        self.client.login(username="operator", password=PASSWORD)
        self.assertContains(self.client.get(one.get_absolute_url()), "It was given up: a line.")
        live.cut(self.built.operator, one)
        live.end(self.built.operator, one)

    def test_no_hand_goes_in_while_the_throttle_is_open(self):
        one = self.record(self.guarded(self.begin()), 30.0)
        with self.assertRaisesRegex(ValidationError, "Close the throttle first"):
            live.confirm(self.built.operator, one, "mount")
        one = self.record(one, 30.0, throttle=0.0, stands=False)  # runs down
        with self.assertRaisesRegex(ValidationError, "still turns"):
            live.confirm(self.built.operator, one, "mount")
        one = self.record(one, 30.0, throttle=0.0, stands=None, turned=20.0)
        with self.assertRaisesRegex(ValidationError, "closed 10 s ago, and no speed is read here"):
            live.confirm(self.built.operator, one, "mount")
        live.set_throttle(self.built.operator, self.record(one, 30.0, 0.0), 20.0)
        with self.assertRaisesRegex(
            ValidationError, "Close the throttle first"
        ):  # it was asked for
            live.confirm(self.built.operator, self.closed(one), "mount")
        one = self.record(one, 30.0, throttle=0.0)
        one = live.confirm(self.built.operator, one, "mount")
        with self.assertRaisesRegex(ValidationError, "Close the guard"):  # it was opened for this
            live.set_throttle(self.built.operator, one, 20.0)

    def test_the_bare_drive_first(self):
        test = self.built.tests["power"]
        Test.objects.filter(pk=test.pk).update(procedure="shaft_power")
        test.refresh_from_db()
        torque = Instrument.objects.create(
            name="Torque", channel="torque", resource="X", profile={"query": "T?", "unit": "N m"}
        )
        self.rig.meters.create(channel="torque", instrument=torque)
        one = self.begin("power")

        def now():
            return next(
                s for s in guide.steps(Live.objects.get(pk=one.pk), "si") if s.state == "now"
            ).key

        self.assertEqual(now(), "guard")
        live.confirm(self.built.operator, one, "guard")
        self.assertEqual(now(), "tare")
        live.set_throttle(self.built.operator, one, 60.0)
        self.record(one, 30.0, throttle=60.0)
        live.read_beside(self.built.operator, one, "tare")
        self.assertEqual(now(), "mount")
        self.record(one, 40.0, throttle=0.0)
        live.confirm(self.built.operator, one, "mount")
        self.assertEqual(now(), "guard")
        live.confirm(self.built.operator, one, "guard")
        self.assertEqual(now(), "throttle")

    def test_a_turn_that_was_asked_for_a_moment_ago_counts_though_the_recorder_has_not_said_so(
        self,
    ):
        one = self.record(self.guarded(self.begin()), 30.0, at=29.5)
        live.set_throttle(self.built.operator, one, 40.0)
        with self.assertRaisesRegex(ValidationError, "The throttle was turned 0 s ago"):
            live.take(self.built.operator, one)

    def test_a_rig_whose_throttle_is_on_no_line(self):
        self.rig.meters.filter(channel="throttle").delete()
        one = self.guarded(self.begin())
        for wrong in (
            lambda: live.hold(self.built.operator, one, "power", 3.0),
            lambda: live.sweep(self.built.operator, one, [10, 20, 30], 10.0),
        ):
            with self.assertRaisesRegex(ValidationError, "on no line"):
                wrong()
        step = next(s for s in guide.steps(Live.objects.get(pk=one.pk), "si") if s.state == "now")
        self.assertEqual(
            (step.text, step.button), ("Open the throttle by hand, low first.", "It is open")
        )

    def test_the_reference_comes_next_when_it_is_asked_for(self):
        one = self.guarded(self.begin())
        self.client.login(username="operator", password=PASSWORD)
        answer = self.client.post(
            reverse("live:end", args=[self.built.round.slug, one.pk]), {"then": "reference"}
        )
        self.assertEqual(
            answer["Location"],
            reverse("bench:capture", args=[self.built.round.slug, one.test_id])
            + f"?subject=r{self.built.reference.pk}",
        )
        self.assertIsNotNone(Live.objects.get(pk=one.pk).ended_at)


class CurveTests(LiveCase):
    """A curve on a live bench: by the throttle's sweep, or with a damper that is stepped by hand."""

    def setUp(self):
        super().setUp()
        constants = {
            "orifice": [0.08, 0.0001],
            "orifice_coefficient": [0.61, 0.005],
            "system_resistance": [23_500.0, 100.0],
            "system_exponent": [2.0, 0.0],
        }
        type(self.rig).objects.filter(pk=self.rig.pk).update(
            constants=self.rig.constants | constants
        )
        for channel in ("static_pressure", "orifice_pressure"):
            meter, _ = Instrument.objects.update_or_create(
                channel=channel,
                defaults={
                    "name": f"M {channel}",
                    "resource": "X",
                    "profile": {"query": "P?", "unit": "Pa"},
                    "resolution": 0.1,
                },
            )
            self.rig.meters.update_or_create(channel=channel, defaults={"instrument": meter})
        Test.objects.filter(pk=self.built.tests["air"].pk).update(procedure="fan_curve")
        self.built.tests["air"].refresh_from_db()

    def test_nothing_swept_then_by_hand(self):
        one = self.guarded(self.begin())
        self.assertEqual(
            [s.key for s in guide.steps(Live.objects.get(pk=one.pk), "si")],
            ["mount", "guard", "throttle", "accept"],
        )
        with self.assertRaisesRegex(ValidationError, "at least three steps"):
            live_runs.accept(self.built.operator, self.record(one, 20.0), ROOM)
        rig = LiveRig(rate=RATE, seed=8)
        rig.start(0.0)
        rig.set_throttle(100.0)
        rig.advance(6.0)
        for number, damper in enumerate((30.0, 8.0, 3.0, 1.4, 0.7, 0.4)):
            rig.damper = damper
            rig.advance(6.0 + 12 * (number + 1))
        rows = np.column_stack([rig.since(c, -1)[1] for c in one.recording.columns])
        Piece.objects.create(
            recording=one.recording,
            first=10_000,
            count=len(rows),
            data=np.ascontiguousarray(rows, "<f8").tobytes(),
        )
        Recording.objects.filter(pk=one.recording_id).update(
            started_at=timezone.now() - timedelta(seconds=1000 + 78)
        )
        Live.objects.filter(pk=one.pk).update(
            heard_at=timezone.now(),
            boot_at=steady.counted() - 1078,
            status={"throttle": 100.0, "turned": 1000.0, "at": 1078.0, "calm": True},
        )
        one = Live.objects.get(pk=one.pk)
        self.assertEqual(next(s for s in guide.steps(one, "si") if s.state == "now").key, "accept")
        run = live_runs.accept(
            self.built.operator, one, Room(20.0, 101_325.0, 50.0)
        )  # 1.2 kg/m3, which the stand-in's plates read at
        self.assertEqual(run.result.missing, "")
        self.assertAlmostEqual(
            run.result.value, rig.fan.working_flow(23_500.0, 1900.0, 1.2), delta=3 * run.result.u
        )
        self.assertEqual(len(run.result.curve["points"]), 6)
        self.client.login(username="operator", password=PASSWORD)
        self.assertContains(self.client.get(run.get_absolute_url()), "The curve")

    def test_a_sweep_that_goes_on_is_waited_for(self):
        one = self.record(
            self.guarded(self.begin()),
            60.0,
            task={
                "kind": "sweep",
                "begun": 20.0,
                "done": False,
                "held": False,
                "text": "Step 2 of 8: 40 %",
            },
        )
        step = next(s for s in guide.steps(one, "si") if s.state == "now")
        self.assertEqual((step.key, step.text), ("sweep", "Step 2 of 8: 40 %"))
        with self.assertRaisesRegex(ValidationError, "come to its end"):
            live_runs.accept(self.built.operator, one, ROOM)


class PlacesTests(LiveCase):
    def test_outlets_are_read_place_by_place(self):
        type(self.rig).objects.filter(pk=self.rig.pk).update(
            constants=self.rig.constants | {"places": [3.0, 0.0]}
        )
        Test.objects.filter(pk=self.built.tests["air"].pk).update(procedure="imbalance", readings=2)
        self.built.tests["air"].refresh_from_db()
        one = self.record(self.guarded(self.begin()), 60.0)
        step = next(s for s in guide.steps(one, "si") if s.key == "read")
        self.assertEqual(step.text, "0 of 3 readings of 4 s taken. Place 1 of 3 is next.")
        one = self.taken(one, (10, 14), (16, 20))
        self.assertIn(
            "Place 3 of 3 is next", next(s for s in guide.steps(one, "si") if s.key == "read").text
        )
        run = live_runs.accept(self.built.operator, one, ROOM)
        self.assertIn("Nothing was read at place 3 of 3", run.result.missing)
        run = live_runs.accept(
            self.built.operator,
            self.taken(Live.objects.get(pk=one.pk), (10, 14), (16, 20), (30, 34)),
            ROOM,
        )
        self.assertLess(run.result.value, 2.0)  # one outlet read three times is in balance


class CarriedTests(LiveCase):
    def test_windows_and_exclusions_go_with_readings_that_count_for_other_rules(self):
        from hauch.bench.successors import carry_over

        run = live_runs.accept(
            self.built.operator,
            self.taken(self.record(self.guarded(self.begin()), 60.0), (10, 14), (20, 24)),
            ROOM,
        )
        old = self.built.tests["air"]
        new = Test.objects.create(
            round=old.round,
            key="air-2",
            label="Air, common speed",
            procedure=old.procedure,
            rig=old.rig,
            setting=old.setting,
            order=9,
            replaces=old,
            common_speed=1900.0,
        )
        self.assertEqual(carry_over(self.built.host, old, new), 1)
        made = Run.objects.get(test=new)
        self.assertEqual(made.windows, run.windows)
        before = made.result.value
        self.assertAlmostEqual(before / run.result.value, 1.0, delta=0.003)
        exclusions.exclude(self.built.operator, run, "a door was opened", "air_speed", (9.0, 16.0))
        after = Run.objects.get(pk=made.pk).result
        self.assertNotEqual(after.value, before)
        self.assertIn("left out by hand", " ".join(after.troubles))
        self.client.login(username="operator", password=PASSWORD)
        self.assertContains(self.client.get(made.get_absolute_url()), "a door was opened")
        with self.assertRaisesRegex(ValidationError, f"made of the readings of run {run.pk}"):
            exclusions.exclude(self.built.operator, made, "x", "air_speed", (1.0, 2.0))


class ByHandTests(LiveCase):
    def test_what_was_read_before_a_part_gave_up_and_a_picture_are_kept(self):
        from django.core.files.uploadedfile import SimpleUploadedFile

        self.client.login(username="operator", password=PASSWORD)
        url = reverse("bench:dnf", args=[self.built.round.slug, self.built.tests["air"].pk])
        data = {
            "subject": f"s{self.subject.specimen.pk}",
            "reason": "hub came loose",
            "r-air_speed": ["15,8", "15,9"],
            "unit-air_speed": "km/h",
        }
        page = self.client.post(url, data | {"r-air_speed": ["fast"]}, follow=True)
        self.assertContains(page, "is not a number")
        self.assertEqual(Run.objects.count(), 0)
        self.client.post(url, data | {"picture": SimpleUploadedFile("x.png", png(), "image/png")})
        run = Run.objects.get()
        self.assertEqual(
            (run.state, bool(run.picture), [r.typed for r in run.readings.all()]),
            ("dnf", True, ["15,8", "15,9"]),
        )
        page = self.client.get(run.get_absolute_url())
        self.assertContains(page, "15,8")
        self.assertContains(page, "Why it did not finish")


class GuideTests(LiveCase):
    def now(self, one):
        return next(
            s for s in guide.steps(Live.objects.get(pk=one.pk), "si") if s.state == "now"
        ).key

    def test_steps_in_order(self):
        one = self.begin()
        self.assertEqual(self.now(one), "mount")
        live.confirm(self.built.operator, one, "mount")
        self.assertEqual(self.now(one), "guard")
        live.confirm(self.built.operator, one, "guard")
        self.assertEqual(self.now(one), "throttle")
        self.record(one, 40.0)
        self.assertEqual(self.now(one), "read")
        self.taken(one, (10, 14), (20, 24))
        self.assertEqual(self.now(one), "accept")
        rows = readings.readings_of(Live.objects.get(pk=one.pk))
        self.assertAlmostEqual(rows[0].means["speed"], 1900, delta=3)

    def test_the_order_of_assembly_and_the_cap_stand_where_they_are_needed(self):
        version = self.subject.specimen.version
        version.steps.create(order=1, text="Press the hub onto the shaft")
        version.steps.create(order=2, text="Screw the cap on, left-hand thread")
        Specimen.objects.filter(pk=self.subject.specimen.pk).update(cap=2300.0)
        self.subject.specimen.refresh_from_db()
        steps = {s.key: s for s in guide.steps(self.begin(), "si")}
        self.assertEqual(
            steps["mount"].hints,
            ["Press the hub onto the shaft", "Screw the cap on, left-hand thread"],
        )
        self.assertIn("Not above 2,300 1/min", steps["guard"].text)

    def test_equal_power_by_the_round(self):
        type(self.built.round).objects.filter(pk=self.built.round.pk).update(
            equal="power", equal_value=3.0
        )
        one = self.guarded(self.begin())
        step = next(s for s in guide.steps(Live.objects.get(pk=one.pk), "si") if s.state == "now")
        self.assertEqual((step.key, step.button), ("hold", "Hold 3 W"))
        self.record(one, 40.0, task={"kind": "hold", "done": True, "held": True, "text": "holds"})
        self.assertEqual(self.now(one), "read")

    def test_soaks_by_minutes_and_until_settled(self):
        Test.objects.filter(pk=self.built.tests["air"].pk).update(soak="minutes", soak_minutes=0.2)
        self.built.tests["air"].refresh_from_db()
        one = self.record(self.guarded(self.begin()), 8.0)
        self.assertEqual(self.now(one), "soak")
        self.record(one, 40.0)
        self.assertEqual(self.now(one), "read")
        Test.objects.filter(pk=self.built.tests["air"].pk).update(soak="settled", soak_minutes=None)
        self.record(
            one,
            40.0,
            forecast={"end": 40.0, "half": 1.0, "tau": 90.0, "settled": False, "to_go": 60.0},
        )
        self.assertEqual(self.now(one), "soak")
        self.record(
            one,
            40.0,
            forecast={"end": 40.0, "half": 0.1, "tau": 90.0, "settled": True, "to_go": 0.0},
        )
        self.assertEqual(self.now(one), "read")

    def test_a_reading_far_off_the_others_is_marked(self):
        self.assertTrue(readings.odd_one(5.0, np.array([4.0, 4.01, 5.0, 4.02])))
        self.assertFalse(readings.odd_one(4.02, np.array([4.0, 4.01, 5.0, 4.02])))

    def test_the_reference_is_due_again_after_four_runs_of_entries(self):
        test = self.built.tests["air"]
        self.built.air(self.built.reference, 0, (4.0, 4.0))
        for minute, name in enumerate(("Amsel", "Binse", "Kiebitz", "Amsel"), 1):
            self.assertFalse(bracket_due(test))
            self.built.air(self.built.specimens[name], minute, (4.1, 4.1))
        self.assertTrue(bracket_due(test))
        due = plan_of(self.built.round, 12).due
        self.assertEqual(
            next(d.reference for d in due if d.test.pk == test.pk), self.built.reference
        )
        self.built.air(self.built.reference, 9, (4.0, 4.0))
        self.assertFalse(bracket_due(test))

    def test_bands_of_the_reference(self):
        self.built.air(self.built.reference, 0, (4.0, 4.02))
        self.built.air(self.built.reference, 9, (4.1, 4.12))
        band = guide.bands(self.built.tests["air"])["air_speed"]
        self.assertAlmostEqual(band.value, 4.06)
        # Two runs: s = 0.1/√2, t(1) = 12.706, one more run √(1 + 1/2).
        self.assertAlmostEqual(band.half, 12.7062 * 0.1 / 2**0.5 * 1.5**0.5, places=4)
        self.built.record(
            "rise",
            self.built.reference,
            0,
            {"load_temperature": (60.0, 60.0), "room_temperature": (20.0, 20.0)},
        )
        risen = guide.bands(self.built.tests["rise"])["load_temperature"]
        self.assertAlmostEqual(risen.value, 40.0)  # over the room, as it is now
        self.assertIsNone(risen.half)  # one run says nothing of scatter


class ExclusionTests(LiveCase):
    def setUp(self):
        super().setUp()
        self.run_ = live_runs.accept(
            self.built.operator,
            self.taken(self.record(self.guarded(self.begin()), 40.0), (10, 14), (20, 24)),
            ROOM,
        )

    def test_a_stretch_is_left_out_with_its_reason_and_counts_again(self):
        before = Run.objects.get(pk=self.run_.pk).result
        made = exclusions.exclude(
            self.built.operator, self.run_, "a door was opened", "air_speed", (9.0, 16.0)
        )
        after = Run.objects.get(pk=self.run_.pk).result
        self.assertNotEqual(before.value, after.value)
        self.assertIn(
            "Air speed: left out by hand from 9.0 to 16.0 s (71 samples left out).", after.troubles
        )
        self.assertTrue(
            AuditEntry.objects.filter(
                action="run.exclude", detail__reason="a door was opened"
            ).exists()
        )
        exclusions.restore(self.built.operator, made)
        self.assertEqual(Run.objects.get(pk=self.run_.pk).result.value, before.value)
        self.assertTrue(AuditEntry.objects.filter(action="run.restore").exists())
        with self.assertRaisesRegex(ValidationError, "counts again already"):
            exclusions.restore(self.built.operator, made)

    def test_all_left_out_is_no_result_and_no_zero(self):
        exclusions.exclude(
            self.built.operator, self.run_, "fan blew from the window", "time", (0.0, 60.0)
        )
        self.assertIn("no sample", Run.objects.get(pk=self.run_.pk).result.missing)

    def test_a_typed_reading_is_left_out(self):
        run = self.built.air(self.built.specimens["Binse"], 3, (4.0, 5.0))
        reading = run.readings.get(typed="5.0")
        exclusions.exclude(self.built.operator, run, "read too early", reading_pk=reading.pk)
        result = Run.objects.get(pk=run.pk).result
        self.assertEqual(
            next(s["inputs"] for s in result.working if s["name"] == "Air speed: mean of readings"),
            [["n", 1.0, ""]],
        )
        self.client.login(username="operator", password=PASSWORD)
        self.assertContains(self.client.get(run.get_absolute_url()), "<s>5.0</s>")

    def test_refusals(self):
        for arguments, words in (
            (("", "air_speed", (1.0, 2.0)), "Say in a few words"),
            (("x", "air_speed", (3.0, 2.0)), "ends before"),
            (("x", "nothing", (1.0, 2.0)), "Choose a channel"),
            (("x", "air_speed", None), "Choose a channel"),
            (("x", "air_speed", (float("nan"), 2.0)), "ends before"),
            (("x", "", None, 10**6), "not of this run"),
        ):
            with self.subTest(words), self.assertRaisesRegex(ValidationError, words):
                exclusions.exclude(self.built.operator, self.run_, *arguments)
        with self.assertRaises(PermissionDenied):
            exclusions.exclude(self.built.people["viewer"], self.run_, "x", "air_speed", (1.0, 2.0))
        self.assertEqual(Exclusion.objects.count(), 0)

    def test_over_http_with_wrong_input_too(self):
        self.client.login(username="operator", password=PASSWORD)
        url = reverse("bench:exclude", args=[self.built.round.slug, self.run_.pk])
        page = self.client.post(
            url, {"channel": "air_speed", "from_s": "ten", "to_s": "16", "reason": "x"}, follow=True
        )
        self.assertContains(page, "“ten” is not a number")
        page = self.client.post(
            url,
            {"channel": "air_speed", "from_s": "9,0", "to_s": "16", "reason": "a door"},
            follow=True,
        )
        self.assertContains(page, "It is left out")
        self.assertContains(page, "a door")
        page = self.client.post(
            reverse(
                "bench:restore",
                args=[self.built.round.slug, self.run_.pk, Exclusion.objects.get().pk],
            ),
            follow=True,
        )
        self.assertContains(page, "counts again since")

    def test_raw_rows_are_never_changed(self):
        for change in (lambda: Piece.objects.update(first=5), lambda: Piece.objects.all().delete()):
            with self.assertRaises(IntegrityError), transaction.atomic():
                change()
        self.assertEqual(Piece.objects.count(), 1)


class ObservationTests(LiveCase):
    def test_notes_with_time_tags_and_picture_belong_to_the_run_and_the_entry(self):
        one = self.record(self.guarded(self.begin()), 40.0)
        seen = observe(
            self.built.operator,
            self.built.round,
            recording=one.recording,
            at_s=one.seconds(),
            text="tufts point back",
            tags=["tufts", "nonsense"],
        )
        self.assertAlmostEqual(seen.at_s, 40.0, delta=1.0)
        self.assertEqual(seen.tag_words, ["tufts"])
        run = live_runs.accept(self.built.operator, self.taken(one, (30, 34)), ROOM)
        seen.refresh_from_db()
        self.assertEqual(seen.run_id, run.pk)
        self.client.login(username="operator", password=PASSWORD)
        url = reverse("bench:observe", args=[self.built.round.slug, run.pk])
        from django.core.files.uploadedfile import SimpleUploadedFile

        self.assertContains(
            self.client.post(url, {"text": "", "at_s": ""}, follow=True), "Write what you saw"
        )
        self.assertContains(
            self.client.post(url, {"text": "x", "at_s": "soon"}, follow=True), "is not a number"
        )
        bad = SimpleUploadedFile("x.png", b"<svg onload=alert(1)>", "image/png")
        self.assertContains(
            self.client.post(url, {"text": "x", "picture": bad}, follow=True),
            "no picture that can be read",
        )
        good = SimpleUploadedFile("x.png", png(), "image/png")
        page = self.client.post(
            url,
            {"text": "a crack at the hub", "tags": ["damage"], "at_s": "12", "picture": good},
            follow=True,
        )
        self.assertContains(page, "a crack at the hub")
        entry = self.client.get(self.built.entries["Amsel"].get_absolute_url())
        self.assertContains(entry, "a crack at the hub")
        self.assertContains(entry, "tufts point back")
        with self.assertRaises(ValidationError):
            observe(self.built.operator, self.built.round, recording=one.recording)
        self.assertEqual(Observation.objects.count(), 2)


class ComparisonTests(LiveCase):
    def test_against_reference_prediction_and_earlier_version(self):
        amsel = self.built.specimens["Amsel"]
        self.built.air(self.built.reference, 0, (4.0, 4.0))
        old = self.built.air(amsel, 1, (4.1, 4.1))
        self.assertEqual(
            [r.what for r in compared(old)],
            ["Loft-140 L-02 (1 run nearest in time)"],
        )
        version = Version.objects.create(entry=self.built.entries["Amsel"], number=2)
        Prediction.objects.create(
            version=version, procedure="airflow", source="designer", value=0.05, u=0.001
        )
        newer = Specimen.objects.create(version=version, code="R-9", state="ready")
        run = self.built.air(newer, 5, (4.4, 4.4))
        rows = {r.what: r for r in compared(run)}
        reference = rows["Loft-140 L-02 (1 run nearest in time)"]
        self.assertAlmostEqual(reference.found.change.value, 10.0, places=9)
        self.assertEqual(reference.found.word, "not repeated: cannot be told")
        self.client.login(username="operator", password=PASSWORD)
        self.assertContains(self.client.get(run.get_absolute_url()), "not repeated: cannot be told")
        for minute in (6, 7, 8):
            self.built.air(self.built.reference, minute, (4.0, 4.02, 3.98)[minute - 6 :][:1] * 2)
        rows = {r.what: r for r in compared(run)}
        reference = rows["Loft-140 L-02 (4 runs nearest in time)"]
        self.assertEqual(reference.found.word, "better")
        self.assertAlmostEqual(
            rows["version 1 of this entry (1 run)"].found.change.value,
            100 * (4.4 / 4.1 - 1),
            places=9,
        )
        self.assertEqual(rows["the designer's prediction"].found.word, "worse")
        page = self.client.get(run.get_absolute_url())
        self.assertContains(page, "Held against")
        self.assertContains(page, "the designer&#x27;s prediction")

    def test_works_in_one_orientation_only(self):
        amsel = self.built.specimens["Amsel"]
        run = self.built.air(amsel, 1, (4.1, 4.1))
        hanging = Setting.objects.create(round=self.built.round, label="Hanging, axis upright")
        self.assertEqual(orientation_sentence(siblings_of(run)), "")
        Run.objects.create(
            test=run.test,
            rig=run.rig,
            setting=hanging,
            specimen=amsel,
            replicate=1,
            started_at=run.started_at,
            operator=self.built.operator,
            state="dnf",
            reason="does not start",
        )
        self.assertIn(
            "It works at “Full throttle” and not at “Hanging, axis upright”",
            orientation_sentence(siblings_of(run)),
        )


class PageTests(LiveCase):
    def setUp(self):
        super().setUp()
        self.client.login(username="operator", password=PASSWORD)
        self.slug = self.built.round.slug

    def post(self, name, one, data=None, htmx=True):
        headers = {"HX-Request": "true"} if htmx else {}
        return self.client.post(
            reverse(f"live:{name}", args=[self.slug, one.pk]), data or {}, headers=headers
        )

    def test_from_the_overview_to_the_run(self):
        page = self.client.get(reverse("bench:overview", args=[self.slug]))
        self.assertContains(page, "Record live")
        page = self.client.post(
            reverse("live:start", args=[self.slug, self.built.tests["air"].pk]),
            {"subject": f"s{self.subject.specimen.pk}"},
            follow=True,
        )
        self.assertContains(page, "Mount Amsel on Rack rig.")
        one = Live.objects.get()
        self.assertContains(
            self.client.get(reverse("bench:overview", args=[self.slug])),
            "is being recorded on Rack rig",
        )
        self.assertContains(self.post("take", one), "The recorder is silent", status_code=422)
        self.assertContains(self.post("step", one, {"step": "mount"}), "The guard is closed")
        self.assertContains(self.post("step", one, {"step": "guard"}), "Open the throttle")
        self.post("step", one, {"step": "throttle"})
        self.assertEqual(last_wish(Live.objects.get()), Throttle(100.0))
        self.assertContains(
            self.post("throttle", one, {"do": "set", "percent": "lots"}),
            "is not a number",
            status_code=422,
        )
        self.assertContains(
            self.post("throttle", one, {"do": "hold", "channel": "nonsense"}),
            "Choose what is held",
            status_code=422,
        )
        self.post("throttle", one, {"do": "hold", "channel": "power", "target": "3"})
        self.assertEqual(last_wish(Live.objects.get()).target, 3.0)
        self.assertContains(
            self.post(
                "throttle",
                one,
                {"do": "sweep", "low": "30", "high": "90", "count": "99", "dwell": "10"},
            ),
            "Take 3 to 40 steps",
            status_code=422,
        )
        self.post(
            "throttle",
            one,
            {"do": "sweep", "low": "30", "high": "90", "count": "4", "dwell": "10"},
        )
        self.assertEqual(last_wish(Live.objects.get()).levels, [30.0, 50.0, 70.0, 90.0])
        self.record(one, 40.0)
        self.assertContains(self.post("take", one), "1 of 2 readings")
        self.assertContains(self.post("note", one, {"text": "hums", "tags": ["whistle"]}), "hums")
        self.assertContains(
            self.post("accept", one, {"form_key": "x"}), "Enter a valid UUID", status_code=422
        )
        data = {
            "temperature": "21",
            "pressure": "965",
            "humidity": "50",
            "form_key": "0b0b7d2e-8f0d-4a3e-9b53-0d5c11f0a001",
            "then": "show",
        }
        answer = self.post("accept", one, data)
        run = Run.objects.get()
        self.assertEqual(answer["HX-Redirect"], run.get_absolute_url())
        page = self.client.get(run.get_absolute_url())
        self.assertContains(page, "hums")
        self.assertContains(self.post("undo", one), "no reading to take back", status_code=422)
        self.post("end", one, htmx=False)
        self.assertRedirects(
            self.client.get(one.get_absolute_url()),
            run.get_absolute_url(),
            fetch_redirect_response=False,
        )
        self.assertContains(
            self.client.get(
                reverse("live:guide", args=[self.slug, one.pk]), headers={"HX-Request": "true"}
            ),
            run.get_absolute_url(),
        )

    def test_accept_and_next_goes_to_what_is_due(self):
        one = self.record(self.guarded(self.begin()), 40.0)
        data = {"temperature": "21", "pressure": "965", "humidity": "50", "then": "next"}
        for n in range(3):
            self.taken(one, (10 + n, 14 + n))
            answer = self.post(
                "accept", one, data | {"form_key": f"0b0b7d2e-8f0d-4a3e-9b53-0d5c11f0a00{n}"}
            )
        self.assertIsNotNone(Live.objects.get().ended_at)
        self.assertIn("/tests/", answer["HX-Redirect"])

    def test_strangers_and_designers_stay_out(self):
        one = self.begin()
        for who in ("designer", "viewer", "stranger"):
            self.client.login(username=who, password=PASSWORD)
            self.assertIn(self.client.get(one.get_absolute_url()).status_code, (403, 404))
            self.assertIn(self.post("throttle", one, {"percent": "50"}).status_code, (403, 404))
        self.client.logout()
        self.assertEqual(
            self.client.get(reverse("live:stream", args=[self.slug, one.pk])).status_code, 302
        )

    def test_a_window_is_read_without_the_whole_recording(self):
        one = self.record(self.begin(), 40.0)
        times, channels = whole(one.recording, 10.0, 12.0)
        self.assertEqual((len(times), round(float(channels["speed"].mean()), -1)), (21, 1900.0))

    def test_units_follow_the_person(self):
        type(self.built.operator).objects.filter(pk=self.built.operator.pk).update(preset="inch")
        page = self.client.get(self.begin().get_absolute_url())
        config = page.context["config"]
        air = next(c for c in config["channels"] if c["key"] == "air_speed")
        self.assertEqual((air["unit"], round(air["factor"], 2)), ("ft/min", 196.85))
        self.assertEqual([c["key"] for c in config["channels"] if c["product"]], ["power"])
