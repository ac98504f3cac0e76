"""Guesses against the result, by hand."""

import unittest

from hauch.core.judge.guesses import crowd, scored


class GuessTests(unittest.TestCase):
    def test_orders(self):
        truth = {1: 1, 2: 2, 3: 3, 4: 4}
        self.assertEqual(scored("a", truth, truth).tau, 1.0)
        self.assertEqual(scored("b", {1: 4, 2: 3, 3: 2, 4: 1}, truth).tau, -1.0)
        # One pair of six is turned: (5 - 1) / 6.
        self.assertAlmostEqual(scored("c", {1: 2, 2: 1, 3: 3, 4: 4}, truth).tau, 4 / 6)
        part = scored("d", {1: 1, 4: 2, 9: 3}, truth)
        self.assertEqual((part.tau, part.entries, part.error), (1.0, 2, None))
        self.assertIsNone(scored("e", {1: 1, 2: 1}, truth).tau)
        self.assertIsNone(scored("f", {1: 1}, truth))

    def test_values(self):
        truth = {1: 100.0, 2: 110.0, 3: 120.0}
        told = scored("a", {1: 110.0, 2: 110.0, 3: 108.0}, truth, values=True, direction=1)
        self.assertAlmostEqual(told.error, (10 + 0 + 10) / 3)
        level = scored("b", {1: 101.0, 2: 108.0}, truth, values=True, direction=-1, log=False)
        self.assertAlmostEqual(level.error, 1.5)
        self.assertEqual(level.tau, 1.0)
        self.assertEqual(
            scored("c", {1: 5.0, 2: 6.0}, truth, values=True, direction=1, order={1: 1, 2: 2}).tau,
            -1.0,
        )
        bad = {1: float("nan"), 2: 1.0, 3: 2.0}
        self.assertEqual(scored("d", bad, truth, values=True, direction=1).entries, 2)

    def test_the_crowd(self):
        self.assertEqual(crowd([{1: 1, 2: 2}, {1: 3}]), {1: 2.0, 2: 2.0})
        self.assertEqual(crowd([{1: 1.0}, {1: 2.0}, {1: 90.0}], values=True), {1: 2.0})
        self.assertEqual(crowd([]), {})
