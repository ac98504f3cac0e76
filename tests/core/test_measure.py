"""From readings to comparable quantities: meters, laws, tunnel, procedures."""

import math
import unittest
from dataclasses import replace

from hypothesis import given
from hypothesis import strategies as st

from hauch.core.measure import laws, tunnel
from hauch.core.measure.channels import CHANNELS, ReadingImpossible, check_reading
from hauch.core.measure.meter import Meter, read
from hauch.core.measure.procedures import PROCEDURES, channels_of, fed_by
from hauch.core.measure.run import NoResult, RunInput

PLAIN = {key: Meter(key, key) for key in CHANNELS}


def run(readings, meters=None, rig=None, **more):
    return RunInput(
        "7",
        readings,
        {**PLAIN, **(meters or {})},
        rig or {},
        "rig:1",
        20.0,
        101_325.0,
        50.0,
        **more,
    )


class FanLawTests(unittest.TestCase):
    @given(
        st.sampled_from(list(laws.TABLE.values())),
        st.floats(0.5, 2),
        st.floats(0.8, 1.2),
    )
    def test_scaling_there_and_back_is_exact(self, law, faster, thinner):
        there = law.scaled(20.0, faster, thinner)
        self.assertAlmostEqual(law.scaled(there, 1 / faster, 1 / thinner), 20.0, places=9)

    def test_the_table_of_the_standard(self):
        """ISO 5801, 15.3: Q ~ n, p ~ rho n2, P ~ rho n3; double speed, air 10 % denser."""
        for name, expected in (
            ("volume flow", 2.0),
            ("air speed", 2.0),
            ("fan pressure", 4.4),
            ("thrust", 4.4),
            ("shaft power", 8.8),
            ("electrical power", 8.8),
            ("loss of a part", 1.1),
        ):
            with self.subTest(name):
                self.assertAlmostEqual(laws.TABLE[name].scaled(1.0, 2.0, 1.1), expected)

    def test_every_figure_that_goes_with_the_air_is_brought_to_standard_air(self):
        """A warm day at 500 m: all that goes with density is told for 1.2 kg/m3, by one step."""
        air = {"temperature": 30.0, "pressure": 95_000.0, "humidity": 50.0}
        for key, readings, rig, law in (
            ("electrical_power", {"power": [4.0]}, {}, laws.ELECTRICAL_POWER),
            ("static_pressure", {"static_pressure": [40.0]}, {}, laws.PRESSURE),
            ("thrust", {"scale_mass": [0.2]}, {}, laws.FORCE),
            ("plate_pressure", {"scale_mass": [0.2]}, {"plate_area": (0.01, 0.0)}, laws.PRESSURE),
            (
                "shaft_power",
                {"torque": [2.0], "tare_torque": [0.1], "speed": [600.0]},
                {},
                laws.SHAFT_POWER,
            ),
        ):
            one = replace(run(readings, rig=rig), **air)
            figure = PROCEDURES[key].reduce(one)
            read = PROCEDURES[key].reduce(replace(one, as_read=True))
            ratio = 1.2 / one.density().value
            with self.subTest(key):
                self.assertGreater(ratio, 1.08)
                self.assertAlmostEqual(figure.value / read.value, law.scaled(1.0, 1.0, ratio))
                steps = [step.name for step in figure.working]
                self.assertEqual(steps.count("To standard air"), 1)
                self.assertNotIn("To standard air", [step.name for step in read.working])

    def test_power_of_a_warm_day_is_that_of_a_cold_one(self):
        """The same rotor at the same speed, P ~ rho: 4.2 % between the days before."""
        cold = replace(run({"power": [4.0]}), temperature=15.0)
        warm = replace(cold, temperature=28.0)
        thinner = warm.density().value / cold.density().value
        warm = replace(warm, readings={"power": [4.0 * thinner]})
        self.assertLess(thinner, 0.96)
        power = PROCEDURES["electrical_power"].reduce
        self.assertAlmostEqual(power(warm).value / power(cold).value, 1.0, places=9)


class TunnelTests(unittest.TestCase):
    def test_pitot_by_hand(self):
        """sqrt(2 * 10 / 1.2) = 4.08 m/s."""
        self.assertAlmostEqual(tunnel.pitot_speed(10.0, 1.2), 4.08, delta=0.005)

    def test_points_integrate_a_turbulent_profile(self):
        """Power law v = (1 - r/R)^(1/7): mean over centre 2 n2 / ((n + 1)(2 n + 1)) = 98/120 (H.
        Schlichting, Boundary-Layer Theory, 20.2).
        """
        for name, points in (
            ("linear", tunnel.LOG_LINEAR),
            ("Tchebycheff", tunnel.LOG_TCHEBYCHEFF),
        ):
            for count, radii in points.items():
                with self.subTest(name, count=count):
                    self.assertAlmostEqual(
                        tunnel.traverse_mean([(1 - r) ** (1 / 7) for r in radii]),
                        98 / 120,
                        delta=0.006,
                    )

    def test_plug_flow_and_too_few_points(self):
        self.assertEqual(tunnel.traverse_mean([3.0, 3.0, 3.0]), 3.0)
        with self.assertRaisesRegex(ValueError, "at least 3 points, got 2"):
            tunnel.traverse_mean([3.0, 3.0])

    def test_impossible_geometry(self):
        with self.assertRaisesRegex(ValueError, "bore must be above 0 m"):
            tunnel.round_area(-0.1)
        with self.assertRaisesRegex(ValueError, "swap the two tubes"):
            tunnel.pitot_speed(-1.0, 1.2)


class MeterTests(unittest.TestCase):
    def test_doubt_of_one_reading_by_hand(self):
        """Resolution 0.1 -> 0.1/sqrt(12) = 0.0289; accuracy 0.5 -> 0.5/sqrt(3) = 0.2887 (JCGM 100,
        F.2.2.1 and 4.3.7).
        """
        q = read("static_pressure", [42.0], Meter("M", "M", resolution=0.1, accuracy=0.5), "7")
        parts = {cause.key: part for cause, part in q.parts.items()}
        self.assertAlmostEqual(parts["run:7:static_pressure:resolution"], 0.0289, delta=5e-5)
        self.assertAlmostEqual(parts["meter:M:accuracy"], 0.2887, delta=5e-5)

    def test_scatter_of_the_mean(self):
        """Readings 1, 2, 3: s = 1, s/sqrt(3) = 0.577 with 2 degrees of freedom."""
        q = read("static_pressure", [1.0, 2.0, 3.0], Meter("M", "M"), "7")
        self.assertAlmostEqual(q.u, 0.577, delta=5e-4)
        self.assertAlmostEqual(q.dof, 2.0, places=6)

    def test_correlated_samples_count_for_fewer(self):
        dense = read(
            "static_pressure", [1.0, 2.0, 3.0] * 100, Meter("M", "M"), "7", correlation=100.0
        )
        self.assertAlmostEqual(dense.u, 0.577 * math.sqrt(2 / 3), delta=0.01)

    def test_calibration_is_applied_and_shown(self):
        q = read("air_speed", [4.0], Meter("V", "vane", slope=0.99, offset=0.02), "7")
        self.assertAlmostEqual(q.value, 3.98, places=9)
        self.assertEqual(q.working[-1].name, "Air speed: vane corrected")

    def test_levels_are_averaged_by_energy(self):
        self.assertAlmostEqual(
            read("sound_level", [40.0, 50.0], Meter("S", "S"), "7").value, 47.4, delta=0.05
        )

    def test_no_reading_is_an_error(self):
        with self.assertRaisesRegex(ValueError, "Air speed: no reading"):
            read("air_speed", [], Meter("V", "V"), "7")


class ReadingTests(unittest.TestCase):
    def test_impossible_readings_say_why(self):
        for key, value, words in (
            ("air_speed", -0.5, "cannot be; a bench reads between 0 and 120 m/s"),
            ("air_speed", math.nan, "is not a reading"),
            ("sound_level", 250.0, "decimal mark"),
            ("current", math.inf, "is not a reading"),
        ):
            with self.subTest(key, value=value), self.assertRaisesRegex(ReadingImpossible, words):
                check_reading(CHANNELS[key], value)

    def test_zero_is_possible_where_it_can_be_true(self):
        self.assertEqual(check_reading(CHANNELS["air_speed"], 0.0), 0.0)


class AirflowTests(unittest.TestCase):
    RIG = {"bore": (0.1252, 0.0001), "profile_factor": (0.846, 0.0076)}

    def test_by_hand(self):
        """0.846 * pi/4 * 0.1252^2 * 3.75 = 0.03906 m3/s; relative doubt of profile and bore 0.90 %."""
        q = PROCEDURES["airflow"].reduce(run({"air_speed": [3.75]}, rig=self.RIG))
        self.assertAlmostEqual(q.value, 0.03906, delta=5e-6)
        self.assertAlmostEqual(
            q.u / q.value, math.hypot(0.0076 / 0.846, 2 * 0.0001 / 0.1252), delta=1e-5
        )

    def test_to_a_common_speed(self):
        slow = run({"air_speed": [3.75], "speed": [1800.0]}, rig=self.RIG, common_speed=1900.0)
        plain = run({"air_speed": [3.75]}, rig=self.RIG)
        self.assertAlmostEqual(
            PROCEDURES["airflow"].reduce(slow).value / PROCEDURES["airflow"].reduce(plain).value,
            19 / 18,
            places=9,
        )

    def test_common_speed_without_a_speed_says_so(self):
        with self.assertRaisesRegex(NoResult, "the speed was not read"):
            PROCEDURES["airflow"].reduce(
                run({"air_speed": [3.75]}, rig=self.RIG, common_speed=1900.0)
            )

    def test_standstill_is_no_result(self):
        with self.assertRaisesRegex(NoResult, "did not finish"):
            PROCEDURES["airflow"].reduce(
                run({"air_speed": [0.0], "speed": [0.0]}, rig=self.RIG, common_speed=1900.0)
            )

    def test_pitot_and_hot_wire(self):
        """Pitot: sqrt(2 * 10 / 1.1993) = 4.0837 m/s; a hot wire adjusted at 1.2 reads 1.1993/1.2
        too low.
        """
        area = math.pi / 4 * 0.1252**2 * 0.846
        pitot = PROCEDURES["airflow"].reduce(run({"pitot_pressure": [10.0]}, rig=self.RIG))
        self.assertAlmostEqual(pitot.value / area, 4.0837, delta=5e-4)
        wire = run(
            {"air_speed": [4.0]}, {"air_speed": Meter("H", "wire", principle="hot_wire")}, self.RIG
        )
        self.assertAlmostEqual(
            PROCEDURES["airflow"].reduce(wire).value / area, 4.0 * 1.2 / 1.1993, delta=5e-4
        )

    def test_traverse_replaces_the_profile_factor(self):
        speeds, positions = [3.0, 3.0, 4.0, 4.0, 5.0, 5.0], [1, 1, 2, 2, 3, 3]
        q = PROCEDURES["airflow"].reduce(
            run(
                {"air_speed": speeds},
                rig={"bore": (0.1252, 0.0)},
                positions={"air_speed": positions},
            )
        )
        self.assertAlmostEqual(q.value, math.pi / 4 * 0.1252**2 * 4.0, places=9)

    def test_rig_constant_missing_says_where_to_enter_it(self):
        with self.assertRaisesRegex(
            NoResult, "profile factor of the tube is not known. Enter it in Stores"
        ):
            PROCEDURES["airflow"].reduce(run({"air_speed": [3.75]}, rig={"bore": (0.1252, 0.0)}))


class OtherProcedureTests(unittest.TestCase):
    def test_pressure_to_standard_air(self):
        """42.0 Pa in air of 1.1993 kg/m3 are 42.02 Pa in air of 1.2."""
        q = PROCEDURES["static_pressure"].reduce(run({"static_pressure": [42.0]}))
        self.assertAlmostEqual(q.value, 42.0 * 1.2 / 1.1993, delta=0.005)

    def test_noise_carries_the_meters_error_once(self):
        meter = Meter("S", "S", accuracy=1.0)
        q = PROCEDURES["sound_level"].reduce(
            run(
                {"sound_level": [52.0], "background_level": [46.5]},
                {"sound_level": meter, "background_level": meter},
            )
        )
        self.assertAlmostEqual(q.value, 50.6, delta=0.05)
        self.assertAlmostEqual(
            q.u, 1 / math.sqrt(3), delta=0.01
        )  # a shift of both readings shifts the result as much

    def test_noise_without_background_and_with_a_loud_one(self):
        with self.assertRaisesRegex(NoResult, "background level was not read"):
            PROCEDURES["sound_level"].reduce(run({"sound_level": [52.0]}))
        with self.assertRaisesRegex(NoResult, "upper limit"):
            PROCEDURES["sound_level"].reduce(
                run({"sound_level": [52.0], "background_level": [51.0]})
            )

    def test_noise_that_stands_clear_by_just_enough(self):
        """ISO 3746, 4.2: 3 dB are enough: 50.0 over 47.0 is 46.98, and 50.1 over 47.1, which is a
        little less than 3 in binary.
        """
        for level, background in ((50.0, 47.0), (50.1, 47.1)):
            q = PROCEDURES["sound_level"].reduce(
                run(
                    {
                        "sound_level": [level, level + 0.1, level - 0.1],
                        "background_level": [background],
                    }
                )
            )
            self.assertAlmostEqual(q.value, level - 3.02, delta=0.005)
            self.assertGreater(q.u, 0)

    def test_noise_at_the_reporting_distance(self):
        given_ = run(
            {"sound_level": [60.0], "background_level": [20.0]},
            rig={"distance": (0.5, 0.0)},
            reporting_distance=1.0,
        )
        self.assertAlmostEqual(PROCEDURES["sound_level"].reduce(given_).value, 53.98, delta=0.005)

    def test_rise(self):
        q = PROCEDURES["temperature_rise"].reduce(
            run({"load_temperature": [61.7], "room_temperature": [22.7]})
        )
        self.assertAlmostEqual(q.value, 39.0, places=9)

    def test_power_without_standby(self):
        """12.04 V * 0.412 A - 0.42 W = 4.54 W, as read."""
        bare = run({"voltage": [12.04], "current": [0.412]}, rig={"standby_power": (0.42, 0.01)})
        q = PROCEDURES["electrical_power"].reduce(replace(bare, as_read=True))
        self.assertAlmostEqual(q.value, 4.54, delta=0.005)
        self.assertAlmostEqual(q.u, 0.01, delta=1e-6)

    def test_power_of_nothing_is_refused(self):
        with self.assertRaisesRegex(NoResult, "comes out as"):
            PROCEDURES["electrical_power"].reduce(run({"voltage": [12.0], "current": [0.0]}))

    def test_missing_meter_says_where_to_choose_one(self):
        bare = replace(run({"static_pressure": [42.0]}), meters={})
        with self.assertRaisesRegex(NoResult, "No meter is set for static pressure"):
            PROCEDURES["static_pressure"].reduce(bare)

    def test_what_feeds_a_procedure(self):
        power = PROCEDURES["electrical_power"]
        self.assertTrue(fed_by(power, {"power"}))
        self.assertFalse(fed_by(power, {"voltage"}))
        self.assertEqual(
            channels_of(power),
            ("voltage", "current", "power", "speed", "speed_2", "speed_3", "speed_4"),
        )
