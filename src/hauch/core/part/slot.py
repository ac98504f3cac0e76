"""The slot of a ring: where in its half sections the passage from the plenum to the free air is
narrowest, and how wide it is there all around.

Notes
-----
Nothing is left to where random rays happen to fall: a ring is cut along its axis, each half section
is a few closed lines, and the slot in it is the shortest straight line that closes a pocket. Between
the sections rays are cast across, as densely as ribs are thick.
"""

from __future__ import annotations

import math
from dataclasses import dataclass
from typing import TYPE_CHECKING

import numpy as np
import scipy
from numpy.typing import NDArray

from hauch.core.part.rays import Caster
from hauch.core.part.sections import GOLDEN, half_sections, shoelace

if TYPE_CHECKING:
    import trimesh

Floats = NDArray[np.float64]

WIDEST = 6.0
"""Widest gap that is taken for a slot [mm]."""
LEAST_POCKET, DEEP = 20.0, 12.0
"""A pocket that a slot closes has at least this area [mm2], and so many times the width squared: less
is a groove.
"""
PLANES = 24
"""Cuts along the axis; each gives two half sections."""
COARSE, FINE = 0.8, 0.01
"""Steps along the lines of a section, first and beside the narrowest place [mm]."""
CORNER = math.cos(math.radians(20))
ACROSS = 0.12
"""Way around between two rays across the slot [mm]: a rib is met by several."""
WEDGES = 24
OPEN = 0.5
"""Share of a turn that a slot is open at least."""


@dataclass(frozen=True)
class Slot:
    """A narrow gap all around the axis: mean width in each wedge of a turn where it is open at all
    [mm], radius of its middle [mm], free area [mm2], and which share of the turn ribs close.
    """

    widths: tuple[float, ...]
    radius: float
    area: float
    closed: float

    @property
    def mean(self) -> float:
        """Mean width between ribs [mm]."""
        return float(np.mean(self.widths))


@dataclass(frozen=True)
class _Throat:
    """The narrowest place in a half section: both ends, as (radius, z) [mm]."""

    one: Floats
    other: Floats

    @property
    def width(self) -> float:
        return float(np.linalg.norm(self.other - self.one))


def find_slot(mesh: trimesh.Trimesh, caster: Caster) -> Slot | None:
    """The slot of a ring on the z axis; None where none goes around at least half of it.

    Notes
    -----
    Area: ∫ w r dφ over what is open, so that ribs are taken off.
    """
    turns, found = [], []
    for turn, loops in half_sections(mesh, PLANES):
        throat = _throat([line for line in loops if len(line) > 2])
        if throat is not None:
            turns.append(turn)
            found.append(throat)
    if len(found) < OPEN * PLANES:
        return None
    middle = np.array([(t.one + t.other) / 2 for t in found])
    usual = np.median(middle, axis=0)
    same = np.linalg.norm(middle - usual, axis=1) < WIDEST / 2
    if same.sum() < OPEN * PLANES:
        return None
    at = np.array(turns)[same]
    ends = np.array([[t.one, t.other] for t in found])[same]
    flip = np.einsum("ij,j->i", ends[:, 1] - ends[:, 0], _leading(ends)) < 0
    ends[flip] = ends[flip][:, ::-1]
    order = np.argsort(at)  # single sections may find the throat at the lips' end
    ends = scipy.ndimage.median_filter(ends[order], size=(5, 1, 1), mode="wrap")
    return _around(caster, at[order], ends)


def _leading(ends: Floats) -> Floats:
    """Direction across that all throats are told in."""
    across = ends[:, 1] - ends[:, 0]
    return np.asarray(np.linalg.svd(across, full_matrices=False)[2][0])


def _around(caster: Caster, turns: Floats, ends: Floats) -> Slot | None:
    """Cast rays both ways across from the middle, all around."""
    radius = float(np.median(ends[:, :, 0]))
    count = max(WEDGES * 30, math.ceil(2 * math.pi * radius / ACROSS / WEDGES) * WEDGES)
    step = np.arange(count)  # not evenly, so that even ribs are not met alike
    turn = (step + step * GOLDEN % 1.0) / count * 2 * math.pi
    middle = np.column_stack([_turned(turn, turns, ends.mean(axis=1)[:, k]) for k in (0, 1)])
    lean = ends[:, 1] - ends[:, 0]
    across = np.column_stack([_turned(turn, turns, lean[:, k]) for k in (0, 1)])
    across /= np.linalg.norm(across, axis=1)[:, None]
    cos, sin = np.cos(turn), np.sin(turn)
    origins = np.column_stack([middle[:, 0] * cos, middle[:, 0] * sin, middle[:, 1]])
    directions = np.column_stack([across[:, 0] * cos, across[:, 0] * sin, across[:, 1]])
    width = np.zeros(count)
    free = np.ones(count, bool)
    for way in (directions, -directions):
        distance, cosine = caster.first(origins, way)
        free &= (cosine < -0.3) & (distance > 0) & (distance < WIDEST)
        width += np.nan_to_num(distance)
    free &= width < WIDEST
    if free.mean() < OPEN:
        return None
    width[~free] = np.nan
    widths = [
        float(np.nanmean(part)) for part in width.reshape(WEDGES, -1) if np.isfinite(part).any()
    ]
    area = float((width * middle[:, 0])[free].sum()) * 2 * math.pi / count
    return Slot(tuple(widths), float(np.median(middle[:, 0])), area, 1 - float(free.mean()))


def _turned(turn: Floats, known: Floats, values: Floats) -> Floats:
    """Values at turns between the known ones."""
    return np.asarray(np.interp(turn, known, values, period=2 * math.pi))


def _throat(loops: list[Floats]) -> _Throat | None:
    """The shortest line that closes a pocket of a half section, or that joins two bodies of it."""
    bodies = [line for line in loops if shoelace(line) > 0]
    best: _Throat | None = None
    for line in bodies:
        best = _shorter(best, _mouth(line))
    for k, line in enumerate(bodies):
        for other in bodies[k + 1 :]:
            best = _shorter(best, _between(line, other))
    return best


def _shorter(one: _Throat | None, other: _Throat | None) -> _Throat | None:
    if one is None or other is None:
        return one or other
    return min(one, other, key=lambda t: t.width)


def _even(line: Floats, step: float) -> Floats:
    """A closed line with its corners, points no further apart than a step, and else few that are
    far nearer.
    """
    along = np.roll(line, -1, axis=0) - line
    length = np.maximum(np.linalg.norm(along, axis=1), 1e-12)
    along /= length[:, None]
    corner = np.einsum("ij,ij->i", along, np.roll(along, 1, axis=0)) < CORNER
    place = (np.cumsum(length) - length) // (step / 2)
    line = line[corner | np.concatenate(([True], np.diff(place) > 0))]
    after = np.roll(line, -1, axis=0)
    pieces = np.maximum(np.ceil(np.linalg.norm(after - line, axis=1) / step).astype(int), 1)
    share = np.arange(pieces.sum()) - np.repeat(np.cumsum(pieces) - pieces, pieces)
    share = (share / np.repeat(pieces, pieces))[:, None]
    return np.asarray(
        np.repeat(line, pieces, axis=0) + share * np.repeat(after - line, pieces, axis=0)
    )


def _mouth(whole: Floats) -> _Throat | None:
    """The shortest line between two points of one closed line that closes off a pocket of air.

    The pocket's area comes of the running sum of the shoelace formula; material lies to the left of
    the line, so a pocket turns the other way round than the line.
    """
    line = _even(whole, COARSE)
    first, later = scipy.spatial.cKDTree(line).query_pairs(WIDEST, output_type="ndarray").T
    x, y = line.T
    cross = x * np.roll(y, -1) - np.roll(x, -1) * y
    run = np.cumsum(cross) - cross
    area = (run[later] - run[first] + x[later] * y[first] - y[later] * x[first]) / 2
    pocket = np.where(area < 0, -area, area - cross.sum() / 2)  # on one side or on the other
    apart = np.linalg.norm(line[later] - line[first], axis=1)
    closes = (pocket > LEAST_POCKET) & (pocket > DEEP * apart**2)
    if not closes.any():
        return None
    at = _middle_of_shortest(apart[closes], COARSE / 8)
    return _close(whole, whole, line[first[closes][at]], line[later[closes][at]])


def _between(one: Floats, other: Floats) -> _Throat | None:
    """The shortest line between two bodies of a section."""
    a, b = _even(one, COARSE), _even(other, COARSE)
    apart = scipy.spatial.distance.cdist(a, b)
    if apart.min() > WIDEST:
        return None
    i, j = np.unravel_index(_middle_of_shortest(apart.ravel(), COARSE / 8), apart.shape)
    return _close(one, other, a[i], b[j])


def _close(one: Floats, other: Floats, near: Floats, far: Floats) -> _Throat:
    """The shortest line between what of two lines lies beside two points, finely divided."""
    a, b = _beside(one, near), _beside(other, far)
    apart = scipy.spatial.distance.cdist(a, b)
    i, j = np.unravel_index(_middle_of_shortest(apart.ravel(), FINE / 8), apart.shape)
    return _Throat(a[i], b[j])


def _middle_of_shortest(apart: Floats, play: float) -> np.intp:
    """Which in the middle of those that are as short as the shortest, but for a play [mm]: lips are
    parallel for a while.
    """
    shortest = np.flatnonzero(apart <= apart.min() + play)
    return shortest[len(shortest) // 2]


def _beside(line: Floats, place: Floats) -> Floats:
    """Points of a closed line up to two steps along it from a place on it, finely divided."""
    along = np.roll(line, -1, axis=0) - line
    length = np.maximum(np.linalg.norm(along, axis=1), 1e-12)
    share = np.clip(np.einsum("ij,ij->i", place - line, along) / length**2, 0, 1)
    nearest = np.linalg.norm(line + share[:, None] * along - place, axis=1).argmin()
    ends = np.append(0.0, np.cumsum(length))
    middle = float(ends[nearest] + share[nearest] * length[nearest])
    low, high = middle - 2 * COARSE, middle + 2 * COARSE
    around = ends[-1]
    corners = np.concatenate([ends[:-1] - around, ends[:-1], ends[:-1] + around])
    places = np.concatenate(
        [
            np.linspace(low, high, math.ceil(4 * COARSE / FINE) + 1),
            corners[(corners > low) & (corners < high)],
        ]
    )
    places = np.sort(places) % around
    closed = np.vstack([line, line[:1]])
    return np.column_stack([np.interp(places, ends, closed[:, k]) for k in (0, 1)])
