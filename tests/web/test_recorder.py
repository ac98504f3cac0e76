"""The recorder on simulated meters: stores as it comes, loses nothing when it or the database dies,
guards the part, turns by rule.
"""

from __future__ import annotations

import asyncio
import json
import logging
import signal
import subprocess
import sys
import threading
import time
from datetime import timedelta
from functools import partial
from unittest import mock

import numpy as np
from asgiref.sync import sync_to_async
from django.db import OperationalError, connection, connections
from django.db.models.functions import Now
from django.test import TransactionTestCase
from django.urls import reverse
from msgspec.structs import replace

from hauch.bench.models import Live, Recording, Run, Waveform
from hauch.bench.runs import Subject
from hauch.bench.traces import RECORDER_LOCK, after
from hauch.core.trace.marks import Mark
from hauch.core.trace.source import Stretch, seconds_of
from hauch.formats.sound import read_wav
from hauch.instruments.grid import Grid
from hauch.instruments.grid import Piece as Rows
from hauch.live import actions as live
from hauch.live import runs as live_runs
from hauch.live.assessing import assessed
from hauch.live.held import STALE, Held, go_on, task_again, task_of
from hauch.live.obeying import obey
from hauch.live.protocol import (
    Cut,
    Hold,
    Sweep,
    TaskSaid,
    Throttle,
    Wanted,
    Wished,
    plain,
    status_of,
)
from hauch.live.recorder import SHUT_AFTER, Recorder
from hauch.live.session import RECENT_SECONDS, Session
from hauch.live.stream import events, hub, rows_after
from hauch.live.views_stream import MOST_STREAMS, _may_watch, _one_more
from hauch.people.keep import read_kept
from hauch.people.sessions import end, set_active
from hauch.rounds import invitations
from hauch.stores.models import Instrument
from hauch.workshop.models import Specimen
from tests.builder import PASSWORD, ROOM, build
from tests.emptied import Emptied
from tests.instruments.meters import Meters, put_on_line
from tests.processes import Machine, environment
from tests.simulated import READ_ON_THE_RIG
from tests.traces import whole

CHANNELS = READ_ON_THE_RIG


class RecorderCase(Emptied, TransactionTestCase):
    real_time = True

    def setUp(self):
        self.machine = Machine()
        self.built = build()
        self.meters = Meters()
        self.addCleanup(self.meters.stop)
        put_on_line(self.built.tests["air"].rig, self.meters, CHANNELS)
        self.one = live.begin(
            self.built.operator,
            self.built.tests["air"],
            Subject(specimen=self.built.specimens["Amsel"]),
        )

    def recorder(self) -> Recorder:
        recorder = Recorder(say=lambda text: None)

        def run():
            recorder.run()
            connections.close_all()

        thread = threading.Thread(target=run, daemon=True)
        thread.start()

        def stop():
            recorder.stop()
            thread.join(8)

        self.addCleanup(stop)
        return recorder

    def until(self, condition, seconds=45.0, what="it"):
        began = time.time()
        while time.time() < began + self.machine.seconds(seconds):
            self.one = Live.objects.select_related("recording").get(pk=self.one.pk)
            if condition(self.one):
                return
            time.sleep(0.05)
        self.fail(f"{what} did not happen in {seconds} s; status {self.one.status}")

    def ready(self):
        self.until(lambda one: one.heard_at and one.status.get("at", 0) > 0.3, what="recording")
        live.confirm(self.built.operator, self.one, "mount")
        live.confirm(self.built.operator, self.one, "guard")

    def spin(self, percent=100.0):
        live.set_throttle(self.built.operator, self.one, percent)
        self.until(
            lambda one: one.status.get("throttle") == percent and one.status.get("calm"),
            what="running steadily",
        )

    def ticks(self):
        times, channels = whole(self.one.recording)
        return np.rint(times * self.one.recording.rate).astype(int), channels


class RecorderTests(RecorderCase):
    def test_nobody_there_closes_the_throttle(self):
        self.recorder()
        self.ready()
        self.spin(60.0)
        Live.objects.update(watched_at=Now() - timedelta(seconds=61))
        self.until(lambda one: self.meters.bench.rig.throttle == 0.0, 5.0, "the throttle closing")
        self.until(
            lambda one: any("Nobody had this bench's page open" in e for e in one.status["events"]),
            what="the reason",
        )
        # Somebody is back, and another hand turns the controller's own knob: with the guard closed it is told, and the
        # throttle is where the controller shows it.
        Live.objects.update(watched_at=Now())
        self.meters.call("motor", "SOUR:THR 30")
        self.until(lambda one: one.status["throttle"] == 30.0, 10.0, "the other hand")
        live.cut(self.built.operator, self.one)
        self.until(lambda one: one.status["stands"], what="standing still")
        live.confirm(self.built.operator, self.one, "mount")
        time.sleep(2.2)
        self.meters.call("motor", "SOUR:THR 30")
        self.until(
            lambda one: any("guard is not confirmed" in e for e in one.status["events"]),
            10.0,
            "the guard's own",
        )
        self.until(lambda one: self.meters.bench.rig.throttle == 0.0, 5.0, "the throttle closing")

    def test_a_run_from_the_meters_without_a_lost_sample(self):
        self.recorder()
        self.ready()
        self.spin()
        self.until(
            lambda one: one.status["at"] - one.status["turned"] > 8.6, what="time for a reading"
        )
        live.take(self.built.operator, self.one)
        run = live_runs.accept(self.built.operator, self.one, ROOM)
        # The virtual bench's own truth: 1,900 1/min, its true bore and profile, which the stores
        # believe to be the same within their doubt.
        rig = self.meters.bench.rig
        self.assertAlmostEqual(
            run.result.value,
            rig.fan.working_flow(rig.resistance, 1900.0, 1.2),
            delta=3 * run.result.u,
        )
        ticks, channels = self.ticks()
        self.assertEqual(set(np.diff(ticks).tolist()), {1})
        self.assertFalse(any(np.isnan(values[2:]).any() for values in channels.values()))
        self.until(
            lambda one: Waveform.objects.filter(recording=one.recording).exists(),
            what="the waveform",
        )
        wave = Waveform.objects.get()
        samples, rate = read_wav(read_kept(wave.source.path))
        self.assertEqual((rate, samples.size, wave.clipped), (48_000, 192_000, 0.0))
        self.meters.bench.rig.full_scale = 0.002  # a range that is too low for it
        time.sleep(4.5)
        live.take(self.built.operator, self.one)
        self.until(
            lambda one: any("was clipped" in line for line in one.status["events"]),
            what="the clipping",
        )
        self.assertIn(
            "was clipped",
            " ".join(live_runs.accept(self.built.operator, self.one, ROOM).result.troubles),
        )
        live.end(self.built.operator, self.one)
        self.until(lambda one: self.meters.bench.rig.throttle == 0.0, what="the throttle closing")

    def test_guards_close_the_throttle_and_tell_why(self):
        Specimen.objects.filter(pk=self.built.specimens["Amsel"].pk).update(cap=1700.0)
        rig = self.meters.bench.rig
        rig.turned_over = rig.only_upright = True
        self.recorder()
        self.ready()
        live.set_throttle(self.built.operator, self.one, 60.0)  # head down it does not start
        self.until(
            lambda one: (
                "The part does not start at 60 %. The throttle was closed." in one.status["events"]
            ),
            what="the cut of a part that does not start",
        )
        rig.turned_over = False
        self.spin(60.0)
        rig.fault("", "stall")
        self.until(lambda one: one.status["throttle"] == 0.0, what="the cut of a stalled part")
        self.assertIn("The part stopped", " ".join(self.one.status["events"]))
        self.spin(60.0)
        live.set_throttle(self.built.operator, self.one, 100.0)
        self.until(
            lambda one: any(
                "above the limit of 1,700 1/min" in line for line in one.status["events"]
            ),
            what="the cut above the limit",
        )
        self.until(lambda one: rig.throttle == 0.0)

    def test_equal_power_and_a_sweep_by_rule(self):
        self.recorder()
        self.ready()
        live.hold(self.built.operator, self.one, "power", 2.5, 0.05)
        self.until(lambda one: (one.status.get("task") or {}).get("done"), 90, "the search")
        self.assertTrue(self.one.status["task"]["held"], self.one.status["task"])
        self.assertAlmostEqual(self.meters.bench.rig.now("power"), 2.5, delta=0.15)
        live.sweep(self.built.operator, self.one, [40.0, 60.0, 80.0], 5.0)
        self.until(
            lambda one: one.status["task"]["kind"] == "sweep" and one.status["task"]["done"],
            60,
            "the sweep",
        )
        self.assertTrue(self.one.status["task"]["held"])
        _, channels = self.ticks()
        self.assertTrue({40.0, 60.0, 80.0} <= set(np.round(channels["throttle"]).tolist()))

    def test_faults_of_meters_are_found_and_a_dropped_line_comes_back(self):
        self.recorder()
        self.ready()
        self.spin()
        self.meters.bench.rig.fault("air_speed", "spike", size=6.0)
        self.meters.bench.rig.fault("voltage", "dropout", 1.0)
        self.until(
            lambda one: (
                sum(
                    "spiked" in line or "Voltage: samples lost" in line
                    for line in one.status["events"]
                )
                >= 2
            ),
            what="the marks",
        )
        self.meters.call("anemometer", "RIG:OFFLINE 4")
        self.until(lambda one: "Air speed" in one.status["silent"], what="the silence")
        self.until(lambda one: one.status["silent"] == [], what="the line coming back")
        time.sleep(1.0)
        ticks, channels = self.ticks()
        self.assertEqual(set(np.diff(ticks).tolist()), {1})
        self.assertFalse(np.isnan(channels["air_speed"][2:-60]).any())


class DeathTests(RecorderCase):
    def start(self) -> subprocess.Popen:
        child = subprocess.Popen(
            [sys.executable, "-m", "hauch.ops.manage", "record"],
            env=environment(),
            stderr=subprocess.DEVNULL,
        )
        self.addCleanup(lambda: child.poll() is None and (child.kill(), child.wait()))
        return child

    def test_killed_recorder_is_followed_by_another_without_a_gap(self):
        first = self.start()
        self.ready()
        self.spin()
        before = self.ticks()[0][-1]
        first.send_signal(signal.SIGKILL)
        first.wait()
        second = self.start()
        self.until(
            lambda one: any("was taken up again" in line for line in one.status["events"]),
            what="the second recorder",
        )
        time.sleep(1.5)
        ticks, channels = self.ticks()
        self.assertGreater(ticks[-1], before + 50)
        # The meters keep their samples, so that nothing at all is missing; at most one second may
        # be.
        self.assertLessEqual(np.diff(ticks).max() / 50, 1.0)
        self.assertEqual(np.diff(ticks).max(), 1)
        self.assertEqual(self.one.status["throttle"], 100.0)
        self.assertGreater(channels["speed"][-1], 1800)
        second.terminate()
        second.wait(10)
        self.assertEqual(
            self.meters.bench.rig.throttle, 0.0
        )  # stopped in order, it leaves nothing turning

    def test_a_second_recorder_takes_over_within_a_second_even_from_a_meter_that_keeps_nothing(
        self,
    ):
        Instrument.objects.filter(resource=self.meters.resource("sound")).update(
            profile={"query": "MEAS:SPL?", "unit": "dB", "rate": 10}
        )
        first = self.start()
        self.ready()
        second = self.start()
        self.spin(60.0)
        live.sweep(self.built.operator, self.one, [70.0, 80.0, 90.0], 5.0)
        self.until(
            lambda one: "70 %" in (one.status.get("task") or {}).get("text", ""), what="the sweep"
        )
        time.sleep(4.0)  # the second one has long begun
        first.send_signal(signal.SIGKILL)
        first.wait()
        killed = time.time() - self.one.recording.started_at.timestamp()
        self.until(
            lambda one: any("was taken up again" in line for line in one.status["events"]),
            what="taking over",
        )
        self.until(
            lambda one: (one.status.get("task") or {}).get("done"), what="the rest of the sweep"
        )
        self.assertTrue(self.one.status["task"]["held"], self.one.status)
        self.assertTrue(
            any("The sweep goes on by itself from" in line for line in self.one.status["events"]),
            self.one.status,
        )
        ticks, channels = self.ticks()
        self.assertEqual(np.diff(ticks).max(), 1)
        times = ticks / 50
        near = times[
            np.isfinite(channels["sound_level"]) & (times > killed - 2) & (times < killed + 10)
        ]
        self.assertGreater(near.size, 10)
        self.assertLessEqual(np.diff(near).max(), self.machine.seconds(1.0))
        held = [
            np.count_nonzero(np.abs(channels["throttle"] - level) < 0.2) / 50
            for level in (70.0, 80.0, 90.0)
        ]
        self.assertGreater(
            min(held), 4.0, held
        )  # each step was held for its time, the one that was broken into for longer
        self.assertEqual(self.meters.bench.rig.throttle, 90.0)
        live.set_throttle(self.built.operator, self.one, 0.0)
        self.until(
            lambda one: self.meters.bench.rig.throttle == 0.0, what="obeying the second recorder"
        )
        self.assertIsNone(second.poll())

    def test_a_recorder_that_hangs_is_relieved_of_its_bench_and_leaves_it_alone_when_it_wakes(self):
        first = self.start()
        self.ready()
        self.spin(60.0)
        first.send_signal(signal.SIGSTOP)
        self.addCleanup(lambda: first.poll() is None and first.send_signal(signal.SIGCONT))
        with mock.patch("hauch.live.recorder.HUNG", 2.0):
            second = self.recorder()
            self.until(
                lambda one: any("was taken up again" in line for line in one.status["events"]),
                what="taking over from one that hangs",
            )
        live.set_throttle(self.built.operator, self.one, 40.0)
        self.until(
            lambda one: self.meters.bench.rig.throttle == 40.0, what="obeying the second recorder"
        )
        first.send_signal(signal.SIGCONT)
        at = self.one.status["at"]
        self.until(lambda one: one.status["at"] > at + 3.0, what="going on beside one that woke")
        self.assertIsNone(first.poll())
        self.assertEqual(list(second.held), [self.one.pk])
        self.assertEqual(
            (self.one.status["throttle"], self.meters.bench.rig.throttle), (40.0, 40.0)
        )
        self.assertEqual(np.diff(self.ticks()[0]).max(), 1)
        first.terminate()
        first.wait(10)
        self.assertEqual(
            self.meters.bench.rig.throttle, 40.0
        )  # its orderly end closes only what it holds

    def test_a_recorder_that_lost_its_bench_still_stores_what_only_it_has_read(self):
        recorder = self.recorder()
        self.ready()
        self.until(lambda one: one.status.get("at", 0) > 1.0)
        recorder.stop()
        time.sleep(0.5)
        other = Recorder(say=lambda text: None)
        held = Held(
            Session(
                self.one.pk,
                list(self.one.recording.columns),
                50.0,
                Grid([], 50.0, time.time(), 0, {}),
            ),
            self.one.recording_id,
            time.time(),
        )
        held.unsaved.append(Rows(100_000, np.ones((3, len(CHANNELS)))))
        other.held[self.one.pk] = held
        with connection.cursor() as cursor:
            cursor.execute("select pg_advisory_lock(%s, %s)", [RECORDER_LOCK, self.one.pk])
            try:
                other._connect()
            finally:
                other.listener.close()
                cursor.execute("select pg_advisory_unlock(%s, %s)", [RECORDER_LOCK, self.one.pk])
        self.assertEqual(other.held, {})
        self.assertEqual(after(self.one.recording), 100_003)

    def test_the_throttle_is_where_the_controller_showed_it_unless_it_was_turned_since(self):
        rows = np.full((600, len(self.one.recording.columns)), 7.0)
        rows[:, self.one.recording.columns.index("throttle")] = 91.6
        self.one.recording.pieces.create(first=0, count=600, data=rows.astype("<f8").tobytes())
        for turned, throttle in (
            (5.0, 91.6),
            (11.95, 0.0),
        ):  # a sweep's step that was not said yet; an orderly end
            with self.subTest(turned=turned):
                self.one.status = {"throttle": 0.0, "turned": turned, "seen": 4}
                session = Session(
                    self.one.pk,
                    list(self.one.recording.columns),
                    50.0,
                    None,
                    throttle=0.0,
                    turned=turned,
                )
                held = Held(session, self.one.recording_id, 0.0)
                go_on(held, self.one, 600)
                self.assertEqual((session.throttle, session.now, held.seen), (throttle, 12.0, 4))

    def test_a_broken_database_connection_loses_nothing_and_two_recorders_double_nothing(self):
        self.recorder()
        self.recorder()
        self.ready()
        self.spin()
        with connection.cursor() as cursor:
            cursor.execute(
                "select pg_terminate_backend(pid) from pg_stat_activity where datname ="
                " current_database() and pid <> pg_backend_pid()"
            )
        at = self.one.status["at"]
        self.until(lambda one: one.status["at"] > at + 2.5, what="going on")
        begin = after(self.one.recording)
        self.until(lambda one: one.status["at"] > begin / 50 + 2.5, what="going on for good")
        self.assertEqual(set(np.diff(self.ticks()[0]).tolist()), {1})
        live.set_throttle(self.built.operator, self.one, 50.0)
        self.until(lambda one: one.status["throttle"] == 50.0, what="obeying again")
        pieces = list(
            self.one.recording.pieces.filter(first__gte=begin)
            .order_by("first", "pk")
            .values_list("first", "count")
        )
        self.assertLess(sum(n for _, n in pieces), 1.1 * (pieces[-1][0] + pieces[-1][1] - begin))


class StreamTests(RecorderCase):
    def test_a_browser_gets_history_then_rows_and_after_a_pause_what_it_lacks(self):
        self.recorder()
        self.ready()
        self.until(lambda one: one.status["at"] > 1.0)

        async def listen(last, wanted, seconds=30.0):
            got, stream = [], events(self.one, last)
            end = time.time() + seconds
            async for text in stream:
                got.append(text)
                if (
                    sum(f"event: {kind}" in part for part in got for kind in [wanted]) >= 3
                    or time.time() > end
                ):
                    break
            await stream.aclose()
            await sync_to_async(connections.close_all)()
            return got

        got = asyncio.run(listen(None, "rows"))
        kinds = [part.split("event: ")[1].split("\n")[0] for part in got if "event: " in part]
        self.assertEqual((kinds[:2], kinds.count("rows")), (["changed", "history"], 3))
        self.assertEqual(set(json.loads(got[2].split("data: ")[1])["traces"]), {*CHANNELS, "power"})
        rows = [json.loads(part.split("data: ")[1]) for part in got if "event: rows" in part]
        ticks = {
            tick
            for part in rows
            for tick in range(part["first"], part["first"] + len(part["rows"]))
        }  # a late sample may come behind
        last = max(ticks)
        self.assertEqual(ticks, set(range(min(ticks), last + 1)))
        self.until(lambda one: after(one.recording) > last + 40, what="a pause's worth of rows")
        again = [part for part in asyncio.run(listen(last, "rows")) if "event: rows" in part]
        first = json.loads(again[0].split("data: ")[1])
        self.assertEqual(first["first"], last + 1)
        self.assertGreaterEqual(len(first["rows"]), 30)
        self.assertEqual(rows_after(self.one, 10**9)[1], [])
        self.assertEqual(hub.queues, {})


class WatchingTests(Emptied, TransactionTestCase):
    """Who may no longer see a bench loses its stream, not only its page."""

    def setUp(self):
        self.built = build()
        Instrument.objects.filter(channel="air_speed").update(
            resource="TCPIP0::127.0.0.1::9::SOCKET", profile={"query": "X?", "unit": "m/s"}
        )
        subject = Subject(specimen=self.built.specimens["Amsel"])
        self.one = live.begin(self.built.operator, self.built.tests["air"], subject)

    def test_one_more_stream_than_a_person_may_have_ends_the_oldest(self):
        kept = [_one_more(self.built.operator.pk, lambda: True) for _ in range(MOST_STREAMS)]
        others = _one_more(self.built.host.pk, lambda: True)
        self.assertTrue(all(may() for may in kept))
        kept.append(_one_more(self.built.operator.pk, lambda: True))
        self.assertEqual([may() for may in kept], [False] + [True] * MOST_STREAMS)
        self.assertTrue(others())
        self.assertFalse(_one_more(self.built.host.pk, lambda: False)())

    def test_a_stream_ends_with_the_right_to_see_it(self):
        operator = self.built.operator
        member = self.built.round.memberships.get(user=operator)

        def removed():
            invitations.change_role(self.built.host, member, None)

        def closed():
            set_active(self.built.host, operator, active=False)

        def ended():
            end(operator)

        for change in (ended, removed, closed):
            with self.subTest(change.__name__):
                client = self.client_class()
                client.post(reverse("people:login"), {"username": "operator", "password": PASSWORD})
                key = client.session.session_key
                may = partial(_may_watch, key, operator.pk, self.one)
                self.assertTrue(may())

                async def watch(may=may, change=change):
                    got, began = [], time.monotonic()
                    async for text in events(self.one, None, may):
                        got.append(text)
                        if "event: history" in text:
                            await sync_to_async(change)()
                        if time.monotonic() > began + 60:
                            break
                    await sync_to_async(connections.close_all)()
                    return got, time.monotonic() - began

                with mock.patch("hauch.live.stream.LOOKED_AFTER", 0.2):
                    got, took = asyncio.run(watch())
                self.assertIn("event: history", "".join(got))
                self.assertLess(took, 50)
                self.assertFalse(may())
                self.assertEqual(hub.queues, {})
            member.pk = None
            type(member).objects.filter(user=operator).delete()
            member.save()
            type(operator).objects.update(is_active=True)


class AloneTests(RecorderCase):
    """What goes wrong with one bench stops that bench alone."""

    def setUp(self):
        super().setUp()
        logging.disable(logging.CRITICAL)  # what was stopped is logged, here on purpose
        self.addCleanup(logging.disable, logging.NOTSET)
        self.recorder = Recorder(say=lambda text: None)
        self.sent = []
        self.other = Live.objects.create(
            round=self.one.round,
            test=self.built.tests["power"],
            setting=self.one.setting,
            reference=self.built.reference,
            recording=Recording.objects.create(
                round=self.one.round, started_at=self.one.started_at, columns=["speed"], rate=50.0
            ),
            operator=self.built.operator,
        )
        for live_ in (self.one, self.other):
            grid = Grid(["speed"], 50.0, time.time(), 0, {})
            session = Session(live_.pk, ["speed"], 50.0, grid, throttle=80.0)
            session.send = self.sent.append
            self.recorder.held[live_.pk] = Held(session, live_.recording_id, time.time())
        self.broken = self.recorder.held[self.one.pk]

    def check_alone(self, words):
        self.assertEqual(list(self.recorder.held), [self.other.pk])
        self.assertEqual(self.sent, [0.0])  # only the throttle of the one that failed
        self.recorder._report()
        self.addCleanup((self.recorder.listener and self.recorder.listener.close) or (lambda: None))
        one, other = (status_of(Live.objects.get(pk=x.pk)) for x in (self.one, self.other))
        self.assertIn(words, one.stopped)
        self.assertIn("told to close; whether it did nobody has seen", one.stopped)
        # It is not told to be closed: nobody saw that.
        self.assertEqual((one.throttle, other.stopped, other.throttle), (80.0, "", 80.0))

    def test_rows_that_cannot_be_taken_in(self):
        for problem in (ValueError("a profile"), OSError("its line")):
            with self.subTest(problem):
                self.broken.session.grid.ready = mock.Mock(side_effect=problem)
                self.recorder._collect()
        self.check_alone("ValueError: a profile")

    def test_rows_that_cannot_be_stored(self):
        self.broken.unsaved.append(Rows(-5, np.ones((1, 1))))
        good = self.recorder.held[self.other.pk]
        good.unsaved.append(Rows(3, np.ones((1, 1))))
        self.recorder._store()
        self.assertEqual(self.other.recording.pieces.count(), 1)
        self.check_alone("piece_has_rows")

    def test_rows_that_it_has_read_are_stored_first_and_seconds_stop_nobody(self):
        self.broken.unsaved.append(Rows(3, np.ones((1, 1))))
        with mock.patch("hauch.live.recorder.keep_over", side_effect=ValueError("seconds")):
            self.recorder._store()
        self.assertEqual(len(self.recorder.held), 2)
        self.broken.unsaved.append(Rows(4, np.ones((1, 1))))
        self.broken.session.grid.ready = mock.Mock(side_effect=ValueError("a profile"))
        self.recorder._collect()
        self.check_alone("ValueError: a profile")
        self.assertEqual(self.one.recording.pieces.count(), 2)

    def test_a_wish_that_nobody_understands(self):
        Live.objects.filter(pk=self.one.pk).update(wanted={"wishes": [{"n": 9, "fly": True}]})
        with mock.patch.object(Recorder, "_lock", return_value=True):
            self.recorder._look()
        self.check_alone("ValidationError")
        with mock.patch.object(Recorder, "_lock", return_value=True):
            self.recorder._look()  # nobody takes it up again
        self.assertEqual(list(self.recorder.held), [self.other.pk])

    def test_a_bench_that_cannot_be_taken_up(self):
        del self.recorder.held[self.one.pk]
        Live.objects.filter(pk=self.one.pk).update(status={"throttle": 60.0})
        with (
            mock.patch.object(Recorder, "_lock", return_value=True),
            mock.patch("hauch.live.recorder.take_up", side_effect=KeyError("rate")),
        ):
            self.recorder._look()
            self.recorder._report()
        self.addCleanup(self.recorder.listener.close)
        self.assertEqual(list(self.recorder.held), [self.other.pk])
        status = status_of(Live.objects.get(pk=self.one.pk))
        self.assertIn("KeyError", status.stopped)
        self.assertIn("could not be closed from here", status.stopped)
        self.assertEqual(status.throttle, 60.0)  # as the one before left it

    def test_a_lost_database_is_everybodys(self):
        with mock.patch("hauch.live.recorder.insert", side_effect=OperationalError("gone")):
            self.broken.unsaved.append(Rows(3, np.ones((1, 1))))
            with self.assertRaises(OperationalError):
                self.recorder._store()
        self.assertEqual((len(self.recorder.held), self.sent), (2, []))
        self.assertEqual(len(self.broken.unsaved), 1)


class SessionTests(Emptied, TransactionTestCase):
    """The parts of a session that need no meters."""

    def session(self, **more):
        return Session(1, ["load_temperature", "speed"], 10.0, None, **more)

    def test_a_meter_that_loses_samples_pushes_nothing_else_out(self):
        session = self.session()
        session.events.append("The sweep goes on by itself from 70 %.")
        for n in range(40):
            session._tell(Mark("speed", "dropout", 10 * n, 10 * n + 3, 1.0 * n, 1.0 * n + 0.3))
        session._tell(Mark("load_temperature", "spike", 5, 5, 0.5, 0.5))
        self.assertEqual(len(session.events), 3)
        self.assertEqual(session.events[0], "The sweep goes on by itself from 70 %.")
        self.assertIn("from 39.0 to 39.3 s", session.events[1])
        self.assertIn("Seen 40 times so far.", session.events[1])
        self.assertNotIn("Seen", session.events[2])

    def test_every_rotor_has_its_limit_and_stands_before_a_hand_goes_in(self):
        """Of two rotors on one shaft line the second alone runs too fast, or runs down longer."""
        session = Session(1, ["speed", "speed_2"], 10.0, None, cap=1500.0, throttle=50.0)
        session.add(Rows(0, np.tile([1400.0, 1450.0], (20, 1))))
        session.watch()
        self.assertEqual((session.throttle, session.stands()), (50.0, False))
        session.add(Rows(20, np.tile([1400.0, 1650.0], (10, 1))))
        session.watch()
        self.assertEqual(session.throttle, 0.0)
        self.assertIn("1,650 1/min is above the limit", session.events[-1])
        for start, row, stands in (
            (30, [0.0, 300.0], False),
            (50, [0.0, np.nan], None),
            (70, [0.0, 2.0], True),
        ):
            session.add(Rows(start, np.tile(row, (20, 1))))
            self.assertIs(session.stands(), stands)

    def turned(self, shown, asked=50.0, **more):
        """A session whose controller shows a throttle for three seconds."""
        sent: list[float] = []
        session = Session(1, ["throttle"], 10.0, None, throttle=asked, send=sent.append, **more)
        session.add(Rows(0, np.full((30, 1), float(shown))))
        session.turned = 0.0
        session.watch()
        return session, sent

    def test_what_is_said_of_the_throttle_is_what_the_controller_answers(self):
        session, sent = self.turned(50.04)
        self.assertEqual((session.throttle, list(session.events)), (50.0, []))
        session, sent = self.turned(80.0)
        self.assertEqual((session.throttle, sent), (80.0, []))
        self.assertIn("shows 80 % where 50 % was asked for: another hand", session.events[-1])
        # A search does not go on from a throttle that it did not set.
        session = Session(1, ["throttle"], 10.0, None, throttle=50.0, send=sent.append)
        session.task = task_of(Sweep([50.0, 60.0, 70.0], 5.0))
        session.add(Rows(0, np.full((30, 1), 80.0)))
        session.turned = 0.0
        session.watch()
        self.assertTrue(session.task.done)
        self.assertIn("another hand", session.task.text)
        # One that still moves is waited for.
        session = Session(1, ["throttle"], 10.0, None, throttle=50.0, send=sent.append)
        session.add(Rows(0, np.linspace(0, 40, 30)[:, None]))
        session.turned = 0.0
        session.watch()
        self.assertEqual(session.throttle, 50.0)

    def test_another_hand_opens_no_throttle_while_the_guard_is_open(self):
        session, sent = self.turned(30.0, asked=0.0, guarded=False)
        self.assertEqual((session.throttle, sent), (0.0, [0.0]))
        self.assertIn("while the guard is not confirmed", session.events[-1])
        session.add(Rows(30, np.full((30, 1), 30.0)))  # it does not obey
        session.watch()
        self.assertEqual((session.throttle, sent), (30.0, [0.0]))
        self.assertIn("Switch the supply off by hand", session.events[-1])

    def test_a_forecast_begins_with_the_turn_of_the_throttle(self):
        from hauch.instruments.grid import Piece

        session = self.session(soaks=True, resolution=0.5)
        at = np.arange(6000) / 10
        load = (
            45
            - 22 * np.exp(-np.maximum(at - 60, 0) / 100)
            + 0.03 * np.random.default_rng(1).standard_normal(6000)
        )
        for start in range(0, 6000, 100):
            session.add(
                Piece(start, np.column_stack([load[start : start + 100], np.full(100, 1900.0)]))
            )
            if start == 600:
                session.turn(100.0)
        found = assessed(session.snapshot()).forecast
        self.assertAlmostEqual(found.end, 45.0, delta=0.1)
        session.forecast = found
        said = json.loads(json.dumps(plain(session.status())))  # as it is written into the table
        self.assertEqual((said["forecast"]["settled"], said["forecast"]["to_go"]), (True, 0.0))
        self.assertEqual(len(session.seconds), 599)  # the last one may go on
        self.assertEqual(len(session.recent), 750)

    def test_what_turned_by_rule_goes_on_only_where_the_throttle_stands_as_it_left_it(self):
        sweep, hold = Sweep([70.0, 80.0, 90.0, 80.0], 5.0), Hold("power", 6.0, 0.1)
        said = TaskSaid("sweep", begun=12.0, step=1)
        for throttle, step, expected in (
            (80.0, 1, 1),
            (90.0, 1, 2),
            (80.0, 2, 3),
            (70.0, 1, None),
            (0.0, 0, None),
            (80.0, None, None),
        ):
            with self.subTest(throttle=throttle, step=step):
                session = self.session(throttle=throttle)
                task = task_again(replace(said, step=step), sweep, session)
                self.assertEqual(task and task.machine.at, expected)
                if task:
                    self.assertEqual(task.begun, 12.0)
                    self.assertEqual(task.machine.now(session.now + 4.9).throttle, throttle)
                    self.assertEqual(
                        task.machine.now(session.now + 5.1).throttle,
                        sweep.levels[min(expected + 1, 3)],
                    )
        search = replace(said, kind="hold", step=None)
        self.assertEqual(task_again(search, hold, self.session(throttle=62.0)).machine.target, 6.0)
        self.assertIsNone(
            task_again(search, hold, self.session(throttle=0.0))
        )  # it was closed meanwhile
        self.assertIsNone(task_again(said, hold, self.session(throttle=80.0)))

    def test_a_recorder_that_stood_still_turns_nothing_and_blames_nobody(self):
        recorder = Recorder(say=lambda text: None)
        session = self.session(throttle=70.0)
        session.task = task_of(Sweep([70.0, 80.0, 90.0], 5.0))
        recorder.held[1] = Held(session, 1, 0.0)
        recorder.watched[2] = (None, 0.0)
        recorder._stood_still(31.0)
        self.assertEqual((session.task.done, session.throttle, recorder.watched), (True, 70.0, {}))
        self.assertIn("stood still for 31 s", session.events[-1])
        session.tend()
        self.assertEqual(session.throttle, 70.0)

    def test_without_the_database_for_long_the_throttle_is_shut(self):
        recorder = Recorder(say=lambda text: None)
        session = self.session()
        session.throttle = 80.0
        recorder.held[1] = Held(session, 1, 0.0)
        recorder._lost(OSError("gone"))
        self.assertEqual(session.throttle, 80.0)
        recorder.down_since -= SHUT_AFTER + 1
        recorder._lost(OSError("gone"))
        self.assertEqual(session.throttle, 0.0)
        self.assertIn("nobody could have stopped the part", session.events[-1])
        self.assertEqual(Run.objects.count(), 0)

    def test_a_wish_that_is_old_turns_nothing_and_a_cut_is_always_done(self):
        sent: list[float] = []
        session = self.session(send=sent.append)
        held = Held(session, 1, 900.0, lambda: 1000.0)  # second 100 of the recording is now
        fresh, old = 99.0, 100.0 - STALE - 1
        obey(
            held,
            Wanted([Wished(1, old, Throttle(80.0)), Wished(2, old, Sweep([70.0], 5.0))]),
        )
        self.assertEqual((sent, session.throttle, session.task, held.seen), ([], 0.0, None, 2))
        self.assertIn("while nobody recorded", session.events[-1])
        obey(
            held,
            Wanted([Wished(2, old, Throttle(80.0)), Wished(3, fresh, Throttle(60.0))]),
        )
        self.assertEqual((sent, held.urgent), ([60.0], True))
        obey(held, Wanted([Wished(4, old, Cut())]))
        self.assertEqual(sent, [60.0, 0.0])
        self.assertTrue(session.urgent)

    def test_a_stuck_meter_is_told_once_while_it_lasts_and_again_the_next_time(self):
        random = np.random.default_rng(4)
        session = Session(1, ["air_speed", "speed"], 10.0, None)
        air = np.round(4 + 0.05 * random.standard_normal(2400), 2)
        air[300:420], air[1900:2000] = air[299], air[1899]
        speed = 1900 + 2 * random.standard_normal(2400)
        told = []
        for start in range(0, 2400, 10):
            session.add(
                Rows(start, np.column_stack([air[start : start + 10], speed[start : start + 10]]))
            )
            before = set(session.events)
            session.take(assessed(session.snapshot()))
            told += [(start / 10, line) for line in session.events if line not in before]
        self.assertEqual(len(told), 2, told)
        for (at, line), begun in zip(told, (30, 190), strict=True):
            self.assertIn("the meter repeats one reading", line)
            self.assertLess(begun, at)
            self.assertLess(at, begun + 12)  # while it lasts, or as soon as it is over

    def test_a_session_goes_on_where_another_one_left_off(self):
        random = np.random.default_rng(5)
        rows = np.column_stack(
            [40 + random.standard_normal(1255), 1900 + random.standard_normal(1255)]
        )
        rows[333, 0], rows[600:640] = np.nan, np.nan
        old, new = self.session(), self.session()
        for start in (start for start in range(0, 1255, 5) if not 600 <= start < 640):
            old.add(Rows(start, rows[start : start + 5]))
        times = np.arange(len(rows)) / 10.0
        there = np.isfinite(rows).any(axis=1)
        stretch = Stretch(times[there], {key: rows[there, i] for i, key in enumerate(new.channels)})
        new.restore(
            seconds_of(stretch), stretch.between(times[-1] - RECENT_SECONDS + 0.05, times[-1])
        )
        self.assertEqual(
            (new.recent_first, new.now, len(new.recent)),
            (old.recent_first, old.now, len(old.recent)),
        )
        np.testing.assert_array_equal(np.stack(new.recent), np.stack(old.recent))
        np.testing.assert_allclose(np.stack(new.seconds), np.stack(old.seconds))
        self.assertEqual((new.seconds_at, len(new.second)), (old.seconds_at, len(old.second)))
        for session in (old, new):
            session.add(Rows(1255, rows[:20]))
        np.testing.assert_allclose(np.stack(new.seconds), np.stack(old.seconds))
