"""Of the check of a part: is it sound, how large is it, how does it lie in its place."""

from __future__ import annotations

from typing import TYPE_CHECKING

import numpy as np

from hauch.core.part import MM
from hauch.core.part.findings import CheckInput, Report
from hauch.core.part.pose import (
    FILE_TURNS,
    UNITS,
    Placed,
    UnitGuess,
    guess_unit,
    place_rotor,
    room_of,
    spin_direction,
)
from hauch.core.part.pose_box import place_in_box
from hauch.core.part.size import MassFigures
from hauch.core.part.soundness import TOUCHING, Soundness, mend
from hauch.core.predict.model import modelled
from hauch.core.quantity import Step, exact

if TYPE_CHECKING:
    import trimesh


def add_soundness(
    report: Report, mesh: trimesh.Trimesh, found: Soundness, turns: bool
) -> trimesh.Trimesh:
    """The surface: what is wrong, and a mended copy to go on with."""
    report.data["surface"] = {
        "triangles": found.triangles,
        "open_edges": found.open_edges,
        "holes": found.holes,
        "crossed": found.crossed_edges,
        "flipped": found.flipped,
        "inside_out": found.inside_out,
        "degenerate": found.degenerate,
        "bodies": len(found.bodies),
        "pieces": len(found.pieces),
    }
    if 0 < found.crossed_edges <= TOUCHING:
        report.say(
            "care",
            f"The surface touches itself along {found.crossed_edges}"
            f" edge{'s' if found.crossed_edges > 1 else ''}. Printers take that; unite the bodies"
            " to be sure.",
        )
    if not found.open_edges and found.crossed_edges <= TOUCHING and not turns:
        report.say(
            "well",
            f"The surface of {found.triangles:,} triangles is closed, and all of them look"
            " outwards.",
        )
        return mesh
    report.mended = mend(mesh)
    if found.holes:
        report.say(
            "care" if not report.mended.left else "back",
            f"The surface is not closed: {found.open_edges} open edges around {found.holes}"
            f" hole{'s' if found.holes > 1 else ''}.",
        )
    if found.flipped:
        report.say("care", f"{found.flipped:,} of {found.triangles:,} faces look the wrong way.")
    elif found.inside_out:
        report.say("care", "The surface is inside out.")
    for text in report.mended.left:
        report.say("back", text)
    if report.mended.done and not report.mended.left:
        report.say(
            "care",
            "A mended copy is offered: "
            + " ".join(report.mended.done)
            + " Your file is kept as it is.",
        )
    return report.mended.mesh


def add_unit(report: Report, mesh: trimesh.Trimesh, asked: CheckInput) -> trimesh.Trimesh:
    """The file's unit: as said, or as the size tells; the part in millimetres."""
    size, room = float(mesh.extents.max()), room_of(asked.envelope)
    if asked.said_unit:
        name, factor = UNITS[asked.said_unit]
        guess = UnitGuess(
            asked.said_unit,
            True,
            f"In {name}, as its designer says: {size * factor:.4g} mm across.",
        )
    elif asked.file_unit is not None:
        factor = asked.file_unit
        guess = UnitGuess(
            next((u for u, (_, f) in UNITS.items() if f == factor), "mm"),
            True,
            f"The file names its unit: {size * factor:.4g} mm across.",
        )
    else:
        guess = guess_unit(size, room)
        factor = guess.factor
    report.unit = guess
    report.data["unit"] = {"unit": guess.unit, "sure": guess.sure}
    report.say("well" if guess.sure else "care", guess.why)
    if factor == 1.0:
        return mesh
    made = mesh.copy()
    made.apply_scale(factor)
    return made


def add_size(
    report: Report, mesh: trimesh.Trimesh, figures: MassFigures, found: Soundness, closed: bool
) -> None:
    """Size, mass and inertia."""
    x, y, z = mesh.extents
    for key, value in (("x", x), ("y", y), ("z", z)):
        report.add(
            f"size_{key}", "Size", f"Size along {key} of the file", "length", exact(value * MM, "m")
        )
    report.add("area", "Size", "Surface", "area", exact(figures.area * MM**2, "m2"))
    if closed:
        flat = figures.volume / (1 + figures.facets)
        steps = (
            Step(
                "Volume under the facets",
                "Σ a · (b × c) / 6",
                (("triangles", found.triangles, ""),),
                flat * MM**3,
                "m3",
                "divergence theorem",
            ),
            Step(
                "What the facets leave out",
                "Σ A (d₁ + d₂ + d₃) / 3",
                (("share", 100 * figures.facets, "%"),),
                (figures.volume - flat) * MM**3,
                "m3",
                "Nagata 2005",
                "the quadratic patch through corners and their smooth normals",
            ),
        )
        report.add(
            "volume",
            "Mass",
            "Volume",
            "body_volume",
            modelled(
                figures.volume * MM**3,
                "m3",
                "part:facets",
                "facets of curved surfaces",
                0.002,
                steps,
            ),
        )


def stand_beside_one_another(report: Report, found: Soundness) -> bool:
    """Say that a file holds several bodies; True where they are separate parts."""
    bodies = found.bodies
    if len(bodies) <= 1:
        return False
    apart = all(
        (a.low > b.high).any() or (b.low > a.high).any()
        for i, a in enumerate(bodies[:50])
        for b in bodies[i + 1 : 50]
    )
    if apart:
        sizes = ", ".join(f"{max(b.high - b.low):.4g}" for b in bodies[:4])
        report.say(
            "back",
            f"There are {len(bodies)} bodies beside one another in one file (greatest sizes {sizes}"
            " in its unit). Hand each part in as a file of its own, with its place and count.",
        )
        return True
    report.say(
        "care",
        f"There are {len(bodies)} bodies in the file that are not joined, though they stand within"
        " one another. If they are one part, unite them before you export.",
    )
    return False


def add_place(
    report: Report, mesh: trimesh.Trimesh, figures: MassFigures, asked: CheckInput
) -> Placed:
    """The part turned into its place, and what sticks out of it."""
    if asked.envelope.family == "rotor":
        turned, turn = spin_direction(figures.inertia)
        if asked.said_axis:
            turned, turn = asked.said_axis, FILE_TURNS[asked.said_axis]
        placed = place_rotor(mesh, asked.envelope, turned, turn)
        if not asked.said_axis and turned != "z":
            report.say(
                "well",
                f"Its axis was found along {turned or 'no axis'} of the file; it is turned onto the"
                " shaft.",
            )
    else:
        placed = place_in_box(mesh, asked.envelope, asked.said_axis)
        if placed.turned and not placed.misfits:
            report.say(
                "well",
                f"It fits when {placed.turned.strip('-')} of the file"
                f" {'faces against' if placed.turned.startswith('-') else 'points along'} the"
                " flow.",
            )
    for text in placed.misfits:
        report.say("back", text)
    for text in placed.fits:
        report.say("well", text)
    for text in placed.asks:
        report.say("care", text)
    report.placed = placed
    report.data["material"] = asked.material.key
    if placed.bore is not None:
        report.add(
            "bore",
            "Size",
            "Bore",
            "length",
            modelled(
                placed.bore.diameter * MM, "m", "part:facets", "facets of curved surfaces", 0.002
            ),
        )
    if asked.envelope.family in {"rotor", "ring"}:
        radius = np.hypot(placed.mesh.vertices[:, 0], placed.mesh.vertices[:, 1])
        swept = (
            2 * float(radius.max())
            if asked.envelope.family == "rotor"
            else float(placed.mesh.extents[0])
        )
        report.add(
            "outer",
            "Size",
            "Swept diameter" if asked.envelope.family == "rotor" else "Outer diameter",
            "length",
            exact(swept * MM, "m"),
        )
    report.add(
        "depth",
        "Size",
        "Depth along the axis",
        "length",
        exact(float(placed.mesh.extents[2]) * MM, "m"),
    )
    report.data["turned"] = placed.turned
    report.data["outside"] = float(placed.outside.mean())
    return placed
