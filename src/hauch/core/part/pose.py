"""In which unit, along which axis and how a part lies; whether it fits the envelope, and what
sticks out.

Axes as in `hauch.core.geometry.envelope`: z along the flow from the mounting plane, x to the right,
y upwards, origin on the axis of the bore.
"""

from __future__ import annotations

import math
from dataclasses import dataclass
from typing import TYPE_CHECKING

import numpy as np
from numpy.typing import NDArray

from hauch.core.geometry.envelope import Envelope
from hauch.core.part import MM
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
