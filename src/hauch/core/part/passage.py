"""Openings and the free area along a passage, measured on the mesh of a duct, an intake or a ring.

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
from hauch.core.part.rays import Caster
from hauch.core.part.sections import plane_cuts, shoelace
from hauch.core.part.soundness import edges_of

if TYPE_CHECKING:
    import trimesh

Floats = NDArray[np.float64]

FLAT = 1 - 2e-6
"""Cosine between faces of one plane."""
LEAST_OPENING = 20.0
"""Area below which a hole in a flat face is a screw hole or a pin, not an opening [mm2]."""
SCREW = (1.8, 9.0)
"""Diameters of holes that screws go through [mm]."""
STEEP = math.radians(7)


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


def openings(mesh: trimesh.Trimesh) -> list[Opening]:
    """Openings of passages: holes in flat rims of a part [mm], the largest first; what is as small as
    a screw hole is none.

    Notes
    -----
    The area is that of the inner edge of the rim. Ends that are not cut flat are not found.
    """
    label, faces = _flat_groups(mesh)
    area = np.bincount(label, np.asarray(mesh.area_faces))
    size = np.bincount(label)
    big = np.flatnonzero((area > 4.0) & (size >= 6))
    found: list[Opening] = []
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
            if made.area >= LEAST_OPENING and (made.diameter >= SCREW[1] or made.round >= 0.1):
                found.append(made)
    return sorted(found, key=lambda o: -o.area)


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


CELL = 0.4
"""Distance of the rays along the axis that look for holes [mm]."""
MOUNTING = 12.0
"""Depth in which a screw goes through the part, from where it meets it [mm]."""
STRAY = 0.6
"""How far a hole may lie from where the frame has it [mm]."""
OFF = 0.8
"""How far its diameter may lie from the frame's [mm]."""


def screw_hole(caster: Caster, x: float, y: float, diameter: float) -> bool:
    """Whether a screw that comes along the axis goes through the part at a place [mm], with material
    all around it.

    Notes
    -----
    By rays along the axis, so that it does not matter whether the hole goes through a flat flange, a
    cone or a lip: seen along the screw it is round in all of them. Only `MOUNTING` of material from
    the mounting side on counts; what bends over the hole further up does not.
    """
    turn = np.arange(72) / 72 * 2 * np.pi
    way = np.column_stack([np.cos(turn), np.sin(turn)])
    out = np.arange(0.05, diameter / 2 + OFF / 2 + STRAY + 0.3, 0.05)
    at = np.array([x, y]) + (way[:, None] * out[:, None]).reshape(-1, 2)
    ray, height = caster.through(at)
    if not len(ray):
        return False
    met = np.zeros(len(at), bool)
    met[ray[height < height.min() + MOUNTING]] = True
    filled = met.reshape(len(way), len(out))
    edge, known = out[filled.argmax(axis=1)] - 0.025, filled.any(axis=1)
    if filled[:, 0].any() or known.mean() < 0.97:
        return False
    rim = way[known] * edge[known, None]
    # circle through the rim: x2 + y2 = 2 a x + 2 b y + c, least squares (Kåsa 1976)
    design = np.column_stack([2 * rim, np.ones(len(rim))])
    (a, b, c), *_ = np.linalg.lstsq(design, (rim**2).sum(axis=1), rcond=None)
    radius = math.sqrt(max(c + a * a + b * b, 0.0))
    off = np.hypot(rim[:, 0] - a, rim[:, 1] - b) - radius
    return bool(
        math.hypot(a, b) < STRAY
        and abs(2 * radius - diameter) < OFF
        and np.quantile(np.abs(off), 0.9) < 0.2
    )


@dataclass(frozen=True)
class Hole:
    """A small round hole through a part along its axis: middle and diameter [mm]."""

    x: float
    y: float
    diameter: float


def holes_along(mesh: trimesh.Trimesh, caster: Caster) -> list[Hole]:
    """Holes through a part that a screw along the z axis could go through, in flat faces or not: free
    spots, closed in all around, of its picture along the axis.
    """
    low, high = np.asarray(mesh.bounds)[:, :2] + np.array([[-CELL], [CELL]])
    x, y = (np.arange(a, b, CELL) + CELL / 2 for a, b in zip(low, high, strict=True))
    grid = np.stack(np.meshgrid(x, y, indexing="ij"), -1)
    ray, _ = caster.through(grid.reshape(-1, 2))
    filled = np.zeros(grid.shape[:2], bool)
    filled.reshape(-1)[ray] = True
    label, _ = scipy.ndimage.label(~filled)
    found = []
    for number, place in enumerate(scipy.ndimage.find_objects(label), 1):
        spot = label[place] == number
        diameter = 2 * CELL * math.sqrt(spot.sum() / math.pi)
        wide, tall = spot.shape
        if SCREW[0] < diameter < SCREW[1] and max(wide, tall) * CELL < 1.15 * diameter + CELL:
            i, j = np.argwhere(spot).mean(axis=0) + np.array([side.start for side in place])
            found.append(Hole(float(x[0] + i * CELL), float(y[0] + j * CELL), diameter))
    return found
