"""The check of a handed-in part: everything that can be told from its mesh, and what that comes to
in sentences."""

from __future__ import annotations

from collections.abc import Callable
from typing import TYPE_CHECKING

import numpy as np

from hauch.core.part import strength
from hauch.core.part.blades import measure_blades
from hauch.core.part.findings import CheckInput, Report, Stopped
from hauch.core.part.rays import Caster, sample, walls
from hauch.core.part.report_inside import add_passages, add_walls
from hauch.core.part.report_place import (
    add_place,
    add_size,
    add_soundness,
    add_unit,
    stand_beside_one_another,
)
from hauch.core.part.report_print import add_print
from hauch.core.part.size import mass_figures
from hauch.core.part.soundness import edges_of, look
from hauch.core.strength.limit import Stressed

if TYPE_CHECKING:
    import trimesh


RAYS = 6000


STAGES = (
    "looking at the surface",
    "turning it into its place",
    "casting rays through its walls",
    "following blades and passages",
    "laying it on the printer",
    "weighing the evidence",
)


def check(
    mesh: trimesh.Trimesh, asked: CheckInput, tell: Callable[[int], bool] = lambda stage: True
) -> Report:
    """Check a part.

    Parameters
    ----------
    mesh : in the units of its file; it is not changed
    asked : what it is held against
    tell : called with the number of each stage as it begins; False stops the check

    Raises
    ------
    Stopped : when ``tell`` gave False
    """

    def at(stage: int) -> None:
        if not tell(stage):
            raise Stopped

    report = Report()
    at(0)
    edges = edges_of(np.asarray(mesh.faces, np.int64), len(mesh.vertices))
    found, turn = look(mesh, edges)
    mesh = add_soundness(report, mesh, found, bool(turn.any()))
    mesh = add_unit(report, mesh, asked)
    at(1)
    figures = mass_figures(mesh, edges=None if report.mended else edges)
    closed = report.mended is None or not report.mended.left
    add_size(report, mesh, figures, found, closed)
    if stand_beside_one_another(report, found):  # what follows would speak of neither of them
        return _closed(report, closed)
    placed = add_place(report, mesh, figures, asked)
    at(2)
    caster = Caster(placed.mesh)
    samples = report.samples = sample(placed.mesh, RAYS)
    wall = report.walls = walls(caster, samples)
    add_walls(report, wall, samples, asked)
    at(3)
    blades = measure_blades(placed.mesh) if asked.envelope.family == "rotor" else None
    if asked.envelope.family != "rotor":
        add_passages(report, placed, caster, asked)
    at(4)
    laid = add_print(report, placed, figures, wall, asked)
    if asked.envelope.family == "rotor":
        strength.spinning(report, placed, caster, figures, blades, laid, asked)
    at(5)
    return _closed(report, closed)


def _closed(report: Report, closed: bool) -> Report:
    """Put the reasons in order; figures of mass are told only of a closed surface."""
    if not closed:
        report.figures = [f for f in report.figures if f.group not in {"Mass", "Spinning"}]
        if "stressed" in report.data:
            open_one = Stressed(
                report.data["stressed"]["tip"], why_not="its surface is not closed."
            )
            report.data["stressed"] = open_one.as_json()
    order = {"back": 0, "care": 1, "well": 2}
    report.reasons.sort(key=lambda r: order[r.level])
    report.data["verdict"] = report.verdict
    return report
