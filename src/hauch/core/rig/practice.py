"""A session at the virtual bench with hidden faults, for practice: the reference and two parts in a
tunnel, some of the runs with something wrong.

Random numbers come from the seed: the same session reads the same.
"""

from __future__ import annotations

import math
from dataclasses import dataclass

import numpy as np

from hauch.core.rig.fan import NORMAL_DENSITY, Fan, Loft140

NONE, SPIKE, STALL, UNIT, EARLY, LEAK, STUCK = (
    "none",
    "spike",
    "stall",
    "unit",
    "early",
    "leak",
    "stuck",
)
FAULTS = (SPIKE, STALL, UNIT, EARLY, LEAK, STUCK)
"""What can be wrong with a run: samples far off, a rotor that stops, a meter that changes its unit, a
flow that still rises, a joint that opens, a meter that repeats itself.
"""

ORDER = ("reference", "A", "B", "reference", "A", "B", "reference")
"""What is run, in turn."""

RATE, SECONDS, OPENED = 5.0, 60.0, 4.0
"""Samples a second, length of a run, and when the throttle is opened [s]."""

BORE, PROFILE, RESISTANCE = 0.1252, 0.846, 23_500.0

PARTS = {
    "reference": Loft140,
    "A": Loft140.changed("A", 1.07, 1.05),
    "B": Loft140.changed("B", 1.03, 1.02),
}

DRIFT = 0.012
"""Share of its speed that the reference loses from one run of it to the next, where it drifts."""


@dataclass(frozen=True, slots=True)
class PracticeRun:
    """One run: what was mounted, what is wrong with it and when [s], and what was read.

    ``channels``: air speed on the axis [m/s], speed [1/min], static pressure [Pa], shape (n,).
    """

    subject: str
    fault: str
    at: float
    times: np.ndarray
    channels: dict[str, np.ndarray]


@dataclass(frozen=True, slots=True)
class Session:
    """Runs in their order, and whether the bench's reference drifts through them."""

    runs: tuple[PracticeRun, ...]
    drifts: bool


def practice_session(seed: int) -> Session:
    """A session with three or four faulty runs of seven; the first, a run of the reference, is sound."""
    random = np.random.default_rng(seed)
    count = int(random.integers(3, 5))
    places = random.choice(np.arange(1, len(ORDER)), count, replace=False)
    kinds = random.permutation(FAULTS)[:count]
    faults = dict(zip(places.tolist(), kinds.tolist(), strict=True))
    drifts = bool(random.integers(2))
    runs, seen = [], 0
    for place, subject in enumerate(ORDER):
        slower = 1 - DRIFT * seen if drifts and subject == "reference" else 1.0
        seen += subject == "reference"
        runs.append(_run(random, subject, faults.get(place, NONE), slower))
    return Session(tuple(runs), drifts)


def _run(random: np.random.Generator, subject: str, fault: str, slower: float) -> PracticeRun:
    fan: Fan = PARTS[subject]
    times = np.arange(0.0, SECONDS, 1 / RATE)
    at = float(random.uniform(0.55, 0.75) * SECONDS)
    after = np.clip(times - OPENED, 0.0, None)
    rising = 1 - np.exp(-after / (22.0 if fault == EARLY else 0.9))
    full = fan.speed * slower * (1 + 0.001 * random.standard_normal())
    speed = full * rising
    if fault == STALL:
        speed *= np.where(times < at, 1.0, np.exp(-(times - at).clip(0.0) / 0.5))
    flow = fan.working_flow(RESISTANCE, full, NORMAL_DENSITY) * speed / full
    pressure = RESISTANCE * flow**2
    if fault == LEAK:
        opens = 1 - np.exp(-(times - at).clip(0.0) / 0.4)
        flow, pressure, speed = (
            flow * (1 - 0.1 * opens),
            pressure * (1 - 0.17 * opens),
            speed * (1 + 0.004 * opens),
        )
    gust = np.convolve(random.standard_normal(times.size + 14), np.ones(15) / 15, "valid")
    air = flow / (math.pi / 4 * BORE**2) / PROFILE * (1 + 0.012 * gust)
    air = air + 0.02 * random.standard_normal(times.size)
    if fault == UNIT:
        air = np.where(times < at, air, air * 3.6)
    if fault == SPIKE:
        struck = random.choice(np.flatnonzero(times > 0.4 * SECONDS), 3, replace=False)
        air[struck] *= random.uniform(2.2, 3.5, 3)
    air = np.round(air.clip(0.0), 2)
    if fault == STUCK:
        air = np.where(times < at, air, air[np.searchsorted(times, at)])
    return PracticeRun(
        subject,
        fault,
        0.0 if fault in {NONE, EARLY, SPIKE} else at,
        times,
        {
            "air_speed": air,
            "speed": np.round(speed + 1.5 * random.standard_normal(times.size) * (speed > 1)).clip(
                0.0
            ),
            "static_pressure": np.round(pressure + 0.15 * random.standard_normal(times.size), 1),
        },
    )
