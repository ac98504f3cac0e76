"""The reference over time: does it repeat, does it still hold, and since when does it not.

References
----------
ISO 7870-2:2013 (Shewhart chart of individuals with moving ranges), ISO 7870-6:2016 (exponentially
    weighted moving average).
D. C. Montgomery, Introduction to Statistical Quality Control, 6th ed., table 9.11: weight 0.2 with
    L = 2.962 gives a mean run length of 500 without a shift. That limits from few runs alarm far too
    often, and that they must be widened: L. A. Jones, C. W. Champ, S. E. Rigdon, Technometrics 43
    (2001) 156; C. P. Quesenberry, J. Qual. Technol. 25 (1993) 237. JCGM 100:2008, 4.2.3 and G.3
    (mean of repeats and its coverage interval).
"""

from __future__ import annotations

import math
from dataclasses import dataclass

import numpy as np
import scipy

from hauch.core.quantity import coverage_factor, expanded

EWMA_WEIGHT = 0.2
"""Weight of the newest run."""
ESTIMATED_FROM = (8, 10, 12, 15, 20, 30, math.inf)
"""Base runs that the widths below belong to."""
EWMA_LIMITS = (3.246, 3.193, 3.152, 3.121, 3.097, 3.071, 2.962)
"""Width of the limits of the moving average, in its standard deviations with that of the centre: so
wide that 18 % of steady references alarm within 100 runs, as limits that are known do. By simulation
of 60,000 references; a test holds it.
"""
FAR_OFF = (9.7, 8.4, 7.1, 6.8, 5.7, 5.2, 4.5)
"""Base runs this many robust standard deviations (of the median absolute deviation) off the median
set no limits: of one steady reference in 200 a run is so. By simulation of 20,000 references.
"""
MOST_FAR_OFF = 1 / 3
"""Where more of the base runs than this would lie far off, the reference has two levels, and no run
is the odd one.
"""
WIDENING = 100
"""Runs after which the limits of the moving average no longer widen by what a double can hold."""
SHEWHART_LIMITS = (5.048, 4.463, 4.161, 3.895, 3.629, 3.422, 3.0)
"""Width of the limits of one run, in standard deviations of its distance from the centre: 0.27 % of
steady runs lie beyond them, as three do where they are known. By simulation of 400,000 runs.
"""
MOVING_RANGE_D2 = 1.128
"""Mean range of two values in standard deviations (ISO 7870-2, table of d2 for n = 2)."""
BASE_RUNS = 20
"""Runs that set centre and limits."""
LEAST_BASE = 8
"""Fewer runs than this set no limits worth an alarm."""
CREEP_LEVEL = 0.99
"""Level at which a slope over the repeats is called a creep: every reference is asked often, so
that 95 % would cry wolf.
"""
LEAST_REPEATS = 3
"""Fewer repeats than this say nothing about repeatability."""


@dataclass(frozen=True)
class ControlChart:
    """A control chart; n runs in order of time.

    Parameters
    ----------
    y : the runs, shape (n,)
    centre, sigma : mean and standard deviation of one run, from the base runs
    base : number of base runs, from the start, without those that lie far off
    far_off : runs among the first ones that set no limits and move no average, shape (n,) bool
    ewma, ewma_half : moving average and half-width of its limits, shape (n,)
    outside : runs beyond the Shewhart limits, shape (n,) bool
    drifting : runs at which the moving average is beyond its limits, shape (n,) bool
    """

    y: np.ndarray
    centre: float
    sigma: float
    base: int
    ewma: np.ndarray
    ewma_half: np.ndarray
    outside: np.ndarray
    drifting: np.ndarray
    far_off: np.ndarray

    @property
    def ready(self) -> bool:
        """Whether there are enough base runs for the limits to mean something."""
        return self.base >= LEAST_BASE and self.sigma > 0

    @property
    def half(self) -> float:
        """Half-width of the Shewhart limits."""
        return estimated(SHEWHART_LIMITS, self.base) * self.sigma * math.sqrt(1 + 1 / self.base)

    @property
    def shift(self) -> float:
        """How far the moving average stands from the centre now."""
        return float(self.ewma[-1] - self.centre)

    @property
    def alarm(self) -> bool:
        """Whether the reference has drifted by more than its scatter explains, now."""
        return bool(self.ready and self.drifting[-1])

    @property
    def since(self) -> int | None:
        """Index of the run at which the present alarm began, None without one."""
        if not self.alarm:
            return None
        quiet = np.flatnonzero(~self.drifting)
        return int(quiet[-1] + 1) if quiet.size else 0


def estimated(widths: tuple[float, ...], base: int) -> float:
    """Width of limits that were estimated from so many runs, between those of `ESTIMATED_FROM`."""
    shares = [1 / runs for runs in ESTIMATED_FROM]
    return float(np.interp(1 / base, shares[::-1], widths[::-1]))


def control_chart(y: np.ndarray, base: int = BASE_RUNS) -> ControlChart:
    """Shewhart and EWMA chart of one reference specimen on one rig and test.

    Parameters
    ----------
    y : ln(figure), or level, of each run in order of time, shape (n,), finite
    base : how many runs at the start set centre and limits (fewer where there are fewer)

    Raises
    ------
    ValueError : no run, or one that is not finite

    Notes
    -----
    sigma = mean moving range / 1.128, so that a slow drift within the base runs does not widen the
    limits. Base runs far off the others set no limits (retrospective use of the chart, Montgomery,
    6.2). The moving average starts at the centre; its limits widen with t: L sigma sqrt(w/(2-w)
    (1-(1-w)^2t) + 1/m), m the base runs, since the centre is known no better.
    """
    y = np.asarray(y, dtype=float)
    if y.size == 0:
        raise ValueError("a control chart needs at least one run")
    if not np.all(np.isfinite(y)):
        raise ValueError(
            f"run {int(np.flatnonzero(~np.isfinite(y))[0]) + 1} of the control chart is not a"
            " finite number"
        )
    count = min(base, y.size)
    far_off = np.zeros(y.size, dtype=bool)
    far_off[:count] = _far_off(y[:count])
    base_runs = y[:count][~far_off[:count]]
    count = base_runs.size
    centre = float(base_runs.mean())
    sigma = float(np.abs(np.diff(base_runs)).mean() / MOVING_RANGE_D2) if count > 1 else 0.0
    keep = 1 - EWMA_WEIGHT
    moved, _ = scipy.signal.lfilter([EWMA_WEIGHT], [1.0, -keep], y[~far_off], zi=[keep * centre])
    ewma = np.concatenate(([centre], moved))[np.cumsum(~far_off)]
    grown = np.ones(y.size)
    first = np.arange(1, min(y.size, WIDENING) + 1)
    grown[: first.size] = 1 - keep ** (2.0 * first)
    spread = np.sqrt(EWMA_WEIGHT / (2 - EWMA_WEIGHT) * grown + 1 / count)
    half = estimated(EWMA_LIMITS, count) * sigma * spread
    one = estimated(SHEWHART_LIMITS, count) * sigma * math.sqrt(1 + 1 / count)
    return ControlChart(
        y,
        centre,
        sigma,
        count,
        ewma,
        half,
        (np.abs(y - centre) > one) | far_off,
        np.abs(ewma - centre) > half,
        far_off,
    )


def _far_off(base_runs: np.ndarray) -> np.ndarray:
    """Base runs that lie far off the others, boolean, shape (n,)."""
    none = np.zeros(base_runs.size, dtype=bool)
    if base_runs.size < LEAST_BASE:
        return none
    off = np.abs(base_runs - np.median(base_runs))
    spread = 1.4826 * float(np.median(off))
    far = off > estimated(FAR_OFF, base_runs.size) * spread
    return far if spread > 0 and far.mean() <= MOST_FAR_OFF else none


@dataclass(frozen=True, slots=True)
class Baseline:
    """Whether a reference repeats well enough to begin.

    ``half_width`` of the 95 % interval of its mean, in y; ``further`` repeats that are likely to be
    needed (0 when it holds, None when repeats alone will not do); ``trend`` whether it still
    creeps.
    """

    settled: bool
    count: int
    half_width: float
    goal: float
    further: int | None
    trend: bool


def baseline(y: np.ndarray, goal: float) -> Baseline:
    """Repeat the reference until it repeats: the mean is known to ``goal`` and nothing creeps.

    Parameters
    ----------
    y : ln(figure), or level, of the repeats in order of time, shape (n,)
    goal : half-width of the 95 % interval of the mean, in y, that the round asks for; above 0

    Raises
    ------
    ValueError : ``goal`` is not above 0

    Notes
    -----
    At least `LEAST_REPEATS`. It creeps when a straight line over the order of the repeats has a
    slope whose 99 % interval leaves out 0 and that moves the figure by more than ``goal`` over the
    series.
    """
    if not goal > 0:
        raise ValueError(f"the repeatability asked for must be above 0, got {goal:g}")
    y = np.asarray(y, dtype=float)
    count = y.size
    if count < LEAST_REPEATS:
        return Baseline(False, count, math.inf, goal, LEAST_REPEATS - count, False)
    s = float(np.std(y, ddof=1))
    half = expanded(s / math.sqrt(count), count - 1)
    trend = _creeps(y, goal)
    if half <= goal and not trend:
        return Baseline(True, count, half, goal, 0, False)
    further = next(
        (k for k in range(1, 51) if expanded(s / math.sqrt(count + k), count + k - 1) <= goal),
        None,
    )
    return Baseline(False, count, half, goal, further, trend)


def _creeps(y: np.ndarray, goal: float) -> bool:
    x = np.arange(y.size) - (y.size - 1) / 2
    slope = float(x @ y / (x @ x))
    rest = y - y.mean() - slope * x
    u = math.sqrt(float(rest @ rest) / (y.size - 2) / float(x @ x))
    return (
        abs(slope) > coverage_factor(y.size - 2, CREEP_LEVEL) * u
        and abs(slope) * (y.size - 1) > goal
    )
