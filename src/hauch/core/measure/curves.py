"""Curves from a sweep: power laws, a fan curve with its operating point, and figures at equal
power, noise or flow.

Everything is read inside the measured range; outside it there is no figure.

References
----------
ISO 5801:2017: 15.3 (conversion to one speed and density), annex on operating points of fan and
    system.
Shape-preserving interpolation: F. N. Fritsch, R. E. Carlson, SIAM J. Numer. Anal. 17 (1980) 238.
"""

from __future__ import annotations

import math
from collections.abc import Mapping, Sequence

import numpy as np
import scipy

EDGE = 0.02
"""A figure may be read this share beyond the first or last point, where the law between the points
still holds.
"""


class OutsideRange(ValueError):
    """A figure was asked for where nothing was measured; says what was measured."""


def power_law(x: Sequence[float], y: Sequence[float]) -> tuple[float, float]:
    """Factor c and exponent k of y = c x^k through points, all above zero, each counting the same
    in relative terms.

    Raises
    ------
    ValueError : fewer than two different x, or a value that is not above zero
    """
    a, b = np.asarray(x, dtype=float), np.asarray(y, dtype=float)
    if np.any(~(a > 0)) or np.any(~(b > 0)):
        raise ValueError("a power law needs values above 0")
    if np.unique(a).size < 2:
        raise ValueError("a power law needs at least two different points")
    log_x, log_y = np.log(a), np.log(b)
    k = float(
        np.sum((log_x - log_x.mean()) * (log_y - log_y.mean()))
        / np.sum((log_x - log_x.mean()) ** 2)
    )
    return math.exp(float(log_y.mean() - k * log_x.mean())), k


def misfit(x: Sequence[float], y: Sequence[float]) -> float:
    """Relative standard deviation of points about their power law, with n - 2 degrees of freedom; 0
    for two points.
    """
    c, k = power_law(x, y)
    off = np.log(np.asarray(y, float)) - np.log(c) - k * np.log(np.asarray(x, float))
    return float(np.sqrt(np.sum(off**2) / (off.size - 2))) if off.size > 2 else 0.0


def law_doubt(x: Sequence[float], y: Sequence[float], wanted: float) -> float:
    """Relative standard uncertainty of a power law at a place, from the points' scatter about it; 0
    for two points.

    s sqrt(1/n + (ln w - mean ln x)^2 / S_xx): least in the middle of the points, larger towards
    their ends (JCGM 100:2008, H.3.5).
    """
    at = np.log(np.asarray(x, dtype=float))
    spread = float(np.sum((at - at.mean()) ** 2))
    return misfit(x, y) * math.sqrt(
        1 / at.size + (math.log(wanted) - float(at.mean())) ** 2 / spread
    )


def level_law(x: Sequence[float], level: Sequence[float]) -> tuple[float, float]:
    """Level at x = 1 and dB per decade of x: L = a + b lg x.

    Raises ValueError as `power_law` does.
    """
    a = np.asarray(x, dtype=float)
    if np.any(~(a > 0)) or np.unique(a).size < 2:
        raise ValueError("a law of levels needs at least two different points above 0")
    slope, start = np.polyfit(np.log10(a), np.asarray(level, dtype=float), 1)
    return float(start), float(slope)


def level_slope_doubt(x: Sequence[float], level: Sequence[float]) -> float:
    """Standard error of the slope of `level_law` [dB per decade], from the points' scatter about it (JCGM
    100:2008, H.3.2); 0 for two points.
    """
    start, slope = level_law(x, level)
    at = np.log10(np.asarray(x, dtype=float))
    off = np.asarray(level, dtype=float) - start - slope * at
    if off.size < 3:
        return 0.0
    return float(np.sqrt(np.sum(off**2) / (off.size - 2) / np.sum((at - at.mean()) ** 2)))


def _ordered(x: Sequence[float], y: Sequence[float]) -> tuple[np.ndarray, np.ndarray]:
    """Points in order of x; points at one x are taken together."""
    a, b = np.asarray(x, dtype=float), np.asarray(y, dtype=float)
    at = np.unique(a)
    return at, np.array([b[a == value].mean() for value in at])


def inside(x: Sequence[float], wanted: float, what: str, unit: str) -> float:
    """The wanted place if it was measured there, kept to the first or last point where it lies a
    little beyond.

    Raises
    ------
    OutsideRange : with the range in words
    """
    low, high = float(np.min(x)), float(np.max(x))
    slack = EDGE * max(abs(low), abs(high))
    if not low - slack <= wanted <= high + slack:
        raise OutsideRange(
            f"{what} of {wanted:.4g} {unit} was not reached: the sweep covers {low:.4g} to"
            f" {high:.4g} {unit}. Sweep further, or agree on another."
        )
    return min(max(wanted, low), high)


def at_equal(
    x: Sequence[float], y: Sequence[float], wanted: float, *, logarithmic: bool = True
) -> float:
    """y at a wanted x between measured points: a power law between neighbours, or a straight line.

    Parameters
    ----------
    x, y : shape (n,), n >= 2
    wanted : inside the range of x, see `inside`
    logarithmic : interpolate lg y over lg x (both above zero); else y over x
    """
    at, value = _ordered(x, y)
    if logarithmic:
        return float(np.exp(np.interp(math.log(wanted), np.log(at), np.log(value))))
    return float(np.interp(wanted, at, value))


def operating_point(
    flow: Sequence[float], pressure: Sequence[float], resistance: float, exponent: float
) -> tuple[float, float]:
    """Flow [m3/s] and pressure [Pa] at which a fan curve meets the system Δp = resistance
    Q^exponent.

    The curve goes through its points and bends no further than they do, so that a dip of stall
    stays. Where the system crosses it more than once the crossing of the most flow is taken: right
    of the dip, where a fan settles when it is started on an open system.

    Raises
    ------
    OutsideRange : the system does not cross the curve where it was measured
    """
    q, p = _ordered(flow, pressure)
    if q.size < 3:
        raise OutsideRange(f"A fan curve needs at least three different flows, got {q.size}.")
    curve = scipy.interpolate.PchipInterpolator(q, p)
    grid = np.linspace(q[0], q[-1], 400)
    above = curve(grid) - resistance * np.maximum(grid, 0.0) ** exponent
    crossings = np.flatnonzero((above[:-1] > 0) & (above[1:] <= 0))
    if not crossings.size:
        side = "less" if above[-1] > 0 else "more"
        raise OutsideRange(
            f"The system line does not meet the curve where it was measured ({q[0]:.4g} to"
            f" {q[-1]:.4g} m³/s). Measure points with {side} resistance."
        )
    i = int(crossings[-1])
    found = float(
        scipy.optimize.brentq(
            lambda x: float(curve(x)) - resistance * max(x, 0.0) ** exponent, grid[i], grid[i + 1]
        )
    )
    return found, float(curve(found))


def smooth(x: Sequence[float], y: Sequence[float], count: int = 60) -> list[tuple[float, float]]:
    """Points of the curve through measured points, for a picture."""
    at, value = _ordered(x, y)
    if at.size < 2:
        return list(zip(at.tolist(), value.tolist(), strict=True))
    grid = np.linspace(at[0], at[-1], count)
    return list(
        zip(
            grid.tolist(),
            scipy.interpolate.PchipInterpolator(at, value)(grid).tolist(),
            strict=True,
        )
    )


def numbered(values: Mapping[str, float], letter: str) -> list[float]:
    """Values whose names are the letter and a number, in order of the number."""
    return [
        values[key]
        for key in sorted(
            (k for k in values if k[0] == letter and k[1:].isdigit()), key=lambda k: int(k[1:])
        )
    ]


def gains(
    points: Sequence[Sequence[float]], line: Sequence[Sequence[float]]
) -> list[tuple[float, float, float]]:
    """At each point of a curve what another curve has there, straight between its own: (x, y, other);
    points outside the other's range are left out.

    Parameters
    ----------
    points : (x, half-width, y, half-width) each
    line : (x, y) each
    """
    at = sorted((float(x), float(y)) for x, y in line)
    if not at:
        return []
    x, y = np.array(at).T
    return [
        (float(p[0]), float(p[2]), float(np.interp(p[0], x, y)))
        for p in sorted(points, key=lambda p: p[0])
        if x[0] <= p[0] <= x[-1]
    ]
