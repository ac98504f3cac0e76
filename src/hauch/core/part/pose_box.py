"""How a part that does not turn lies in its box: the way that fits best of all turns of its file."""

from __future__ import annotations

import itertools
from dataclasses import dataclass
from typing import TYPE_CHECKING

import numpy as np
from numpy.typing import NDArray

from hauch.core.geometry.envelope import Envelope
from hauch.core.part import MM
from hauch.core.part.pose import FILE_TURNS, PLAY, Floats, Placed, placed_at
from hauch.core.part.rays import sample

if TYPE_CHECKING:
    import trimesh


FAR_LARGER = 4.0
"""How many times larger another flat face must be before the designer is asked whether that is the
mounting face.
"""
ALIKE = 0.5
"""Reaches over an envelope that are taken for alike [mm]."""
SPREAD = 20_000
"""Points of a surface that are held against keep-outs: corners alone would miss what a large flat
face runs through.
"""
LEAST_FACE = 300.0
"""Area from which a flat face is taken for the mounting face, so that the part is set on its middle
[mm2].
"""
SIDES = (("left", "right"), ("bottom", "top"), ("mounting side", "far end"))


def _file_rotations() -> list[tuple[str, Floats]]:
    """The 24 ways to lay a part along the axes; the way it is stored first."""
    made = []
    for order in itertools.permutations(range(3)):
        for signs in itertools.product((1, -1), repeat=3):
            turn = np.zeros((3, 3))
            for row, (column, sign) in enumerate(zip(order, signs, strict=True)):
                turn[row, column] = sign
            if np.linalg.det(turn) > 0:
                name = ("" if signs[2] > 0 else "-") + "xyz"[order[2]]
                made.append((name, turn))
    return sorted(made, key=lambda m: (not np.allclose(m[1], np.eye(3)), m[0] != "z"))


def _box_room(envelope: Envelope) -> tuple[Floats, Floats]:
    """Least and greatest corner of the place of a duct, intake or ring [mm]."""
    if envelope.family == "ring":
        half = envelope["outer"] / 2 / MM
        return np.array([-half, -envelope["neck_drop"] / MM, 0.0]), np.array(
            [half, half, envelope["depth"] / MM]
        )
    w, h, length = (envelope[k] / MM for k in ("width", "height", "length"))
    return np.array([-w / 2, -h / 2, 0.0]), np.array([w / 2, h / 2, length])


def place_in_box(mesh: trimesh.Trimesh, envelope: Envelope, wanted: str = "") -> Placed:
    """Lay a duct, an intake or a ring into its place: as stored where that fits, else the way that
    sticks out least.

    ``wanted`` names the file axis that is the flow's, where the designer has said it.
    """
    low, high = _box_room(envelope)
    corners = np.asarray(mesh.bounds)
    surface = sample(mesh, SPREAD).points if envelope.keep_outs else corners
    faces = _mounting_faces(mesh)
    tried: list[_Way] = []
    for name, turn in _file_rotations():
        if wanted and name != wanted:
            continue
        ends = np.sort(corners @ turn.T, axis=0)  # quarter turns bring corners to corners
        mount = faces[name]
        middle = (
            turn @ mount.middle if mount.middle is not None and mount.area >= LEAST_FACE else None
        )
        shift = _shift(ends[0], ends[1], low, high, envelope.family, middle)
        least, most = ends + shift
        over = float(np.maximum(low - least, 0).sum() + np.maximum(most - high, 0).sum())
        spread = surface @ turn.T + shift
        over += sum(100 * _inside(spread, k.box.at, k.box.size).mean() for k in envelope.keep_outs)
        tried.append(_Way(name, turn, shift, 0.0 if over <= PLAY else over, mount.area))
    if not tried:
        raise ValueError(f"“{wanted}” is no axis of the file")
    way, larger = _chosen(tried)
    made = placed_at(mesh, way.turn, way.shift)
    outside, misfits, fits = _against_box(made, low, high, envelope)
    matrix = np.eye(4)
    matrix[:3, :3], matrix[:3, 3] = way.turn, way.shift
    return Placed(
        made,
        "" if way.as_stored else way.name,
        matrix,
        outside,
        tuple(misfits),
        tuple(fits),
        asks=() if larger is None or wanted else (_other_face(way, larger),),
    )


@dataclass(frozen=True)
class _Way:
    """A way to lay a part: the file axis along the flow, the turn and shift [mm], how far it sticks
    out [mm], and its flat face on the mounting plane [mm2].
    """

    name: str
    turn: Floats
    shift: Floats
    over: float
    face: float

    @property
    def as_stored(self) -> bool:
        return np.allclose(self.turn, np.eye(3))


def _chosen(ways: list[_Way]) -> tuple[_Way, _Way | None]:
    """The way in which a part is taken to lie; and one that fits as well on a far larger face.

    As stored if that sticks out no further than the best; else on the largest face. Faces are taken
    for alike up to twice, and reaches up to `ALIKE`, so that facets decide nothing.
    """
    least = min(w.over for w in ways)
    fitting = [w for w in ways if w.over <= (least + ALIKE if least else 0.0)]
    largest = max(fitting, key=lambda w: w.face)
    stored = next((w for w in fitting if w.as_stored), None)
    if stored is None:
        return next(w for w in fitting if w.face >= largest.face / 2), None
    far = largest.face >= max(FAR_LARGER * stored.face, LEAST_FACE) and not least
    return stored, largest if far else None


def _other_face(way: _Way, other: _Way) -> str:
    facing = "faces against" if other.name.startswith("-") else "points along"
    return (
        "It is taken as it is stored. It would fit as well on a flat face of"
        f" {other.face / 100:.1f} cm², {other.face / max(way.face, 1.0):.0f} times that on which it"
        f" stands now: if that is its mounting side, say that {other.name.strip('-')} of the file"
        f" {facing} the flow."
    )


@dataclass(frozen=True)
class _Face:
    """Flat face that would lie on the mounting plane: area [mm2] and the middle of its outline in
    the file [mm].
    """

    area: float
    middle: Floats | None


def _mounting_faces(mesh: trimesh.Trimesh) -> dict[str, _Face]:
    """The face on the mounting plane for each file axis along the flow."""
    found = {}
    points, normals, area = (
        np.asarray(mesh.vertices),
        np.asarray(mesh.face_normals),
        np.asarray(mesh.area_faces),
    )
    corners = np.asarray(mesh.faces)
    for name in FILE_TURNS:
        k, sign = "xyz".index(name[-1]), -1.0 if name.startswith("-") else 1.0
        height = sign * points[:, k]
        low = height < height.min() + 0.05
        a, b, c = (low[corner] for corner in corners.T)
        on = a & b & c & (sign * normals[:, k] < -0.99)
        at = points[np.unique(corners[on])]
        found[name] = _Face(
            float(area[on].sum()), (at.min(axis=0) + at.max(axis=0)) / 2 if len(at) else None
        )
    return found


def _shift(
    least: Floats, most: Floats, low: Floats, high: Floats, part: str, face: Floats | None
) -> Floats:
    """Mounting plane to z = 0; across, the middle of the mounting face on the axis, else the middle
    of the part in the middle of its place.

    A ring sits on its axis: the middle of its width, and as far below its top.
    """
    if part == "ring":
        x = -(least[0] + most[0]) / 2
        return np.array([x, -(most[1] - (most[0] - least[0]) / 2), -least[2]])
    if face is not None:
        return np.array([-face[0], -face[1], -least[2]])
    middle = (low + high) / 2 - (least + most) / 2
    return np.array([middle[0], middle[1], -least[2]])


def _inside(points: Floats, at: tuple[float, ...], size: tuple[float, ...]) -> NDArray[np.bool_]:
    low = np.array(at) / MM
    return np.asarray(
        ((points > low + PLAY) & (points < low + np.array(size) / MM - PLAY)).all(axis=1)
    )


def _against_box(
    mesh: trimesh.Trimesh, low: Floats, high: Floats, envelope: Envelope
) -> tuple[NDArray[np.bool_], list[str], list[str]]:
    points = np.asarray(mesh.vertices)
    surface = sample(mesh, SPREAD if envelope.keep_outs else 1)
    outside = np.asarray(((points < low - PLAY) | (points > high + PLAY)).any(axis=1))
    misfits, fits = [], []
    for k in range(3):
        under, over = float(low[k] - points[:, k].min()), float(points[:, k].max() - high[k])
        for side, reach in zip(SIDES[k], (under, over), strict=True):
            if reach > PLAY:
                misfits.append(f"It sticks out {reach:.2f} mm at the {side}.")
    if not misfits:
        x, y, z = np.ptp(points, axis=0)
        fits.append(
            f"Its {x:.1f} × {y:.1f} × {z:.1f} mm fit into {high[0] - low[0]:g} ×"
            f" {high[1] - low[1]:g} × {high[2] - low[2]:g} mm."
        )
    for keep in envelope.keep_outs:
        hit = _inside(points, keep.box.at, keep.box.size)
        among = _inside(surface.points, keep.box.at, keep.box.size)
        if hit.any() or among.any():
            deep = np.vstack([points[hit], surface.points[among]])
            box_low, box_high = (
                np.array(keep.box.at) / MM,
                (np.array(keep.box.at) + np.array(keep.box.size)) / MM,
            )
            depth = float(np.minimum(deep - box_low, box_high - deep).min(axis=1).max())
            misfits.append(f"It reaches {depth:.2f} mm into the keep-out “{keep.name}”.")
            outside |= hit
            outside[mesh.faces[surface.faces[among]]] = True
    if envelope.family == "ring":
        radius = np.hypot(points[:, 0], points[:, 1])
        free = 2 * float(radius.min())
        said = f"Its free opening is {free:.1f} mm; {envelope['opening'] / MM:g} mm must stay free."
        (fits if free >= envelope["opening"] / MM - PLAY else misfits).append(said)
    return outside, misfits, fits
