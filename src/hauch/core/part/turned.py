"""A rotor as its axis sees it: what of each turn is material at each radius and height, its hub as a
ring, its wheel as a plate with blades.
"""

from __future__ import annotations

import itertools
from collections.abc import Sequence
from dataclasses import dataclass
from typing import TYPE_CHECKING

import numpy as np
from numpy.typing import NDArray

from hauch.core.part import MM
from hauch.core.part.rays import Caster
from hauch.core.part.sections import plane_cuts
from hauch.core.strength.hub import Hub
from hauch.core.strength.wheel import Wheel

if TYPE_CHECKING:
    import trimesh

Floats = NDArray[np.float64]

COLUMNS = 1080
"""Rays along the axis, evenly around it, on each cylinder of a wheel."""
OF_HUB = 360
"""The same for a hub, which is even around."""
WHOLE = 0.95
"""Share of a turn from which a ring is taken as a plate."""
RINGS = 44
LAYERS = 10


class NotComputed(Exception):
    """A shape whose stress is not computed; its sentence says why."""


@dataclass(frozen=True)
class Columns:
    """Stretches of material along the axis on a cylinder: which column, from, to [mm], ascending; and
    how many columns there are.
    """

    column: NDArray[np.int64]
    low: Floats
    high: Floats
    count: int

    @property
    def whole(self) -> bool:
        """Whether there is material all around."""
        return len(np.unique(self.column)) >= WHOLE * self.count

    @property
    def first(self) -> tuple[Floats, Floats]:
        """The lowest stretch of each column that has one: from, to [mm]."""
        at = np.unique(self.column, return_index=True)[1]
        return self.low[at], self.high[at]

    @property
    def last(self) -> Floats:
        """Where each column that has a stretch ends [mm]."""
        return self.high[np.append(self.column[1:] != self.column[:-1], True)]

    def share(self, low: float, high: float) -> float:
        """Share of the turn that is material between two heights."""
        inside = np.clip(np.minimum(self.high, high) - np.maximum(self.low, low), 0, None)
        return float(inside.sum() / (high - low) / self.count)

    def mirrored(self) -> Columns:
        """The same, seen from the other side."""
        order = np.lexsort((-self.high, self.column))
        return Columns(self.column[order], -self.high[order], -self.low[order], self.count)


def columns(caster: Caster, radii: Floats, count: int = COLUMNS) -> list[Columns]:
    """Cast rays along the axis on cylinders. Columns that are met an odd number of times, as where
    the mesh has a hole, are left out.
    """
    angle = (np.arange(count) + 0.37) / count * 2 * np.pi
    flat = np.stack([np.outer(radii, np.cos(angle)), np.outer(radii, np.sin(angle))], -1)
    ray, z = caster.through(flat.reshape(-1, 2))
    even = np.bincount(ray, minlength=len(radii) * count)[ray] % 2 == 0
    ray, z = ray[even], z[even]
    order = np.lexsort((z, ray))
    ray, low, high = ray[order][::2], z[order][::2], z[order][1::2]
    ring = ray // count
    return [
        Columns(ray[ring == k] % count, low[ring == k], high[ring == k], count)
        for k in range(len(radii))
    ]


def hub_of(caster: Caster, radius: float) -> Hub:
    """The hub under the blades as a ring: its shell inwards from the blades, half the height being
    left of it where it ends, and its half section outside half its radius.

    Parameters
    ----------
    caster : of a mesh on the z axis [mm]
    radius : at which the blades begin [mm]

    Raises
    ------
    NotComputed : no hub
    """
    radii = np.linspace(0.5, 1.0, 50) * radius
    step = radii[1] - radii[0]
    cuts = columns(caster, radii, OF_HUB)
    whole = np.array([c.whole for c in cuts])
    if not whole.any():
        raise NotComputed("no hub was found under its blades.")
    height = np.array([float((c.high - c.low).sum()) / OF_HUB for c in cuts]) * whole
    depth = float(height[len(radii) // 2 :].max())  # of material, the mean of the turn
    shell = height >= depth / 2
    outer = int(np.flatnonzero(shell)[-1])
    inner = outer
    while inner > 0 and shell[inner - 1]:
        inner -= 1
    return Hub(
        float(radii[outer]) * MM,
        float(radii[outer] - radii[inner] + step) * MM,
        depth * MM,
        float(np.trapezoid(height, radii)) * MM**2,
    )


def wheel_of(
    mesh: trimesh.Trimesh, caster: Caster, bore: float, blades: int, inner: float
) -> Wheel:
    """An open wheel, smeared around its axis.

    Parameters
    ----------
    mesh, caster : on the z axis [mm]; blades on either side of the plate
    bore : diameter of the hole on the axis [mm], 0 for none
    blades : how many
    inner : radius at which they begin [mm]

    Raises
    ------
    NotComputed : no plate all around under the blades, one that is not flat, a cover over them,
        blades that lean over along the axis
    """
    tip = float(np.hypot(mesh.vertices[:, 0], mesh.vertices[:, 1]).max())
    start = max(bore / 2, 0.02 * tip)
    inner = min(max(inner, start + 0.05 * tip), 0.9 * tip)
    edges = np.concatenate(
        [np.linspace(start, inner, RINGS // 3)[:-1], np.linspace(inner, tip, 2 * RINGS // 3)]
    )
    middle = (edges[1:] + edges[:-1]) / 2
    cuts = columns(caster, middle)
    bladed = middle > inner
    whole = [c.whole for c in cuts]
    begins = _first_whole(whole, middle, inner)
    edges, middle, cuts, bladed = edges[begins:], middle[begins:], cuts[begins:], bladed[begins:]
    below, above = (
        sum(float(np.std(face)) for face in faces)
        for faces in zip(
            *((c.first[0], c.last) for c, b in zip(cuts, bladed, strict=True) if b), strict=True
        )
    )
    side = 1.0 if below <= above else -1.0  # the plate's even face is the lower one
    if side < 0:
        cuts = [c.mirrored() for c in cuts]
    low, high, top = np.array([_faces(c) for c in cuts]).T
    thick, centre = (high - low)[bladed], ((high + low) / 2)[bladed]
    if np.ptp(centre) > max(0.5 * float(np.median(thick)), 0.03 * (tip - inner)):
        raise NotComputed("its plate is not flat under the blades.")
    tall = np.where(bladed, np.maximum(top - high, 0.0), 0.0)
    levels = high[:, None] + tall[:, None] * np.linspace(0, 1, LAYERS + 1)
    share = np.array(
        [
            [c.share(a, b) if b - a > 1e-6 else 0.0 for a, b in itertools.pairwise(z)]
            for c, z in zip(cuts, levels, strict=True)
        ]
    )
    if (share > WHOLE).any():
        raise NotComputed("a cover lies over its blades.")
    lean = np.zeros(len(middle))
    plate, stand = float(high[bladed].max()), float(np.median(tall[bladed]))
    lower, upper = side * (plate + 0.2 * stand), side * (plate + 0.6 * stand)
    lean[bladed] = _lean(mesh, middle[bladed], lower, upper, blades)
    return Wheel(edges * MM, low * MM, high * MM, levels * MM, share, lean, blades)


def _first_whole(whole: Sequence[bool], radii: Floats, inner: float) -> int:
    """The ring from which on the plate reaches all around; a bore that is not round, or a key, may
    leave the innermost ones open.
    """
    begins = len(whole) - next((k for k, w in enumerate(reversed(whole)) if not w), len(whole))
    if begins == len(whole) or (begins and radii[begins] > 0.6 * inner):
        raise NotComputed(
            f"its plate does not reach all around at {2 * radii[begins - 1]:.0f} mm diameter."
        )
    return begins


def _faces(c: Columns) -> tuple[float, float, float]:
    """Lower and upper face of the plate, and top of the blades on it, on one cylinder [mm]."""
    low, high = c.first
    return (
        float(np.quantile(low, 0.9)),
        float(np.quantile(high, 0.1)),
        float(np.quantile(c.high, 0.999)),
    )


def _lean(mesh: trimesh.Trimesh, radii: Floats, lower: float, upper: float, blades: int) -> Floats:
    """Angle of the blades from the radius at each ring [rad], from the turn of their middles in cuts
    across the axis at two heights [mm].
    """
    low, high = (_middles(mesh, height, radii, blades) for height in (lower, upper))
    apart = np.abs(np.exp(1j * low.turn)[:, None] - np.exp(1j * high.turn)[None]).min(axis=1)
    if np.nanmedian(apart * radii) > np.nanmedian(low.width):
        raise NotComputed("its blades lean over along the axis.")
    return np.arctan(np.median(np.gradient(low.turn, radii, axis=1), axis=0) * radii)


@dataclass(frozen=True)
class _Middles:
    """Blades in a cut across the axis, (blades, radii): angle of their middles [rad], width along
    the turn [mm].
    """

    turn: Floats
    width: Floats


def _middles(mesh: trimesh.Trimesh, height: float, radii: Floats, blades: int) -> _Middles:
    """Where circles cut the blades. Raises NotComputed where they are not as many as they should
    be.
    """
    _, loops = next(plane_cuts(mesh, 2, [height]))
    turns, widths = [], []
    for loop in loops:
        r = np.linalg.norm(loop.points, axis=1)
        if loop.area <= 0 or r.max() < radii[0] or np.linalg.norm(loop.centre) < radii[0] / 2:
            continue
        angle = np.unwrap(np.arctan2(loop.points[:, 1], loop.points[:, 0]))
        after, angle_after = np.roll(r, -1), np.roll(angle, -1)
        turn, width = np.full((2, len(radii)), np.nan)
        for k, radius in enumerate(radii):
            cut = (r <= radius) != (after <= radius)
            if cut.any():
                share = (radius - r[cut]) / (after[cut] - r[cut])
                at = angle[cut] + share * (angle_after[cut] - angle[cut])
                turn[k], width[k] = (at.max() + at.min()) / 2, np.ptp(at) * radius
        known = np.isfinite(turn)
        if known.sum() >= len(radii) / 2:
            turns.append(np.interp(radii, radii[known], turn[known]))
            widths.append(width)
    if len(turns) != blades:
        raise NotComputed("its blades could not be followed along the radius.")
    return _Middles(np.array(turns), np.array(widths))
