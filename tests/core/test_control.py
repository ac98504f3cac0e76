"""The reference over time: control chart and baseline."""

import math
import unittest

import numpy as np
from hypothesis import given, settings
from hypothesis import strategies as st

from hauch.core.judge.control import (
    EWMA_LIMITS,
    baseline,
    control_chart,
    estimated,
)


class ControlChartTests(unittest.TestCase):
    def test_by_hand(self):
        """10, 12, 11, 13: centre 11.5, moving ranges 2, 1, 2, so sigma = 1.6667 / 1.128 = 1.4775;
        average from 11.5 with weight 0.2.
        """
        chart = control_chart(np.array([10.0, 12.0, 11.0, 13.0]))
        self.assertAlmostEqual(chart.centre, 11.5)
        self.assertAlmostEqual(chart.sigma, 1.4775, delta=5e-5)
        for got, expected in zip(chart.ewma, (11.2, 11.36, 11.288, 11.6304), strict=True):
            self.assertAlmostEqual(got, expected, delta=5e-5)
        self.assertAlmostEqual(
            chart.ewma_half[0], 3.246 * 1.4775 * math.sqrt(0.04 + 1 / 4), delta=5e-4
        )

    def test_limits_widen_to_their_end_value(self):
        """L sigma sqrt(w / (2 - w) + 1 / m): 3.097 sqrt(1 / 9 + 1 / 20) sigma for 20 base runs."""
        random = np.random.default_rng(1)
        chart = control_chart(random.normal(0, 1, 200))
        end = 3.097 * math.sqrt(1 / 9 + 1 / 20)
        self.assertAlmostEqual(chart.ewma_half[-1] / chart.sigma, end, places=9)
        self.assertTrue(np.all(np.diff(chart.ewma_half) >= 0))

    def test_run_length_without_a_shift(self):
        """Weight 0.2 with 2.962: 500 runs on average until a false alarm (Montgomery, table 9.11).
        Limits from 5,000 base runs.
        """
        random = np.random.default_rng(7)
        lengths = []
        for _ in range(120):
            chart = control_chart(
                np.concatenate([random.normal(0, 1, 5000), random.normal(0, 1, 3000)]), base=5000
            )
            alarms = np.flatnonzero(chart.drifting[5000:])
            lengths.append(int(alarms[0]) + 1 if alarms.size else 3000)
        self.assertAlmostEqual(np.mean(lengths), 500, delta=150)

    def test_limits_of_many_runs_are_those_of_known_parameters(self):
        self.assertAlmostEqual(estimated(EWMA_LIMITS, 10**9), EWMA_LIMITS[-1], places=6)

    def test_a_shift_of_one_sigma_is_found_after_about_ten_runs(self):
        """10.5 runs on average (Montgomery, table 9.11); some more or less since the average does
        not start at the centre.
        """
        random = np.random.default_rng(8)
        found = []
        for _ in range(200):
            chart = control_chart(
                np.concatenate([random.normal(0, 1, 2000), random.normal(1, 1, 200)]), base=2000
            )
            found.append(int(np.flatnonzero(chart.drifting[2000:])[0]) + 1)
        self.assertAlmostEqual(np.mean(found), 10.5, delta=2.0)

    def test_runs_far_off_among_the_first_set_no_limits(self):
        """Three of the first twelve 10.8 % low: the centre, the limits and the average are those of
        the other nine; each of the three stands outside.
        """
        random = np.random.default_rng(12)
        y = random.normal(0, 0.005, 30)
        low = [2, 3, 7]
        y[low] -= 0.108
        chart = control_chart(y[:12])
        np.testing.assert_array_equal(np.flatnonzero(chart.far_off), low)
        self.assertEqual(chart.base, 9)
        self.assertLess(abs(chart.centre), 0.005)
        self.assertTrue(chart.outside[low].all())
        self.assertFalse(chart.alarm)
        self.assertFalse(control_chart(y).alarm)
        # Two levels are no outliers, and a few runs tell none.
        two = np.concatenate([random.normal(0, 0.005, 6), random.normal(0.1, 0.005, 6)])
        self.assertFalse(control_chart(two).far_off.any())
        self.assertFalse(control_chart(y[:7]).far_off.any())
        self.assertFalse(control_chart(np.zeros(12)).far_off.any())

    def test_of_steady_references_few_have_a_run_far_off(self):
        random = np.random.default_rng(13)
        for base in (8, 12, 20):
            odd = [control_chart(random.normal(0, 1, base)).far_off.any() for _ in range(3000)]
            self.assertLess(np.mean(odd), 0.01)

    def test_alarm_and_since_when(self):
        random = np.random.default_rng(3)
        chart = control_chart(
            np.concatenate([random.normal(0, 0.5, 30), random.normal(3, 0.5, 12)])
        )
        self.assertTrue(chart.alarm)
        self.assertAlmostEqual(chart.since, 31, delta=3)
        self.assertAlmostEqual(chart.shift, 3.0, delta=0.6)
        quiet = control_chart(random.normal(0, 0.5, 30))
        self.assertIsNone(None if quiet.alarm else quiet.since)

    def test_too_few_or_equal_runs_give_no_alarm(self):
        self.assertFalse(control_chart(np.array([1.0, 1.0, 9.0])).ready)
        self.assertFalse(control_chart(np.full(20, 4.2)).ready)
        self.assertFalse(control_chart(np.array([1.0])).alarm)

    @given(st.floats(-5, 5), st.floats(0.1, 10), st.integers(8, 60))
    @settings(max_examples=40)
    def test_shift_and_scale_change_no_mark(self, shift, scale, count):
        y = np.random.default_rng(count).normal(0, 1, count)
        one, other = control_chart(y), control_chart(shift + scale * y)
        self.assertEqual(one.drifting.tolist(), other.drifting.tolist())
        self.assertAlmostEqual(other.sigma, scale * one.sigma, places=9)

    def test_impossible_input(self):
        for y, words in (
            ([], "at least one run"),
            ([1.0, math.nan], "run 2 .* not a finite number"),
        ):
            with self.subTest(words), self.assertRaisesRegex(ValueError, words):
                control_chart(np.array(y))


class BaselineTests(unittest.TestCase):
    def test_by_hand(self):
        """1, 2, 3: s = 1, t(2, 95 %) = 4.303, half-width 4.303 / sqrt(3) = 2.484."""
        b = baseline(np.array([2.0, 1.0, 3.0]), 2.5)
        self.assertAlmostEqual(b.half_width, 2.484, delta=5e-4)
        self.assertTrue(b.settled)
        self.assertFalse(baseline(np.array([2.0, 1.0, 3.0]), 2.4).settled)

    def test_how_many_more(self):
        """s = 1: t(k-1) / sqrt(k) <= 1.3 first at k = 5 (2.776 / 2.236 = 1.24; k = 4: 3.182 / 2 =
        1.59).
        """
        self.assertEqual(baseline(np.array([2.0, 1.0, 3.0]), 1.3).further, 2)
        self.assertEqual(baseline(np.array([2.0]), 1.0).further, 2)
        self.assertIsNone(baseline(np.array([2.0, 1.0, 3.0]), 0.01).further)

    def test_what_creeps_does_not_hold(self):
        creeping = np.linspace(0.0, 0.05, 8)
        self.assertTrue(baseline(creeping, 0.04).trend)
        self.assertFalse(baseline(creeping, 0.04).settled)
        self.assertFalse(baseline(np.tile([0.0, 0.001], 4), 0.04).trend)

    def test_order_matters_only_for_the_creep(self):
        y = np.array([0.0, 0.3, -0.2, 0.1, 0.05])
        self.assertAlmostEqual(baseline(y, 1.0).half_width, baseline(y[::-1], 1.0).half_width)

    def test_impossible_input(self):
        with self.assertRaisesRegex(ValueError, "above 0, got 0"):
            baseline(np.array([1.0, 2.0, 3.0]), 0.0)
