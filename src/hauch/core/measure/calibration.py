"""Calibration of a meter by comparison with a standard, and of a rig by traverse and blank plate.

References
----------
ISO/TS 28037:2010, clause 6 (straight line, equal weights, uncorrelated). ISO 3966:2020, 9 (mean
    speed of a traverse).
JCGM 100:2008, H.3 (calibration of a thermometer by a straight line). For leakage as a power of the
    pressure:
ISO 9972:2015, eq. 5.
"""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np

from hauch.core.measure.tunnel import LOG_LINEAR, LOG_TCHEBYCHEFF
from hauch.core.quantity import as_normal, expanded

LEAK_FLOW_U = 0.02
"""Standard uncertainty of a flow read in a blank-plate test, as a share of it: a meter at the low
end of its range."""

LEAST_POINTS = 2
"""A straight line needs two points; a third shows whether it is straight."""


class CalibrationRefused(ValueError):
    """Points from which no calibration can be had, with the reason and what to do."""


@dataclass(frozen=True)
class Line:
    """A calibration line, true = slope * indicated + offset; n points.

    Parameters
    ----------
    slope, offset : of the line
    centre : mean of the indicated values; there slope and level are independent of each other
    slope_u, level_u : standard uncertainty of the slope, and of the line at ``centre``
    residuals : true minus line, shape (n,)
    residual_sd : standard deviation about the line, 0 with two points
    dof : n - 2
    """

    slope: float
    offset: float
    centre: float
    slope_u: float
    level_u: float
    residuals: np.ndarray
    residual_sd: float
    dof: int

    @property
    def known_dof(self) -> int:
        """Degrees of freedom of its doubt: two points leave none, so that they count as one."""
        return max(self.dof, 1)


def fit_line(
    indicated: Sequence[float],
    true: Sequence[float],
    standard_u: float = 0.0,
    resolution: float = 0.0,
) -> Line:
    """Fit a meter's calibration line.

    Parameters
    ----------
    indicated, true : readings of the meter and of the standard, shape (n,), same unit
    standard_u : standard uncertainty of the standard, common to all points
    resolution : step of the meter's last digit, used for the scatter where two points leave none

    Raises
    ------
    CalibrationRefused : fewer than two points, all at one value, a falling line, or numbers that
        are not finite

    Notes
    -----
    Ordinary least squares. Doubt of the line at ``centre``: scatter of the mean, departure from
    straightness (the scatter itself) and the standard. The slope's from the scatter and the spread
    of the points.
    """
    x, y = np.asarray(indicated, dtype=float), np.asarray(true, dtype=float)
    if x.shape != y.shape or not (np.all(np.isfinite(x)) and np.all(np.isfinite(y))):
        raise CalibrationRefused(
            "Every point needs two numbers: what the meter showed and what the standard showed."
        )
    if x.size < LEAST_POINTS:
        points = "one point" if x.size == 1 else "no point"
        raise CalibrationRefused(
            f"A calibration line cannot be drawn through {points}. Take at least two, far apart;"
            " three show whether it is straight."
        )
    spread = float(np.sum((x - x.mean()) ** 2))
    if spread <= (1e-9 * max(1.0, float(np.abs(x).max()))) ** 2:
        raise CalibrationRefused(
            f"All points stand at {x[0]:.6g}. Take them over the range in which the meter is used."
        )
    slope = float((x - x.mean()) @ (y - y.mean()) / spread)
    if slope <= 0:
        raise CalibrationRefused(
            f"The line falls (slope {slope:.4g}): the meter would show less where there is more."
            " Check that the two columns and the signs are not swapped."
        )
    level = float(y.mean())
    residuals = y - level - slope * (x - x.mean())
    dof = x.size - 2
    sd = math.sqrt(float(residuals @ residuals) / dof) if dof else 0.0
    scatter = max(sd, resolution / math.sqrt(12))
    level_u = math.sqrt(scatter**2 / x.size + sd**2 + standard_u**2)
    return Line(
        slope,
        level - slope * float(x.mean()),
        float(x.mean()),
        scatter / math.sqrt(spread),
        level_u,
        residuals,
        sd,
        dof,
    )


@dataclass(frozen=True, slots=True)
class Found:
    """A constant of a rig as found by a guided calibration: value, standard uncertainty, and how in
    words.
    """

    value: float
    u: float
    text: str


@dataclass(frozen=True)
class Profile:
    """A traverse of a tube: profile factor k = mean speed / centre speed, and the speeds by radius
    for the picture.

    ``radii`` r/R, shape (p,); ``speeds`` mean speed at each radius over the centre speed of its
    radius, shape (p,).
    """

    factor: Found
    radii: tuple[float, ...]
    speeds: tuple[float, ...]


TRAVERSES = {"log_linear": LOG_LINEAR, "log_tchebycheff": LOG_TCHEBYCHEFF}
METHOD_U = {3: 0.010, 4: 0.008, 5: 0.006}
"""Relative standard uncertainty of the mean from the number of points on each radius: half of the
limits that are usually taken for a steady, nearly straight flow (about 2 % with three points, 1 %
with five).
"""


def profile_factor(
    speeds: Sequence[Sequence[float]], centre: Sequence[float], method: str = "log_linear"
) -> Profile:
    """Profile factor of a round tube from a traverse.

    Parameters
    ----------
    speeds : for each radius (half diameter), speed at the points from the axis outwards [m/s],
        shape (radii, points)
    centre : speed on the axis taken with each radius [m/s], shape (radii,)
    method : ``"log_linear"`` or ``"log_tchebycheff"``; all points have equal weights

    Raises
    ------
    CalibrationRefused : fewer than two radii, a number of points the method does not have, a speed
        that is not above 0, or a wall that is faster than the axis by more than a tube flow can be

    Notes
    -----
    k is taken for each radius with the centre speed read beside it, so that slow changes of the fan
    cancel. Doubt: scatter of k over the radii (which holds skew and swirl) and of the method.
    """
    table = np.asarray(speeds, dtype=float)
    axis = np.asarray(centre, dtype=float)
    if table.ndim != 2 or table.shape[0] < 2 or axis.shape != (table.shape[0],):
        raise CalibrationRefused(
            "A traverse needs at least two radii at right angles, each with its centre speed."
        )
    points = TRAVERSES[method]
    if table.shape[1] not in points:
        raise CalibrationRefused(
            f"The method has {', '.join(map(str, points))} points on a radius, not"
            f" {table.shape[1]}."
        )
    if not np.all(np.isfinite(table)) or not np.all(table > 0) or not np.all(axis > 0):
        raise CalibrationRefused(
            "Every speed of the traverse must be above 0. Where the flow turns back, straighten it"
            " first."
        )
    factors = table.mean(axis=1) / axis
    k = float(factors.mean())
    if not 0.4 < k < 1.2:
        raise CalibrationRefused(
            f"The profile factor comes out as {k:.3g}. A tube has 0.5 to 1.1: check the unit and"
            " the order of the points."
        )
    count = factors.size
    u_scatter = as_normal(float(np.std(factors, ddof=1)) / math.sqrt(count), count - 1)
    u_method = METHOD_U[table.shape[1]] * k
    text = (
        f"k = {k:.4f} from {count} radii of {table.shape[1]} points, {k:.4f} ±"
        f" {expanded(math.hypot(u_scatter, u_method)):.4f} (radii {factors.min():.4f} to"
        f" {factors.max():.4f}, method {u_method:.4f})"
    )
    return Profile(
        Found(k, math.hypot(u_scatter, u_method), text),
        points[table.shape[1]],
        tuple((table / axis[:, None]).mean(axis=0).tolist()),
    )


@dataclass(frozen=True)
class Leak:
    """Leakage of a rig Q = C dp^n, from a blank-plate test: coefficient [m3/s at 1 Pa] and
    exponent.
    """

    coefficient: Found
    exponent: Found


def leak_rate(pressures: Sequence[float], flows: Sequence[float]) -> Leak:
    """Leakage of a rig whose mouth is closed by a blank plate.

    Parameters
    ----------
    pressures : pressure across the plate [Pa], shape (n,), all above 0
    flows : flow that the meter still shows [m3/s], shape (n,), all above 0

    Raises
    ------
    CalibrationRefused : fewer than two different pressures, values that are not above 0, or an
        exponent that no leak has

    Notes
    -----
    Straight line through ln Q against ln dp. Exponents of leaks lie between 0.5 (a hole) and 1 (a
    fine gap). The doubt of C is that of the line in the middle of the pressures, moved to 1 Pa with
    the exponent held. A line through two points scatters by nothing, so that the doubt of a flow,
    `LEAK_FLOW_U`, goes into both constants beside what the points scatter by.
    """
    dp, q = np.asarray(pressures, dtype=float), np.asarray(flows, dtype=float)
    if dp.shape != q.shape or dp.size < LEAST_POINTS:
        raise CalibrationRefused(
            "The blank-plate test needs at least two pressures, each with the flow that still"
            " passes."
        )
    if not (
        np.all(np.isfinite(dp)) and np.all(np.isfinite(q)) and np.all(dp > 0) and np.all(q > 0)
    ):
        raise CalibrationRefused(
            "Pressures and flows of the blank-plate test must be above 0. No flow at all needs no"
            " leak constant: enter 0."
        )
    try:
        line = fit_line(np.log(dp), np.log(q))
    except CalibrationRefused as problem:
        raise CalibrationRefused(
            "The flows must rise with the pressures, and the pressures must differ. Check the order"
            " of the columns."
        ) from problem
    if not 0.4 <= line.slope <= 1.2:
        raise CalibrationRefused(
            f"The leak grows with the pressure to the power {line.slope:.2f}; leaks have 0.5 to 1."
            " Check the plate and the zero of both meters."
        )
    c = math.exp(line.offset)
    spread = math.sqrt(float(np.sum((np.log(dp) - line.centre) ** 2)))
    scatter = as_normal(line.residual_sd / math.sqrt(dp.size), line.known_dof)
    u_relative = math.hypot(scatter, LEAK_FLOW_U)
    u_slope = math.hypot(as_normal(line.slope_u, line.known_dof), LEAK_FLOW_U / spread)
    return Leak(
        Found(
            c,
            c * u_relative,
            f"C = {c:.3g} m³/s at 1 Pa, from {dp.size} pressures of {dp.min():g} to"
            f" {dp.max():g} Pa",
        ),
        Found(
            line.slope,
            u_slope,
            f"n = {line.slope:.3f} ± {expanded(u_slope):.3f}",
        ),
    )


def leak_flow(pressure: float, coefficient: float, exponent: float) -> float:
    """Leakage [m3/s] at a pressure [Pa], with the sign of the pressure."""
    return math.copysign(coefficient * abs(pressure) ** exponent, pressure) if pressure else 0.0
