"""Air density and sound levels against published and hand-worked values."""

import math
import unittest

import numpy as np
from hypothesis import given
from hypothesis import strategies as st

from hauch.core.air import moist_air_density, room_air
from hauch.core.rig import Room
from hauch.core.sound.level import (
    BackgroundTooLoud,
    at_distance,
    energy_mean,
    energy_sum,
    without_background,
)


class DensityTests(unittest.TestCase):
    def test_standard_room(self):
        """CIPM-2007, Picard et al. 2008: 20 degC, 101 325 Pa, 50 % -> 1.1993 kg/m3."""
        self.assertAlmostEqual(moist_air_density(20.0, 101_325.0, 50.0), 1.1993, delta=5e-5)

    def test_dry_air_is_close_to_an_ideal_gas(self):
        """p M / (R T) with Z within 5e-4 of 1 near room conditions."""
        ideal = 101_325 * 28.96546e-3 / (8.314472 * 293.15)
        self.assertAlmostEqual(moist_air_density(20.0, 101_325.0, 0.0) / ideal, 1.0, delta=5e-4)

    def test_moist_air_is_lighter_and_warm_air_too(self):
        self.assertLess(moist_air_density(20.0, 1e5, 80.0), moist_air_density(20.0, 1e5, 20.0))
        self.assertLess(moist_air_density(26.0, 1e5, 50.0), moist_air_density(16.0, 1e5, 50.0))

    def test_arrays_equal_scalars_and_nan_stays(self):
        t = np.array([16.0, 20.0, math.nan])
        density = moist_air_density(t, 1e5, 50.0)
        self.assertEqual(density[1], moist_air_density(20.0, 1e5, 50.0))
        self.assertTrue(math.isnan(density[2]))

    def test_unit_slips_are_refused_with_the_value(self):
        for arguments, message in (
            (
                (293.15, 101_325.0, 50.0),
                "air temperature must be between -40 and 60 degC, got 293.15 degC",
            ),
            (
                (20.0, 1013.25, 50.0),
                "air pressure must be between 50000 and 120000 Pa, got 1013.25 Pa",
            ),
            ((20.0, 101_325.0, 130.0), "relative humidity must be between 0 and 100 %, got 130 %"),
        ):
            with self.subTest(message), self.assertRaisesRegex(ValueError, message):
                moist_air_density(*arguments)

    def test_doubt_by_hand(self):
        """u(rho)/rho from 0.3 K, 100 Pa and 3 %: sqrt((0.3/293)^2 + (100/101325)^2 + small) = 0.15
        %.
        """
        density = room_air(20.0, 101_325.0, 50.0)
        self.assertAlmostEqual(density.u / density.value, 0.0015, delta=0.0002)
        self.assertEqual(len(density.working), 1)
        self.assertEqual(density.working[0].note, "")

    def test_outside_the_papers_range_the_doubt_says_so(self):
        cold = room_air(5.0, 101_325.0, 50.0)
        self.assertIn("ten times", cold.working[-1].note)

    @given(st.floats(15, 27), st.floats(90_000, 105_000), st.floats(0, 100))
    def test_virtual_bench_has_its_own_formula_that_agrees(self, t, p, h):
        """Ideal mixture with the Magnus formula against CIPM-2007: within 0.1 %."""
        self.assertAlmostEqual(Room(t, p, h).density / moist_air_density(t, p, h), 1.0, delta=1e-3)


class LevelTests(unittest.TestCase):
    def test_background_check_value(self):
        """Hand-worked: 10 lg(10^5.20 - 10^4.65) = 50.6 dB."""
        self.assertAlmostEqual(without_background(52.0, 46.5), 50.6, delta=0.05)

    def test_background_far_below_changes_nothing(self):
        self.assertAlmostEqual(without_background(60.0, 20.0), 60.0, delta=0.001)

    def test_background_too_loud_is_a_limit_and_no_result(self):
        with self.assertRaisesRegex(BackgroundTooLoud, "only 2.0 dB below.*at most 47.0"):
            without_background(50.0, 48.0)

    @given(st.floats(30, 90), st.floats(3.1, 40))
    def test_subtraction_undoes_addition(self, source, below):
        background = source - below
        total = energy_sum(np.array([source, background]))
        if total - background >= 3.0:
            self.assertAlmostEqual(without_background(total, background), source, places=6)

    def test_two_equal_sources(self):
        """10 lg 2 = 3.01 dB."""
        self.assertAlmostEqual(energy_sum(np.array([50.0, 50.0])), 53.01, delta=0.005)

    def test_energy_mean_is_above_the_plain_mean(self):
        """Hand-worked: mean of 40 and 50 dB by energy is 10 lg(5500) + 10 = 47.4 dB."""
        self.assertAlmostEqual(energy_mean(np.array([40.0, 50.0])), 47.4, delta=0.05)
        self.assertTrue(math.isnan(energy_mean(np.array([40.0, math.nan]))))
        with self.assertRaisesRegex(ValueError, "no level"):
            energy_mean(np.array([]))

    def test_doubling_the_distance_takes_6_decibels(self):
        """20 lg 2 = 6.02 dB."""
        self.assertAlmostEqual(at_distance(50.0, 1.0, 2.0), 43.98, delta=0.005)
        with self.assertRaisesRegex(ValueError, "wanted distance must be above 0 m, got 0"):
            at_distance(50.0, 1.0, 0)
