"""With and without: what a setting changes, with drift and blocks; how sure that is."""

import math
import unittest

import numpy as np

from hauch.core.judge.band import Scatter
from hauch.core.judge.with_without import cost

MINUTE = 60.0


def fit(minutes, y, other, known=None, own=0.0):
    times = np.array(minutes, float) * MINUTE
    return cost(times, np.array(y, float), np.array(other, bool), np.full(len(y), own), known)


class CostTests(unittest.TestCase):
    def test_a_b_a_is_b_against_the_mean_of_both(self):
        """10, 12 and 11 in even steps: 12 - 10.5."""
        found = fit((0, 10, 20), (10, 12, 11), (0, 1, 0), Scatter(0.1, 20))
        self.assertAlmostEqual(found.change, 1.5)
        self.assertTrue(found.drift_free)
        self.assertEqual(found.runs, (2, 1))
        # B less the mean of two: sqrt(1 + 1/2) times the scatter
        self.assertAlmostEqual(found.u, 0.1 * math.sqrt(1.5))
        self.assertEqual(found.dof, 20)

    def test_straight_drift_falls_out(self):
        minutes, other = range(0, 50, 10), (0, 1, 0, 1, 0)
        y = [5 + 0.3 * m + 2 * o for m, o in zip(minutes, other, strict=True)]
        found = fit(minutes, y, other)
        self.assertAlmostEqual(found.change, 2.0)
        self.assertAlmostEqual(found.half, 0.0, places=6)

    def test_one_after_the_other_has_the_drift_in_it(self):
        found = fit((0, 10), (10, 12), (0, 1), Scatter(0.1, 20))
        self.assertAlmostEqual(found.change, 2.0)
        self.assertFalse(found.drift_free)

    def test_without_any_scatter_nothing_is_told(self):
        found = fit((0, 10, 20), (10, 12, 11), (0, 1, 0))
        self.assertEqual((found.half, found.dof), (None, 0.0))
        self.assertIsNone(fit((0, 10), (10, 11), (0, 0)))
        self.assertIsNone(fit((0, 3000), (10, 11), (0, 1), Scatter(0.1, 9)))  # two days, no block

    def test_days_are_blocks_of_their_own(self):
        """On the second day the bench reads 3 more; what is put on makes 1 on both."""
        day = 24 * 60
        found = fit((0, 10, 20, day, day + 10, day + 20), (5, 6, 5, 8, 9, 8), (0, 1, 0, 0, 1, 0))
        self.assertAlmostEqual(found.change, 1.0)
        self.assertEqual(found.runs, (4, 2))

    def test_what_is_each_runs_own_is_added(self):
        bare = fit((0, 10, 20), (10, 12, 11), (0, 1, 0), Scatter(0.1, 20))
        more = fit((0, 10, 20), (10, 12, 11), (0, 1, 0), Scatter(0.1, 20), own=0.1)
        self.assertAlmostEqual(more.u, bare.u * math.sqrt(2))
        self.assertGreater(more.dof, bare.dof)
