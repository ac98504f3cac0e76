"""Openings, slots and the free area along a passage, measured on the mesh of a duct, an intake or a
ring.

References
----------
Steep widening: a half angle above 7 degrees separates (I. E. Idelchik, Handbook of Hydraulic
    Resistance, ch. 5), as in `hauch.core.predict.intake`.
"""

from __future__ import annotations

import math
from dataclasses import dataclass
from itertools import pairwise
from typing import TYPE_CHECKING

import numpy as np
import scipy
from numpy.typing import NDArray

from hauch.core.part.pose import turn_to_z
from hauch.core.part.rays import Caster, gaps, sample
from hauch.core.part.sections import plane_cuts, shoelace
from hauch.core.part.soundness import edges_of

if TYPE_CHECKING:
    import trimesh

Floats = NDArray[np.float64]

FLAT = 1 - 2e-6
"""Cosine between faces of one plane."""
LEAST_OPENING = 20.0
"""Area below which a hole in a flat face is a screw hole or a pin, not an opening [mm2]."""
STEEP = math.radians(7)
SLOT = 6.0
"""Widest gap that is taken for a slot [mm]."""
WEDGES = 24


@dataclass(frozen=True)
class Opening:
    """A hole in a flat rim: area [mm2], middle and outward direction [mm], and the area of its rim
    [mm2].
    """

    area: float
    centre: tuple[float, float, float]
    direction: tuple[float, float, float]
    round: float

    @property
    def diameter(self) -> float:
        """Of the circle of the same area [mm]."""
        return 2 * math.sqrt(self.area / math.pi)


def _flat_groups(mesh: trimesh.Trimesh) -> tuple[NDArray[np.int64], NDArray[np.int64]]:
    """Groups of neighbouring faces in one plane, by face; and the edges between different groups as
    corners of faces.
    """
    faces, normals = np.asarray(mesh.faces, np.int64), np.asarray(mesh.face_normals)
    edges = edges_of(faces, len(mesh.vertices))
    same = np.einsum("ij,ij->i", normals[edges.first], normals[edges.second]) > FLAT
    first, second = edges.first[same], edges.second[same]
    _, label = scipy.sparse.csgraph.connected_components(
        scipy.sparse.coo_matrix(
            (np.ones(len(first), np.int8), (first, second)), shape=(len(faces), len(faces))
        ),
        directed=False,
    )
    return label, faces


def _rims_of(faces: NDArray[np.int64]) -> list[list[int]]:
    """Boundary chains of a set of faces."""
    start, end = faces[:, [0, 1, 2]].ravel(), faces[:, [1, 2, 0]].ravel()
    inner = set(zip(end.tolist(), start.tolist(), strict=True))
    after: dict[int, list[int]] = {}
    for a, b in zip(start.tolist(), end.tolist(), strict=True):
        if (a, b) not in inner:
            after.setdefault(a, []).append(b)
    rims = []
    while after:
        first = next(iter(after))
        rim, at = [first], first
        while after.get(at):
            following = after[at].pop()
            if not after[at]:
                del after[at]
            if following == first:
                break
            rim.append(following)
            at = following
        rims.append(rim)
    return rims


def openings(mesh: trimesh.Trimesh) -> tuple[list[Opening], list[Opening]]:
    """Openings of passages and screw holes: holes in flat rims of a part [mm], the largest first.

    Notes
    -----
    The area is that of the inner edge of the rim. Ends that are not cut flat are not found.
    """
    label, faces = _flat_groups(mesh)
    area = np.bincount(label, np.asarray(mesh.area_faces))
    size = np.bincount(label)
    big = np.flatnonzero((area > 4.0) & (size >= 6))
    found: list[Opening] = []
    small: list[Opening] = []
    normals = np.asarray(mesh.face_normals)
    order = np.argsort(label, kind="stable")
    begin = np.searchsorted(label[order], big)
    finish = np.searchsorted(label[order], big, side="right")
    for low, high in zip(begin, finish, strict=True):
        members = order[low:high]
        rims = [r for r in _rims_of(faces[members]) if len(r) >= 6 or len(r) == 4]
        if len(rims) < 2:
            continue
        normal = normals[members[0]]
        turn = turn_to_z(normal)
        flat = [np.asarray(mesh.vertices)[r] @ turn.T for r in rims]
        if (
            max(np.ptp(np.vstack(flat)[:, 2]), 0.0) > 0.02
        ):  # a crest of a curved surface, whose neighbours look alike
            continue
        areas = [shoelace(f[:, :2]) for f in flat]
        outer = int(np.argmax(np.abs(areas)))
        for k, (points, value) in enumerate(zip(flat, areas, strict=True)):
            if k == outer or value * areas[outer] > 0:
                continue
            centre = turn.T @ points.mean(axis=0)
            if not _leads_in(mesh, faces, np.array(rims[k]), members, centre):
                continue
            stray = np.linalg.norm(points[:, :2] - points[:, :2].mean(axis=0), axis=1)
            made = Opening(
                abs(value),
                tuple(centre.tolist()),
                tuple(normal.tolist()),
                float(np.ptp(stray) / max(stray.mean(), 1e-9)),
            )
            (
                small
                if abs(value) < LEAST_OPENING or (made.diameter < 9 and made.round < 0.1)
                else found
            ).append(made)
    found.sort(key=lambda o: -o.area)
    return found, small


def _leads_in(
    mesh: trimesh.Trimesh,
    faces: NDArray[np.int64],
    rim: NDArray[np.int64],
    members: NDArray[np.int64],
    centre: Floats,
) -> bool:
    """Whether the wall behind a rim looks towards the middle of the hole, and not away from it as
    the wall of a tube that stands on the face does.
    """
    on_rim = np.zeros(len(mesh.vertices), bool)
    on_rim[rim] = True
    a, b, c = (on_rim[corner].astype(np.int8) for corner in faces.T)
    behind = (a + b + c) >= 2
    behind[members] = False
    at = np.flatnonzero(behind)
    towards = centre - np.asarray(mesh.triangles)[at].mean(axis=1)
    return bool(
        (
            np.einsum("ij,ij->i", np.asarray(mesh.face_normals)[at], towards)
            * np.asarray(mesh.area_faces)[at]
        ).sum()
        > 0
    )


@dataclass(frozen=True)
class Slot:
    """A narrow gap all around: width at places around [mm], radius of its middle [mm], area [mm2]."""

    widths: tuple[float, ...]
    radius: float

    @property
    def mean(self) -> float:
        """Mean width [mm]."""
        return float(np.mean(self.widths))

    @property
    def area(self) -> float:
        """Width times the way around [mm2]."""
        return self.mean * 2 * math.pi * self.radius


def find_slot(mesh: trimesh.Trimesh, caster: Caster, count: int = 24_000) -> Slot | None:
    """The narrowest gap that goes all around the z axis of a ring; None where there is none.

    Notes
    -----
    Rays outwards from the surface; in each of `WEDGES` wedges the width is that which a twentieth
    of the gaps stays below, so that parallel lips are measured square to themselves.
    """
    at = sample(mesh, count)
    free = gaps(caster, at)
    near = np.isfinite(free) & (free < SLOT)
    if near.sum() < 10 * WEDGES:
        return None
    angle = np.arctan2(at.points[near, 1], at.points[near, 0])
    wedge = np.minimum(((angle + np.pi) / (2 * np.pi) * WEDGES).astype(int), WEDGES - 1)
    radius = np.hypot(at.points[near, 0], at.points[near, 1])
    widths, radii = [], []
    for k in range(WEDGES):
        mine = wedge == k
        if mine.sum() < 8:
            return None
        limit = np.quantile(free[near][mine], 0.05)
        narrow = mine & (free[near] <= limit * 1.02 + 0.005)
        widths.append(float(limit))
        radii.append(float(np.median(radius[narrow])))
    return Slot(tuple(widths), float(np.median(radii)))


@dataclass(frozen=True)
class Cut:
    """Free area of the passage in a cut across its axis: place along it [mm] and area [mm2]."""

    place: float
    area: float


def free_areas(mesh: trimesh.Trimesh, cuts: int = 32) -> list[Cut]:
    """Area of the holes in cuts across z, from the mounting side on; for passages that run along z."""
    low, high = mesh.bounds[:, 2]
    made = []
    for level, loops in plane_cuts(mesh, 2, np.linspace(low, high, cuts + 2)[1:-1]):
        outer = max((c.area for c in loops if c.area > 0), default=0.0)
        holes = [
            abs(c.area)
            for c in loops
            if c.area < 0
            and abs(c.area) < outer
            and abs(c.area) > LEAST_OPENING
            and not (c.roundness[0] < 4.5 and c.roundness[1] < 0.1)
        ]
        if holes:
            made.append(Cut(float(level), float(sum(holes))))
    return made


def steep(cuts: list[Cut], forward: bool) -> list[tuple[float, float]]:
    """Places where the passage widens with the flow by more than `STEEP` a side: (place [mm], half
    angle [rad]).
    """
    found = []
    ordered = cuts if forward else cuts[::-1]
    for a, b in pairwise(ordered):
        rise = (math.sqrt(b.area) - math.sqrt(a.area)) / math.sqrt(math.pi)
        angle = math.atan2(rise, abs(b.place - a.place))
        if angle > STEEP:
            found.append(((a.place + b.place) / 2, angle))
    return found
