"""The virtual bench obeys the laws that the analysis assumes, and repeats itself."""

import math
import unittest

import numpy as np
from hypothesis import given
from hypothesis import strategies as st

from hauch.core.measure.meter import Meter
from hauch.core.measure.procedures import PROCEDURES
from hauch.core.measure.run import RunInput
from hauch.core.rig import Bench, Faults, Loft140, Shift
from hauch.core.rig.fan import block_conductance
from hauch.core.rig.live import LiveRig


class FanTests(unittest.TestCase):
    @given(st.floats(900, 2600), st.floats(1.05, 1.3))
    def test_fan_laws_hold_exactly(self, speed, density):
        """ISO 5801, 15.3, at the same flow coefficient."""
        share = speed / 1900
        self.assertAlmostEqual(
            Loft140.pressure(0.04 * share, speed, density),
            Loft140.pressure(0.04, 1900, 1.2) * share**2 * density / 1.2,
            places=9,
        )
        self.assertAlmostEqual(
            Loft140.level_at(speed) - Loft140.level_at(1900), 50 * math.log10(share), places=9
        )

    def test_working_point_lies_on_both_curves(self):
        flow = Loft140.working_flow(23_500, 1900, 1.2)
        self.assertAlmostEqual(Loft140.pressure(flow, 1900, 1.2), 23_500 * flow**2, places=6)

    def test_no_perpetual_motion(self):
        for flow in np.linspace(0.001, 0.066, 40):
            self.assertLess(
                Loft140.pressure(flow, 1900, 1.2) * flow, Loft140.power(flow, 1900, 1.2)
            )

    def test_curve_has_a_stall_dip(self):
        pressures = [Loft140.pressure(q * 0.068, 1900, 1.2) for q in (0.36, 0.45, 0.55)]
        self.assertLess(pressures[1], (pressures[0] + pressures[2]) / 2)


class BenchTests(unittest.TestCase):
    bench = Bench(shift=Shift(speed_per_hour=0.0))

    def test_same_run_reads_the_same(self):
        one, two = self.bench.tunnel(Loft140, "a", 1.0), self.bench.tunnel(Loft140, "a", 1.0)
        self.assertTrue(np.array_equal(one["air_speed"], two["air_speed"]))
        self.assertFalse(
            np.array_equal(one["air_speed"], self.bench.tunnel(Loft140, "b", 1.0)["air_speed"])
        )

    def test_analysis_finds_the_true_flow_within_its_doubt(self):
        meters = {
            "air_speed": Meter("V", "V", 0.01, 0.02, 0.015, slope=1 / 1.006, slope_u=0.004),
            "speed": Meter("D", "D", 1.0),
        }
        inside = 0
        for number in range(60):
            room = self.bench.room(2.0)
            readings = self.bench.tunnel(Loft140, str(number), 2.0)
            given_ = RunInput(
                str(number),
                readings,
                meters,
                {"bore": (0.1252, 0.0001), "profile_factor": (0.846, 0.004)},
                "rig",
                room.temperature,
                room.pressure,
                room.humidity,
                common_speed=1900.0,
            )
            q = PROCEDURES["airflow"].reduce(given_)
            inside += (
                abs(q.value - Loft140.working_flow(self.bench.resistance, 1900.0, room.density))
                < q.expanded
            )
        self.assertGreaterEqual(inside, 57)

    def test_soak_faults_appear_where_asked(self):
        times, channels = self.bench.hot_block(
            Loft140, "s", 0.0, faults=Faults(dropout=(10, 15), spike=30, cut_short=0.5)
        )
        self.assertEqual(times.size, 450)
        self.assertEqual(
            np.flatnonzero(np.isnan(channels["load_temperature"])).tolist(), [10, 11, 12, 13, 14]
        )
        self.assertEqual(channels["load_temperature"][30], 151.3)

    def test_background_on_request(self):
        quiet, loud = (
            self.bench.sound_spot(Loft140, "n", 0.0),
            self.bench.sound_spot(Loft140, "n", 0.0, faults=Faults(background=20)),
        )
        self.assertGreater(loud["background_level"].mean(), quiet["background_level"].mean() + 15)


class LiveBenchTests(unittest.TestCase):
    """The bench that goes on shows what the bench of the demo's history has read, so that a live
    part stands beside an old one.
    """

    @classmethod
    def setUpClass(cls):
        cls.bench, cls.live = Bench(), LiveRig(load_seconds=20.0)
        cls.live.start(0.0)
        cls.live.set_throttle(100.0)
        cls.live.advance(240.0)

    def shown(self, channel):
        values = self.live.since(channel, self.live.tick - 500)[1]
        return float(np.mean(values))

    def test_air_speed_noise_and_power(self):
        self.assertAlmostEqual(
            self.shown("air_speed") / self.bench.tunnel(Loft140, "a", 1.0)["air_speed"].mean(),
            1.0,
            delta=0.03,
        )
        self.assertAlmostEqual(
            self.shown("sound_level"),
            self.bench.sound_spot(Loft140, "a", 1.0)["sound_level"].mean(),
            delta=1.5,
        )
        supply = self.bench.supply(Loft140, "a", 1.0)
        drawn = (
            float(np.mean(np.asarray(supply["voltage"]) * np.asarray(supply["current"]))) - 0.42
        )  # its own supply stands by
        self.assertAlmostEqual(self.shown("power") / drawn, 1.0, delta=0.06)

    def test_rise_of_the_hot_block(self):
        _, channels = self.bench.hot_block(Loft140, "a", 1.0)
        old = np.nanmean(channels["load_temperature"][-60:] - channels["room_temperature"][-60:])
        self.assertAlmostEqual(
            (self.shown("load_temperature") - self.shown("room_temperature")) / old, 1.0, delta=0.05
        )

    def test_still_air_cools_too(self):
        self.assertEqual(block_conductance(0.0), 0.6)
        self.assertEqual(block_conductance(-1.0), 0.6)
        self.assertAlmostEqual(block_conductance(0.0427), 2.99, places=9)
        self.assertAlmostEqual(
            block_conductance(2 * 0.0427) / block_conductance(0.0427), 2**0.7, places=9
        )
