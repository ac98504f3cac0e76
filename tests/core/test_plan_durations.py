"""Durations from rule and record: hand-worked values, limits, and what four of five later steps do."""

import math
import unittest

import numpy as np

from hauch.core.plan.durations import (
    INSIDE,
    RULE_OFF,
    USUAL_SPREAD,
    duration,
    failure_rate,
    plausible,
)


class DurationTests(unittest.TestCase):
    def test_without_a_record_the_rule_stands_with_its_doubt(self):
        made = duration(20.0)
        # 80 % of a normal distribution lie within 1.2816 standard deviations; hypot(0.5, 0.25) = 0.559.
        factor = math.exp(1.2816 * math.hypot(RULE_OFF, USUAL_SPREAD))
        self.assertTrue(made.by_rule)
        self.assertAlmostEqual(made.minutes, 20.0)
        self.assertAlmostEqual(made.high / 20, factor, places=2)
        self.assertAlmostEqual(20 / made.low, factor, places=2)

    def test_by_hand_from_three_logged_steps(self):
        """Worked by hand: logs of 10, 12.5 and 15 min against a rule of 20 min.

        ln: 2.302585, 2.525729, 2.708050; mean 2.512121, squares about it 0.082475. The rule counts as a
        quarter of a step: centre = (0.25 * 2.995732 + 3 * 2.512121) / 3.25 = 2.549322, so 12.80 min.
        """
        made = duration(20.0, [10.0, 12.5, 15.0])
        self.assertEqual(made.count, 3)
        self.assertAlmostEqual(made.centre, 2.549322, places=5)
        self.assertAlmostEqual(made.minutes, 12.80, places=2)
        squares = 4 * 0.0625 + 0.082475 + 0.25 * 3 / 3.25 * 0.483611**2
        self.assertAlmostEqual(made.scale, math.sqrt(squares / 7 * (1 + 1 / 3.25)), places=4)
        self.assertEqual(made.dof, 7)

    def test_a_long_record_leaves_nothing_of_the_rule(self):
        chance = np.random.default_rng(3)
        logged = np.exp(math.log(8) + 0.2 * chance.normal(size=400))
        near, far = duration(8.0, logged), duration(80.0, logged)
        self.assertAlmostEqual(near.minutes / far.minutes, 1.0, places=2)
        self.assertAlmostEqual(near.minutes, 8.0, delta=0.2)

    def test_what_is_far_from_the_rest_is_left_out(self):
        self.assertEqual(list(plausible([9, 10, 11, 10, 9.5, 95.0])), [9, 10, 11, 10, 9.5])
        self.assertEqual(list(plausible([10, 0, -3, math.nan])), [10])
        self.assertEqual(len(plausible([1.0, 100.0])), 2)  # of two nobody knows which is odd

    def test_times_the_size(self):
        small, large = duration(10.0, [9, 11, 12]), duration(10.0, [9, 11, 12]).times(3)
        self.assertAlmostEqual(large.minutes, 3 * small.minutes)
        self.assertAlmostEqual(large.expected, 3 * small.expected)
        with self.assertRaisesRegex(ValueError, "factor"):
            small.times(0)

    def test_what_is_planned_with_is_the_mean(self):
        made = duration(
            10.0, np.exp(math.log(10) + 0.4 * np.random.default_rng(5).normal(size=300))
        )
        draws = made.draw(np.random.default_rng(6), 40_000)
        self.assertAlmostEqual(made.expected / draws.mean(), 1.0, delta=0.03)

    def test_a_rule_must_be_above_nothing(self):
        for rule in (0.0, -1.0, math.nan):
            with self.assertRaisesRegex(ValueError, "rule"):
                duration(rule)

    def test_four_of_five_later_steps_lie_within(self):
        """Workshops as the prior knows them: a rule is off by a factor, steps scatter by their own; any
        length of record.
        """
        chance = np.random.default_rng(11)
        for logged in (0, 1, 2, 3, 5, 10, 40):
            inside, tries = 0, 1200
            for _ in range(tries):
                spread = USUAL_SPREAD * math.exp(0.3 * chance.normal())
                true = math.log(20.0) + RULE_OFF * chance.normal()
                made = duration(20.0, np.exp(true + spread * chance.normal(size=logged)))
                later = math.exp(true + spread * chance.normal())
                inside += made.low <= later <= made.high
            with self.subTest(logged=logged):
                self.assertAlmostEqual(inside / tries, INSIDE, delta=0.05)

    def test_failure_rate(self):
        self.assertAlmostEqual(failure_rate(0, 0), 0.1)
        self.assertAlmostEqual(failure_rate(20, 100), 20.5 / 105)
        with self.assertRaisesRegex(ValueError, "failed"):
            failure_rate(2, 1)
