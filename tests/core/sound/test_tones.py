"""Tones: found and rated, named, and never invented."""

import math
import unittest

import numpy as np

from hauch.core.sound.hearing import (
    critical_band,
    critical_band_edges,
    critical_band_rate,
    threshold,
)
from hauch.core.sound.naming import (
    Kind,
    Sources,
    Turning,
    name_rate,
    name_tones,
    other_blades,
    quarter_wave,
)
from hauch.core.sound.spectrum import Spectrum, spectrum
from hauch.core.sound.tones import Heard, tonal_adjustment, tones
from tests.core.sound.made import RATE, noise, pascals, sine


class HearingTests(unittest.TestCase):
    def test_critical_bands(self):
        """Zwicker and Terhardt 1980: 162 Hz at 1 kHz, 8.5 Bark there; ECMA-418-1, 11.2."""
        self.assertAlmostEqual(float(critical_band(1000)), 162.2, delta=0.05)
        self.assertAlmostEqual(float(critical_band_rate(1000)), 8.51, delta=0.005)
        low, high = critical_band_edges(1000)
        self.assertAlmostEqual(high - low, 162.2, delta=0.05)
        self.assertAlmostEqual(low * high, 1e6, delta=1)  # geometric above 500 Hz
        low, high = critical_band_edges(100)
        self.assertAlmostEqual((low + high) / 2, 100)

    def test_threshold(self):
        """ISO 226:2003, table 1."""
        self.assertEqual(float(threshold(1000)), 2.4)
        self.assertEqual(float(threshold(3150)), -6.0)
        self.assertAlmostEqual(float(threshold(5)), 68.7)  # below the table its end


def flat(density=1e-8, lines=20_001):
    """A spectrum of flat noise without chance in it."""
    return Spectrum(1.0, np.full(lines, density), 400, 760.0)


class RatingTests(unittest.TestCase):
    def test_tone_to_noise_by_hand(self):
        """ECMA-418-1, 11.5: a tone of 1 kHz, 10 lg(W_t / (density x 162.2 Hz))."""
        at = flat()
        at.density[999:1002] += np.array([0.25, 0.5, 0.25]) * 1e-4
        (tone,) = tones(at)
        self.assertAlmostEqual(tone.frequency, 1000.0, places=2)
        self.assertAlmostEqual(tone.level, 10 * math.log10(1e-4 / 4e-10), delta=0.05)
        self.assertAlmostEqual(tone.to_noise, 10 * math.log10(1e-4 / (1e-8 * 162.2)), delta=0.1)
        self.assertTrue(tone.prominent)

    def test_prominence_by_hand(self):
        """ECMA-418-1, 12.4: bands of 1 kHz from 846 to 922, to 1085 and to 1262 Hz by tables 4 and
        5 and equation 11.
        """
        at = flat()
        at.density[999:1002] += np.array([0.25, 0.5, 0.25]) * 1e-4
        (tone,) = tones(at)
        low, high = critical_band_edges(1000.0)
        below, above = -149.5 + 1001 - 69.0, 149.5 + 1035 + 77.0
        beside = 1e-8 * ((low - below) + (above - high)) / 2
        expected = 10 * math.log10((1e-4 + 1e-8 * 162.2) / beside)
        self.assertAlmostEqual(tone.prominence, expected, delta=0.1)

    def test_criteria(self):
        """ECMA-418-1, 11.6: 8 dB from 1 kHz on; 8 + 8.33 lg(1000 / f) below: 13.8 dB at 200 Hz."""
        for frequency, over, prominent in (
            (2000, 8.6, True),
            (2000, 7.2, False),
            (200, 14.6, True),
            (200, 12.8, False),
        ):
            at = flat()
            width = float(critical_band(frequency))
            power = 1e-8 * width * 10 ** (over / 10)
            at.density[frequency - 1 : frequency + 2] += np.array([0.25, 0.5, 0.25]) * power
            (tone,) = tones(at)
            with self.subTest(frequency=frequency, over=over):
                self.assertAlmostEqual(tone.to_noise, over, delta=0.2)
                self.assertEqual(tone.prominent, prominent)

    def test_audibility_and_adjustment_by_hand(self):
        """ISO 1996-2:2007, C.2.3: band of 200 Hz at 1 kHz, + 2 + lg(1 + (1000/502)^2.5) = 2.83 dB;
        C.2.4: the adjustment is what is above 4 dB, at most 6.
        """
        for over, adjustment in ((0.0, 0.0), (4.0, 2.83), (20.0, 6.0)):
            at = flat()
            power = 1e-8 * 200 * 10 ** (over / 10)
            at.density[999:1002] += np.array([0.25, 0.5, 0.25]) * power
            found = tones(at)
            self.assertAlmostEqual(found[0].audibility, over + 2.83, delta=0.1)
            self.assertAlmostEqual(tonal_adjustment(found), adjustment, delta=0.1)

    def test_two_tones_of_one_band_are_heard_together(self):
        at = flat()
        for f in (1000, 1060):
            at.density[f - 1 : f + 2] += np.array([0.25, 0.5, 0.25]) * 1e-8 * 200 * 10**0.3
        found = tones(at)
        self.assertEqual(len(found), 2)
        one = found[0].audibility - 4
        self.assertAlmostEqual(tonal_adjustment(found), one + 3.01, delta=0.2)

    def test_below_the_threshold_of_hearing(self):
        """A tone of 50 Hz at 38 dB is below the 44 dB that are heard; uncalibrated nobody knows."""
        x = sine(50, pascals(38)) + noise(level=pascals(14))
        self.assertIs(tones(spectrum(x, RATE))[0].heard, Heard.TOO_LOW)
        self.assertIs(tones(spectrum(x, RATE), calibrated=False)[0].heard, Heard.AUDIBLE)

    def test_masked(self):
        """Far below the noise of its band a tone is there and not heard."""
        x = noise(20, level=0.1) + sine(2000, 0.0028, 20)
        found = [t for t in tones(spectrum(x, RATE)) if abs(t.frequency - 2000) < 5]
        self.assertEqual([t.heard for t in found], [Heard.MASKED])


class FoundTests(unittest.TestCase):
    def test_none_in_noise(self):
        """30 recordings of noise that falls or rises: none but by rare chance."""
        count = 0
        for seed in range(30):
            x = noise(5.0, seed)
            x = x if seed % 3 else np.diff(x, prepend=0)
            count += len(tones(spectrum(x, RATE)))
        self.assertLessEqual(count, 1)

    def test_frequency_and_level(self):
        """Half a per cent and a decibel at any frequency between lines, 10 dB above what masks it."""
        for f in (61.3, 120.5, 431.37, 1240.49, 5321.7, 9876.5):
            x = noise(10, int(f), 0.002) + sine(f, pascals(60))
            near = min(tones(spectrum(x, RATE)), key=lambda t: abs(t.frequency - f))
            with self.subTest(f):
                self.assertLess(abs(near.frequency / f - 1), 0.005)
                self.assertAlmostEqual(near.level, 60, delta=1)

    def test_a_tone_that_wanders_with_the_speed_keeps_its_level(self):
        f = 2000 * (1 + 0.003 * np.sin(2 * np.pi * 0.2 * np.arange(10 * RATE) / RATE))
        x = noise(level=0.002) + np.sqrt(2) * pascals(60) * np.sin(2 * np.pi * np.cumsum(f) / RATE)
        (tone,) = [t for t in tones(spectrum(x, RATE)) if 1900 < t.frequency < 2100]
        self.assertAlmostEqual(tone.level, 60, delta=1)

    def test_a_band_of_noise_is_no_tone(self):
        wide = np.random.default_rng(5).standard_normal(10 * RATE)
        lines = np.fft.rfft(wide)
        f = np.fft.rfftfreq(wide.size, 1 / RATE)
        lines[(f < 900) | (f > 1100)] = 0
        x = noise() + 0.2 * np.fft.irfft(lines)
        self.assertEqual(tones(spectrum(x, RATE)), [])

    def test_what_a_filter_left_far_below_is_no_tone(self):
        x = sine(1000, 0.3) + sine(9000, 0.3e-4) + 1e-9 * noise()
        found = tones(spectrum(x, RATE))
        self.assertEqual([round(t.frequency) for t in found], [1000])

    def test_a_short_stretch_and_none(self):
        self.assertEqual(spectrum(noise(2.0), RATE).spacing, 2.0)
        with self.assertRaisesRegex(ValueError, "too short"):
            spectrum(noise(0.1), RATE)


class NamingTests(unittest.TestCase):
    ROTOR = Turning(7, 1850.0)

    def named(self, *parts, sources=None, background=()):
        x = noise(level=0.004) + sum(sine(f, pascals(level)) for f, level in parts)
        found = name_tones(tones(spectrum(x, RATE)), sources or Sources((self.ROTOR,)), background)
        return {round(n.tone.frequency): (n.kind, n.name) for n in found}

    def test_blades_whistle_and_hum(self):
        got = self.named((215.83, 60), (431.67, 55), (2900, 60), (333, 60), (100, 60), (30.83, 70))
        self.assertEqual(got[216], (Kind.BLADES, "blade passing"))
        self.assertEqual(got[432], (Kind.BLADES, "blade passing, 2 times"))
        self.assertEqual(got[2900], (Kind.WHISTLE, "whistle"))
        self.assertEqual(got[333], (Kind.HUM, "hum"))
        self.assertEqual(got[100], (Kind.MAINS, "mains hum, 2 times"))
        self.assertEqual(got[31], (Kind.SHAFT, "once per turn"))

    def test_two_rotors(self):
        both = Sources((Turning(7, 1850.0, "front"), Turning(10, 1800.0, "rear")))
        got = self.named((215.83, 60), (300, 60), (515.83, 60), (84.17, 65), sources=both)
        self.assertEqual(got[216][1], "blade passing of front")
        self.assertEqual(got[300][1], "blade passing of rear")
        self.assertEqual(got[516], (Kind.TWO_ROTORS, "blade passing, 1 × front + 1 × rear"))
        self.assertEqual(got[84][1], "blade passing, 1 × front − 1 × rear")

    def test_motor_and_controller(self):
        known = Sources((self.ROTOR,), poles=14, controller=8000.0)
        got = self.named((8000, 60), (14 * 1850 / 60 * 3, 60), sources=known)
        self.assertEqual(got[8000], (Kind.CONTROLLER, "controller switching"))
        self.assertEqual(got[1295][0], Kind.BLADES)  # 6 blade passings as well: blades go first
        got = self.named((14 * 1850 / 60, 60), sources=Sources((Turning(5, 1850.0),), poles=14))
        self.assertEqual(got[432], (Kind.MOTOR, "motor, 14 poles"))

    def test_a_tone_of_the_room_is_the_rooms(self):
        room = tones(spectrum(noise(level=0.0004) + sine(100, pascals(60)), RATE))
        x = noise(level=0.004) + sine(100, pascals(60)) + sine(700, pascals(60))
        found = name_tones(tones(spectrum(x, RATE)), Sources(), room)
        self.assertEqual([n.in_background for n in found], [True, False])

    def test_a_wrong_number_of_blades_is_seen(self):
        x = noise(level=0.004) + sine(215.83, pascals(60)) + sine(431.67, pascals(55))
        found = tones(spectrum(x, RATE))
        self.assertEqual(other_blades(found, Turning(6, 1850.0)), 7)
        self.assertIsNone(other_blades(found, Turning(7, 1850.0)))
        self.assertIsNone(other_blades(tones(spectrum(noise(), RATE)), Turning(6, 1850.0)))

    def test_rates(self):
        known = Sources((self.ROTOR,))
        self.assertEqual(name_rate(30.8, known), "once per turn")
        self.assertEqual(name_rate(216.0, known), "blade passing")
        self.assertEqual(name_rate(140.0, known), "")

    def test_quarter_wave(self):
        """c / 4 f: 85.75 mm at 1 kHz."""
        self.assertAlmostEqual(quarter_wave(1000.0), 0.08575, places=5)
        with self.assertRaisesRegex(ValueError, "above 0 Hz, got 0"):
            quarter_wave(0)
