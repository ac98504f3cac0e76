"""In which unit, along which axis and how a part lies; whether it fits the envelope, and what
sticks out.

Axes as in `hauch.core.geometry.envelope`: z along the flow from the mounting plane, x to the right,
y upwards, origin on the axis of the bore.
"""

from __future__ import annotations

import itertools
import math
from dataclasses import dataclass
from typing import TYPE_CHECKING

import numpy as np
from numpy.typing import NDArray

from hauch.core.geometry.envelope import Envelope
from hauch.core.part import MM
from hauch.core.part.rays import sample
from hauch.core.part.sections import Loop, plane_cuts

if TYPE_CHECKING:
    import trimesh

Floats = NDArray[np.float64]

UNITS = {
    "mm": ("millimetres", 1.0),
    "inch": ("inches", 25.4),
    "cm": ("centimetres", 10.0),
    "m": ("metres", 1000.0),
}
"""Units that people export in, and what they are in millimetres."""
PLAUSIBLE = (0.25, 1.6)
"""Size of a part over that of its envelope that is taken for meant."""
PLAY = 0.02
"""What facets and rounding may reach over an envelope [mm]."""


@dataclass(frozen=True)
class UnitGuess:
    """A unit, whether there is no doubt about it, and why, in a sentence."""

    unit: str
    sure: bool
    why: str

    @property
    def factor(self) -> float:
        """Millimetres of one unit."""
        return UNITS[self.unit][1]


def room_of(envelope: Envelope) -> float:
    """Greatest size that an envelope leaves a part [mm]."""
    if envelope.family == "rotor":
        return 2 * envelope.swept_radius / MM
    if envelope.family == "ring":
        return (envelope["neck_drop"] + envelope["outer"] / 2) / MM
    return max(envelope["length"], envelope["width"], envelope["height"]) / MM


def guess_unit(size: float, room: float) -> UnitGuess:
    """The unit of a file that does not tell it.

    Parameters
    ----------
    size : greatest size of the part in the file's numbers
    room : greatest size that the envelope leaves [mm]
    """
    share = {unit: size * factor / room for unit, (_, factor) in UNITS.items()}
    if PLAUSIBLE[0] <= share["mm"] <= PLAUSIBLE[1]:
        return UnitGuess(
            "mm",
            True,
            f"Taken in millimetres: {size:.4g} mm is the size of what the envelope leaves,"
            f" {room:.4g} mm.",
        )
    near = [u for u in UNITS if PLAUSIBLE[0] <= share[u] <= PLAUSIBLE[1]]
    if not near:
        return UnitGuess(
            "mm",
            False,
            f"The numbers in the file reach over {size:.4g}; in no usual unit is that near the"
            f" {room:.4g} mm of the envelope. Taken as millimetres.",
        )
    unit = min(near, key=lambda u: abs(math.log(share[u])))
    name, factor = UNITS[unit]
    return UnitGuess(
        unit,
        False,
        (
            f"In millimetres the part would be {size:.4g} mm across, {room / size:.3g} times"
            f" smaller than its place; it is taken for {name}, which makes it {size * factor:.4g}"
            " mm. Is that so?"
            if size < room
            else (
                f"In millimetres the part would be {size:.4g} mm across, {size / room:.3g} times"
                f" its place; it is taken for {name}, which makes it {size * factor:.4g} mm. Is"
                " that so?"
            )
        ),
    )


def turn_to_z(axis: Floats) -> Floats:
    """A rotation (3, 3) that brings a direction to z."""
    z = axis / np.linalg.norm(axis)
    helper = np.eye(3)[np.argmin(np.abs(z))]
    x = np.cross(helper, z)
    x /= np.linalg.norm(x)
    return np.array([x, np.cross(z, x), z])


FILE_TURNS: dict[str, Floats] = {
    "z": np.eye(3),
    "x": np.array([[0, 1, 0], [0, 0, 1], [1, 0, 0.0]]),
    "y": np.array([[0, 0, 1], [1, 0, 0], [0, 1, 0.0]]),
    "-z": np.diag([1.0, -1, -1]),
    "-x": np.array([[0, 1, 0], [0, 0, -1], [-1, 0, 0.0]]),
    "-y": np.array([[0, 0, -1], [1, 0, 0], [0, -1, 0.0]]),
}
"""Rotations that bring an axis of the file to z."""


def spin_direction(inertia: Floats) -> tuple[str, Floats]:
    """Axis of a rotor from its inertia: the principal axis whose moment stands alone; the file axis
    where it lies within 3 degrees of it.
    """
    values, vectors = np.linalg.eigh(inertia)
    alone = 0 if values[1] - values[0] > values[2] - values[1] else 2
    direction = vectors[:, alone]
    k = int(np.abs(direction).argmax())
    if abs(direction[k]) > math.cos(math.radians(3)):
        return "xyz"[k], FILE_TURNS["xyz"[k]]
    return "", turn_to_z(direction)


@dataclass(frozen=True)
class Bore:
    """The hole on the axis: centre (x, y) and diameter [mm], how far it is from round (share of its
    radius), and between which heights.
    """

    x: float
    y: float
    diameter: float
    stray: float
    low: float
    high: float


def find_bore(mesh: trimesh.Trimesh, cuts: int = 14) -> Bore | None:
    """The round hole nearest to the middle of a part whose axis is z; None where there is none. A
    double-flat hole is found by its round part.
    """
    low, high = mesh.bounds[:, 2]
    middle = np.asarray(mesh.bounds)[:, :2].mean(axis=0)
    reach = float(np.ptp(np.asarray(mesh.bounds)[:, :2], axis=0).max()) / 2
    found: list[tuple[float, Loop]] = []
    for level, loops in plane_cuts(mesh, 2, np.linspace(low, high, cuts + 2)[1:-1]):
        holes = [
            c
            for c in loops
            if c.area < 0
            and np.linalg.norm(c.centre - middle) < 0.25 * reach
            and c.roundness[1] < 0.2
        ]
        if holes:
            found.append((level, min(holes, key=lambda c: abs(c.area))))
    if not found:
        return None
    least = min(c.roundness[0] for _, c in found)
    same = [(z, c) for z, c in found if c.roundness[0] < 1.1 * least + 0.05]
    centres = np.array([c.centre for _, c in same])
    radius = float(np.median([np.linalg.norm(c.points - c.centre, axis=1).max() for _, c in same]))
    x, y = np.median(centres, axis=0)
    return Bore(
        float(x),
        float(y),
        2 * radius,
        float(np.median([c.roundness[1] for _, c in same])),
        same[0][0],
        same[-1][0],
    )


@dataclass(frozen=True)
class Placed:
    """A part in the envelope's axes: the mesh [mm], how it was turned, which vertices lie outside,
    in sentences what sticks out, what fits and what its designer should look at.
    """

    mesh: trimesh.Trimesh
    turned: str
    matrix: Floats
    outside: NDArray[np.bool_]
    misfits: tuple[str, ...]
    fits: tuple[str, ...]
    bore: Bore | None = None
    asks: tuple[str, ...] = ()


def placed_at(mesh: trimesh.Trimesh, turn: Floats, shift: Floats) -> trimesh.Trimesh:
    """A copy, turned and then shifted."""
    made = mesh.copy()
    matrix = np.eye(4)
    matrix[:3, :3], matrix[:3, 3] = turn, shift
    made.apply_transform(matrix)
    return made


def place_rotor(mesh: trimesh.Trimesh, envelope: Envelope, turned: str, turn: Floats) -> Placed:
    """Put a rotor on the axis by its bore (by the middle of its tips where it has none) and hold it
    against its place.
    """
    made = placed_at(mesh, turn, np.zeros(3))
    bore = find_bore(made)
    if bore is not None:
        centre = np.array([bore.x, bore.y])
    else:
        centre = np.asarray(made.bounds)[:, :2].mean(axis=0)
    shift = np.array([-centre[0], -centre[1], -made.bounds[0, 2]])
    made.apply_translation(shift)
    radius = np.hypot(made.vertices[:, 0], made.vertices[:, 1])
    most, depth = envelope.swept_radius / MM, envelope["depth"] / MM
    height = float(made.bounds[1, 2])
    misfits, fits = [], []
    if radius.max() > most + PLAY:
        misfits.append(
            f"It sweeps a diameter of {2 * radius.max():.2f} mm; the bore of"
            f" {envelope['bore'] / MM:g} mm less its tip gap leaves {2 * most:.2f} mm. It sticks"
            f" out by {radius.max() - most:.2f} mm all around."
        )
    else:
        fits.append(
            f"It sweeps {2 * radius.max():.2f} mm of {2 * most:.2f} mm:"
            f" {envelope['bore'] / MM / 2 - radius.max():.2f} mm of tip gap are left."
        )
    if height > depth + PLAY:
        misfits.append(
            f"It is {height:.2f} mm deep; {depth:g} mm are allowed. It sticks out by"
            f" {height - depth:.2f} mm."
        )
    else:
        fits.append(f"It is {height:.2f} mm deep of {depth:g} mm.")
    said, well = _shaft(bore, envelope["shaft"] / MM)
    (fits if well else misfits).append(said)
    outside = (radius > most + PLAY) | (made.vertices[:, 2] > depth + PLAY)
    matrix = np.eye(4)
    matrix[:3, :3], matrix[:3, 3] = turn, shift
    return Placed(made, turned, matrix, outside, tuple(misfits), tuple(fits), bore)


LOOSE, TIGHT = 0.35, -0.15
"""Bore less shaft [mm]: looser than this it does not centre, tighter it splits when it is pressed
on. Prints come out 0.1 to 0.2 mm tight.
"""


def _shaft(bore: Bore | None, shaft: float) -> tuple[str, bool]:
    if bore is None:
        return f"No round hole for the shaft of {shaft:g} mm was found on its axis.", False
    play = bore.diameter - shaft
    if play > LOOSE:
        return (
            (
                f"Its bore is {bore.diameter:.2f} mm, the shaft {shaft:g} mm: {play:.2f} mm of play"
                " cannot centre it."
            ),
            False,
        )
    if play < TIGHT:
        return (
            f"Its bore is {bore.diameter:.2f} mm, the shaft {shaft:g} mm: it does not go on.",
            False,
        )
    return f"Its bore of {bore.diameter:.2f} mm takes the shaft of {shaft:g} mm.", True


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


SIDES = (("left", "right"), ("bottom", "top"), ("mounting side", "far end"))


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
