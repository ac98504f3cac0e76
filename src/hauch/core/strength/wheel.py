"""An open wheel: a plate that its blades bend, since their pull passes beside it, and blades that bend
over from the plate.

References
----------
Plate and its membrane, axisymmetric: S. Timoshenko, S. Woinowsky-Krieger, Theory of Plates and
    Shells, 2nd edition, ch. 3 (Kirchhoff's assumption). Blades as fibres on it at an angle, smeared
    around: stiffened plates, same source, ch. 11. Solved with finite elements along the radius: two
    nodes, linear for the displacement outwards and cubic for that along the axis (R. D. Cook, Concepts
    and Applications of Finite Element Analysis, ch. on shells of revolution). Held against finite
    elements in space: docs/validation.md.
"""

from __future__ import annotations

from dataclasses import dataclass, replace

import numpy as np
from numpy.typing import NDArray

from hauch.core.strength.limit import Place
from hauch.core.strength.sections import AIR, LIFT

Floats = NDArray[np.float64]

POISSON = 0.38
"""Of printed thermoplastics; the stress changes by 1 % for each 0.03."""
TYPICAL = 1200.0
"""Density of printed thermoplastics, by which the air is weighed against the pull [kg/m3]."""


@dataclass(frozen=True)
class Wheel:
    """A wheel, smeared around its axis; arrays over n rings from the bore to the rim.

    Parameters
    ----------
    edges : radii between the rings (n + 1) [m]
    low, high : the plate's surfaces along the axis [m]
    levels : heights between m layers of the blades, ascending (n, m + 1) [m]
    share : of the turn that is blade in each layer (n, m)
    lean : angle of the blades from the radius in each ring [rad]
    blades : how many
    """

    edges: Floats
    low: Floats
    high: Floats
    levels: Floats
    share: Floats
    lean: Floats
    blades: int

    @property
    def middle(self) -> Floats:
        """Radii of the rings' middles [m]."""
        return (self.edges[1:] + self.edges[:-1]) / 2


@dataclass(frozen=True)
class Flexed:
    """A turning wheel: where it is stressed, how far its rim goes outwards and along the axis, over
    density and the square of the angular speed, times Young's modulus [m3].
    """

    places: tuple[Place, ...]
    growth: float
    shift: float


def flexed(wheel: Wheel) -> Flexed:
    """Stress of a wheel by its own pull.

    Notes
    -----
    With u outwards and w along the axis: strains ``e_r = u' - z w''``, ``e_t = (u - z w') / r``. The
    plate takes both, a fibre of a blade at an angle to the radius ``e_r cos2 + e_t sin2``. The pull
    ``rho omega2 r`` acts where the mass is, so that blades above the plate turn it over. Bore held.
    """
    middle = float(np.median((wheel.low + wheel.high) / 2))  # heights are told from it
    wheel = replace(
        wheel, low=wheel.low - middle, high=wheel.high - middle, levels=wheel.levels - middle
    )
    plate, (foot, over) = _plate(wheel), _blades(wheel)
    return Flexed((plate.place, foot), plate.growth + over, plate.shift)


@dataclass(frozen=True)
class _Plate:
    place: Place
    growth: float
    shift: float


_AT = np.array([-np.sqrt(0.6), 0.0, np.sqrt(0.6)]) / 2 + 0.5
_WEIGHT = np.array([5, 8, 5]) / 18


def _shapes(x: Floats, long: Floats) -> tuple[Floats, Floats, Floats, Floats]:
    """Of all elements at shares x of their lengths: u, u', w', w'' by the six displacements, each
    (elements, shares, 6).
    """
    length, at = long[:, None], x[None, :]
    none = np.zeros((len(long), len(x)))
    even = none + at

    def rows(*six: Floats) -> Floats:
        return np.stack([none + part for part in six], axis=-1)

    return (
        rows(1 - even, none, none, even, none, none),
        rows(-1 / length, none, none, 1 / length, none, none),
        rows(
            none,
            6 * (at * at - at) / length,
            1 - 4 * at + 3 * at * at,
            none,
            6 * (at - at * at) / length,
            3 * at * at - 2 * at,
        ),
        rows(
            none,
            (12 * at - 6) / length**2,
            (6 * at - 4) / length,
            none,
            (6 - 12 * at) / length**2,
            (6 * at - 2) / length,
        ),
    )


def _powers(low: Floats, high: Floats) -> Floats:
    """Integrals of 1, z and z2 from low to high."""
    return np.array([high - low, (high**2 - low**2) / 2, (high**3 - low**3) / 3])


def _energy(a: tuple[Floats, Floats], b: tuple[Floats, Floats], powers: Floats) -> Floats:
    """Products of two strains ``a0 + z a1``, ``b0 + z b1`` over the height: (elements, shares, 6, 6)."""
    zero, one, two = powers[:, :, None, None, None]

    def outer(p: Floats, q: Floats) -> Floats:
        return p[..., :, None] * q[..., None, :]

    return (
        zero * outer(a[0], b[0])
        + one * (outer(a[0], b[1]) + outer(a[1], b[0]))
        + two * outer(a[1], b[1])
    )


def _plate(wheel: Wheel) -> _Plate:
    n = len(wheel.low)
    stiff, load = np.zeros((3 * n + 3, 3 * n + 3)), np.zeros(3 * n + 3)
    bulk = 1 / (1 - POISSON**2)  # Young's modulus is 1
    of_plate = _powers(wheel.low, wheel.high)
    of_blades = (_powers(wheel.levels[:, :-1], wheel.levels[:, 1:]) * wheel.share).sum(axis=2)
    radial = (np.cos(wheel.lean) ** 2)[:, None, None]
    long = np.diff(wheel.edges)
    r = (wheel.edges[:-1, None] + long[:, None] * _AT)[..., None]
    u, du, dw, ddw = _shapes(_AT, long)
    out, around = (du, -ddw), (u / r, -dw / r)
    fibre = (
        radial * out[0] + (1 - radial) * around[0],
        radial * out[1] + (1 - radial) * around[1],
    )
    part = bulk * (
        _energy(out, out, of_plate)
        + _energy(around, around, of_plate)
        + POISSON * (_energy(out, around, of_plate) + _energy(around, out, of_plate))
    ) + _energy(fibre, fibre, of_blades)
    ring = _WEIGHT[:, None] * long[:, None, None] * r
    mass, lever = (of_plate + of_blades)[:2, :, None, None]
    pulled = (ring * r * (mass * u - lever * dw)).sum(axis=1)
    held = (ring[..., None] * part).sum(axis=1)
    for e in range(n):
        rows = slice(3 * e, 3 * e + 6)
        stiff[rows, rows] += held[e]
        load[rows] += pulled[e]
    moved = np.zeros(3 * n + 3)
    moved[3:] = np.linalg.solve(stiff[3:, 3:], load[3:])
    stress, where = _surface_stress(wheel, moved, bulk)
    worst = int(stress.argmax())
    inside = int(np.searchsorted(wheel.edges, where[worst]) - 1)
    rim_u, rim_w, rim_slope = moved[-3:]
    top = max(wheel.levels[-1, -1], wheel.high[-1])
    heights = np.array([wheel.low[-1], top])
    return _Plate(
        Place(
            "plate",
            f"The plate at {2000 * where[worst]:.0f} mm diameter",
            float(stress[worst]),
            0.0,
            float(wheel.high[inside] - wheel.low[inside]),
        ),
        float((rim_u - heights * rim_slope).max()),
        float(rim_w),
    )


def _surface_stress(wheel: Wheel, moved: Floats, bulk: float) -> tuple[Floats, Floats]:
    """Equivalent stress (von Mises) on both surfaces of the plate at both ends of each ring, the
    greater one, and the radii.
    """
    long, at = np.diff(wheel.edges), np.array([0.02, 0.98])
    r = wheel.edges[:-1, None] + long[:, None] * at
    six = np.array([moved[3 * e : 3 * e + 6] for e in range(len(long))])[:, None, :]
    u, du, dw, ddw = ((shape * six).sum(axis=-1) for shape in _shapes(at, long))
    greatest = np.zeros_like(r)
    for face in (wheel.low, wheel.high):
        z = face[:, None]
        out, around = du - z * ddw, (u - z * dw) / r
        radial, hoop = bulk * (out + POISSON * around), bulk * (around + POISSON * out)
        greatest = np.maximum(greatest, np.sqrt(radial**2 + hoop**2 - radial * hoop))
    return greatest.ravel(), r.ravel()


def _blades(wheel: Wheel) -> tuple[Place, float]:
    """Blades that lean from the radius, bent over from the plate by their pull: strips that stand on
    it, ``m = sin(lean) r int t z dz``, ``sigma = 6 m / t2``, and pushed by the air. And how far the
    top goes outwards at the rim, ``3/2 sin2(lean) r h4 / t2`` [m3].
    """
    r = wheel.middle
    deep = np.diff(wheel.levels, axis=1)
    above = (wheel.levels[:, 1:] + wheel.levels[:, :-1]) / 2 - wheel.high[:, None]
    thick = 2 * np.pi * r[:, None] * wheel.share / wheel.blades * np.cos(wheel.lean)[:, None]
    standing = thick > 0
    root = np.where(standing.any(axis=1), thick[np.arange(len(r)), standing.argmax(axis=1)], np.inf)
    moment = np.abs(np.sin(wheel.lean)) * r * (thick * above * deep).sum(axis=1)
    tall = np.where(standing, deep, 0.0).sum(axis=1)
    own = 6 * moment / root**2
    air = 6 * LIFT * AIR / 2 * r**2 * tall**2 / 2 / root**2
    worst = int((own + air / TYPICAL).argmax())
    over = 1.5 * np.sin(wheel.lean[-1]) ** 2 * r[-1] * tall[-1] ** 4 / root[-1] ** 2
    place = Place(
        "foot",
        f"The blades' foot on the plate at {2000 * r[worst]:.0f} mm diameter",
        float(own[worst]),
        float(air[worst]),
        float(root[worst]),
        axial=True,
    )
    return place, float(over)
