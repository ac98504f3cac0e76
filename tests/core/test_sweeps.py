"""Sweeps: steps found, laws through their points, curves reduced to one figure, the throttle turned
by rule.
"""

import math
import unittest
from dataclasses import replace
from zoneinfo import ZoneInfo

import numpy as np
from hypothesis import given
from hypothesis import strategies as st

from hauch.core.measure import curves
from hauch.core.measure.curves import (
    OutsideRange,
    at_equal,
    inside,
    law_doubt,
    level_law,
    misfit,
    operating_point,
    power_law,
    smooth,
)
from hauch.core.measure.meter import Meter
from hauch.core.measure.rigs import (
    chamber,
    drive,
    flow_bench,
    hot_block,
    power,
    scale,
    tunnel,
    vibration,
)
from hauch.core.measure.run import NoResult, RunInput
from hauch.core.measure.seek import Search, Stepper, even_steps
from hauch.core.rig.fan import Loft140
from hauch.core.trace.align import NotAligned, align, at_times
from hauch.core.trace.beside import with_background, with_tare
from hauch.core.trace.reduce import Chosen, steady_readings
from hauch.core.trace.source import Held
from hauch.core.trace.steps import find_steps, is_sweep
from hauch.core.trace.vibration import velocity_rms
from hauch.formats.logger_csv import inspect, read_log
from hauch.formats.logger_names import guess_mapping
from tests.formats.test_logger_csv import DATA

RIG = {
    "orifice": (0.08, 0.0001),
    "orifice_coefficient": (0.61, 0.005),
    "system_resistance": (23_500.0, 100.0),
    "system_exponent": (2.0, 0.0),
    "agreed_flow": (0.03, 0.0),
    "bore": (0.1252, 0.0001),
    "profile_factor": (0.846, 0.004),
    "heat": (75.0, 0.5),
    "flexible": (0.0, 0.0),
}


def log_of(name):
    table = inspect((DATA / name).read_bytes())
    return read_log(table, guess_mapping(table), ZoneInfo("UTC"), True)


def run_of(readings, positions=True, **more):
    channels = {
        key: list(np.repeat(values, 2)) if positions else list(values)
        for key, values in readings.items()
    }
    places = (
        {
            key: [n for n in range(1, len(values) + 1) for _ in range(2)]
            for key, values in readings.items()
        }
        if positions
        else {}
    )
    meters = {key: Meter(key, key, 1e-6, 0.0, 0.005) for key in readings}
    return RunInput(
        "r", channels, meters, RIG, "rig:1", 20.0, 101_325.0, 50.0, positions=places, **more
    )


class SampleTests(unittest.TestCase):
    def test_the_sweep_of_another_tool_has_its_eight_steps_and_exponents(self):
        """Steps every 30 s and exponents as synthesised in the file: speed 1.0, pressure 2.0, power
        2.9, 52 dB a decade, speed over throttle 0.92.
        """
        log = log_of("bench_f_sweep.csv")
        for name, channels in {
            "throttle": log.channels,
            "speed alone": {k: v for k, v in log.channels.items() if k != "throttle"},
        }.items():
            with self.subTest(name):
                stands = find_steps(log.times, channels)
                self.assertEqual([round(log.times[s.last] / 30) for s in stands], list(range(1, 9)))
        reduced = steady_readings(Held(log.times, log.channels), {}, "r", by_point=True)
        means = {
            key: [reduced.readings[key][reduced.positions[key] == n].mean() for n in range(1, 9)]
            for key in reduced.readings
        }
        for key, true in (("air_speed", 1.0), ("static_pressure", 2.0), ("power", 2.9)):
            self.assertAlmostEqual(
                power_law(means["speed"], means[key])[1], true, delta=0.02, msg=key
            )
        self.assertAlmostEqual(power_law(means["throttle"], means["speed"])[1], 0.92, delta=0.02)
        self.assertAlmostEqual(
            level_law(means["speed"][1:], means["sound_level"][1:])[1] / 10, 5.2, delta=0.02
        )

    def test_logs_that_are_no_sweeps_are_none(self):
        for name in ("bench_b_german.csv", "bench_a_1hz.csv", "bench_c_head.tsv"):
            with self.subTest(name):
                log = log_of(name)
                self.assertFalse(is_sweep(find_steps(log.times, log.channels)))


class StepTests(unittest.TestCase):
    def setUp(self):
        self.random = np.random.default_rng(2)
        self.times = np.arange(4000) / 50

    def test_a_damper_that_steps_the_pressure_at_full_throttle(self):
        pressure = np.repeat([60.0, 52.0, 40.0, 22.0], 1000) + 0.2 * self.random.standard_normal(
            4000
        )
        flow = np.repeat([5.0, 20.0, 60.0, 120.0], 1000) + 0.3 * self.random.standard_normal(4000)
        channels = {
            "throttle": np.full(4000, 100.0),
            "speed": 1900 + 2 * self.random.standard_normal(4000),
            "static_pressure": pressure,
            "orifice_pressure": flow,
        }
        self.assertEqual(
            [round(s.level) for s in find_steps(self.times, channels)], [5, 20, 60, 120]
        )

    def test_a_closed_throttle_is_no_step_and_short_stops_are_none(self):
        throttle = np.concatenate(
            [
                np.full(600, 0.0),
                np.full(1000, 40.0),
                np.full(100, 55.0),
                np.full(1000, 70.0),
                np.full(1300, 100.0),
            ]
        )
        self.assertEqual(
            [s.level for s in find_steps(self.times, {"throttle": throttle})], [40, 70, 100]
        )

    def test_nothing_to_find_steps_in(self):
        with self.assertRaisesRegex(ValueError, "needs the throttle"):
            find_steps(self.times, {"air_speed": np.ones(4000)})
        with self.assertRaisesRegex(NoResult, "only 1 step was found"):
            steady_readings(
                Held(self.times, {"throttle": np.full(4000, 50.0)}), {}, "r", by_point=True
            )


class LawTests(unittest.TestCase):
    def test_power_law_by_hand(self):
        """y = 2 x^1.5 through 1, 4, 9: 2, 16, 54."""
        c, k = power_law([1, 4, 9], [2, 16, 54])
        self.assertAlmostEqual(c, 2.0, places=12)
        self.assertAlmostEqual(k, 1.5, places=12)
        self.assertAlmostEqual(misfit([1, 4, 9], [2, 16, 54]), 0.0, places=12)
        self.assertEqual(misfit([1, 2], [3, 5]), 0.0)

    def test_doubt_of_a_law_by_hand_and_larger_towards_its_ends(self):
        """Points at ln x = -1, 0, 1 with ln y off a line by 0.01, -0.02, 0.01: s = sqrt(0.0006),
        S_xx = 2, so s sqrt(1/3) in the middle, s sqrt(1/3 + 1/2) at an end.
        """
        x = [math.exp(-1), 1.0, math.exp(1)]
        y = [math.exp(2 * v + off) for v, off in zip((-1, 0, 1), (0.01, -0.02, 0.01), strict=True)]
        s = math.sqrt(0.0006)
        self.assertAlmostEqual(misfit(x, y), s, places=12)
        self.assertAlmostEqual(law_doubt(x, y, 1.0), s * math.sqrt(1 / 3), places=12)
        self.assertAlmostEqual(
            law_doubt(x, y, math.exp(1)), s * math.sqrt(1 / 3 + 1 / 2), places=12
        )
        self.assertEqual(law_doubt([1, 2], [3, 5], 1.5), 0.0)

    def test_refusals(self):
        for x, y, words in (
            ([1, 2], [0, 1], "above 0"),
            ([2, 2], [1, 3], "two different"),
            ([1, math.nan], [1, 2], "above 0"),
        ):
            with self.assertRaisesRegex(ValueError, words):
                power_law(x, y)
        with self.assertRaisesRegex(ValueError, "two different points"):
            level_law([3, 3], [50, 51])

    @given(st.floats(0.2, 5), st.floats(-3, 3), st.floats(0.1, 10))
    def test_scaling_x_leaves_the_exponent(self, c, k, factor):
        x = np.array([1.0, 2.0, 3.5])
        self.assertAlmostEqual(power_law(factor * x, c * x**k)[1], k, places=6)

    def test_level_law(self):
        """50 lg n: 15.05 dB for twice the speed."""
        self.assertAlmostEqual(
            level_law([1000, 2000], [40.0, 40.0 + 50 * math.log10(2)])[1], 50.0, places=9
        )

    def test_interpolation_and_its_range(self):
        self.assertAlmostEqual(at_equal([1, 4], [2, 16], 2.0), 2 * 2**1.5, places=9)
        self.assertAlmostEqual(at_equal([40, 50], [1.0, 3.0], 45.0, logarithmic=False), 2.0)
        self.assertEqual(inside([2.0, 5.0], 5.05, "A power", "W"), 5.0)
        with self.assertRaisesRegex(
            OutsideRange, "A power of 6 W was not reached: the sweep covers 2 to 5 W"
        ):
            inside([2.0, 5.0], 6.0, "A power", "W")

    def test_operating_point_by_hand(self):
        """p = 60 - 1000 q meets 20000 q² where 20000 q² + 1000 q - 60 = 0: q = (-1000 + sqrt(1e6 +
        4.8e6)) / 40000.
        """
        q = np.linspace(0, 0.06, 13)
        flow, pressure = operating_point(q, 60 - 1000 * q, 20_000.0, 2.0)
        self.assertAlmostEqual(flow, (-1000 + math.sqrt(5.8e6)) / 40_000, places=6)
        self.assertAlmostEqual(pressure, 60 - 1000 * flow, places=4)

    def test_a_dip_stays_and_the_crossing_of_the_most_flow_is_taken(self):
        q, p = [0, 0.01, 0.02, 0.03, 0.04, 0.05], [50, 42, 30, 36, 30, 5]
        self.assertAlmostEqual(min(v for x, v in smooth(q, p) if x < 0.03), 30.0, delta=0.1)
        self.assertGreater(operating_point(q, p, 33_000, 2.0)[0], 0.029)
        with self.assertRaisesRegex(OutsideRange, "Measure points with less resistance"):
            operating_point(q, p, 10.0, 2.0)
        with self.assertRaisesRegex(OutsideRange, "at least three"):
            operating_point([0, 1], [1, 0], 1.0, 2.0)


class ReductionTests(unittest.TestCase):
    """Points computed from the virtual fan, which shares no code with the reductions, must give
    back what it was made of.
    """

    def setUp(self):
        self.density = 1.1993  # CIPM-2007 at 20 degC, 101 325 Pa, 50 %

    def test_fan_curve_meets_its_system_where_the_fan_does(self):
        flows = np.array([0.008, 0.016, 0.024, 0.032, 0.038, 0.042, 0.046, 0.05, 0.055])
        pressure = [Loft140.pressure(q, 1900.0, self.density) for q in flows]
        orifice = self.density / 2 * (flows / (0.61 * math.pi / 4 * 0.08**2)) ** 2
        run = run_of({"static_pressure": pressure, "orifice_pressure": orifice})
        figure = chamber.fan_flow(run)
        self.assertAlmostEqual(
            figure.value, Loft140.working_flow(23_500.0, 1900.0, 1.2), delta=2e-5
        )
        self.assertLess(figure.u, 0.02 * figure.value)
        curve = chamber.fan_curve(run)
        self.assertEqual(len(curve.points), 9)
        self.assertAlmostEqual(curve.at[0], figure.value, places=9)
        faster = chamber.fan_flow(
            run_of(
                {
                    "static_pressure": pressure,
                    "orifice_pressure": orifice,
                    "speed": np.full(9, 1900.0),
                },
                common_speed=2090.0,
            )
        )
        self.assertAlmostEqual(
            faster.value / figure.value, 1.1, delta=1e-4
        )  # both laws go with the square of the speed here

    def test_a_throttle_stepped_at_one_system_is_no_fan_curve(self):
        """At each throttle the fan works where its curve meets the same system: one place of its
        curve, however far apart the points look.
        """
        speeds = np.array([700.0, 1000.0, 1300.0, 1600.0, 1900.0])
        random = np.random.default_rng(4)
        flows = np.array([Loft140.working_flow(23_500.0, n, 1.2) for n in speeds])
        flows *= 1 + 0.003 * random.standard_normal(5)
        orifice = self.density / 2 * (flows / (0.61 * math.pi / 4 * 0.08**2)) ** 2
        for speed, common in ((None, None), (speeds, 1900.0)):
            readings = {"static_pressure": 23_500 * flows**2, "orifice_pressure": orifice}
            run = run_of(
                readings | ({} if speed is None else {"speed": speed}), common_speed=common
            )
            with self.assertRaisesRegex(NoResult, "all at one place.*step the damper"):
                chamber.fan_flow(run)
        # Two dampers are two places, and three make a curve; which points coincide is told.
        self.assertEqual(
            chamber.places_of_curve([0.02, 0.04, 0.0201, 0.05], [40.0, 20.0, 40.3, 0.0]),
            [[3], [1], [0, 2]],
        )
        flows = np.array([0.008, 0.024, 0.0241, 0.038, 0.055])
        pressure = [Loft140.pressure(q, 1900.0, self.density) for q in flows]
        orifice = self.density / 2 * (flows / (0.61 * math.pi / 4 * 0.08**2)) ** 2
        figure = chamber.fan_flow(
            run_of({"static_pressure": pressure, "orifice_pressure": orifice})
        )
        self.assertIn("5 points, 2 and 3 at one place", figure.working[-1].note)

    def test_loss_at_equal_flow_and_its_exponent(self):
        flows = np.array([0.02, 0.026, 0.032, 0.038])
        orifice = self.density / 2 * (flows / (0.61 * math.pi / 4 * 0.08**2)) ** 2
        run = run_of(
            {"orifice_pressure": orifice, "test_depression": 3e5 * flows**1.9 * self.density / 1.2}
        )
        figure = flow_bench.loss_at_flow(run)
        self.assertAlmostEqual(figure.value, 3e5 * 0.03**1.9, delta=0.02)
        self.assertIn("n = 1.900", figure.working[-1].note)
        with self.assertRaisesRegex(NoResult, "The agreed flow of 0.03 m³/s was not reached"):
            flow_bench.loss_at_flow(
                run_of({"orifice_pressure": orifice[:3] / 4, "test_depression": [40.0, 60.0, 90.0]})
            )

    def test_flow_at_equal_power_and_at_equal_noise(self):
        speeds = np.array([900.0, 1200.0, 1500.0, 1800.0])
        run = run_of(
            {"air_speed": speeds / 450, "power": 4.0 * (speeds / 1800) ** 3, "speed": speeds},
            equal=2.0,
            as_read=True,
        )
        true = 0.846 * math.pi / 4 * 0.1252**2 * (1800 * 0.5 ** (1 / 3)) / 450
        self.assertAlmostEqual(tunnel.flow_at_power(run).value, true, delta=1e-7)
        self.assertEqual(len(tunnel.power_curve(run).points), 4)
        by_volts = run_of(
            {
                "air_speed": speeds / 450,
                "voltage": np.full(4, 12.0),
                "current": 4.0 * (speeds / 1800) ** 3 / 12,
            },
            equal=2.0,
            as_read=True,
        )
        self.assertAlmostEqual(tunnel.flow_at_power(by_volts).value, true, delta=1e-7)
        with self.assertRaisesRegex(NoResult, "Electrical power of 9 W was not reached"):
            tunnel.flow_at_power(
                run_of({"air_speed": speeds / 450, "power": 4.0 * (speeds / 1800) ** 3}, equal=9.0)
            )
        with self.assertRaisesRegex(NoResult, "does not say what is held equal"):
            tunnel.flow_at_power(run_of({"air_speed": speeds / 450, "power": speeds}))
        level = 10 * np.log10(10 ** ((48 + 50 * np.log10(speeds / 1800)) / 10) + 10**2.5)
        noisy = run_of(
            {"air_speed": speeds / 450, "sound_level": level, "background_level": np.full(4, 25.0)},
            equal=44.0,
        )
        self.assertAlmostEqual(
            tunnel.flow_at_noise(noisy).value,
            0.846 * math.pi / 4 * 0.1252**2 * 1800 * 10 ** (-4 / 50) / 450,
            delta=2e-7,
        )
        self.assertAlmostEqual(tunnel.noise_curve(noisy).at[0], 44.0)
        flow = tunnel.flow_at_noise(noisy).value
        quiet = replace(noisy, equal=None, rig=noisy.rig | {"agreed_flow": (flow, 0.0)})
        figure = tunnel.noise_at_flow(quiet)
        self.assertAlmostEqual(figure.value, 44.0, places=4)
        self.assertIn(
            "4 points; 50 ± 0 dB for ten times the flow, 15.1 dB for twice", str(figure.working)
        )
        self.assertAlmostEqual(tunnel.level_curve(quiet).at[1], 44.0, places=4)
        # By hand: 0, 52, 100 dB over three decades lie off 50 lg x + 2/3 by -2/3, 4/3, -2/3.
        self.assertAlmostEqual(
            curves.level_slope_doubt([1, 10, 100], [0, 52, 100]), math.sqrt(8 / 3 / 2)
        )
        self.assertEqual(curves.level_slope_doubt([1, 10], [0, 50]), 0.0)
        far = replace(quiet, rig=noisy.rig | {"agreed_flow": (5 * flow, 0.0)})
        with self.assertRaisesRegex(NoResult, "The agreed flow of .* was not reached"):
            tunnel.noise_at_flow(far)
        with self.assertRaisesRegex(NoResult, "Only 0 points stand 3 dB above"):
            tunnel.flow_at_noise(
                run_of(
                    {
                        "air_speed": speeds / 450,
                        "sound_level": level,
                        "background_level": np.full(4, 60.0),
                    },
                    equal=44.0,
                )
            )

    def test_shaft_power_by_its_law(self):
        speeds = np.array([500.0, 700.0, 900.0, 1100.0])
        omega = 2 * math.pi * speeds / 60
        run = run_of(
            {
                "speed": speeds,
                "torque": 0.05 + 30.0 * (speeds / 1000) ** 3 / omega,
                "tare_torque": np.full(4, 0.05),
            },
            common_speed=1000.0,
        )
        figure = drive.shaft_power_at_speed(run)
        self.assertAlmostEqual(figure.value, 30.0 * 1.2 / run.density().value, places=6)
        self.assertIn("k = 3.00", figure.working[-1].note)
        self.assertEqual(len(drive.shaft_curve(run).points), 4)
        with self.assertRaisesRegex(NoResult, "A speed of 2000 1/min was not reached"):
            drive.shaft_power_at_speed(
                run_of(
                    {"speed": speeds, "torque": omega, "tare_torque": 0.5 * omega},
                    common_speed=2000.0,
                )
            )
        with self.assertRaisesRegex(NoResult, "at least three points"):
            drive.shaft_power_at_speed(
                run_of(
                    {"speed": speeds[:2], "torque": omega[:2], "tare_torque": omega[:2]},
                    common_speed=600.0,
                )
            )

    def test_a_common_error_of_the_meter_cancels_in_no_curve_but_in_their_difference(self):
        speeds = np.array([900.0, 1200.0, 1500.0, 1800.0])
        figure = tunnel.flow_at_power(
            run_of({"air_speed": speeds / 450, "power": 4.0 * (speeds / 1800) ** 3}, equal=2.0)
        )
        common = [
            part for cause, part in figure.parts.items() if cause.key == "meter:air_speed:accuracy"
        ]
        self.assertAlmostEqual(common[0] / figure.value, 0.005 / math.sqrt(3), places=6)

    def test_states_vibration_thermal_resistance_and_thrust(self):
        shaking = vibration.vibration(run_of({"vibration": [0.0020, 0.0022]}, positions=False))
        self.assertIn("rigid mounting: keeps BV-3", shaking.working[-1].note)
        for velocity, flexible, kept in (
            (0.0014, False, "BV-5"),
            (0.0015, False, "BV-4"),
            (0.0030, True, "BV-3"),
            (0.02, True, ""),
            (math.nan, False, ""),
        ):
            self.assertEqual(vibration.category(velocity, flexible), kept)
        hot = run_of(
            {"load_temperature": [51.0, 51.0], "room_temperature": [21.0, 21.0]}, positions=False
        )
        self.assertAlmostEqual(hot_block.thermal_resistance(hot).value, 0.4, places=12)
        pulls = run_of({"scale_mass": [0.020, 0.020]}, positions=False)
        self.assertAlmostEqual(
            scale.thrust(pulls).value, 0.020 * 9.80665 * 1.2 / pulls.density().value, places=9
        )
        with self.assertRaisesRegex(NoResult, "reads nothing or less"):
            scale.thrust(run_of({"scale_mass": [-0.01, -0.02]}, positions=False))

    def test_several_rotors_count_by_their_mean(self):
        run = run_of(
            {"power": [2.0, 2.0], "speed": [1000.0, 1000.0], "speed_2": [1200.0, 1200.0]},
            positions=False,
            common_speed=2200.0,
        )
        self.assertAlmostEqual(run.rotor_speed().value, 1100.0)
        converted = 16.0 * 1.2 / run.density().value
        self.assertAlmostEqual(power.electrical_power(run).value, converted, places=9)
        self.assertIn("17 % apart", run.rotor_speed().working[-1].note)


class BesideTests(unittest.TestCase):
    def test_background_from_a_stretch(self):
        times = np.arange(100.0)
        readings = {}
        with_background(
            times, {"sound_level": np.where(times < 50, 33.0, 50.0)}, readings, (10, 40)
        )
        self.assertEqual(set(readings["background_level"]), {33.0})
        with self.assertRaisesRegex(NoResult, "too few samples"):
            with_background(times, {"sound_level": np.full(100, math.nan)}, {}, (10, 40))

    def test_the_bare_drive_is_taken_off_at_the_same_speed(self):
        times = np.arange(600.0)
        speed = np.where(
            times < 300, np.repeat([500, 700, 900], 100).tolist() + [0] * 300, 0
        ) + np.where(times >= 300, 800.0, 0)
        torque = np.where(times < 300, 0.01 + 2e-5 * speed, 0.3)
        readings, positions = {"speed": np.full(10, 800.0), "torque": np.full(10, 0.3)}, {}
        with_tare(times, {"speed": speed, "torque": torque}, readings, positions, (0, 299))
        self.assertAlmostEqual(readings["tare_torque"].mean(), 0.01 + 2e-5 * 800, places=9)
        with self.assertRaisesRegex(NoResult, "over the same speeds"):
            with_tare(
                times,
                {"speed": speed, "torque": torque},
                {"speed": np.full(3, 2000.0), "torque": np.ones(3)},
                {},
                (0, 299),
            )
        with self.assertRaisesRegex(NoResult, "Drive both at the same speed"):
            with_tare(
                times,
                {"speed": speed, "torque": torque},
                {"speed": np.full(3, 2000.0), "torque": np.ones(3)},
                {},
                (0, 99),
            )


class VibrationTests(unittest.TestCase):
    def test_a_shaken_sine(self):
        """2.8 mm/s r.m.s. at 31.67 Hz is an acceleration of 2 pi f v sqrt(2)."""
        at = np.arange(12_800) / 6400
        acceleration = 2 * np.pi * 31.67 * 2.8e-3 * math.sqrt(2) * np.cos(2 * np.pi * 31.67 * at)
        self.assertAlmostEqual(velocity_rms(acceleration, 6400.0), 2.8e-3, delta=3e-6)
        self.assertAlmostEqual(velocity_rms(9.81 + acceleration, 6400.0), 2.8e-3, delta=3e-6)
        self.assertLess(velocity_rms(np.cos(2 * np.pi * 3.0 * at), 6400.0), 2e-3)  # below the band
        self.assertTrue(math.isnan(velocity_rms(np.full(12_800, math.nan), 6400.0)))

    def test_refusals(self):
        with self.assertRaisesRegex(ValueError, "take at least 2200"):
            velocity_rms(np.zeros(5000), 1000.0)
        with self.assertRaisesRegex(ValueError, "too short: take at least 0.5 s"):
            velocity_rms(np.zeros(100), 6400.0)


class AlignTests(unittest.TestCase):
    def speed(self, t):
        return 1800 * (1 - np.exp(-np.maximum(t - 20, 0) / 2)) * np.where(t < 150, 1, 0.7)

    def setUp(self):
        self.random = np.random.default_rng(4)
        self.times = np.arange(0, 300, 0.1)
        self.first = {
            "speed": self.speed(self.times) + 2 * self.random.standard_normal(self.times.size)
        }

    def test_the_same_channel_and_one_that_moves_with_it(self):
        for shift in (-37.43, 5.2, 0.33):
            other = np.arange(0, 200, 0.5)
            with self.subTest(shift):
                same = align(
                    self.times,
                    self.first,
                    other,
                    {
                        "speed": (
                            self.speed(other + shift) + 2 * self.random.standard_normal(other.size)
                        )
                    },
                )
                self.assertAlmostEqual(same.seconds, shift, delta=0.15)
                level = (
                    30
                    + 50 * np.log10(np.maximum(self.speed(other + shift), 100) / 100)
                    + 0.2 * self.random.standard_normal(other.size)
                )
                self.assertAlmostEqual(
                    align(self.times, self.first, other, {"sound_level": level}).seconds,
                    shift,
                    delta=0.5,
                )

    def test_refusals(self):
        other = np.arange(0, 100, 0.5)
        for channels, words in (
            ({"gap": other}, "share no channel"),
            ({"speed": np.full(200, 1800.0)}, "Nothing moves"),
            ({"speed": 1000 + 500 * np.sign(np.sin(other / 3))}, "agree only to"),
        ):
            with self.subTest(words), self.assertRaisesRegex(NotAligned, words):
                align(self.times, self.first, other, channels)

    def test_values_at_other_times(self):
        out = at_times(
            np.array([0.0, 0.5, 1.0, 5.0, 9.0]),
            np.array([0.0, 1.0, 2.0, 8.0]),
            np.array([0.0, 10.0, 20.0, 80.0]),
        )
        np.testing.assert_allclose(out, [0.0, 5.0, 10.0, math.nan, math.nan])
        self.assertTrue(
            np.isnan(at_times(np.arange(3.0), np.arange(3.0), np.full(3, math.nan))).all()
        )


class TurningTests(unittest.TestCase):
    def search(self, plant, target, tolerance, **more):
        search, throttle, turns = (
            Search(target, tolerance, "Electrical power", "W", **more),
            60.0,
            [],
        )
        for _ in range(20):
            turn = search.read(throttle, plant(throttle))
            turns.append(turn)
            if turn.done:
                return turn, turns
            throttle = turn.throttle
        self.fail("never done")

    def test_equal_power_is_found_in_few_turns(self):
        random = np.random.default_rng(0)
        for _ in range(100):
            k, full, share = (
                random.uniform(2.2, 3.2),
                random.uniform(5, 20),
                random.uniform(0.15, 0.95),
            )
            turn, turns = self.search(
                lambda t, full=full, k=k: (
                    full * (t / 100) ** k * (1 + 0.002 * random.standard_normal())
                ),
                share * full,
                0.01 * share * full,
            )
            self.assertTrue(turn.held)
            self.assertLessEqual(len(turns), 9)
            self.assertAlmostEqual(turn.throttle, 100 * share ** (1 / k), delta=1.5)

    def test_equal_noise(self):
        turn, turns = self.search(lambda t: 50 + 50 * math.log10(t / 100), 44.0, 0.2, exponent=0.0)
        self.assertTrue(turn.held)
        self.assertAlmostEqual(turn.throttle, 75.9, delta=1.0)
        self.assertLessEqual(len(turns), 5)

    def test_what_cannot_be_had_is_told(self):
        turn, _ = self.search(lambda t: 4.455 * (t / 100) ** 3, 6.0, 0.06)
        self.assertEqual(
            (turn.held, turn.why),
            (
                False,
                (
                    "Electrical power comes to 4.455 W at full throttle; 6 W cannot be had with"
                    " this part."
                ),
            ),
        )
        turn, _ = self.search(lambda t: 9.0, 1.0, 0.01)
        self.assertIn("even at 10 %", turn.why)
        turn, _ = self.search(lambda t: math.nan, 1.0, 0.01)
        self.assertIn("cannot be read", turn.why)
        random = np.random.default_rng(1)
        turn, _ = self.search(lambda t: 6 * (t / 100) ** 3 * random.uniform(0.5, 1.5), 3.0, 0.001)
        self.assertIn("wanders", turn.why)

    def test_bad_searches_and_sweeps(self):
        for make, words in (
            (lambda: Search(1.0, 0.0, "x", "W"), "tolerance"),
            (lambda: Search(1.0, 0.1, "x", "W", low=50, high=40), "cannot be"),
            (lambda: Stepper([10, 20], 10), "three steps"),
            (lambda: Stepper([10, 20, 130], 10), "between 0 and 100"),
            (lambda: Stepper([1, 2, 3], 2), "at least 5 s"),
        ):
            with self.assertRaisesRegex(ValueError, words):
                make()

    def test_each_step_is_held_in_full_though_its_driver_is_held_up(self):
        stepper = Stepper([30, 60, 90], 10.0)
        told = [(at, stepper.now(at)) for at in (100.0, 109.9, 119.5, 120.5, 129.4, 129.5, 200.0)]
        self.assertEqual([turn.throttle for _, turn in told], [30, 30, 60, 60, 60, 90, 90])
        self.assertEqual([turn.done for _, turn in told], [False] * 6 + [True])
        stepper = Stepper([30, 60, 90], 10.0)
        stepper.now(0.0)
        self.assertEqual(
            stepper.now(500.0).throttle, 60
        )  # after a long pause nothing that was not held counts as held
        self.assertFalse(stepper.now(509.0).done)

    def test_a_sweep_holds_each_step(self):
        stepper = Stepper(even_steps(30, 100, 3), 10.0)
        self.assertEqual(stepper.levels, [30.0, 65.0, 100.0])
        self.assertEqual(
            [stepper.now(s).throttle for s in (5.0, 14.9, 15.0, 25.1)], [30.0, 30.0, 65.0, 100.0]
        )
        self.assertFalse(stepper.now(35.0).done)  # begun at 25.1
        self.assertTrue(stepper.now(35.2).done)

    def test_a_sweep_in_a_recording_is_read_only_where_it_was_made(self):
        times = np.arange(3000) / 10
        throttle = np.concatenate(
            [np.repeat([20.0, 30, 40], 200), np.repeat([50.0, 60, 70, 80], 600)]
        )
        reduced = steady_readings(
            Held(
                times,
                {
                    "throttle": throttle,
                    "speed": 10 * throttle + np.random.default_rng(1).normal(0, 1, 3000),
                },
            ),
            {},
            "r",
            chosen=Chosen([(60, 300)]),
            by_point=True,
        )
        self.assertEqual(sorted(set(reduced.positions["speed"].tolist())), [1, 2, 3, 4])


class WindowTests(unittest.TestCase):
    def test_windows_read_place_by_place_in_turn(self):
        times = np.arange(600) / 10
        speed = np.repeat([4.0, 5.0, 6.0, 4.2, 5.2, 6.2], 100) + np.random.default_rng(1).normal(
            0, 0.01, 600
        )
        windows = [(10.0 * i + 2, 10.0 * i + 8) for i in range(6)]
        reduced = steady_readings(
            Held(times, {"air_speed": speed}), {}, "r", chosen=Chosen(windows), places=3
        )
        means = [
            reduced.readings["air_speed"][reduced.positions["air_speed"] == p].mean()
            for p in (1, 2, 3)
        ]
        np.testing.assert_allclose(means, [4.1, 5.1, 6.1], atol=0.01)
        self.assertEqual(
            steady_readings(
                Held(times, {"air_speed": speed}), {}, "r", chosen=Chosen(windows)
            ).positions,
            {},
        )

    def test_a_soak_is_fitted_from_the_last_turn_of_the_throttle_to_what_was_read(self):
        """Warms towards 90 with the throttle closed, then towards 45 with it open at 60 s; after
        400 s the heater is switched off.
        """
        times = np.arange(0, 600, 0.5)
        load = np.where(times < 60, 90 - 68 * np.exp(-times / 100), 0.0)
        at_60 = 90 - 68 * math.exp(-0.6)
        load = np.where(times >= 60, 45 + (at_60 - 45) * np.exp(-(times - 60) / 80), load)
        load = np.where(times > 400, 20.0, load) + 0.02 * np.random.default_rng(2).standard_normal(
            times.size
        )
        channels = {
            "load_temperature": load,
            "room_temperature": np.full(times.size, 21.0),
            "throttle": np.where(times < 60, 0.0, 100.0),
        }
        meters = {
            "load_temperature": Meter("T", "T", 0.01),
            "room_temperature": Meter("R", "R", 0.01),
        }
        reduced = steady_readings(
            Held(times, channels), meters, "r", 0.5, chosen=Chosen([(380.0, 399.0)])
        )
        self.assertAlmostEqual(reduced.steady["load_temperature"].value, 45.0, delta=0.1)
        self.assertTrue(reduced.settling.settled)


class NumberedTests(unittest.TestCase):
    def test_points_stay_in_order_beyond_nine(self):
        self.assertEqual(
            curves.numbered({"q10": 10.0, "q2": 2.0, "p1": 5.0, "k": 1.0}, "q"), [2.0, 10.0]
        )
