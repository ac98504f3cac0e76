"""A straight tube to print for a tunnel: segments that plug into one another, one of them with a hole for
the probe, and a flow straightener to push in. Lengths in metres, z along the flow.
"""

from __future__ import annotations

import math
from dataclasses import dataclass
from typing import TYPE_CHECKING

import manifold3d

from hauch.core.geometry.solids import SCALE, Body, _mesh, cylinder, revolved
from hauch.core.predict.model import refuse

if TYPE_CHECKING:
    import trimesh

BED = 0.2
"""Highest segment that most printers make [m]."""
PLUG, GAP = 0.012, 0.0002
"""Length of a plug, and the play of what is pushed together [m]."""
THIN = 0.0005
"""Walls between the cells of a straightener, one line of a usual nozzle [m]."""
MOST_PLATES = 80
SEGMENT, PROBED, STRAIGHTENER = "segment", "segment_with_hole", "straightener"


@dataclass(frozen=True, slots=True)
class Tube:
    """A tube in the sizes of a tunnel.

    Parameters
    ----------
    bore, length : inside
    cell, straightener_length : of the straightener's square cells
    wall : of the tube
    probe : diameter of the hole for the probe
    """

    bore: float
    length: float
    cell: float
    straightener_length: float
    wall: float = 0.0016
    probe: float = 0.01

    @property
    def count(self) -> int:
        """How many segments make the length."""
        return max(math.ceil(self.length / BED - 1e-9), 1)

    def problems(self) -> dict[str, str]:
        """Sentences on what cannot be printed, by constant of the rig."""
        found = {}
        if self.bore > BED:
            found["bore"] = (
                f"A tube of {1000 * self.bore:.0f} mm is wider than most printers are. Use a ready tube"
                " and print the straightener in parts, or a drain pipe."
            )
        if not 4 * THIN <= self.cell < self.bore:
            found["cell"] = (
                "Cells of the straightener must be wider than 2 mm and narrower than the tube."
            )
        elif 2 * self.bore / self.cell > MOST_PLATES:
            found["cell"] = (
                "So many cells take a day to print. Take wider ones: a tenth of the bore will do."
            )
        if not 0 < self.straightener_length <= BED:
            found["straightener_length"] = (
                "The straightener must be shorter than 200 mm to be printed."
            )
        return found


def tube_solid(tube: Tube, part: str) -> trimesh.Trimesh:
    """One of the parts: `SEGMENT`, `PROBED` or `STRAIGHTENER`.

    Raises
    ------
    CannotBe : it cannot be printed
    """
    refuse(tube.problems())
    if part == STRAIGHTENER:
        return _mesh(_straightener(tube))
    segment = _segment(tube)
    if part == PROBED:
        height = tube.length / tube.count / 2
        hole = cylinder(tube.probe / 2, tube.bore, pieces=64).rotate((0, 90, 0))
        segment -= hole.translate((0, 0, height * SCALE))
    return _mesh(segment)


def _segment(tube: Tube) -> Body:
    """A length of tube, with a sleeve at its end that takes the next one; it prints upright."""
    inner, outer = tube.bore / 2, tube.bore / 2 + tube.wall
    long, sleeve = tube.length / tube.count, outer + GAP
    return revolved(
        [
            (inner, 0.0),
            (outer, 0.0),
            (outer, long - 2 * tube.wall - GAP),
            (sleeve + tube.wall, long),
            (sleeve + tube.wall, long + PLUG),
            (sleeve, long + PLUG),
            (sleeve, long),
            (inner, long),
        ]
    )


def _straightener(tube: Tube) -> Body:
    """A ring with square cells."""
    outer, deep = tube.bore / 2 - GAP, tube.straightener_length
    ring = cylinder(outer, deep) - cylinder(outer - tube.wall / 2, 3 * deep, -deep)
    count = max(round(tube.bore / tube.cell), 2)
    step = tube.bore / count
    plates = []
    for n in range(1, count):
        at = -tube.bore / 2 + n * step
        plate = Body.cube([THIN * SCALE, tube.bore * SCALE, deep * SCALE]).translate(
            ((at - THIN / 2) * SCALE, -tube.bore / 2 * SCALE, 0)
        )
        plates += [plate, plate.rotate((0, 0, 90))]
    grid = Body.batch_boolean(plates, manifold3d.OpType.Add) ^ cylinder(outer, deep)
    return ring + grid
