"""A sweep is a list of states: each of its points is reduced by the function that reduces a plain
run of the same readings, so a figure has one path.
"""

import math
import unittest
from dataclasses import replace

import numpy as np
from hypothesis import given, settings
from hypothesis import strategies as st

from hauch.core.measure import sweeps
from hauch.core.measure.meter import Meter
from hauch.core.measure.procedures import PROCEDURES
from hauch.core.measure.rigs import brake, chamber, drive, flow_bench, power, sound_spot, tunnel
from hauch.core.measure.run import RunInput
from hauch.core.quantity import Quantity

RIG = {
    "orifice": (0.08, 0.0001),
    "orifice_coefficient": (0.61, 0.005),
    "bore": (0.1252, 0.0001),
    "profile_factor": (0.846, 0.004),
    "standby_power": (0.4, 0.02),
    "leak_coefficient": (4e-4, 2e-5),
    "leak_exponent": (0.62, 0.01),
    "distance": (0.5, 0.005),
    "system_exponent": (2.0, 0.0),
    "gear": (1.0, 0.0),
    "pressure_exponent": (1.2, 0.0),
    "temperature_exponent": (0.6, 0.0),
}
READINGS = {
    "air_speed": 3.1,
    "pitot_pressure": 6.0,
    "static_pressure": 38.0,
    "orifice_pressure": 60.0,
    "test_depression": 400.0,
    "power": 5.2,
    "sound_level": 47.0,
    "background_level": 31.0,
    "torque": 0.21,
    "tare_torque": 0.04,
    "speed": 1800.0,
    "second_speed": 1790.0,
    "intake_temperature": 31.0,
    "intake_pressure": 96_200.0,
}
FLOW = ("air_speed", "static_pressure")
PLAIN = {
    "flow": (tunnel.airflow, (*FLOW, "speed")),
    "flow from a pitot tube": (tunnel.airflow, ("pitot_pressure", "static_pressure", "speed")),
    "flow without the pressure": (tunnel.airflow, ("air_speed", "speed")),
    "power": (power.electrical_power, ("power", "speed")),
    "level": (sound_spot.sound_level, ("sound_level", "background_level")),
    "pressure": (chamber.static_pressure, ("static_pressure", "speed")),
    "flow of a chamber": (
        chamber.chamber_flow,
        ("orifice_pressure", "static_pressure", "speed"),
    ),
    "flow of a bench": (flow_bench.bench_flow, ("orifice_pressure", "test_depression")),
    "loss of a bench": (flow_bench.bench_loss, ("test_depression",)),
    "shaft power": (drive.shaft_power, ("torque", "tare_torque", "speed")),
    "speed": (RunInput.rotor_speed, ("speed", "second_speed")),
    "power of a machine": (
        brake.power_out,
        ("torque", "speed", "intake_temperature", "intake_pressure"),
    ),
    "torque of a machine": (brake.torque_out, ("torque", "speed")),
}
"""Each reduction that a sweep uses, with what it reads."""


def run_of(channels, values, *, principle="", point=0, common_speed=None, **more):
    """A run with two readings of each channel; as the given point of a sweep where there is one."""
    readings = {key: [values[key], values[key] * 1.01] for key in channels}
    meters = {
        key: Meter(key, key, 1e-3, 0.0, 0.005, principle=principle if key == "air_speed" else "")
        for key in channels
    }
    positions = (
        {key: [point, point] for key in channels if key not in sweeps.SHARED} if point else {}
    )
    return RunInput(
        "r",
        readings,
        meters,
        RIG,
        "rig:1",
        26.0,
        97_000.0,
        50.0,
        positions=positions,
        common_speed=common_speed,
        reporting_distance=1.0,
        **more,
    )


def shape(figure: Quantity):
    """Value, doubt and its causes by their names; identities of a point's own causes carry its
    number.
    """
    return (
        figure.value,
        figure.u,
        sorted((cause.name, cause.scope, part) for cause, part in figure.parts.items()),
    )


class OnePointTests(unittest.TestCase):
    @given(
        st.floats(0.5, 2.0),
        st.sampled_from(["", "hot_wire"]),
        st.sampled_from([None, 1900.0]),
    )
    @settings(max_examples=25, deadline=None)
    def test_a_sweep_of_one_point_equals_the_plain_procedure(self, scale, principle, common_speed):
        values = {
            key: value * (scale if key not in {"sound_level", "background_level"} else 1.0)
            for key, value in READINGS.items()
        }
        for name, (reduce, channels) in PLAIN.items():
            plain = reduce(run_of(channels, values, principle=principle, common_speed=common_speed))
            swept = run_of(
                channels, values, principle=principle, point=1, common_speed=common_speed
            )
            (state,) = sweeps.stands(
                swept, *(c for c in channels if c not in sweeps.SHARED)
            ).values()
            self.assertEqual(shape(reduce(state)), shape(plain), name)

    def test_every_procedure_of_points_is_named_here(self):
        self.assertEqual(
            {key for key, p in PROCEDURES.items() if p.by_point},
            {
                *("fan_curve", "loss_at_flow", "flow_at_power", "flow_at_noise", "shaft_curve"),
                "noise_at_flow",
                *("power_delivered", "torque_delivered", "peak_power"),
            },
        )


def swept(channels, rows, rig=None, **more):
    """A sweep of so many points."""
    readings = {key: [float(v) for v in rows[key] for _ in range(2)] for key in channels}
    positions = {
        key: [n for n in range(1, len(rows[key]) + 1) for _ in range(2)]
        for key in channels
        if key not in sweeps.SHARED
    }
    meters = {
        key: Meter(key, key, 1e-3, 0.0, 0.005, principle="hot_wire" if key == "air_speed" else "")
        for key in channels
    }
    return RunInput(
        "r",
        readings,
        meters,
        RIG | (rig or {}),
        "rig:1",
        26.0,
        97_000.0,
        50.0,
        positions=positions,
        **more,
    )


def point_of(run, number):
    """The readings of one point as a plain run."""
    taken = {
        key: [v for v, n in zip(values, run.positions.get(key, ()), strict=False) if n == number]
        for key, values in run.readings.items()
    }
    return replace(
        run, readings={key: taken[key] or run.readings[key] for key in run.readings}, positions={}
    )


class FigureTests(unittest.TestCase):
    """Read at one of its points, the figure of a sweep is the plain figure of that point: with hot
    wire, leak and standby.
    """

    SPEEDS = np.array([1200.0, 1500.0, 1800.0])

    def test_flow_at_equal_power(self):
        rows = {
            "air_speed": self.SPEEDS / 450,
            "static_pressure": 40 * (self.SPEEDS / 1800) ** 2,
            "power": 0.4 + 4.0 * (self.SPEEDS / 1800) ** 3,
        }
        run = swept(rows, rows)
        run = replace(run, equal=4.0 * (1500 / 1800) ** 3 * 1.2 / run.density().value)
        plain = tunnel.airflow(point_of(run, 2))
        self.assertAlmostEqual(tunnel.flow_at_power(run).value / plain.value, 1, places=9)
        names = " ".join(step.name for step in tunnel.flow_at_power(run).working)
        for step in (
            "Point 2: hot wire to the room's air",
            "Point 2: leak of the rig put back",
            "Point 2: standby taken off",
            "Point 2: to standard air",
        ):
            self.assertIn(step, names)

    def test_hot_wire_and_leak_move_it_as_they_move_the_plain_figure(self):
        """Room air thinner than the 1.2 kg/m3 that the hot wire was calibrated in, and C Δp^n that
        leaks before the sensor, on top of k π/4 d² v.
        """
        rows = {
            "air_speed": self.SPEEDS / 450,
            "static_pressure": 40 * (self.SPEEDS / 1800) ** 2,
            "power": 0.4 + 4.0 * (self.SPEEDS / 1800) ** 3,
        }
        run = swept(rows, rows)
        density = run.density().value
        run = replace(run, equal=4.0 * (1500 / 1800) ** 3 * 1.2 / density)
        bare = 0.846 * math.pi / 4 * 0.1252**2 * 1500 / 450
        by_hand = bare * 1.2 / density + 4e-4 * (40 * (1500 / 1800) ** 2) ** 0.62
        self.assertAlmostEqual(tunnel.flow_at_power(run).value / by_hand, 1, places=6)
        self.assertGreater(by_hand / bare, 1.05)

    def test_flow_at_equal_noise(self):
        level = 10 * np.log10(10 ** ((48 + 50 * np.log10(self.SPEEDS / 1800)) / 10) + 10**2.5)
        rows = {
            "air_speed": self.SPEEDS / 450,
            "static_pressure": 40 * (self.SPEEDS / 1800) ** 2,
            "sound_level": level,
            "background_level": np.full(3, 25.0),
        }
        run = swept(rows, rows, reporting_distance=1.0)
        heard = sound_spot.sound_level(point_of(run, 2)).value
        self.assertAlmostEqual(
            tunnel.flow_at_noise(replace(run, equal=heard)).value
            / tunnel.airflow(point_of(run, 2)).value,
            1,
            places=9,
        )

    def test_operating_point_of_a_chamber_that_leaks(self):
        flows = np.array([0.02, 0.03, 0.04, 0.05])
        rows = {
            "static_pressure": 60 - 30 * flows / 0.05,
            "orifice_pressure": 0.56 * (flows / (0.61 * math.pi / 4 * 0.08**2)) ** 2,
        }
        run = swept(rows, rows)
        q, p = (
            reduce(point_of(run, 3)).value
            for reduce in (chamber.chamber_flow, chamber.static_pressure)
        )
        met = chamber.fan_flow(swept(rows, rows, {"system_resistance": (p / q**2, 0.0)}))
        self.assertAlmostEqual(met.value / q, 1, places=7)
        tight = chamber.fan_flow(
            swept(
                rows, rows, {"system_resistance": (p / q**2, 0.0), "leak_coefficient": (0.0, 0.0)}
            )
        )
        self.assertLess(tight.value, met.value)

    def test_loss_at_the_flow_of_a_point(self):
        flows = np.array([0.02, 0.028, 0.036])
        rows = {
            "orifice_pressure": 0.56 * (flows / (0.61 * math.pi / 4 * 0.08**2)) ** 2,
            "test_depression": 3e5 * flows**1.9,
        }
        tight = {"leak_coefficient": (0.0, 0.0)}
        run = swept(rows, rows, tight)
        agreed = flow_bench.bench_flow(point_of(run, 2)).value
        figure = flow_bench.loss_at_flow(swept(rows, rows, tight | {"agreed_flow": (agreed, 0.0)}))
        self.assertAlmostEqual(
            figure.value / flow_bench.bench_loss(point_of(run, 2)).value, 1, places=6
        )

    def test_shaft_power_at_the_speed_of_a_point(self):
        rows = {
            "torque": 0.05 + 0.2 * (self.SPEEDS / 1800) ** 2,
            "tare_torque": np.full(3, 0.05),
            "speed": self.SPEEDS,
        }
        run = swept(rows, rows)
        figure = drive.shaft_power_at_speed(replace(run, common_speed=1500.0))
        self.assertAlmostEqual(
            figure.value / drive.shaft_power(point_of(run, 2)).value, 1, places=6
        )

    def test_a_channel_that_lacks_at_a_point_is_not_used_at_the_others(self):
        rows = {
            "air_speed": self.SPEEDS / 450,
            "static_pressure": np.array([20.0, 30.0, 40.0]),
            "power": 4.0 * (self.SPEEDS / 1800) ** 3,
        }
        run = swept(rows, rows, equal=2.0)
        short = replace(
            run,
            readings=dict(run.readings) | {"static_pressure": run.readings["static_pressure"][:4]},
            positions=dict(run.positions)
            | {"static_pressure": run.positions["static_pressure"][:4]},
        )
        names = " ".join(step.name for step in tunnel.flow_at_power(short).working)
        self.assertNotIn("leak of the rig", names)
