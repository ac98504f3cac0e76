"""Calibration of meters and rigs."""

import math
import unittest

import numpy as np
from hypothesis import given, settings
from hypothesis import strategies as st

from hauch.core.measure.calibration import (
    CalibrationRefused,
    fit_line,
    leak_flow,
    leak_rate,
    profile_factor,
)
from hauch.core.measure.meter import Meter, read
from hauch.core.measure.tunnel import LOG_LINEAR

# JCGM 100:2008, table H.6: thermometer readings and corrections [degC].
READ = [21.521, 22.012, 22.512, 23.003, 23.507, 23.999, 24.513, 25.002, 25.503, 26.010, 26.511]
CORRECTION = [
    -0.171,
    -0.169,
    -0.166,
    -0.159,
    -0.164,
    -0.165,
    -0.156,
    -0.157,
    -0.159,
    -0.161,
    -0.160,
]


class LineTests(unittest.TestCase):
    def test_thermometer_of_the_guide(self):
        """JCGM 100:2008, H.3: slope of the correction 0.00218 +- 0.00067, correction at 20 degC
        -0.1712 +- 0.0029, s = 0.0035.
        """
        line = fit_line(READ, [t + b for t, b in zip(READ, CORRECTION, strict=True)])
        self.assertAlmostEqual(line.slope - 1, 0.00218, delta=5e-6)
        self.assertAlmostEqual(line.slope_u, 0.00067, delta=5e-6)
        self.assertAlmostEqual(line.slope * 20 + line.offset - 20, -0.1712, delta=5e-5)
        self.assertAlmostEqual(line.residual_sd, 0.0035, delta=5e-5)
        self.assertEqual(line.dof, 9)
        scatter_of_mean = line.residual_sd / math.sqrt(11)
        self.assertAlmostEqual(
            math.hypot(scatter_of_mean, line.slope_u * (20 - line.centre)), 0.0029, delta=5e-5
        )

    def test_exact_points(self):
        line = fit_line([1.0, 2.0, 5.0], [1.1, 2.1, 5.1])
        self.assertAlmostEqual(line.slope, 1.0, places=12)
        self.assertAlmostEqual(line.offset, 0.1, places=12)
        self.assertAlmostEqual(line.residual_sd, 0.0, places=12)

    def test_two_points_take_their_scatter_from_the_last_digit(self):
        line = fit_line([0.0, 10.0], [0.0, 9.9], resolution=0.1)
        self.assertEqual((line.dof, line.residual_sd), (0, 0.0))
        self.assertAlmostEqual(line.slope_u, 0.1 / math.sqrt(12) / math.sqrt(50), places=12)

    def test_the_standard_is_common_to_all_points(self):
        without, with_ = (
            fit_line([1, 2, 3], [1, 2, 3.01]),
            fit_line([1, 2, 3], [1, 2, 3.01], standard_u=0.05),
        )
        self.assertAlmostEqual(with_.level_u, math.hypot(without.level_u, 0.05), places=12)
        self.assertEqual(with_.slope_u, without.slope_u)

    def test_what_cannot_be_a_calibration(self):
        for indicated, true, words in (
            ([], [], "no point"),
            ([1.0], [1.0], "one point"),
            ([2.0, 2.0, 2.0], [1.0, 2.0, 3.0], "All points stand at 2"),
            ([1.0, 2.0, 3.0], [3.0, 2.0, 1.0], "The line falls"),
            ([1.0, math.nan], [1.0, 2.0], "two numbers"),
            ([1.0, 2.0], [1.0], "two numbers"),
        ):
            with self.subTest(words), self.assertRaisesRegex(CalibrationRefused, words):
                fit_line(indicated, true)

    @given(st.floats(0.5, 2.0), st.floats(-3, 3), st.integers(3, 12))
    @settings(max_examples=50)
    def test_any_straight_line_comes_back(self, slope, offset, count):
        x = np.linspace(1, 20, count)
        line = fit_line(x, slope * x + offset)
        self.assertAlmostEqual(line.slope, slope, places=9)
        self.assertAlmostEqual(line.offset, offset, places=8)


class CalibratedMeterTests(unittest.TestCase):
    def test_the_line_turns_about_its_centre(self):
        """Doubt of a reading at distance d from the centre: sqrt(level_u2 + (slope_u d)2)."""
        meter = Meter(
            "V",
            "V",
            slope=0.99,
            offset=0.02,
            slope_u=0.004,
            centre=5.0,
            level_u=0.01,
            calibration="c1",
        )
        for indicated in (5.0, 9.0):
            q = read("air_speed", [indicated], meter, "1")
            self.assertAlmostEqual(q.value, 0.99 * indicated + 0.02, places=9)
            self.assertAlmostEqual(q.u, math.hypot(0.01, 0.004 * (indicated - 5.0)), places=7)

    def test_another_calibration_is_another_cause(self):
        first = read("air_speed", [4.0], Meter("V", "V", slope_u=0.004, calibration="c1"), "1")
        same = read("air_speed", [4.0], Meter("V", "V", slope_u=0.004, calibration="c1"), "2")
        other = read("air_speed", [4.0], Meter("V", "V", slope_u=0.004, calibration="c2"), "3")
        keys = [{cause.key for cause in q.parts} for q in (first, same, other)]
        self.assertEqual(keys[0], keys[1])
        self.assertFalse(keys[0] & keys[2])

    def test_readings_outside_the_range_are_told(self):
        meter = Meter("V", "V", low=0.3, high=30.0)
        step = read("air_speed", [0.1, 0.2, 4.0], meter, "1").working[0]
        self.assertIn("2 of 3 readings outside the range of V,", step.note)
        self.assertEqual(
            [given for given in step.inputs if "range" in given[0]],
            [("range from", 0.3, "m/s"), ("range to", 30.0, "m/s")],
        )
        self.assertNotIn("outside", read("air_speed", [4.0], meter, "1").working[0].note)


class ProfileTests(unittest.TestCase):
    def test_flat_profile(self):
        profile = profile_factor([[5.0] * 5, [4.0] * 5], [5.0, 4.0])
        self.assertAlmostEqual(profile.factor.value, 1.0, places=12)

    def test_power_law_profile(self):
        """v / v_max = (1 - r/R)^(1/7) has the mean 2 n2 / ((n + 1)(2 n + 1)) = 98/120 = 0.8167; the
        five points come within 0.6 %.
        """
        shape = [(1 - r) ** (1 / 7) for r in LOG_LINEAR[5]]
        profile = profile_factor([shape] * 4, [1.0] * 4)
        self.assertAlmostEqual(profile.factor.value, 98 / 120, delta=0.005)
        self.assertAlmostEqual(profile.factor.u / profile.factor.value, 0.006, delta=1e-9)

    def test_a_fan_that_slows_down_cancels(self):
        shape = np.array([0.97, 0.9, 0.85, 0.75, 0.6])
        steady, slowing = (
            profile_factor([shape] * 2, [1.0, 1.0]),
            profile_factor([shape, 0.8 * shape], [1.0, 0.8]),
        )
        self.assertAlmostEqual(steady.factor.value, slowing.factor.value, places=12)

    def test_skew_widens_the_doubt(self):
        even, skew = (
            profile_factor([[0.9] * 5] * 4, [1.0] * 4),
            profile_factor([[0.95] * 5, [0.85] * 5] * 2, [1.0] * 4),
        )
        self.assertAlmostEqual(even.factor.value, skew.factor.value, places=9)
        self.assertGreater(skew.factor.u, 3 * even.factor.u)

    def test_what_is_no_traverse(self):
        for speeds, centre, words in (
            ([[5.0] * 5], [5.0], "two radii"),
            ([[5.0] * 4] * 2, [5.0] * 2, "3, 5 points"),
            ([[5.0] * 5, [0.0] * 5], [5.0] * 2, "above 0"),
            ([[1.0] * 5] * 2, [5.0] * 2, "comes out as 0.2"),
            ([[5.0] * 5] * 2, [5.0], "two radii"),
        ):
            with self.subTest(words), self.assertRaisesRegex(CalibrationRefused, words):
                profile_factor(speeds, centre)


class LeakTests(unittest.TestCase):
    def test_a_power_law_comes_back(self):
        p = [20.0, 50.0, 120.0, 300.0]
        leak = leak_rate(p, [2e-5 * x**0.65 for x in p])
        self.assertAlmostEqual(leak.exponent.value, 0.65, places=9)
        self.assertAlmostEqual(leak.coefficient.value, 2e-5, places=12)
        self.assertAlmostEqual(
            leak_flow(100.0, leak.coefficient.value, leak.exponent.value),
            2e-5 * 100**0.65,
            places=12,
        )

    def test_sign_and_zero(self):
        self.assertEqual(leak_flow(0.0, 2e-5, 0.65), 0.0)
        self.assertEqual(leak_flow(-80.0, 2e-5, 0.65), -leak_flow(80.0, 2e-5, 0.65))

    def test_few_pressures_tell_the_exponent_less_surely(self):
        """Four points leave two degrees of freedom, t = 4.303 (GUM table G.2): what is kept gives
        that interval, though it keeps no degrees of freedom.
        """
        p, off = np.array([20.0, 40.0, 80.0, 160.0]), np.array([1.01, 0.99, 0.99, 1.01])
        found = leak_rate(p, 2e-5 * p**0.65 * off).exponent
        line = fit_line(np.log(p), np.log(2e-5 * p**0.65 * off))
        read = 0.02 / (math.log(2) * math.sqrt(5))  # Σ(x - mean)² of -1.5, -0.5, 0.5, 1.5 is 5
        scatter = math.sqrt(found.u**2 - read**2)
        self.assertAlmostEqual(1.95996 * scatter / line.slope_u, 4.3027, places=3)

    def test_two_pressures_do_not_tell_the_exponent_for_certain(self):
        """n = ln(q2/q1) / ln(p2/p1), each flow read to 2 %: u(n) = √2 0.02 / ln 4 by hand."""
        found = leak_rate([20.0, 80.0], [2e-5 * x**0.65 for x in (20.0, 80.0)]).exponent
        self.assertAlmostEqual(found.u, math.sqrt(2) * 0.02 / math.log(4), places=9)

    def test_what_is_no_leak(self):
        for p, q, words in (
            ([20.0], [1e-4], "at least two pressures"),
            ([20.0, 40.0], [1e-4, 0.0], "above 0"),
            ([20.0, 40.0], [2e-4, 1e-4], "rise with the pressures"),
            ([20.0, 40.0], [1e-4, 9e-4], "to the power 3.17"),
            ([20.0, 20.0], [1e-4, 2e-4], "must differ"),
        ):
            with self.subTest(words), self.assertRaisesRegex(CalibrationRefused, words):
                leak_rate(p, q)
