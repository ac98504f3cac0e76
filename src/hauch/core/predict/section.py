"""Blade sections: their shape as coefficients, and their lift and drag by angle and Reynolds
number.

References
----------
P. D. Sharpe, R. J. Hansman, "NeuralFoil: an airfoil aerodynamics analysis tool using
    physics-informed machine learning",
arXiv:2503.16323 (2025). B. M. Kulfan, "Universal parametric geometry representation method", J.
    Aircraft 45 (2008) 142.
E. N. Jacobs, K. E. Ward, R. M. Pinkerton, NACA Report 460 (1933). Flat plate beyond stall: S. F.
    Hoerner, Fluid-Dynamic
Lift (1975), ch. 4: normal force 2 sin(alpha).
"""

from __future__ import annotations

from dataclasses import dataclass
from functools import lru_cache
from math import comb

import numpy as np
from numpy.typing import NDArray

from hauch.core.predict.section_network import lift_and_drag

Array = NDArray[np.float64]

N_CRIT = 5.0
"""Amplification at which the boundary layer turns over: a disturbed inflow (9 is a quiet wind
tunnel).
"""
ANGLES: Array = np.arange(-14.0, 26.1, 2.0)
"""Angles of attack of the table [degree]; between them straight lines, beyond them the flat plate."""
FADE = (16.0, 26.0)
"""Angles between which the section's figures give way to those of a flat plate [degree]."""
MODEL_REYNOLDS = (2e4, 5e6)
"""Reynolds numbers for which section figures are trusted; below, laminar separation scatters even
in wind tunnels.
"""
TAIL = 0.004
"""Thickness of the trailing edge as a share of the chord."""


@dataclass(frozen=True, slots=True)
class Family:
    """A family of sections: where its greatest camber sits (share of chord) and its thickness at
    stations x of the chord.
    """

    key: str
    label: str
    camber_at: float
    even: bool


FAMILIES: dict[str, Family] = {
    f.key: f
    for f in (
        Family("arc", "four-digit on an arc", 0.5, even=False),
        Family("forward", "four-digit, camber forward", 0.4, even=False),
        Family("plate", "curved plate", 0.5, even=True),
    )
}


def thickness_shape(family: str, x: Array) -> Array:
    """Half thickness over greatest thickness along the chord, both ends at the axis."""
    if FAMILIES[family].even:
        nose, tail = np.clip(x / 0.04, 0, 1), np.clip((1 - x) / 0.35, 0, 1)
        return 0.5 * np.sqrt(1 - (1 - nose) ** 2) * (1 - (1 - tail) ** 2)
    return 5 * (0.2969 * np.sqrt(x) - 0.1260 * x - 0.3516 * x**2 + 0.2843 * x**3 - 0.1036 * x**4)


def camber_shape(family: str, x: Array) -> Array:
    """Height of the camber line over greatest camber along the chord (two parabolas, NACA Report
    460).
    """
    p = FAMILIES[family].camber_at
    return np.where(
        x < p, (2 * p * x - x**2) / p**2, ((1 - 2 * p) + 2 * p * x - x**2) / (1 - p) ** 2
    )


def outline(
    family: str, thickness: float, camber: float, points: int = 33, tail: float = TAIL
) -> Array:
    """Closed outline of a section of chord 1, from the tail over the upper side and back (2 points
    - 1, 2).
    """
    x = 0.5 * (1 - np.cos(np.linspace(0, np.pi, points)))
    half, line = (
        np.maximum(
            thickness * thickness_shape(family, x) + TAIL / 2 * x,
            tail / 2 * np.clip(x / 0.15, 0, 1),
        ),
        camber * camber_shape(family, x),
    )
    upper, lower = np.column_stack([x, line + half])[::-1], np.column_stack([x, line - half])[1:]
    return np.vstack([upper, lower])


@lru_cache(maxsize=8)
def _fits(family: str) -> tuple[Array, Array]:
    """Coefficients of the thickness and of the camber line for 1 of each, by least squares."""
    x = 0.5 * (1 - np.cos(np.linspace(0.02, np.pi - 0.02, 120)))
    basis = (
        np.column_stack([comb(7, i) * x**i * (1 - x) ** (7 - i) for i in range(8)])
        * (np.sqrt(x) * (1 - x))[:, None]
    )

    def fit(height):
        return np.asarray(np.linalg.lstsq(basis, height, rcond=None)[0], float)

    return fit(thickness_shape(family, x)), fit(camber_shape(family, x))


def section_forces(
    family: str, thickness: Array, camber: Array, angle: Array, reynolds: Array
) -> tuple[Array, Array]:
    """Lift and drag coefficients.

    Parameters
    ----------
    family : key in `FAMILIES`
    thickness, camber : greatest, as a share of the chord, any one shape
    angle : of attack [degree], same shape
    reynolds : on the chord, same shape

    Notes
    -----
    The section network up to `FADE`, a flat plate (cl = 2 sin a cos a, cd = 2 sin2 a) beyond, a smooth step
    between.
    """
    shape = np.shape(angle)
    t, f, a, re = (np.broadcast_to(v, shape).ravel() for v in (thickness, camber, angle, reynolds))
    thick, line = _fits(family)
    half, bent = np.multiply.outer(thick, t), np.multiply.outer(line, f)
    cl, cd = lift_and_drag(
        bent + half, bent - half, TAIL, np.clip(a, -FADE[1], FADE[1]), np.maximum(re, 1e3), N_CRIT
    )
    cl, cd = beyond_stall(a, cl, cd)
    return cl.reshape(shape), cd.reshape(shape)


def beyond_stall(angle: Array, cl: Array, cd: Array) -> tuple[Array, Array]:
    """Bring lift and drag over to those of a flat plate at large angles [degree]."""
    share = np.clip((np.abs(angle) - FADE[0]) / (FADE[1] - FADE[0]), 0, 1)
    share = share * share * (3 - 2 * share)
    sine, cosine = np.sin(np.radians(angle)), np.cos(np.radians(angle))
    return (1 - share) * cl + share * 2 * sine * cosine, (1 - share) * cd + share * (
        0.02 + 2 * sine**2
    )


@dataclass(frozen=True)
class Polars:
    """Lift and drag of a row of stations over `ANGLES` (stations, angles), and where each stalls
    [degree].
    """

    cl: Array
    cd: Array
    stall: Array

    def at(self, angle: Array) -> tuple[Array, Array]:
        """Lift and drag at angles of attack [degree], shape (flows, stations)."""
        inside = np.clip(angle, ANGLES[0], ANGLES[-1])
        place = (inside - ANGLES[0]) / (ANGLES[1] - ANGLES[0])
        low = np.minimum(place.astype(int), len(ANGLES) - 2)
        share = place - low
        rows = np.arange(self.cl.shape[0])
        cl = (1 - share) * self.cl[rows, low] + share * self.cl[rows, low + 1]
        cd = (1 - share) * self.cd[rows, low] + share * self.cd[rows, low + 1]
        outside = angle != inside
        if outside.any():
            far_cl, far_cd = beyond_stall(angle, cl, cd)
            cl, cd = np.where(outside, far_cl, cl), np.where(outside, far_cd, cd)
        return cl, cd

    def between(self, share: Array, wanted: Array) -> Polars:
        """The table at other shares of the span, on straight lines between its stations."""
        right = np.clip(np.searchsorted(share, wanted), 1, len(share) - 1)
        part = ((wanted - share[right - 1]) / (share[right] - share[right - 1]))[:, None]
        cl, cd = (
            (1 - part) * table[right - 1] + part * table[right] for table in (self.cl, self.cd)
        )
        return Polars(cl, cd, stall_angle(cl))


def polars(family: str, thickness: Array, camber: Array, reynolds: Array) -> Polars:
    """The table of a row of stations, each at its own Reynolds number."""
    grid = np.broadcast_to(ANGLES, (len(thickness), len(ANGLES)))
    cl, cd = section_forces(family, thickness[:, None], camber[:, None], grid, reynolds[:, None])
    return Polars(cl, cd, stall_angle(cl))


def stall_angle(cl: Array) -> Array:
    """The angle at which lift first has its top, going up from the least lift [degree], by station."""
    positive = ANGLES >= 0
    falls = np.diff(cl[:, positive], axis=1) < 0
    first = np.where(falls.any(axis=1), falls.argmax(axis=1), falls.shape[1])
    return ANGLES[positive][first]
