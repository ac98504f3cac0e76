"""Weightings, one-third octaves and their time courses against the standards' tables and tones."""

import math
import unittest

import numpy as np
from pyoctaveband.compliance import class_limits

from hauch.core.sound.bands import (
    NOMINAL,
    band_numbers,
    band_power_gain,
    courses,
    exceeded,
    fast,
    level,
    mid_band,
)
from hauch.core.sound.weighting import gain, power_gain
from tests.core.sound.made import RATE, noise, pascals, sine

# IEC 61672-1:2013, table 3: nominal frequency, A, C, limits of class 1 above and below.
TABLE_3 = (
    (25, -44.7, -4.4, 2.0, -2.0),
    (50, -30.2, -1.3, 1.0, -1.0),
    (100, -19.1, -0.3, 1.0, -1.0),
    (200, -10.9, 0.0, 1.0, -1.0),
    (500, -3.2, 0.0, 1.0, -1.0),
    (1000, 0.0, 0.0, 0.7, -0.7),
    (2000, 1.2, -0.2, 1.0, -1.0),
    (4000, 1.0, -0.8, 1.0, -1.0),
    (6300, -0.1, -2.0, 1.5, -2.0),
    (8000, -1.1, -3.0, 1.5, -2.5),
    (10000, -2.5, -4.4, 2.0, -3.0),
)


def exact(nominal):
    return 1000 * 10 ** (round(10 * math.log10(nominal / 1000)) / 10)


class WeightingTests(unittest.TestCase):
    def test_the_table_of_the_standard(self):
        """IEC 61672-1:2013, table 3, to its last digit."""
        for nominal, a, c, *_ in TABLE_3:
            with self.subTest(nominal):
                self.assertAlmostEqual(float(gain("A", exact(nominal))), a, delta=0.05)
                self.assertAlmostEqual(float(gain("C", exact(nominal))), c, delta=0.05)
                self.assertEqual(float(gain("Z", nominal)), 0.0)

    def test_arrays_equal_scalars_and_nothing_passes_at_0_hz(self):
        f = np.array([0.0, 100.0, 8000.0])
        self.assertEqual(power_gain("A", f)[1], power_gain("A", 100.0))
        self.assertEqual(float(gain("C", 0.0)), -math.inf)

    def test_another_weighting_is_refused(self):
        with self.assertRaisesRegex(ValueError, "no weighting 'B'"):
            power_gain("B", 100.0)

    def test_tones_within_class_1(self):
        """Analytic tones of 94 dB through the whole way, at two sampling rates."""
        for rate, rows in ((44_100, TABLE_3[-4:]), (48_000, TABLE_3)):
            for nominal, a, c, above, below in rows:
                made = courses(sine(exact(nominal), pascals(94), 4.0, rate), rate).between(1, 3)
                for name, goal in (("A", a), ("C", c), ("Z", 0.0)):
                    with self.subTest(rate=rate, nominal=nominal, weighting=name):
                        off = float(level(made.weighted[name].mean())) - 94 - goal
                        self.assertLess(off, above)
                        self.assertGreater(off, below)
                        self.assertLess(abs(off), 0.06)


class BandTests(unittest.TestCase):
    def test_mid_band_frequencies(self):
        """IEC 61260-1:2014, table E.1."""
        self.assertAlmostEqual(float(mid_band(-16)), 25.119, places=3)
        self.assertAlmostEqual(float(mid_band(10)), 10_000, places=6)
        self.assertEqual(len(NOMINAL), 30)
        self.assertEqual(band_numbers(48_000), range(-16, 14))
        self.assertEqual(band_numbers(8_000)[-1], 5)  # 3150 Hz is the last below 4 kHz

    def test_filters_within_class_1(self):
        """The limits of IEC 61260-1:2014, table 1, as another library has them."""
        for number in (-16, -5, 0, 10):
            f = np.geomspace(float(mid_band(number)) / 8, float(mid_band(number)) * 8, 4000)
            loss = -10 * np.log10(band_power_gain(number, f))
            least, most = class_limits(3, 1, f / float(mid_band(number)))
            self.assertTrue(np.all(loss >= least - 1e-9), number)
            self.assertTrue(np.all(loss <= most + 1e-9), number)

    def test_tones_within_class_1_of_their_band_and_out_of_all_others(self):
        """Relative attenuation at the mid-band frequency within 0.4 dB, two bands off over 40 dB."""
        for nominal in (25, 100, 1000, 4000, 10_000):
            with self.subTest(nominal):
                made = courses(sine(exact(nominal), pascals(80), 6.0), RATE).between(1.5, 4.5)
                levels = level(made.band.mean(axis=1))
                own = NOMINAL.index(nominal)
                self.assertAlmostEqual(levels[own], 80.0, delta=0.1)
                for i, other in enumerate(levels):
                    if abs(i - own) >= 2:
                        self.assertLess(other, 40)

    def test_white_noise_rises_by_a_decibel_a_band(self):
        """Equal density: each band is 10^0.1 wider; bandwidth of the filters 0.05 dB over ideal."""
        white = np.random.default_rng(3).standard_normal(20 * RATE)
        levels = level(courses(white, RATE).band.mean(axis=1))
        widths = np.array([float(mid_band(n)) * (10**0.05 - 10**-0.05) for n in range(-16, 14)])
        expected = level(widths / (RATE / 2)) + 0.05
        self.assertLess(np.abs(levels - expected)[10:].max(), 0.12)
        self.assertLess(np.abs(levels - expected).max(), 1.2)

    def test_energy_is_neither_lost_nor_made(self):
        x = noise(7.3)
        made = courses(x, RATE)
        whole = float(np.mean(np.square(x - x.mean())[: made.band.shape[1] * 960]))
        self.assertAlmostEqual(float(made.weighted["Z"].mean()), whole, delta=1e-6 * whole)

    def test_a_step_in_level_stays_where_it_is(self):
        x = noise(6.0)
        x[3 * RATE :] *= 10
        a = level(courses(x, RATE).weighted["A"])
        self.assertAlmostEqual(a[160:].mean() - a[:140].mean(), 20, delta=0.2)
        self.assertLess(abs(int(np.argmax(a > a[:100].mean() + 10)) - 150), 2)

    def test_a_mean_other_than_zero_is_no_sound(self):
        x = noise(4.0)
        plain, moved = (courses(y, RATE).weighted["Z"].mean() for y in (x, x + 0.3))
        self.assertAlmostEqual(float(level(plain)), float(level(moved)), places=3)

    def test_too_little_is_refused(self):
        with self.assertRaisesRegex(ValueError, "too few"):
            courses(np.zeros(100), RATE)


class TimeTests(unittest.TestCase):
    def test_time_weighting_f_falls_by_34_7_db_a_second(self):
        """IEC 61672-1:2013, 5.8.2: decay of F 34.7 dB/s, 10 lg(e) / 0.125 s."""
        course = np.concatenate((np.ones(100), np.zeros(100)))
        fallen = level(fast(course, 0.01))
        self.assertAlmostEqual((fallen[120] - fallen[170]) / 0.5, 34.74, delta=0.05)

    def test_percentiles(self):
        levels = np.arange(101.0)
        self.assertEqual(exceeded(levels, 90), 10.0)
        self.assertEqual(exceeded(levels, 5), 95.0)
