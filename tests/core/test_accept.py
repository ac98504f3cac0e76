"""Accept or reject, and brackets: the words, the probabilities, and simulated changes."""

import math
import unittest

import numpy as np

from hauch.core.judge.accept import Criterion, Tried, bracket, found, verdict
from hauch.core.judge.reference import Runs, between, compare

AIR = Criterion("Airflow", "the reference", 3.0, 1, True, "%")
QUIET = Criterion("Noise", "version 1", 0.0, -1, False, "dB")
MUCH = Criterion("Noise", "the reference", -1.0, -1, False, "dB")


class FindingTests(unittest.TestCase):
    def test_the_words(self):
        for one, delta, u, held, words in (
            (
                AIR,
                math.log(0.938),
                0.004,
                "broken",
                "Airflow fell by 6.2 ± 0.74 % against the reference where a loss of 3 % is allowed",
            ),
            (
                AIR,
                math.log(0.99),
                0.004,
                "kept",
                "fell by 1 ± 0.78 % against the reference, a loss of 3 % is allowed",
            ),
            (AIR, math.log(0.97), 0.004, "open", "whether it keeps that cannot be told"),
            (
                QUIET,
                -1.1,
                0.7,
                "open",
                "is quieter by 1.1 ± 1.4 dB against version 1, which cannot be told from nothing",
            ),
            (QUIET, -1.1, 0.2, "kept", "a gain"),
            (
                QUIET,
                1.1,
                0.2,
                "broken",
                "is louder by 1.1 ± 0.39 dB against version 1, a loss where a gain",
            ),
            (MUCH, -2.0, 0.2, "kept", "a gain of 1 dB is asked for"),
            (MUCH, -0.2, 0.2, "broken", "where a gain of 1 dB is asked for"),
        ):
            with self.subTest(words):
                finding = found(one, delta, u, 1e9)
                self.assertEqual(finding.held, held)
                self.assertIn(words, finding.sentence)

    def test_a_verdict(self):
        bad, unsure = found(AIR, math.log(0.938), 0.004, 1e9), found(QUIET, -1.1, 0.7, 1e9, 0.7, 1)
        good = found(AIR, math.log(0.99), 0.004, 1e9)
        word, text = verdict([bad, unsure])
        self.assertEqual(word, "rejected")
        self.assertIn("Airflow fell by 6.2", text)
        self.assertIn("; and Noise is quieter by 1.1 ± 1.4 dB", text)
        word, text = verdict([good, unsure])
        self.assertEqual(word, "open")
        self.assertRegex(text, r"\d further repeats? would tell")
        self.assertEqual(verdict([good])[0], "accepted")
        with self.assertRaises(ValueError):
            verdict([])
        with self.assertRaises(ValueError):
            found(AIR, 0.0, math.nan, 3)

    def test_how_often_it_is_wrong(self):
        """Changes that lie exactly on a limit are called either way in at most 5 %."""
        random = np.random.default_rng(4)
        called = 0
        for _ in range(2000):
            runs = math.log(0.97) + random.normal(0, 0.01, 4)
            u, dof = runs.std(ddof=1) / 2, 3
            called += found(AIR, runs.mean(), u, dof).held != "open"
        self.assertAlmostEqual(called / 2000, 0.05, delta=0.015)

    def test_repeats_that_would_tell_do(self):
        finding = found(AIR, math.log(0.978), 0.006, 40, repeat_sd=0.006, count=1)
        self.assertEqual(finding.held, "open")
        n = 1 + finding.repeats
        self.assertEqual(found(AIR, math.log(0.978), 0.006 / math.sqrt(n), 40 + n).held, "kept")
        self.assertIsNone(found(AIR, math.log(0.97), 0.006, 40, 0.006, 1).repeats)

    def test_without_doubt_and_a_loss_of_everything(self):
        self.assertEqual(found(AIR, math.log(0.971), 0.0, 1.0).held, "kept")
        all_of_it = Criterion("Airflow", "x", 100.0, 1, True, "%")
        self.assertEqual(found(all_of_it, -5.0, 0.1, 5).held, "kept")


class BetweenTests(unittest.TestCase):
    def test_what_both_share_cancels(self):
        """Two subjects and one bracket: the reference's scatter is in neither's difference."""
        runs = Runs(
            np.array([0, 0, 1, 1]),
            np.array([0.10, 0.12, 0.05, 0.07]),
            np.array([1.0, 2.0, 3.0, 4.0]),
            np.zeros(4),
            np.full((4, 1), 0.03),
        )
        reference = Runs(
            np.zeros(2, int),
            np.array([0.0, 0.02]),
            np.array([0.0, 0.5]),
            np.zeros(2),
            np.full((2, 1), 0.01),
        )
        c = compare(runs, reference, 2, 0)
        delta, u, dof = between(c, 0, 1)
        self.assertAlmostEqual(delta, 0.05)
        self.assertAlmostEqual(u, c.repeat_sd)  # sd sqrt(1/2 + 1/2)
        self.assertAlmostEqual(dof, c.dof)
        self.assertGreater(math.hypot(c.u[0], c.u[1]), u)


class BracketTests(unittest.TestCase):
    def curve(self, sizes, best=0.05, u=0.001, seed=0):
        random = np.random.default_rng(seed)
        return [Tried(s, -40 * (s - best) ** 2 + u * random.standard_normal(), u) for s in sizes]

    def test_too_small_and_too_much(self):
        found = bracket(
            [Tried(0.02, -0.03, 0.004), Tried(0.05, 0.0, 0.004), Tried(0.08, -0.04, 0.004)]
        )
        self.assertEqual((found.low, found.high), (0.02, 0.08))
        # Vertex of the parabola: 0.05 + 0.03 (-0.03 + 0.04) / (2 (-0.03 - 0.04)).
        self.assertAlmostEqual(found.best, 0.05 - 0.03 * 0.01 / 0.14, places=6)
        self.assertLess(found.half, 0.01)
        self.assertTrue(0.02 < found.next < 0.08)
        self.assertEqual(len(found.line), 41)

    def test_an_end_is_the_best(self):
        small = bracket([Tried(2.0, 0.1, 0.01), Tried(4.0, 0.0, 0.01)])
        self.assertEqual((small.low, small.high, small.next), (None, 4.0, 1.0))
        large = bracket([Tried(2.0, 0.0, 0.01), Tried(4.0, 0.1, 0.01)])
        self.assertEqual((large.low, large.high, large.next), (2.0, None, 5.0))
        self.assertIsNone(large.best)

    def test_what_the_tries_do_not_tell_is_not_told(self):
        flat = bracket([Tried(s, g, 0.05) for s, g in ((1.0, 0.0), (2.0, 0.001), (3.0, 0.0))])
        self.assertIsNone(flat.best)
        with self.assertRaisesRegex(ValueError, "two different sizes"):
            bracket([Tried(1.0, 0.0, 0.1), Tried(1.0, 0.1, 0.1)])

    def test_the_interval_holds(self):
        held = []
        for seed in range(300):
            told = bracket(self.curve((0.02, 0.035, 0.05, 0.065, 0.08), seed=seed), seed)
            if told.best is not None:
                held.append(abs(told.best - 0.05) <= told.half)
        self.assertGreater(len(held), 250)
        self.assertAlmostEqual(np.mean(held), 0.95, delta=0.035)
