"""Doubt of levels and of their differences: simulated, and closed cases."""

import math
import unittest

import numpy as np

from hauch.core.sound.doubt import Change, Level, change, doubts, without


class DoubtTests(unittest.TestCase):
    def test_coverage_with_mounting(self):
        """Mountings that scatter by 0.5 dB, three recordings each: the interval holds the truth in
        about 95 of 100, while that of the stretches alone does not."""
        random = np.random.default_rng(9)
        held, alone = [], []
        for _ in range(1500):
            ours, theirs = (
                [Level(float(v), 0.05) for v in random.normal(50, 0.5, 3)] for _ in range(2)
            )
            told = change(ours, theirs, 19)
            self.assertTrue(told.repeated)
            held.append(not told.clear)
            alone.append(not change(ours[:1], theirs[:1], 19).clear)
        self.assertAlmostEqual(np.mean(held), 0.95, delta=0.02)
        self.assertLess(np.mean(alone), 0.4)

    def test_others_tell_how_well_a_recording_is_repeated(self):
        ours, theirs = [Level(50.0, 0.05)], [Level(51.0, 0.05)]
        self.assertFalse(change(ours, theirs, 19).repeated)
        told = change(ours, theirs, 19, like=[[48.0, 48.6], [45.0, 45.5, 44.9]])
        self.assertTrue(told.repeated)
        # 0.18 + (0.1333^2 + 0.3667^2 + 0.2333^2) over 3 degrees of freedom, for one against one.
        scatter = (0.18 + 0.20667) / 3
        self.assertAlmostEqual(told.doubt, 3.1824 * math.sqrt(2 * scatter), delta=0.001)
        self.assertFalse(told.clear)

    def test_repeats_that_agree_by_chance_do_not_make_it_surer(self):
        told = change([Level(50.0, 0.2)] * 2, [Level(50.1, 0.2)] * 2, 19)
        self.assertGreater(told.doubt, 1.96 * 0.2)

    def test_calibrations_count(self):
        near = change([Level(50.0, 0.05)], [Level(50.6, 0.05)], 19)
        far = change([Level(50.0, 0.05)], [Level(50.6, 0.05)], 19, apart=0.33)
        self.assertTrue(near.clear)
        self.assertFalse(far.clear)
        self.assertAlmostEqual(far.doubt, 1.96 * math.hypot(0.33, 0.05, 0.05), delta=0.02)

    def test_the_nearer_the_background_the_larger(self):
        room = Level(40.0, 0.1)
        found = [without(Level(level, 0.1), room) for level in (43.0, 46.0, 60.0)]
        self.assertEqual(found, sorted(found, reverse=True))
        self.assertAlmostEqual(found[2], 0.1, delta=0.005)
        # By hand for 3 dB: the share of the room is 0.5012.
        self.assertAlmostEqual(found[0], 0.1 * math.hypot(1, 0.5012) / 0.4988, delta=1e-4)

    def test_ends(self):
        self.assertEqual(doubts(np.zeros((2, 100)), 0.02).tolist(), [0.0, 0.0])
        self.assertTrue(math.isinf(doubts(np.ones((1, 1)), 0.02)[0]))
        self.assertEqual(change([Level(3.0)], [Level(1.0)], 4), Change(2.0, 0.0))
        with self.assertRaisesRegex(ValueError, "a level of both"):
            change([], [Level(1.0)], 4)
