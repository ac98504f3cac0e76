"""Curves over each other: read inside the range only, crossings, what grows, exponents."""

import unittest

import numpy as np

from hauch.core.judge.overlay import laid, law_of, over
from hauch.core.measure.curves import OutsideRange

X = np.linspace(0.02, 0.06, 7)


def curve(y, x=X, half=0.1):
    return [(float(a), 0.0, float(b), half) for a, b in zip(x, y, strict=True)]


class LaidTests(unittest.TestCase):
    def test_the_mean_of_runs_within_what_all_cover(self):
        one = laid([curve(100 * X), curve(102 * X[1:], X[1:])])
        self.assertEqual((one.x[0], one.x[-1], one.runs), (X[1], 0.06, 2))
        self.assertAlmostEqual(one.at(0.04)[0], 101 * 0.04)
        self.assertAlmostEqual(one.at(0.04)[1], 0.1)
        self.assertTrue(np.all(one.low < one.high))
        for outside in (0.02, 0.07):
            with self.assertRaisesRegex(OutsideRange, "measured from"):
                one.at(outside)

    def test_nothing_to_lay(self):
        self.assertIsNone(laid([]))
        self.assertIsNone(laid([curve([1.0], [0.02])]))
        self.assertIsNone(laid([curve([1, 2], [0.01, 0.02]), curve([1, 2], [0.03, 0.04])]))


class OverTests(unittest.TestCase):
    def held(self, ours, theirs, log=True):
        return over(laid([curve(ours)]), laid([curve(theirs)]), log)

    def test_what_the_change_does(self):
        base = 4000 * X**2
        for factor, course in (
            (np.full(7, 1.05), "same"),
            (1 + X, "grows"),
            (1.08 - X, "falls"),
            (1.1 - 100 * (X - 0.04) ** 2, "turns"),
            (0.96 + X, "crosses"),
        ):
            self.assertEqual(self.held(factor * base, base).course, course)

    def test_what_runs_differ_by_among_themselves_is_no_course(self):
        base = 4000 * X**2
        ours = laid([curve((1.05 + X / 10) * base), curve((1.07 + X / 10) * base)])
        theirs = laid([curve(base)])
        found = over(ours, theirs, True)
        self.assertAlmostEqual(found.scatter, 1.88, delta=0.05)
        self.assertEqual(found.course, "same")

    def test_a_crossing_lies_where_it_is(self):
        found = self.held(100 * X, np.full(7, 4.1))
        self.assertEqual(len(found.crossings), 1)
        self.assertAlmostEqual(found.crossings[0], 0.041, places=6)

    def test_levels_are_differences(self):
        found = self.held(np.linspace(50, 60, 7), np.linspace(51, 61, 7), log=False)
        self.assertTrue(np.allclose(found.change, -1.0))
        self.assertEqual(found.course, "same")

    def test_exponents(self):
        law = law_of([curve(4000 * X**1.8), curve(4010 * X**1.8)])
        self.assertAlmostEqual(law.exponent, 1.8, places=6)
        self.assertLess(law.u, 0.01)
        self.assertIsNone(law_of([curve([1.0, 2.0], [0.1, 0.2])]))
        self.assertIsNone(law_of([curve(-X)]))

    def test_a_forecast_grows_unsure_away_from_the_points(self):
        """Its interval holds the truth beyond the points in 95 % of simulated sweeps."""
        random = np.random.default_rng(6)
        held, halves = [], []
        speeds = np.array([900.0, 1100.0, 1300.0, 1500.0, 1700.0])
        for _ in range(1500):
            y = 2e-9 * speeds**3 * np.exp(0.02 * random.standard_normal(5))
            law = law_of([curve(y, speeds)])
            value, half = law.forecast(2200.0)
            held.append(abs(value - 2e-9 * 2200.0**3) <= half)
            halves.append(half / value / (law.forecast(1250.0)[1] / law.forecast(1250.0)[0]))
        self.assertAlmostEqual(np.mean(held), 0.95, delta=0.02)
        self.assertGreater(np.median(halves), 2.0)

    def test_no_shared_range(self):
        one, other = laid([curve([1, 2], [0.01, 0.02])]), laid([curve([1, 2], [0.03, 0.04])])
        self.assertIsNone(over(one, other, True))
        self.assertIsNone(self.held(-X, X))
