"""Blind listening: binomial probabilities, ranks, agreement."""

import unittest

import numpy as np

from hauch.core.sound.blind import agreement, guessed


class GuessedTests(unittest.TestCase):
    def test_by_hand(self):
        """Nine or ten right of ten: (10 + 1) / 1024; any at all: 1."""
        self.assertAlmostEqual(guessed(9, 10), 11 / 1024)
        self.assertEqual(guessed(0, 10), 1.0)
        with self.assertRaisesRegex(ValueError, "11 right answers of 10 cannot be"):
            guessed(11, 10)

    def test_guessing_is_seldom_taken_for_hearing(self):
        """With a limit of 5 %, 10 trials and 4,000 guessers: at most 5 %."""
        right = np.random.default_rng(1).binomial(10, 0.5, 4000)
        self.assertLess(np.mean([guessed(int(r), 10) < 0.05 for r in right]), 0.05)


class AgreementTests(unittest.TestCase):
    def test_kendalls_example(self):
        """Kendall and Gibbons 1990, 6.5: three observers rank six, W = 0.16 (s = 25.5)."""
        ranks = ([5, 4, 1, 6, 3, 2], [2, 3, 1, 5, 6, 4], [4, 1, 6, 3, 2, 5])
        names = list("abcdef")
        told = agreement([dict(zip(names, row, strict=True)) for row in ranks], names)
        self.assertAlmostEqual(told.w, 0.162, delta=0.001)
        self.assertEqual(told.complete, 3)

    def test_all_alike_and_ties(self):
        alike = agreement([{"a": 1, "b": 2, "c": 3}] * 4, list("abc"))
        self.assertAlmostEqual(alike.w, 1.0)
        self.assertAlmostEqual(alike.p, 0.0183, delta=0.0001)  # chi2 of 8 on 2 degrees
        self.assertAlmostEqual(alike.places["a"], 1 / 6)
        self.assertEqual(alike.u["a"], 0.0)
        tied = agreement([{"a": 1, "b": 1, "c": 3}] * 4, list("abc"))
        self.assertAlmostEqual(tied.w, 1.0)
        self.assertEqual(tied.places["a"], tied.places["b"])
        same = agreement([{"a": 1, "b": 1, "c": 1}] * 2, list("abc"))
        self.assertIsNone(same.w)

    def test_missing_ones(self):
        told = agreement([{"a": 1, "b": 2, "c": 3}, {"a": 2, "b": 1}, {}], list("abc"))
        self.assertEqual(told.listeners, {"a": 2, "b": 2, "c": 1})
        self.assertAlmostEqual(told.places["a"], (1 / 6 + 3 / 4) / 2)
        self.assertEqual((told.complete, told.w), (1, None))

    def test_without_preference_w_is_seldom_called_one(self):
        """Eight listeners who rank five at random: p below 5 % in at most 7 % of 600."""
        random, names = np.random.default_rng(2), list("abcde")
        called = 0
        for _ in range(600):
            rankings = [
                dict(zip(names, random.permutation(5) + 1.0, strict=True)) for _ in range(8)
            ]
            called += agreement(rankings, names).p < 0.05
        self.assertLess(called / 600, 0.07)
