"""Roughness and fluctuation strength: their reference sounds, and how they go with rate and depth."""

import unittest

import numpy as np

from hauch.core.sound.roughness import fluctuation_strength, roughness
from tests.core.sound.made import RATE, noise, pascals, time


def modulated(rate, depth=1.0, carrier=1000, level=60, seconds=4.0):
    t = time(seconds)
    x = (1 + depth * np.sin(2 * np.pi * rate * t)) * np.sin(2 * np.pi * carrier * t)
    return x * pascals(level) / x.std()


def broad(seconds=8.0, level=60):
    x = noise(seconds)
    return x * pascals(level) / x.std()


class RoughnessTests(unittest.TestCase):
    def test_an_asper(self):
        """Daniel and Weber 1997: 1 kHz, 60 dB, fully modulated at 70 Hz."""
        self.assertAlmostEqual(roughness(modulated(70), RATE), 1.0, delta=0.05)

    def test_roughest_near_70_hz(self):
        """Fastl and Zwicker 2007, figure 11.1: a band-pass over the rate at 1 kHz."""
        told = {rate: roughness(modulated(rate), RATE) for rate in (20, 40, 70, 100, 200)}
        self.assertEqual(max(told, key=told.get), 70)
        self.assertLess(told[20], 0.3)
        self.assertLess(told[200], 0.35)

    def test_with_the_depth(self):
        """Fastl and Zwicker 2007, 11.1: with about the power 1.6 to 2 of the depth."""
        full, half = (roughness(modulated(70, depth), RATE) for depth in (1.0, 0.5))
        self.assertTrue(1.4 < np.log2(full / half) < 2.1)

    def test_steady_sounds_are_not_rough(self):
        self.assertLess(roughness(modulated(70, 0.0), RATE), 0.01)
        self.assertLess(roughness(broad(), RATE), 0.1)

    def test_too_short(self):
        with self.assertRaisesRegex(ValueError, "less than a frame of 0.2 s"):
            roughness(noise(0.1), RATE)


class FluctuationTests(unittest.TestCase):
    def test_a_vacil(self):
        """Fastl and Zwicker 2007, 10.1: 1 kHz, 60 dB, fully modulated at 4 Hz."""
        self.assertAlmostEqual(fluctuation_strength(modulated(4, seconds=8), RATE), 1.0, delta=0.05)

    def test_most_at_4_hz(self):
        """Fastl and Zwicker 2007, figure 10.1."""
        told = {
            rate: fluctuation_strength(modulated(rate, seconds=8), RATE) for rate in (1, 4, 16, 32)
        }
        self.assertEqual(max(told, key=told.get), 4)
        self.assertLess(told[32], 0.25)

    def test_modulated_noise(self):
        """Fastl and Zwicker 2007, eq. 10.2: 5.8 x 1.0 x 2 / 3.14 = 3.7 vacil for broad noise of 60
        dB; the model is not closer than 40 %.
        """
        x = broad() * (1 + np.sin(2 * np.pi * 4 * time(8)))
        told = fluctuation_strength(x * pascals(60) / x.std(), RATE)
        self.assertTrue(2.2 < told < 5.2, told)
        self.assertLess(fluctuation_strength(broad(), RATE), 0.5)
