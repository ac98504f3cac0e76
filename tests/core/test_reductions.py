"""Reductions of the scale, flow bench, drive, free room, outlets, bag, lift and panel rigs."""

import math
import unittest

import numpy as np

from hauch.core.measure.meter import Meter
from hauch.core.measure.procedures import PROCEDURES
from hauch.core.measure.run import NoResult, RunInput
from hauch.core.rig import Bench, Loft140
from hauch.core.rig.room import bag_fill, drive, free_room, outlet_row, panel

CHANNELS_USED = (
    "scale_mass",
    "orifice_pressure",
    "test_depression",
    "torque",
    "tare_torque",
    "speed",
    "air_speed",
    "fill_time",
    "gap",
    "panel_points",
    "static_pressure",
)
PLAIN = {key: Meter(key, key) for key in CHANNELS_USED}


def run(readings, rig=None, meters=None, **more):
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


def reduce(key, *args, **more):
    return PROCEDURES[key].reduce(run(*args, **more))


def turns(places, rounds):
    return [n % places + 1 for n in range(places * rounds)]


class FlowBenchTests(unittest.TestCase):
    RIG = {"orifice": (0.05, 0.0), "orifice_coefficient": (0.61, 0.006)}

    def test_by_hand(self):
        """A = 0.61 pi/4 0.05^2 sqrt(100 / 1500) = 3.0925e-4 m2; the density cancels; 1 % on the
        coefficient is 1 % on the area.
        """
        q = reduce(
            "effective_area", {"orifice_pressure": [100.0], "test_depression": [1500.0]}, self.RIG
        )
        self.assertAlmostEqual(q.value, 3.0925e-4, delta=5e-9)
        self.assertAlmostEqual(q.u / q.value, 0.006 / 0.61, delta=1e-6)

    def test_the_leak_is_taken_off(self):
        """Leak 2e-5 1500^0.65 = 2.32e-3 m3/s of the bench's own, in air of 1.1993 kg/m3."""
        leaky = {**self.RIG, "leak_coefficient": (2e-5, 0.0), "leak_exponent": (0.65, 0.0)}
        tight = reduce(
            "effective_area", {"orifice_pressure": [100.0], "test_depression": [1500.0]}, self.RIG
        )
        less = reduce(
            "effective_area", {"orifice_pressure": [100.0], "test_depression": [1500.0]}, leaky
        )
        leak_area = 2e-5 * 1500**0.65 / math.sqrt(2 * 1500 / 1.1993)
        self.assertAlmostEqual(tight.value - less.value, leak_area, delta=1e-9)

    def test_what_gives_nothing(self):
        with self.assertRaisesRegex(NoResult, "must both be above 0"):
            reduce(
                "effective_area", {"orifice_pressure": [0.0], "test_depression": [1500.0]}, self.RIG
            )
        with self.assertRaisesRegex(NoResult, "bench's own leak"):
            reduce(
                "effective_area",
                {"orifice_pressure": [1.0], "test_depression": [1500.0]},
                {**self.RIG, "leak_coefficient": (1e-3, 0.0), "leak_exponent": (0.65, 0.0)},
            )
        with self.assertRaisesRegex(NoResult, "Enter it in Stores"):
            reduce(
                "effective_area",
                {"orifice_pressure": [1.0], "test_depression": [1500.0]},
                {"orifice": (0.05, 0.0)},
            )


class TunnelLeakTests(unittest.TestCase):
    def test_the_leak_is_put_back_where_the_pressure_was_read(self):
        rig = {
            "bore": (0.1252, 0.0),
            "profile_factor": (0.846, 0.0),
            "leak_coefficient": (1.43e-5, 0.0),
            "leak_exponent": (0.65, 0.0),
        }
        without = reduce("airflow", {"air_speed": [4.0]}, rig)
        with_ = reduce("airflow", {"air_speed": [4.0], "static_pressure": [43.0]}, rig)
        self.assertAlmostEqual(with_.value - without.value, 1.43e-5 * 43**0.65, delta=1e-12)
        self.assertTrue(any("Leak" in step.name for step in with_.working))


class OtherRigTests(unittest.TestCase):
    def test_scale(self):
        """100 g on 145 cm2: 0.1 * 9.80665 / 0.0145 = 67.632 Pa, times 1.2 / 1.1993."""
        q = reduce("plate_pressure", {"scale_mass": [0.1]}, {"plate_area": (0.0145, 0.0)})
        self.assertAlmostEqual(q.value, 67.632 * 1.2 / 1.1993, delta=0.01)
        with self.assertRaisesRegex(NoResult, "nothing or less"):
            reduce("plate_pressure", {"scale_mass": [-0.1]}, {"plate_area": (0.0145, 0.0)})

    def test_shaft(self):
        """2 pi 10 (2.0 - 0.1) = 119.38 W at 600 1/min as read, eight times that at 1,200."""
        readings = {"torque": [2.0], "tare_torque": [0.1], "speed": [600.0]}
        read = reduce("shaft_power", readings, as_read=True)
        self.assertAlmostEqual(read.value, 119.38, delta=0.005)
        one, two = (reduce("shaft_power", readings, common_speed=n).value for n in (600.0, 1200.0))
        self.assertAlmostEqual(two / one, 8)
        with self.assertRaisesRegex(NoResult, "must be above the torque without it"):
            reduce("shaft_power", {"torque": [0.1], "tare_torque": [0.1], "speed": [600.0]})

    def test_one_cell_for_both_torques_cancels_its_offset(self):
        cell = Meter("Q", "cell", accuracy=0.05)
        q = reduce(
            "shaft_power",
            {"torque": [2.0], "tare_torque": [0.1], "speed": [600.0]},
            meters={"torque": cell, "tare_torque": cell},
            as_read=True,
        )
        self.assertLess(q.u, 1e-6)

    def test_bag(self):
        """120 L in 2.4 s are 0.05 m3/s; 1 % on the volume is 1 % on the flow."""
        q = reduce("bag_flow", {"fill_time": [2.4, 2.4]}, {"bag_volume": (0.12, 0.0012)})
        self.assertAlmostEqual(q.value, 0.05, places=9)
        self.assertAlmostEqual(q.u / q.value, 0.01, places=6)

    def test_gap(self):
        self.assertAlmostEqual(reduce("hover_gap", {"gap": [0.002, 0.004]}).value, 0.003)
        with self.assertRaisesRegex(NoResult, "did not lift"):
            reduce("hover_gap", {"gap": [0.0]})


class PlaceTests(unittest.TestCase):
    def test_imbalance(self):
        """4, 5 and 6 m/s: 100 (6 - 4) / 5 = 40 %."""
        q = reduce(
            "imbalance",
            {"air_speed": [4, 5, 6, 4, 5, 6]},
            {"places": (3.0, 0.0)},
            positions={"air_speed": turns(3, 2)},
        )
        self.assertAlmostEqual(q.value, 40.0, places=9)

    def test_even_outlets_that_scatter_say_so(self):
        """Three readings of 1.5 % at each of three even outlets: the mean range is 1.693 / sqrt(3) of
        it, 1.47 %, and is told beside what was found.
        """
        random = np.random.default_rng(3)
        told, notes = [], []
        for _ in range(200):
            q = reduce(
                "imbalance",
                {"air_speed": (5 * (1 + 0.015 * random.standard_normal(9))).tolist()},
                {"places": (3.0, 0.0)},
                positions={"air_speed": turns(3, 3)},
            )
            told.append(q.value)
            notes.append(q.working[-1].note)
        self.assertAlmostEqual(np.mean(told), 1.47, delta=0.1)
        self.assertGreater(sum("may well be even" in note for note in notes), 170)
        clear = reduce(
            "imbalance",
            {"air_speed": [4, 5, 6, 4.01, 5.01, 6.01]},
            {"places": (3.0, 0.0)},
            positions={"air_speed": turns(3, 2)},
        )
        self.assertEqual(clear.working[-1].note, "")

    def test_a_slope_of_the_meter_cancels_in_the_imbalance(self):
        places = {"places": (3.0, 0.0)}
        off = {"air_speed": Meter("V", "V", slope=1.2, slope_u=0.1)}
        q = reduce(
            "imbalance", {"air_speed": [4, 5, 6]}, places, off, positions={"air_speed": turns(3, 1)}
        )
        self.assertAlmostEqual(q.value, 40.0, places=6)
        self.assertLess(q.u, 0.01)

    def test_jet(self):
        q = reduce(
            "jet_speed",
            {"air_speed": [1, 2, 3, 2]},
            {"places": (4.0, 0.0)},
            positions={"air_speed": turns(4, 1)},
        )
        self.assertAlmostEqual(q.value, 2.0, places=9)

    def test_a_place_that_was_left_out_is_named(self):
        with self.assertRaisesRegex(NoResult, "at place 3 of 3"):
            reduce(
                "imbalance",
                {"air_speed": [4, 5]},
                {"places": (3.0, 0.0)},
                positions={"air_speed": [1, 2]},
            )
        with self.assertRaisesRegex(NoResult, "does not say how many places"):
            reduce("imbalance", {"air_speed": [4, 5]}, positions={"air_speed": [1, 2]})

    def test_panel(self):
        """Judges 6, 7 and 8: mean 7, standard error 1 / sqrt(3) with 2 degrees of freedom; a judge
        who scores twice counts once.
        """
        q = reduce(
            "panel_points",
            {"panel_points": [6, 7, 8]},
            {"places": (3.0, 0.0)},
            positions={"panel_points": [1, 2, 3]},
        )
        self.assertAlmostEqual(q.value, 7.0)
        self.assertAlmostEqual(q.u, 1 / math.sqrt(3))
        self.assertAlmostEqual(q.dof, 2.0)
        twice = reduce(
            "panel_points",
            {"panel_points": [6, 7, 8, 6]},
            {"places": (3.0, 0.0)},
            positions={"panel_points": [1, 2, 3, 1]},
        )
        self.assertAlmostEqual(twice.value, 7.0)
        agreed = reduce(
            "panel_points",
            {"panel_points": [7, 7, 7]},
            {"places": (3.0, 0.0)},
            {"panel_points": Meter("cards", "cards", 0.5)},
            positions={"panel_points": [1, 2, 3]},
        )
        self.assertAlmostEqual(agreed.u, 0.5 / 6)  # 0.5 / sqrt(12 * 3)
        with self.assertRaisesRegex(NoResult, "2 of 3 judges"):
            reduce(
                "panel_points",
                {"panel_points": [6, 7]},
                {"places": (3.0, 0.0)},
                positions={"panel_points": [1, 2]},
            )


class VirtualRigTests(unittest.TestCase):
    def test_the_reductions_find_what_the_bench_was_given(self):
        bench = Bench()
        shaft = drive(bench, 46.0, "a")
        q = reduce("shaft_power", {k: v.tolist() for k, v in shaft.items()}, common_speed=620.0)
        self.assertAlmostEqual(q.value, 46.0, delta=0.6)
        row = outlet_row(bench, (1.08, 0.98, 0.94), "b")
        found = reduce(
            "imbalance",
            {"air_speed": row.tolist()},
            {"places": (3.0, 0.0)},
            positions={"air_speed": turns(3, 3)},
        )
        self.assertAlmostEqual(found.value, 14.0, delta=4.0)
        points = reduce(
            "panel_points",
            {"panel_points": panel(bench, 7.0, "c").tolist()},
            {"places": (5.0, 0.0)},
            positions={"panel_points": turns(5, 1)},
        )
        self.assertAlmostEqual(points.value, 7.0, delta=1.0)

    def test_more_fan_fills_faster_and_blows_harder(self):
        bench = Bench()
        more = Loft140.changed("more", flow=1.2)
        self.assertLess(
            bag_fill(bench, more, "x", 0.0).mean(), bag_fill(bench, Loft140, "x", 0.0).mean()
        )
        self.assertGreater(
            free_room(bench, more, "x", 0.0).mean(), free_room(bench, Loft140, "x", 0.0).mean()
        )
        self.assertEqual(
            free_room(bench, Loft140, "x", 0.0).tolist(),
            free_room(bench, Loft140, "x", 0.0).tolist(),
        )
