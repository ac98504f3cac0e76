"""Curves of several parts over each other: read at one place, and one held against another over the range
that both were measured in.

References
----------
Straight line through logarithms and the standard error of its slope (`law_of`): JCGM 100:2008, H.3.
Nothing is read outside of what was measured, see `hauch.core.measure.curves`.
"""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np

from hauch.core.measure.curves import OutsideRange, law_doubt, misfit, power_law
from hauch.core.quantity import expanded

GRID = 41
"""Places at which curves are held against each other."""

LEAST_CHANGE = 0.2
"""A change that varies by less than this over the range is the same everywhere [% or the unit]."""

Point = Sequence[float]
"""x, its 95 % half-width, y, its 95 % half-width."""


@dataclass(frozen=True)
class Laid:
    """The mean of one part's curves.

    Parameters
    ----------
    x, y : at even places of the range that all of its runs cover, shape (n,)
    half : half-width of y at 95 %, from the points
    low, high : of the runs' y, shape (n,)
    runs : how many
    """

    x: np.ndarray
    y: np.ndarray
    half: np.ndarray
    low: np.ndarray
    high: np.ndarray
    runs: int

    def at(self, wanted: float) -> tuple[float, float]:
        """y and its half-width at a place.

        Raises
        ------
        OutsideRange : with what was measured
        """
        if not self.x[0] <= wanted <= self.x[-1]:
            raise OutsideRange(f"measured from {self.x[0]:.4g} to {self.x[-1]:.4g}")
        return float(np.interp(wanted, self.x, self.y)), float(np.interp(wanted, self.x, self.half))


def laid(runs: Sequence[Sequence[Point]]) -> Laid | None:
    """The mean curve of runs; None where they share no range.

    Parameters
    ----------
    runs : points of each run's curve
    """
    curves = [np.array(sorted(run, key=lambda p: p[0]), float) for run in runs if len(run) > 1]
    if not curves:
        return None
    low, high = max(c[0, 0] for c in curves), min(c[-1, 0] for c in curves)
    if not low < high:
        return None
    x = np.linspace(low, high, GRID)
    y = np.array([np.interp(x, c[:, 0], c[:, 2]) for c in curves])
    half = np.array([np.interp(x, c[:, 0], c[:, 3]) for c in curves])
    return Laid(x, y.mean(axis=0), half.mean(axis=0), y.min(axis=0), y.max(axis=0), len(curves))


@dataclass(frozen=True)
class Over:
    """One curve against another.

    Parameters
    ----------
    x, change : places of the shared range, and the change there [% or the unit], shape (n,)
    crossings : places at which they cross
    scatter : by how much runs of the two differ among themselves, in the unit of the change; what
        the change varies by less is nothing
    """

    x: np.ndarray
    change: np.ndarray
    crossings: tuple[float, ...]
    scatter: float = 0.0

    @property
    def course(self) -> str:
        """grows, falls, turns, crosses, or same: what the change does from small to large x."""
        spread = float(np.ptp(self.change))
        if self.crossings and spread >= self.scatter:
            return "crosses"
        if spread < max(LEAST_CHANGE, self.scatter):
            return "same"
        steps = np.diff(self.change)
        tolerance = 0.1 * spread
        up, down = steps[steps > 0].sum(), -steps[steps < 0].sum()
        if min(up, down) > tolerance:
            return "turns"
        away = abs(self.change[-1]) > abs(self.change[0])
        return "grows" if away else "falls"


def over(ours: Laid, theirs: Laid, log: bool) -> Over | None:
    """Hold one curve against another; None where they share no range.

    Parameters
    ----------
    log : whether values are compared as ratios
    """
    low, high = max(ours.x[0], theirs.x[0]), min(ours.x[-1], theirs.x[-1])
    if not low < high:
        return None
    x = np.linspace(low, high, GRID)
    a, b = np.interp(x, ours.x, ours.y), np.interp(x, theirs.x, theirs.y)
    if log and not (np.all(a > 0) and np.all(b > 0)):
        return None
    change = 100 * (a / b - 1) if log else a - b
    there = np.flatnonzero(change != 0)  # where they touch they have not crossed yet
    turned = np.flatnonzero(np.diff(np.sign(change[there])) != 0)
    crossings = tuple(
        float(np.interp(0.0, *_rising(change[[i, j]], x[[i, j]])))
        for i, j in zip(there[turned], there[turned + 1], strict=True)
    )
    scatter = math.hypot(*(_scatter(one, log) for one in (ours, theirs)))
    return Over(x, change, crossings, scatter)


def _scatter(one: Laid, log: bool) -> float:
    wide = one.high - one.low
    return float(np.mean(100 * wide / one.y if log else wide))


def _rising(y: np.ndarray, x: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
    order = np.argsort(y)
    return y[order], x[order]


@dataclass(frozen=True, slots=True)
class Law:
    """y = c x^k through points: the exponent, its standard error, and the points themselves."""

    exponent: float
    u: float
    x: tuple[float, ...]
    y: tuple[float, ...]

    def forecast(self, wanted: float) -> tuple[float, float]:
        """y at a place, also beyond what was measured, with its half-width at 95 % from the points'
        scatter. What the law itself does not hold for, such as a stall, is not in it.
        """
        factor, exponent = power_law(self.x, self.y)
        value = factor * wanted**exponent
        return value, value * expanded(law_doubt(self.x, self.y, wanted), len(self.x) - 2)


def law_of(runs: Sequence[Sequence[Point]]) -> Law | None:
    """The power law through all points of runs; None for fewer than three different places, or a
    value that is not above zero.
    """
    points = np.array([p for run in runs for p in run], float)
    if not points.size or np.unique(points[:, 0]).size < 3:
        return None
    x, y = points[:, 0].tolist(), points[:, 2].tolist()
    try:
        _, exponent = power_law(x, y)
    except ValueError:
        return None
    at = np.log(points[:, 0])
    u = misfit(x, y) / math.sqrt(float(np.sum((at - at.mean()) ** 2)))
    return Law(exponent, u, tuple(x), tuple(y))
