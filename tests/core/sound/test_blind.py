"""Blind listening: binomial probabilities."""

import unittest

import numpy as np

from hauch.core.sound.blind import guessed


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
