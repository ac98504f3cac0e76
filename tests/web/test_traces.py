"""Traces by stretch: what is stored equals what is in memory, what an ended recording becomes, and that hours cost
no more than minutes.
"""

from __future__ import annotations

import time
from datetime import UTC, datetime

import numpy as np
from django.db import IntegrityError, connection, transaction
from django.test import TestCase
from django.test.utils import CaptureQueriesContext

from hauch.bench.jobs import compact_recording, sweep
from hauch.bench.models import Live, Minute, Recording
from hauch.bench.reduction import compute
from hauch.bench.runs import Subject
from hauch.bench.traces import compact, ended_in_pieces, keep_minutes, store, trace_of
from hauch.core.trace.source import Held
from hauch.live import actions as live
from hauch.live import runs as live_runs
from hauch.live.stream import history
from hauch.stores.models import Instrument
from tests.builder import ROOM, build
from tests.traces import RATE, put_minutes, put_pieces, rows_of


class TraceCase(TestCase):
    @classmethod
    def setUpTestData(cls):
        cls.built = build()
        Instrument.objects.update(resource="TCPIP0::127.0.0.1::9::SOCKET")

    def recording(self, columns: list[str]) -> Recording:
        return Recording.objects.create(
            round=self.built.round,
            started_at=datetime(2026, 3, 2, 9, tzinfo=UTC),
            columns=columns,
            rate=RATE,
        )

    def same(self, one, other, channels):
        np.testing.assert_array_equal(one.times, other.times)
        for key in channels:
            for figures in ("count", "mean", "least", "most"):
                np.testing.assert_allclose(
                    getattr(one, figures)[key],
                    getattr(other, figures)[key],
                    rtol=1e-12,
                    err_msg=key,
                )


class StoredTests(TraceCase):
    COLUMNS = ["speed", "air_speed"]

    def setUp(self):
        self.rows = rows_of(round(200 * RATE), self.COLUMNS)
        self.rows[1000:1010, 1] = np.nan
        self.there = np.ones(len(self.rows), bool)
        self.there[4000:4400] = False  # nobody recorded
        ticks = np.flatnonzero(self.there)
        self.held = Held(
            ticks / RATE, {key: self.rows[ticks, i] for i, key in enumerate(self.COLUMNS)}
        )
        self.stored = self.recording(self.COLUMNS)

    def in_pieces(self):
        put_pieces(self.stored, self.rows[:4000])
        put_pieces(self.stored, self.rows[4400:], 4400)

    def check_equal(self):
        trace = trace_of(self.stored)
        self.assertEqual(trace.extent, self.held.extent)
        for low, high in ((-1, 500), (19.5, 21.0), (59.98, 60.02), (70.0, 95.0), (81.0, 87.0)):
            for channels in (None, ["air_speed"]):
                with self.subTest(low=low, high=high, channels=channels):
                    one = trace_of(self.stored).window(low, high, channels)
                    other = self.held.window(low, high, channels)
                    np.testing.assert_array_equal(one.times, other.times)
                    if not other.times.size:  # nothing, of whatever channel
                        continue
                    self.assertEqual(set(one.channels), set(other.channels))
                    for key, values in other.channels.items():
                        np.testing.assert_array_equal(one.channels[key], values)
                    self.same(
                        trace_of(self.stored).seconds(low, high, channels),
                        self.held.seconds(low, high, channels),
                        other.channels,
                    )

    def test_pieces_chunks_and_memory_are_one(self):
        self.in_pieces()
        self.check_equal()
        keep_minutes(self.stored.pk, trace_of(self.stored).own_window(0, 60 - 1e-6))
        self.check_equal()  # one minute by the second, the rest from samples
        self.assertEqual(compact(self.stored), 1920)
        self.assertEqual((self.stored.pieces.count(), self.stored.minutes.count()), (0, 4))
        self.check_equal()
        self.assertEqual(compact(self.stored), 0)
        self.check_equal()

    def test_an_imported_log_is_read_in_the_same_way(self):
        self.stored.rate = None
        store(self.stored, self.held)
        self.check_equal()
        self.assertEqual(self.stored.minutes.count(), 4)

    def test_some_minutes_of_many(self):
        self.rows = rows_of(60_000, self.COLUMNS)  # 20 minutes
        self.held = Held(
            np.arange(60_000) / RATE, {key: self.rows[:, i] for i, key in enumerate(self.COLUMNS)}
        )
        self.stored.rate = None
        store(self.stored, self.held)
        trace = trace_of(self.stored)
        found = trace.some_minutes(0.0, 1199.98, ["air_speed"], 5)
        self.assertEqual(sorted({int(t // 60) for t in found.times}), [0, 4, 8, 12, 16])
        whole_of_it = trace.seconds(240.0, 299.99, ["air_speed"])
        np.testing.assert_array_equal(
            found.between(240.0, 299.99).mean["air_speed"], whole_of_it.mean["air_speed"]
        )
        everything = trace.some_minutes(0.0, 1199.98, ["air_speed"], 20)
        np.testing.assert_array_equal(everything.times, trace.seconds().times)
        self.stored.minutes.filter(number=8).delete()
        self.stored.minutes.filter(number=4).delete()
        found = trace_of(self.stored).some_minutes(0.0, 1199.98, ["air_speed"], 5)
        np.testing.assert_array_equal(found.times, everything.times)  # not kept: from samples

    def test_a_slow_log_keeps_no_seconds(self):
        times = np.arange(0.0, 600.0, 2.0)
        slow = Held(times, {"load_temperature": 20 + times / 100})
        store(self.stored, slow)
        self.assertEqual(self.stored.minutes.count(), 0)
        np.testing.assert_array_equal(trace_of(self.stored).seconds().times, times)

    def test_rows_that_come_after_are_read_with_the_chunks(self):
        self.in_pieces()
        compact(self.stored)
        late = np.full((10, 2), np.nan)
        late[:, 1] = 4.0
        put_pieces(self.stored, late, 1000, 10)
        window = trace_of(self.stored).window(19.9, 20.3)
        np.testing.assert_array_equal(
            window.channels["air_speed"][(window.times >= 20.0) & (window.times < 20.2)], 4.0
        )
        self.assertEqual(window.channels["speed"][5], self.rows[1000, 0])

    def test_a_piece_of_many_minutes_is_read_and_becomes_chunks_whole(self):
        """As a meter hands it in that had kept all while nobody recorded."""
        self.rows = rows_of(20_000, self.COLUMNS)
        self.held = Held(
            np.arange(20_000) / RATE, {key: self.rows[:, i] for i, key in enumerate(self.COLUMNS)}
        )
        put_pieces(self.stored, self.rows, size=17_000)
        for low, high in ((100.0, 101.0), (338.0, 342.0), (395.0, 399.9)):
            with self.subTest(low=low):
                np.testing.assert_array_equal(
                    trace_of(self.stored).window(low, high).times, self.held.window(low, high).times
                )
        self.assertEqual(compact(self.stored), 2)
        whole = trace_of(self.stored).own_window()
        for key, values in self.held.stretch.channels.items():
            np.testing.assert_array_equal(whole.channels[key], values)

    def test_pieces_go_only_when_they_have_become_chunks(self):
        self.in_pieces()
        with self.assertRaises(IntegrityError), transaction.atomic():
            self.stored.pieces.all().delete()
        compact(self.stored)
        put_pieces(self.stored, self.rows[:5], 20_000)
        with self.assertRaises(IntegrityError), transaction.atomic():
            self.stored.pieces.all().delete()
        with self.assertRaises(IntegrityError), transaction.atomic():
            self.stored.pieces.update(first=0)

    def test_power_is_kept_by_the_second_where_volts_and_amps_are_read(self):
        columns = ["voltage", "current"]
        rows = rows_of(6000, columns)
        put_pieces(recording := self.recording(columns), rows)
        keep_minutes(recording.pk, trace_of(recording).own_window(0, 60 - 1e-6))
        kept = trace_of(recording).seconds(0, 118.99, ["power"])
        power = (rows[:, 0] * rows[:, 1]).reshape(-1, 50)
        np.testing.assert_allclose(kept.mean["power"], power.mean(axis=1)[:119])
        np.testing.assert_allclose(kept.most["power"], power.max(axis=1)[:119])


class EndedTests(TraceCase):
    def test_an_ended_recording_becomes_chunks_when_no_recorder_holds_it(self):
        one = live.begin(
            self.built.operator,
            self.built.tests["air"],
            Subject(specimen=self.built.specimens["Amsel"]),
        )
        put_pieces(one.recording, rows_of(500, one.recording.columns))
        self.assertEqual(ended_in_pieces(), [])
        live.end(self.built.operator, one)
        self.assertEqual(ended_in_pieces(), [one.recording])
        with connection.cursor() as cursor:  # as a recorder holds it
            cursor.execute("select pg_advisory_lock(%s, %s)", [0x48415543, one.pk])
            compact_recording(one.recording_id)
            sweep(0)
            self.assertEqual(one.recording.pieces.count(), 100)
            cursor.execute("select pg_advisory_unlock(%s, %s)", [0x48415543, one.pk])
        sweep(0)
        self.assertEqual((one.recording.pieces.count(), ended_in_pieces()), (0, []))


HOURS = 1


class LongTests(TraceCase):
    """An hour at 50 Hz as it comes from the meters; benchmark ``logs`` takes four."""

    def test_accepting_and_looking_cost_what_the_readings_need(self):
        one = live.begin(
            self.built.operator,
            self.built.tests["air"],
            Subject(specimen=self.built.specimens["Amsel"]),
        )
        columns, seconds = one.recording.columns, 3600 * HOURS
        rows = rows_of(round(seconds * RATE), columns)
        put_pieces(one.recording, rows)
        put_minutes(one.recording, rows)
        windows = [[seconds - 30.0 + 6 * i, seconds - 26.0 + 6 * i] for i in range(3)]
        Live.objects.filter(pk=one.pk).update(
            windows=windows, done={"mount": 1.0, "guard": 2.0}, started_at=one.recording.started_at
        )
        one = Live.objects.get(pk=one.pk)
        took = {}
        begin = time.process_time()
        with CaptureQueriesContext(connection) as asked:
            run = live_runs.accept(self.built.operator, one, ROOM)
        took["accept"] = time.process_time() - begin
        read = [q for q in asked if 'FROM "bench_piece"' in q["sql"] and '"data"' in q["sql"]]
        self.assertLessEqual(len(read), 4)
        self.assertIsNotNone(run.result.value, run.result.missing)
        begin = time.process_time()
        shown = history(one)
        took["history"] = time.process_time() - begin
        self.assertGreater(len(shown["traces"]["speed"]), 500)
        self.assertEqual(shown["tick"], len(rows) - 1)
        # Each took about 2 s when it read all of an hour, and takes 0.1 s of the processor.
        self.assertLess(max(took.values()), 1.5, took)
        # The figure does not depend on what is recorded afterwards.
        put_pieces(one.recording, rows_of(5000, columns, 7), len(rows))
        again = compute(type(run).objects.get(pk=run.pk))
        self.assertEqual((again["value"], again["u"]), (run.result.value, run.result.u))
        live.end(self.built.operator, Live.objects.get(pk=one.pk))
        compact(one.recording)
        again = compute(type(run).objects.get(pk=run.pk))
        self.assertEqual((again["value"], again["u"]), (run.result.value, run.result.u))
        self.assertEqual(Minute.objects.filter(recording=one.recording).count(), HOURS * 60 + 2)
