"""What is wrong with a recording is found where it is, and nothing is found in a good one."""

import unittest

import numpy as np
import scipy

from hauch.core.sound.analysis import Given, NothingToHear, analyse
from hauch.core.sound.faults import Fault
from hauch.core.sound.modulation import modulations
from tests.core.sound.made import RATE, noise, sine, time


def told(x, rate=RATE, **given):
    return analyse(np.asarray(x, np.float32), rate, Given(1.0, **given))[0]


def found(x, rate=RATE):
    return {one.fault: one.place for one in told(x, rate).faults}


class FaultTests(unittest.TestCase):
    def test_nothing_in_good_ones(self):
        for seed in range(6):
            x = noise(12, seed) + sine(216, 0.003, 12)
            with self.subTest(seed):
                self.assertEqual(found(x), {})

    def test_a_bang(self):
        x = noise(12)
        x[5 * RATE : 5 * RATE + 4000] += 0.3 * np.exp(-np.arange(4000) / 800) * np.sign(x[:4000])
        made = told(x)
        (one,) = made.faults
        self.assertIs(one.fault, Fault.BANG)
        self.assertLess(abs(one.place[0] - 5), 0.1)
        self.assertGreater(made.used[0], 5)  # the longer stretch is the one after it
        self.assertIsNone(made.spoilt)

    def test_gusts(self):
        b, a = scipy.signal.butter(2, [8, 50], "bandpass", fs=RATE)
        gust = scipy.signal.lfilter(b, a, np.random.default_rng(5).standard_normal(12 * RATE))
        gust[: 4 * RATE] = gust[6 * RATE :] = 0
        where = found(noise(12) + 1.5 * gust)
        self.assertEqual(list(where), [Fault.WIND])
        self.assertTrue(3.5 < where[Fault.WIND][0] < 4.6 and 5.5 < where[Fault.WIND][1] < 6.5)

    def test_a_gate_spoils_all(self):
        x = noise(12)
        for second in (3, 7):
            x[second * RATE : second * RATE + RATE // 2] *= 0.001
        made = told(x)
        self.assertEqual([one.fault for one in made.faults], [Fault.GATED, Fault.GATED])
        self.assertIs(made.spoilt.fault, Fault.GATED)

    def test_an_automatic_gain(self):
        swing = np.interp(time(12), np.arange(0, 14, 1.3), [0, 4, -3, 2, -4, 3, 0, -4, 4, 1, -2])
        made = told(noise(12) * 10 ** (swing / 20))
        self.assertIs(made.spoilt.fault, Fault.GAIN)

    def test_running_up_is_left_away(self):
        x = noise(12) * np.minimum(1, 0.1 + time(12) / 4)
        made = told(x)
        self.assertEqual([one.fault for one in made.faults], [Fault.SETTLING])
        self.assertGreater(made.used[0], 2.5)

    def test_clipped(self):
        x = np.clip(sine(216, 0.6, 6) + noise(6, level=0.3), -0.8, 0.8)
        made = told(x)
        self.assertIn(Fault.CLIPPED, [one.fault for one in made.faults])
        self.assertIs(made.spoilt.fault, Fault.CLIPPED)

    def test_a_click_that_clips_outside_of_the_stretch_does_no_harm(self):
        x = noise(12)
        x[RATE : RATE + 40] = 0.9
        x[RATE + 100 : RATE + 140] = 0.9
        made = told(x)
        self.assertGreater(made.used[0], 1)
        self.assertIsNone(made.spoilt)

    def test_offset_and_band(self):
        self.assertEqual(list(found(noise() + 0.05)), [Fault.OFFSET])
        cut = scipy.signal.lfilter(scipy.signal.firwin(801, 4000, fs=RATE), 1, noise(12))
        self.assertEqual(list(found(cut)), [Fault.NARROW])
        memo = scipy.signal.resample_poly(noise(12), 1, 6)
        self.assertEqual(list(found(memo, 8000)), [Fault.LOW_RATE])

    def test_two_microphones_in_one_channel(self):
        x = noise(12)
        mixed = x + 0.8 * np.roll(x, int(0.0021 * RATE))
        (one,) = told(mixed).faults
        self.assertIs(one.fault, Fault.MIXED)
        self.assertIn("2.1 ms", one.text)

    def test_what_tells_nothing_is_refused(self):
        broken = noise()
        broken[[7, 9]] = np.nan, np.inf
        for x, rate, words in (
            (np.zeros(5 * RATE), RATE, "no sound in this recording"),
            (noise(0.4), RATE, "lasts 0.4 s"),
            (np.zeros(0), RATE, "lasts 0 s"),
            (noise(), 3000, "below 4000"),
            (broken, RATE, "2 of its samples are no numbers"),
            (np.zeros(1), 1 / 4000, "below 4000"),
        ):
            with self.subTest(words), self.assertRaisesRegex(NothingToHear, words):
                told(x, rate)
        with self.assertRaisesRegex(NothingToHear, "stretch from 9 to 9.5 s"):
            told(noise(), chosen=(9.0, 9.5))


class ModulationTests(unittest.TestCase):
    def test_rates_and_depths(self):
        for rate, depth in ((4.0, 0.3), (30.8, 0.3), (140.0, 0.4)):
            x = noise(12) * (1 + depth * np.sin(2 * np.pi * rate * time(12)))
            first = modulations(x, RATE)[0]
            with self.subTest(rate):
                self.assertAlmostEqual(first.rate, rate, delta=0.01 * rate + 0.05)
                self.assertAlmostEqual(first.depth, depth, delta=0.06)

    def test_none_in_noise_however_short(self):
        self.assertEqual(sum(len(modulations(noise(8, s), RATE)) for s in range(20)), 0)
        self.assertEqual(modulations(noise(2), RATE), [])
        self.assertEqual(modulations(np.zeros(8 * RATE), RATE), [])
