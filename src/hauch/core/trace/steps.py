"""A throttle sweep split into its steps: where it stood still, and which part of each stand is
steady.

References
----------
Level shifts by comparing the means before and after a moment with their scatter (two-sample t,
    Welch): JCGM 100:2008, 4.2.3;
B. L. Welch, Biometrika 34 (1947) 28.
"""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass
from itertools import pairwise

import numpy as np

from hauch.core.trace.marks import SPEEDS, spikes

LEAST_SECONDS = 4.0
"""A stand shorter than this is on the way to another."""

STEADY_PART = 0.5
"""The last half of a stand is read; by then a response of a fifth of the stand has died down to 8
%, and drift is told in the doubt.
"""

APART = 0.02
"""Steps of a sweep differ by at least this share of the highest one."""

SIGMAS = 6.0
"""Two halves of a window that differ by more than this many standard doubts are on the move."""


@dataclass(frozen=True, slots=True)
class Stand:
    """One stand of a sweep: ``first`` and ``last`` sample, from where on it is steady, and the
    ``level`` that was held.
    """

    first: int
    last: int
    steady: int
    level: float


def find_steps(times: np.ndarray, channels: Mapping[str, np.ndarray]) -> list[Stand]:
    """The stands of a sweep, in order of time; one where nothing was stepped.

    Parameters
    ----------
    times : seconds from the start, shape (n,)
    channels : channel key -> values, shape (n,), NaN where there is no sample. The throttle tells
        the steps where it was recorded, else the speed of the rotors, else the pressures that a
        damper steps.

    Raises
    ------
    ValueError : none of them was recorded
    """
    times = np.asarray(times, dtype=float)
    found: list[Stand] | None = None
    for key in ("throttle", *SPEEDS, *TURNED_OTHERWISE):
        if key in channels and np.isfinite(channels[key]).any():
            values = np.asarray(channels[key], dtype=float)
            stands = _merged(
                times, values, _held(times, values) if key == "throttle" else _calm(times, values)
            )
            if key not in TURNED_OTHERWISE:  # with the throttle closed nothing is measured
                stands = [s for s in stands if s.level > 0.05 * float(np.nanmax(values))] or stands
            if is_sweep(stands):
                return stands
            found = found or stands
    if found is None:
        raise ValueError(
            "a sweep needs the throttle, the speed of the part or the pressure that was stepped"
        )
    return found


TURNED_OTHERWISE = ("orifice_pressure", "static_pressure", "test_depression")
"""Channels that step where not the throttle of the part is turned but a damper behind it."""


def _held(times: np.ndarray, throttle: np.ndarray) -> list[tuple[int, int]]:
    """Stretches in which a set value stays."""
    filled = throttle[
        np.maximum.accumulate(np.where(np.isfinite(throttle), np.arange(throttle.size), 0))
    ]
    tolerance = max(0.005 * np.nanmax(np.abs(throttle)), 1e-9)
    edges = np.flatnonzero(np.abs(np.diff(filled)) > tolerance) + 1
    bounds = [0, *edges.tolist(), throttle.size]
    return [(a, b - 1) for a, b in pairwise(bounds)]


def _calm(times: np.ndarray, speed: np.ndarray) -> list[tuple[int, int]]:
    """Stretches in which the speed does not move more than it scatters."""
    good = np.isfinite(speed) & ~spikes(speed)
    filled = np.interp(times, times[good], speed[good]) if good.any() else np.zeros_like(times)
    step = float(np.median(np.diff(times)))
    half = max(round(1.5 / step), 4)
    if filled.size < 4 * half:
        return [(0, speed.size - 1)]
    total = np.concatenate(([0.0], np.cumsum(filled)))
    squares = np.concatenate(([0.0], np.cumsum(filled**2)))
    at = np.arange(half, filled.size - half)

    def mean_and_variance(low: np.ndarray, high: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
        mean = (total[high] - total[low]) / half
        return mean, np.maximum((squares[high] - squares[low]) / half - mean**2, 0.0)

    before, spread_before = mean_and_variance(at - half, at)
    after, spread_after = mean_and_variance(at, at + half)
    quiet = float(np.percentile(np.concatenate([spread_before, spread_after]), 25))
    doubt = np.sqrt(2 * max(quiet, 1e-12) / half)
    moving = np.zeros(filled.size, dtype=bool)
    moving[at] = np.abs(after - before) > np.maximum(SIGMAS * doubt, 0.004 * np.max(np.abs(filled)))
    edges = np.flatnonzero(np.diff(np.concatenate(([True], moving, [True])).astype(np.int8)))
    return [(int(a), int(b) - 1) for a, b in edges.reshape(-1, 2)]


def _merged(times: np.ndarray, values: np.ndarray, parts: list[tuple[int, int]]) -> list[Stand]:
    """Stands that are long enough; neighbours at one level are one stand."""
    scale = float(np.nanmax(np.abs(values))) or 1.0
    stands: list[Stand] = []
    for first, last in parts:
        if times[last] - times[first] < LEAST_SECONDS:
            continue
        steady = _steady_from(times, first, last)
        level = float(np.nanmedian(values[steady : last + 1]))
        begin = first
        if stands and abs(stands[-1].level - level) < APART * scale:
            begin = stands.pop().first
            steady = _steady_from(times, begin, last)
            level = float(np.nanmedian(values[steady : last + 1]))
        stands.append(Stand(begin, last, steady, level))
    return stands


def _steady_from(times: np.ndarray, first: int, last: int) -> int:
    return int(np.searchsorted(times, times[last] - STEADY_PART * (times[last] - times[first])))


def is_sweep(stands: list[Stand]) -> bool:
    """Whether there are enough stands for a curve: at least three."""
    return len(stands) >= 3
