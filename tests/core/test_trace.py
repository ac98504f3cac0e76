"""Faults in traces, settling, and what a recording comes to."""

import math
import unittest

import numpy as np

from hauch.core.measure.meter import Meter
from hauch.core.measure.run import NoResult
from hauch.core.quantity import expanded
from hauch.core.trace.disturbed import course
from hauch.core.trace.marks import find_marks, spikes, standing, stretches
from hauch.core.trace.reduce import steady_readings
from hauch.core.trace.settle import correlation_factor, fit_rise, fit_settling
from hauch.core.trace.source import Held
from hauch.core.trace.thin import thinned
from tests.simulated import PLANE, soak


class SpikeTests(unittest.TestCase):
    def setUp(self):
        self.random = np.random.default_rng(7)

    def test_spikes_of_eight_sigma_are_found_and_noise_is_not(self):
        values = 4.0 + 0.05 * self.random.standard_normal(20_000)
        where = np.arange(500, 20_000, 1000)
        values[where] += np.where(where % 2000 < 1000, 0.6, -0.6)
        self.assertEqual(np.flatnonzero(spikes(values)).tolist(), where.tolist())

    def test_a_slope_hides_no_spike_and_makes_none(self):
        times = np.arange(450) * 2.0
        values = 62 - 40 * np.exp(-times / 140) + 0.05 * self.random.standard_normal(450)
        self.assertFalse(spikes(np.round(values, 2)).any())
        values[300] += 5
        self.assertEqual(np.flatnonzero(spikes(values)).tolist(), [300])

    def test_a_step_is_no_spike(self):
        values = np.concatenate(
            [np.full(100, 3.0), np.full(100, 5.0)]
        ) + 0.02 * self.random.standard_normal(200)
        self.assertFalse(spikes(values).any())

    def test_a_stuck_digit_does_not_make_neighbours_spikes(self):
        values = np.full(200, 12.0)
        values[50] = 12.01
        self.assertFalse(spikes(values, resolution=0.01).any())

    def test_too_short_to_judge(self):
        self.assertFalse(spikes(np.array([1.0, 100.0, 1.0])).any())


class MarkTests(unittest.TestCase):
    def test_stretches(self):
        self.assertEqual(stretches(np.array([True, True, False, True])), [(0, 1), (3, 3)])
        self.assertEqual(stretches(np.zeros(3, bool)), [])

    def test_stall_half_way_never_started_and_running(self):
        running = np.full(100, 1800.0)
        stalled = np.concatenate([running, np.zeros(50)])
        times = np.arange(150) * 0.5
        self.assertEqual(standing(times, stalled, 1800.0, 0.0), [(100, 149)])
        self.assertEqual(standing(times[:30], np.zeros(30), 0.0, 0.0), [(0, 29)])
        self.assertEqual(standing(times[:100], running, 1800.0, 0.0), [])
        self.assertEqual(standing(times[:5], np.full(5, math.nan), 1800.0, 0.0), [])

    def test_a_stop_between_is_a_stall_and_a_lost_pulse_and_the_time_before_the_start_are_none(
        self,
    ):
        times = np.arange(300) * 0.1
        speed = np.full(300, 1800.0)
        speed[:40] = 0.0
        speed[100:150] = 0.0
        speed[200:203] = 0.0
        self.assertEqual(standing(times, speed, 1800.0, 4.0), [(100, 149)])

    def test_dropouts_are_stretches(self):
        values = np.ones(40)
        values[10:13] = math.nan
        (mark,) = find_marks(np.arange(40.0), {"air_speed": values})
        self.assertEqual((mark.kind, mark.first, mark.last, mark.samples), ("dropout", 10, 12, 3))


class SettleTests(unittest.TestCase):
    def test_end_value_and_time_constant(self):
        """Synthetic first-order response, 22.9 -> 61.7 with 186 s."""
        times = np.arange(0, 1200, 1.0)
        values = (
            61.7
            - 38.8 * np.exp(-times / 186)
            + 0.05 * np.random.default_rng(3).standard_normal(1200)
        )
        fit = fit_settling(times, values, 0.5)
        self.assertAlmostEqual(fit.end, 61.7, delta=0.03)
        self.assertAlmostEqual(fit.tau, 186, delta=1)
        self.assertTrue(fit.settled)
        self.assertLess(abs(fit.end - 61.7), 4 * fit.u)

    def test_cut_short_forecasts_within_its_doubt_and_says_how_long(self):
        inside = 0
        for seed in range(100):
            times = np.arange(0, 300, 1.0)
            values = (
                61.7
                - 38.8 * np.exp(-times / 186)
                + 0.1 * np.random.default_rng(seed).standard_normal(300)
            )
            fit = fit_settling(times, values, 0.3)
            self.assertFalse(fit.settled)
            inside += abs(fit.end - 61.7) < 2 * fit.u
            self.assertGreater(fit.seconds_to_go, 60)
        self.assertGreaterEqual(inside, 90)  # 95 expected, binomial 1 % point is 90

    def test_a_light_body_in_front_of_a_heavy_one(self):
        """60 - 25 e^(-t/40) - 15 e^(-t/300): a fast share of 62 % was taken for a level trace."""
        times = np.arange(0, 1200, 0.5)
        warming = 60 - 25 * np.exp(-times / 40) - 15 * np.exp(-times / 300)
        for seed in range(3):
            noise = 0.05 * np.random.default_rng(seed).standard_normal(times.size)
            fit = fit_settling(times, warming + noise, 0.3)
            self.assertAlmostEqual(fit.end, 60.0, delta=0.02)
            self.assertLess(abs(fit.end - 60.0), 3 * fit.u)
            self.assertAlmostEqual(fit.tau, 300, delta=4)
            self.assertTrue(fit.settled)

    def test_a_small_change_is_no_level_trace(self):
        """A rise of one to three deviations was averaged from its start."""
        times = np.arange(0, 1200, 1.0)
        for size in (0.05, 0.1, 0.15):
            inside = 0
            for seed in range(20):
                noise = 0.05 * np.random.default_rng(seed).standard_normal(times.size)
                fit = fit_settling(times, 60 - size * np.exp(-times / 360) + noise, 0.3)
                inside += abs(fit.end - 60) < expanded(fit.u, fit.dof)
            self.assertGreaterEqual(inside, 18)

    def test_a_room_that_drifts_does_not_keep_a_load_from_settling(self):
        """3 K an hour: the body follows, later by its time constant, and its rise is the same."""
        times = np.arange(0, 1500, 1.0)
        for rate, dip in ((0.0, 0.0), (1.0, 0.0), (-3.0, 0.0), (1.0, 1.5)):
            random = np.random.default_rng(4)
            room = 22 + rate * times / 3600 - dip * ((times > 700) & (times < 800))
            followed, load = room[0], []
            for at in room:
                followed += (at - followed) * -math.expm1(-1 / 186)
                load.append(followed)
            warm = np.array(load) + 38.8 * (1 - np.exp(-times / 186))
            fit = fit_rise(
                times,
                warm + 0.05 * random.standard_normal(times.size),
                room + 0.02 * random.standard_normal(times.size),
                0.3,
            )
            with self.subTest(rate=rate, dip=dip):
                self.assertTrue(fit.settled)
                self.assertLess(abs(fit.rise - 38.8), expanded(fit.u, fit.dof))
                self.assertAlmostEqual(fit.room, room[-1], delta=0.05)

    def test_without_the_room_the_load_alone_is_fitted(self):
        times = np.arange(0, 600, 1.0)
        load = 60 - 30 * np.exp(-times / 90) + 0.02 * np.random.default_rng(1).standard_normal(600)
        one = fit_rise(times, load, np.full(600, math.nan), 0.3)
        self.assertEqual(one, fit_settling(times, load, 0.3))
        self.assertEqual(fit_settling(times, np.full(600, 21.0), 0.3).end, 21.0)

    def test_a_level_trace_ends_at_its_mean(self):
        values = 5 + 0.1 * np.random.default_rng(1).standard_normal(400)
        fit = fit_settling(np.arange(400.0), values, 0.5)
        self.assertAlmostEqual(fit.end, values.mean(), delta=0.02)
        self.assertTrue(fit.settled)

    def test_no_end_in_sight(self):
        fit = fit_settling(np.arange(200.0), 20 + 0.05 * np.arange(200.0), 0.3)
        self.assertFalse(fit.settled)

    def test_impossible_input(self):
        with self.assertRaisesRegex(ValueError, "at least 20 samples, got 5"):
            fit_settling(np.arange(5.0), np.arange(5.0), 0.1)
        with self.assertRaisesRegex(ValueError, "resolution must be above 0"):
            fit_settling(np.arange(50.0), np.arange(50.0), 0)

    def test_correlation_of_white_and_of_slow_noise(self):
        """AR(1) with coefficient a: factor (1 + a)/(1 - a) = 19 for a = 0.9 (Box & Jenkins, 2.1.5)."""
        random = np.random.default_rng(5)
        white = random.standard_normal(20_000)
        self.assertAlmostEqual(correlation_factor(white), 1.0, delta=0.15)
        slow = np.zeros(20_000)
        for i in range(1, slow.size):
            slow[i] = 0.9 * slow[i - 1] + white[i]
        self.assertAlmostEqual(correlation_factor(slow), 19, delta=3)


class RecordingTests(unittest.TestCase):
    METERS = {
        key: Meter(key, key, 0.01) for key in ("load_temperature", "room_temperature", "speed")
    }

    def soak(self, seconds=900, dropout=None, spike=None):
        random = np.random.default_rng(11)
        times = np.arange(0.0, seconds, 2.0)
        load = 62 - 40 * np.exp(-times / 140) + 0.05 * random.standard_normal(times.size)
        room = 22 + 0.02 * random.standard_normal(times.size)
        speed = 1900 + 2 * random.standard_normal(times.size)
        if dropout:
            load[slice(*dropout)] = math.nan
        if spike:
            load[spike] = 151.0
        return times, {"load_temperature": load, "room_temperature": room, "speed": speed}

    def test_settled_soak_gives_its_end_value(self):
        reduced = steady_readings(Held(*self.soak()), self.METERS, "7")
        self.assertAlmostEqual(reduced.steady["load_temperature"].value, 62.0, delta=0.05)
        self.assertTrue(reduced.settling.settled)

    def test_faults_are_marked_and_left_out(self):
        clean = steady_readings(Held(*self.soak()), self.METERS, "7")
        faulty = steady_readings(Held(*self.soak(dropout=(200, 220), spike=400)), self.METERS, "7")
        self.assertEqual(
            [(m.kind, m.first) for m in faulty.marks], [("dropout", 200), ("spike", 400)]
        )
        self.assertAlmostEqual(
            faulty.steady["load_temperature"].value,
            clean.steady["load_temperature"].value,
            delta=0.02,
        )
        self.assertEqual(faulty.left_out["load_temperature"], 1)

    def test_stall_is_no_result_and_says_when(self):
        times, channels = self.soak()
        channels["speed"][times >= 500] = 0.0
        with self.assertRaisesRegex(NoResult, "stopped 500 s after the start"):
            steady_readings(Held(times, channels), self.METERS, "7")
        channels["speed"][:] = 0.0
        with self.assertRaisesRegex(NoResult, "never started"):
            steady_readings(Held(times, channels), self.METERS, "7")

    def test_a_dead_channel_is_no_result(self):
        times, channels = self.soak()
        channels["room_temperature"][times > 600] = math.nan
        with self.assertRaisesRegex(
            NoResult, "Room temperature: no sample in the stretch from 674 to 898 s"
        ):
            steady_readings(Held(times, channels), self.METERS, "7")

    def test_thinning_keeps_spikes_and_gaps(self):
        values = [1.0] * 5000
        values[2345] = 99.0
        values[100:110] = [math.nan] * 10
        times, thin = thinned([float(i) for i in range(5000)], values, 500)
        self.assertLess(len(times), 1000)
        self.assertIn(99.0, thin)
        self.assertIn(None, thinned([0.0, 1.0], [1.0, math.nan])[1])


class DisturbedTests(unittest.TestCase):
    """Where the course of a soak was disturbed, and where it was not."""

    def soak(self, seed=4, tau=110.0, count=500):
        random = np.random.default_rng(seed)
        times = np.arange(count) + 0.5
        return times, 61 - 40 * np.exp(-times / tau) + 0.05 * random.standard_normal(count)

    def test_left_alone(self):
        random = np.random.default_rng(7)
        for kind in ("plain", "light part", "gusts", "all"):
            for _ in range(40):
                times, values, _ = soak(random, kind)
                self.assertFalse(course(times, values).out.any(), kind)
        for cell in PLANE[::4]:
            times = np.arange(0, 1200, 2.0)
            heavy = (1 - cell.share) * np.exp(-times / (1200 * cell.long))
            light = cell.share * np.exp(-times * cell.ratio / (1200 * cell.long))
            noise = cell.noise * random.standard_normal(times.size)
            self.assertFalse(course(times, 60 - 30 * (heavy + light) + noise).out.any(), cell)

    def test_a_knock_is_left_out(self):
        times, values = self.soak()
        values[200:205] -= 5
        found = course(times, values)
        self.assertEqual(found.since, -math.inf)
        self.assertTrue(found.out[200:205].all())
        self.assertLess(found.out.sum(), 45)
        self.assertEqual(found.out[:170].sum() + found.out[240:].sum(), 0)

    def test_after_anything_else_a_course_begins(self):
        times, values = self.soak()
        values[200:] -= 1.5  # the probe slipped
        found = course(times, values)
        self.assertAlmostEqual(found.since, 205, delta=12)
        fit = fit_rise(times, values, np.full(500, 21.0), 0.3)
        self.assertEqual(fit.since, found.since)
        self.assertAlmostEqual(fit.end, 59.5, delta=0.4)

    def test_what_has_just_happened_is_not_judged_yet(self):
        times, values = self.soak(count=210)
        values[200:] -= 5
        found = course(times, values)
        self.assertEqual((found.since, found.out[:185].sum()), (-math.inf, 0))
        self.assertTrue(found.out[200:].all())

    def test_gaps_and_short_traces(self):
        times, values = self.soak()
        values[100:130] = np.nan
        np.testing.assert_array_equal(np.flatnonzero(course(times, values).out), range(100, 130))
        self.assertFalse(course(times[:30], np.zeros(30)).out.any())
