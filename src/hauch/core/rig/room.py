"""More rigs of the virtual bench: outlets, bag, free room, drive, panel. Physics and scatter as in
`bench`.

References
----------
Free jet: centre speed v0 6.2 D / x beyond the core, Gaussian across with a half-width of about 0.1
    x: N. Rajaratnam,
Turbulent Jets, Elsevier 1976, chapter 2.
"""

from __future__ import annotations

import math
from collections.abc import Sequence

import numpy as np

from hauch.core.rig.bench import Bench
from hauch.core.rig.fan import Fan

OPEN = 900.0
"""Loss of an open room [Pa s2/m6]."""


def outlet_row(
    bench: Bench, shares: Sequence[float], run: str, rounds: int = 3, mean: float = 4.2
) -> np.ndarray:
    """Air speed [m/s] at outlets in turn, ``rounds`` times over; ``shares`` of the mean speed."""
    random = bench.random(run)
    mounted = np.asarray(shares) * (1 + 0.006 * random.standard_normal(len(shares)))
    speeds = mean * mounted * bench.true_errors["air_speed"]
    return np.round(
        np.tile(speeds, rounds) * (1 + 0.008 * random.standard_normal(rounds * len(shares))), 2
    )


def bag_fill(
    bench: Bench, fan: Fan, run: str, hours: float, volume: float = 0.12, count: int = 3
) -> np.ndarray:
    """Seconds in which a bag fills, by hand with a stopwatch."""
    random = bench.random(run)
    flow = fan.working_flow(OPEN, fan.speed, bench.room(hours).density)
    return np.round(
        volume / flow * (1 + 0.004 * random.standard_normal())
        + 0.06 * random.standard_normal(count),
        2,
    )


def free_room(
    bench: Bench,
    fan: Fan,
    run: str,
    hours: float,
    places: int = 9,
    rounds: int = 2,
    distance: float = 1.0,
    wide: float = 1.0,
) -> np.ndarray:
    """Air speed [m/s] over a square grid of places at a distance; ``wide`` spreads the jet of a
    ring.
    """
    random = bench.random(run)
    diameter = 0.136
    start = fan.working_flow(OPEN, fan.speed, bench.room(hours).density) / (
        math.pi / 4 * diameter**2
    )
    centre = start * min(6.2 * diameter / distance, 1.0) / wide
    side = math.isqrt(places)
    at = (np.arange(side) - (side - 1) / 2) * 0.14
    radius = np.hypot(*np.meshgrid(at, at)).ravel()
    speeds = centre * np.exp(-np.log(2) * (radius / (0.1 * distance * wide)) ** 2) + 0.15
    return np.round(
        np.tile(speeds, rounds)
        * (1 + 0.02 * random.standard_normal(rounds * places))
        * bench.true_errors["air_speed"],
        2,
    )


def drive(
    bench: Bench, power: float, run: str, speed: float = 620.0, count: int = 6
) -> dict[str, np.ndarray]:
    """Shaft torque with and without the part [N m] and speed [1/min]; ``power`` absorbed at
    ``speed`` [W].
    """
    random = bench.random(run)
    turning = speed * (1 + 0.002 * random.standard_normal())
    torque = power * (turning / speed) ** 3 / (2 * math.pi * turning / 60)
    tare = 0.085
    return {
        "torque": np.round(torque + tare + 0.0015 * random.standard_normal(count), 3),
        "tare_torque": np.round(tare + 0.0010 * random.standard_normal(count), 3),
        "speed": np.round(turning + 0.8 * random.standard_normal(count)),
    }


def panel(bench: Bench, quality: float, run: str, judges: int = 5) -> np.ndarray:
    """Points of each judge, in steps of a half from 0 to 10; every judge is as strict in every run."""
    strict = bench.random("judges").normal(0.0, 0.6, judges)
    points = quality + strict + bench.random(run).normal(0.0, 0.5, judges)
    return np.clip(np.round(2 * points) / 2, 0.0, 10.0)
