"""Loudness over time against another implementation, the stationary method and closed cases."""

import json
import unittest

import numpy as np

from hauch.core.sound.loudness import TooLoud, loudness
from hauch.core.sound.loudness_filters import loudness_levels
from hauch.core.sound.loudness_time import (
    MOST_PIECES,
    PIECE,
    RUN_IN,
    STEP,
    decayed,
    loudness_over_time,
)
from hauch.core.sound.spectrum import spectrum
from tests.core.sound.made import RATE, noise, pascals, sine, time
from tests.core.sound.test_loudness import OTHER


def pulse(milliseconds):
    at = time(1.0)
    return sine(1000, pascals(70), 1.0) * ((at >= 0.2) & (at < 0.2 + milliseconds / 1000))


SIGNALS = {
    **{f"pulse of {ms} ms": pulse(ms) for ms in (10, 50, 500)},
    "swelling": sine(250, pascals(0), 1.5) * 10 ** (np.linspace(30, 80, int(1.5 * RATE)) / 20),
    "beating": sine(1000, pascals(60), 2.0) * (1 + np.sin(2 * np.pi * 4 * time(2.0))),
}


class LoudnessOverTimeTests(unittest.TestCase):
    def test_another_implementation(self):
        """Most, N5 and mean, from the first moment on (tests/data/sound/make.py)."""
        held = json.loads(OTHER.read_text())["over_time"]
        self.assertEqual(set(held), set(SIGNALS))
        for name, wanted in held.items():
            told = loudness_over_time(SIGNALS[name], RATE, run_in=0.0)
            found = [told.total.max(), told.exceeded(), told.total.mean()]
            for one, other in zip(found, wanted, strict=True):
                self.assertAlmostEqual(one / other, 1, delta=0.003, msg=name)

    def test_parts_of_a_step_make_no_difference(self):
        """The standard has 24 of them."""
        core = np.random.default_rng(5).uniform(0, 4, (21, 900)) * (np.arange(900) % 300 < 40)
        fine, ours = decayed(core, 24), decayed(core)
        self.assertLess(np.abs(fine - ours).max() / fine.max(), 0.01)

    def test_decay(self):
        """After a long sound it falls more slowly than after a short one, and never below what is
        there."""
        n = round(0.3 / STEP)
        core = np.zeros((2, n))
        core[0, 100:110], core[1, 100:400] = 2.0, 2.0
        out = decayed(core)
        after = round(0.01 / STEP)
        self.assertLess(out[0, 110 + after], out[1, 400 + after])
        self.assertTrue(np.all(out >= core - 1e-9))
        self.assertTrue(np.all(out <= 2.0))

    def test_chunks_have_no_seams(self):
        core = np.abs(np.random.default_rng(6).standard_normal((3, 3000))).cumsum(axis=1) % 3
        self.assertLess(
            np.abs(decayed(core)[:, 1000:] - decayed(core[:, 500:])[:, 500:]).max(), 1e-3
        )

    def test_steady_sound_is_as_loud_as_by_the_other_method(self):
        told = loudness_over_time(sine(1000, pascals(60), 2.0), RATE)
        still = loudness(loudness_levels(spectrum(sine(1000, pascals(60), 2.0), RATE))).total[0]
        self.assertAlmostEqual(told.exceeded() / still, 1, delta=0.01)
        self.assertAlmostEqual(told.exceeded(50) / still, 1, delta=0.01)

    def test_other_rates(self):
        fine = loudness_over_time(noise(3.0), RATE).exceeded(50)
        for rate in (32_000, 44_100, 96_000):
            x = noise(3.0, rate=rate, level=0.02 * np.sqrt(rate / RATE))
            self.assertAlmostEqual(
                loudness_over_time(x, rate).exceeded(50) / fine, 1, delta=0.05, msg=rate
            )

    def test_a_long_sound_is_told_from_pieces_all_over_it(self):
        seconds = 75
        x = noise(seconds, level=0.01)
        x[-5 * RATE :] *= 4
        told = loudness_over_time(x, RATE)
        self.assertEqual(told.total.size, MOST_PIECES * round(PIECE / told.step))
        self.assertGreater(told.exceeded(), 1.5 * told.exceeded(50))

    def test_what_it_does_not_hold_for(self):
        with self.assertRaisesRegex(ValueError, "no longer than the run-in"):
            loudness_over_time(noise(RUN_IN), RATE)
        with self.assertRaisesRegex(TooLoud, "in a band up to 250 Hz"):
            loudness_over_time(sine(100, pascals(126), 1.0), RATE)
