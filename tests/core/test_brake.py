"""A machine on a brake: power and torque over a band of speed, by hand and at standard conditions."""

import math
import unittest

import numpy as np
from hypothesis import given, settings
from hypothesis import strategies as st

from hauch.core.air.density import saturation_pressure
from hauch.core.measure.curves import OutsideRange
from hauch.core.measure.meter import Meter
from hauch.core.measure.procedures import PROCEDURES
from hauch.core.measure.rigs import RIGS, brake, check_constants
from hauch.core.measure.run import NoResult, RunInput

RIG = {
    "gear": (1.0, 0.0),
    "band_low": (3000.0, 0.0),
    "band_high": (5000.0, 0.0),
    "pressure_exponent": (1.2, 0.0),
    "temperature_exponent": (0.6, 0.0),
}
DRY_ROOM = (24.85, 99_000.0, 0.0)
"""298 K and 99 kPa of dry air: nothing is corrected."""


def run(speeds, torques, rig=RIG, room=DRY_ROOM, intake=None, accuracy=0.0):
    readings = {"torque": torques, "speed": speeds}
    if intake:
        readings |= {
            "intake_temperature": [intake[0]] * len(speeds),
            "intake_pressure": [intake[1]] * len(speeds),
        }
    numbers = list(range(1, len(speeds) + 1))
    meters = {key: Meter(key, key, accuracy_share=accuracy) for key in readings}
    positions = dict.fromkeys(readings, numbers)
    return RunInput("r", readings, meters, rig, "rig:1", *room, positions=positions)


def figure(key, *args, **more):
    return PROCEDURES[key].reduce(run(*args, **more))


class BrakeTests(unittest.TestCase):
    def test_a_constant_torque_by_hand(self):
        """2 N m from 3000 to 5000 1/min: mean power 2 × 2π × 4000 / 60 = 837.8 W."""
        speeds, torques = [2500.0, 3500.0, 4500.0, 5500.0], [2.0] * 4
        self.assertAlmostEqual(
            figure("power_delivered", speeds, torques).value, 837.758, delta=1e-3
        )
        self.assertAlmostEqual(figure("torque_delivered", speeds, torques).value, 2.0)

    def test_a_gear_changes_torque_and_speed_and_leaves_the_power(self):
        geared = RIG | {"gear": (2.0, 0.0)}
        speeds, torques = [1250.0, 1750.0, 2250.0, 2750.0], [4.0] * 4
        self.assertAlmostEqual(
            figure("power_delivered", speeds, torques, geared).value, 837.758, delta=1e-3
        )
        self.assertAlmostEqual(figure("torque_delivered", speeds, torques, geared).value, 2.0)

    def test_standard_conditions_by_hand(self):
        """ISO 1585: 101.3 kPa with 1.5 kPa of vapour at 303 K: α = (99 / 99.8)^1.2 (303 / 298)^0.6 =
        1.00034.
        """
        got = brake.correction(101_300.0, 29.85, 1500.0, 1.2, 0.6)
        self.assertAlmostEqual(got, (99 / 99.8) ** 1.2 * (303 / 298) ** 0.6, delta=1e-9)
        self.assertAlmostEqual(got, 1.00034, delta=2e-5)
        room = (29.85, 101_300.0, 100 * 1500.0 / float(saturation_pressure(29.85)))
        plain = figure("power_delivered", [2500.0, 4000.0, 5500.0], [2.0] * 3)
        moist = figure("power_delivered", [2500.0, 4000.0, 5500.0], [2.0] * 3, room=room)
        self.assertAlmostEqual(moist.value / plain.value, got, delta=1e-6)

    def test_what_is_read_at_the_intake_goes_before_the_room(self):
        hot = figure(
            "torque_delivered", [2500.0, 4000.0, 5500.0], [2.0] * 3, intake=(60.0, 95_000.0)
        )
        self.assertAlmostEqual(
            hot.value, 2.0 * (99 / 95) ** 1.2 * (333.15 / 298) ** 0.6, delta=1e-6
        )
        self.assertTrue(any("outside 0.93 to 1.07" in step.note for step in hot.working))

    def test_the_peak_lies_between_the_points(self):
        speeds = [2000.0, 3000.0, 4000.0, 5000.0, 6000.0]
        torques = [(500 - ((n - 4200) / 100) ** 2) / (2 * math.pi * n / 60) for n in speeds]
        top = figure("peak_power", speeds, torques)
        self.assertAlmostEqual(top.value, 500.0, delta=1e-6)
        with self.assertRaisesRegex(NoResult, "Measure beyond it"):
            figure("peak_power", speeds, [1.0] * 5)
        with self.assertRaises(OutsideRange):
            brake.peak([1.0, 2.0, 3.0], [3.0, 2.0, 1.0])

    def test_a_meter_s_slope_moves_all_points_together(self):
        """1 % on the torque meter is 1 % of the power, however many points there are."""
        for count in (3, 12):
            speeds = np.linspace(2500, 5500, count).tolist()
            q = figure("power_delivered", speeds, [2.0] * count, accuracy=0.01)
            share = 0.01 / math.sqrt(3)  # of the torque; that of the speed comes on top
            self.assertGreater(q.u / q.value, share)
            self.assertLess(q.u / q.value, 2 * share)

    @given(st.lists(st.floats(0.5, 5.0), min_size=4, max_size=9), st.floats(0.5, 2.0))
    @settings(max_examples=50, deadline=None)
    def test_the_mean_lies_among_the_points_and_goes_with_them(self, torques, factor):
        speeds = np.linspace(3000, 5000, len(torques)).tolist()
        mean = figure("torque_delivered", speeds, torques).value
        self.assertTrue(min(torques) - 1e-9 <= mean <= max(torques) + 1e-9)
        more = figure("torque_delivered", speeds, [factor * t for t in torques]).value
        self.assertAlmostEqual(more, factor * mean, delta=1e-6)
        back = figure("torque_delivered", speeds[::-1], torques[::-1]).value
        self.assertAlmostEqual(back, mean, delta=1e-9)

    def test_what_gives_nothing(self):
        for speeds, torques, words in (
            ([3500.0, 4000.0, 4500.0], [2.0] * 3, "An end of the agreed band"),
            ([2500.0, 5500.0], [2.0] * 2, "at least three points"),
            ([2500.0, 4000.0, 5500.0], [2.0, -2.0, 2.0], "was driven, not braked"),
        ):
            with self.subTest(words), self.assertRaisesRegex(NoResult, words):
                figure("power_delivered", speeds, torques)
        turned = RIG | {"band_low": (6000.0, 0.0)}
        self.assertIn("ends before it begins", check_constants(RIGS["brake"], turned)["band_low"])

    def test_its_curve(self):
        curve = PROCEDURES["power_delivered"].curve(run([5500.0, 2500.0, 4000.0], [2.0] * 3))
        self.assertEqual([x for x, _ in curve.line], [2500.0, 4000.0, 5500.0])
        self.assertEqual((curve.x_kind, curve.y_kind), ("rotational_speed", "power"))
