"""The check of a handed-in part: everything that can be told from its mesh, and what that comes to
in sentences.
"""

from __future__ import annotations

import math
from collections.abc import Callable, Mapping
from typing import TYPE_CHECKING, Any

import numpy as np
from numpy.typing import NDArray

from hauch.core.part import MM, strength
from hauch.core.part.blades import measure_blades
from hauch.core.part.findings import Asked, Report, Stopped
from hauch.core.part.passage import find_slot, free_areas, openings, steep
from hauch.core.part.pose import (
    FILE_TURNS,
    UNITS,
    Placed,
    UnitGuess,
    guess_unit,
    place_in_box,
    place_rotor,
    room_of,
    spin_direction,
)
from hauch.core.part.printing import Laid, best_way_up, lay, print_figures
from hauch.core.part.rays import Caster, Samples, Walls, sample, walls
from hauch.core.part.size import MassFigures, mass_figures
from hauch.core.part.soundness import TOUCHING, Soundness, edges_of, look, mend
from hauch.core.predict.model import modelled
from hauch.core.quantity import Quantity, Step, exact

if TYPE_CHECKING:
    import trimesh

Floats = NDArray[np.float64]
RAYS = 6000
THIN_SHARE = 0.02
"""Share of the surface whose thinnest walls are told as the least wall: edges and rays through
corners are below it.
"""
THIN_CARE, THIN_BACK = 0.08, 0.40
"""Shares of the surface with less wall than is asked that mean care and sending back."""
OVERLAP = 0.01
"""Share of rays that meet another wall from outside before the far side of their own."""
SUDDEN = math.radians(45)
"""Half angle of a widening above which it is a step, as of a chamber, and no diffuser."""
SUPPORT = 0.35
"""Share of the surface that overhangs above which a print is mostly support."""
STAGES = (
    "looking at the surface",
    "turning it into its place",
    "casting rays through its walls",
    "following blades and passages",
    "laying it on the printer",
    "weighing the evidence",
)


def check(
    mesh: trimesh.Trimesh, asked: Asked, tell: Callable[[int], bool] = lambda stage: True
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
    mesh = _sound(report, mesh, found, bool(turn.any()))
    mesh = _unit(report, mesh, asked)
    at(1)
    figures = mass_figures(mesh, edges=None if report.mended else edges)
    closed = report.mended is None or not report.mended.left
    _size(report, mesh, figures, found, closed)
    if _beside_one_another(report, found):  # what follows would speak of neither of them
        return _closed(report, closed)
    placed = _place(report, mesh, figures, asked)
    at(2)
    caster = Caster(placed.mesh)
    samples = report.samples = sample(placed.mesh, RAYS)
    wall = report.walls = walls(caster, samples)
    _walls(report, wall, samples, asked)
    at(3)
    blades = measure_blades(placed.mesh) if asked.envelope.part == "rotor" else None
    if asked.envelope.part != "rotor":
        _passages(report, placed, caster, asked)
    at(4)
    laid = _print(report, placed, figures, wall, asked)
    if asked.envelope.part == "rotor":
        strength.spinning(report, placed, figures, blades, laid, asked)
    at(5)
    return _closed(report, closed)


def _closed(report: Report, closed: bool) -> Report:
    """Put the reasons in order; figures of mass are told only of a closed surface."""
    if not closed:
        report.figures = [f for f in report.figures if f.group not in {"Mass", "Spinning"}]
    order = {"back": 0, "care": 1, "well": 2}
    report.reasons.sort(key=lambda r: order[r.level])
    report.data["verdict"] = report.verdict
    return report


def _sound(report: Report, mesh: trimesh.Trimesh, found: Soundness, turns: bool) -> trimesh.Trimesh:
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


def _unit(report: Report, mesh: trimesh.Trimesh, asked: Asked) -> trimesh.Trimesh:
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


def _size(
    report: Report, mesh: trimesh.Trimesh, figures: MassFigures, found: Soundness, closed: bool
) -> None:
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


def _beside_one_another(report: Report, found: Soundness) -> bool:
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


def _place(report: Report, mesh: trimesh.Trimesh, figures: MassFigures, asked: Asked) -> Placed:
    if asked.envelope.part == "rotor":
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
    if asked.envelope.part in {"rotor", "ring"}:
        radius = np.hypot(placed.mesh.vertices[:, 0], placed.mesh.vertices[:, 1])
        swept = (
            2 * float(radius.max())
            if asked.envelope.part == "rotor"
            else float(placed.mesh.extents[0])
        )
        report.add(
            "outer",
            "Size",
            "Swept diameter" if asked.envelope.part == "rotor" else "Outer diameter",
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


def _where(points: Floats, part: str) -> str:
    """Where the middle of some points lies, in words."""
    x, y, z = np.median(points, axis=0)
    if part in {"rotor", "ring"}:
        return (
            f"around {np.median(np.hypot(points[:, 0], points[:, 1])):.0f} mm from the axis,"
            f" {z:.0f} mm from the mounting plane"
        )
    return f"around x {x:.0f}, y {y:.0f}, z {z:.0f} mm"


def _walls(report: Report, wall: Walls, samples: Samples, asked: Asked) -> None:
    least = asked.envelope["wall"] / MM
    thin = wall.thinnest(THIN_SHARE)
    known = np.isfinite(wall.thickness)
    below = known & (wall.thickness < least * 0.95)
    share = float(below.sum() / max(known.sum(), 1))
    steps = (
        Step(
            "Rays along the inward normal",
            "distance to the far side",
            (("rays", float(known.sum()), ""),),
            thin * MM,
            "m",
            "",
            f"all but {100 * THIN_SHARE:.0f} % of the surface is thicker",
        ),
    )
    report.add(
        "wall",
        "Walls",
        "Thinnest wall",
        "length",
        modelled(thin * MM, "m", "part:rays", "rays hit between edges", 0.05, steps),
    )
    report.add(
        "wall_middle",
        "Walls",
        "Wall in the middle of the spread",
        "length",
        exact(float(np.nanmedian(wall.thickness)) * MM, "m"),
    )
    report.add(
        "thin_share",
        "Walls",
        "Surface with less wall than asked",
        "percent",
        exact(100 * share, "%"),
    )
    report.data["walls"] = np.histogram(
        wall.thickness[known], bins=24, range=(0, max(4 * least, 4.0))
    )[0].tolist()
    if share > THIN_CARE:
        where = _where(samples.points[below], asked.envelope.part)
        report.say(
            "back" if share > THIN_BACK else "care",
            f"{100 * share:.0f} % of the surface has less wall than the {least:g} mm that are"
            f" asked, down to {thin:.2f} mm, {where}.",
        )
    else:
        report.say(
            "well",
            f"Walls are thick enough: {100 * (1 - share):.0f} % of the surface has the {least:g} mm"
            " that are asked.",
        )
    crossed = float(wall.overlapping.mean())
    if crossed > OVERLAP:
        report.say(
            "care",
            "Surfaces run through one another"
            f" {_where(samples.points[wall.overlapping], asked.envelope.part)} ({100 * crossed:.0f}"
            " % of the rays met another wall from outside). A printer may leave voids there: unite"
            " the bodies before you export.",
        )


def _passages(report: Report, placed: Placed, caster: Caster, asked: Asked) -> None:
    """Openings and areas of ducts, intakes and rings."""
    found, screws = openings(placed.mesh)
    report.data["openings"] = [
        [round(o.area, 1), *(round(v, 1) for v in o.centre), *(round(v, 2) for v in o.direction)]
        for o in found[:12]
    ]
    report.data["screws"] = len(screws)
    _screws(report, screws, asked)
    if asked.envelope.part == "ring":
        _ring(report, placed, caster, found)
        return
    inlet = [o for o in found if o.direction[2] < -0.7]
    outlets = [o for o in found if o.direction[2] >= -0.7]
    if inlet and outlets:
        feed, out = inlet[0].area, sum(o.area for o in outlets)
        report.add("inlet", "Passages", "Opening at the mounting side", "area", _area(feed))
        for n, o in enumerate(outlets[:8], 1):
            report.add(f"outlet_{n}", "Passages", f"Opening {n}", "area", _area(o.area))
        if asked.envelope.part == "duct":
            report.add("outlets", "Passages", "All outlets", "area", _area(out))
            if out < 0.75 * feed:
                report.say(
                    "care",
                    f"The outlets have {out / 100:.1f} cm² together, less than the {feed / 100:.1f}"
                    " cm² that feed them: they choke the duct.",
                )
            elif out > 1.6 * feed:
                report.say(
                    "care",
                    f"The outlets have {out / feed:.1f} times the area of the inlet: the air"
                    " separates and leaves where it likes.",
                )
            else:
                report.say(
                    "well", f"The outlets have {out / feed:.2f} times the area of the inlet."
                )
    cuts = free_areas(placed.mesh)
    report.data["areas"] = [[round(c.place, 2), round(c.area, 1)] for c in cuts]
    if cuts and asked.envelope.part == "intake":
        least = min(cuts, key=lambda c: c.area)
        end = cuts[0].area
        report.add(
            "least_area", "Passages", "Least free area across the axis", "area", _area(least.area)
        )
        if least.area < 0.95 * end:
            report.say(
                "care",
                f"It narrows to {least.area / 100:.1f} cm² at {least.place:.0f} mm; at the mounting"
                f" side it has {end / 100:.1f} cm². That chokes it.",
            )
        widening = [w for w in steep(cuts, forward=False) if w[1] < SUDDEN]
        if widening:
            place, angle = max(widening, key=lambda w: w[1])
            report.say(
                "care",
                f"With the flow it widens by {math.degrees(angle):.0f}° a side at {place:.0f} mm:"
                " above 7° the stream leaves the wall.",
            )


def _area(value: float) -> Quantity:
    return modelled(value * MM**2, "m2", "part:facets", "facets of curved surfaces", 0.002)


def _screws(report: Report, screws: list[Any], asked: Asked) -> None:
    """Holes of the mounting pattern."""
    values: Mapping[str, float] = asked.envelope.values
    if "hole_pitch" not in values:
        return
    half, hole = values["hole_pitch"] / 2 / MM, values["hole"] / MM
    places = [(x, y) for x in (-half, half) for y in (-half, half)]
    met = sum(
        any(
            math.hypot(s.centre[0] - x, s.centre[1] - y) < 0.6
            and s.centre[2] < 12
            and abs(s.diameter - hole) < 0.8
            for s in screws
        )
        for x, y in places
    )
    if met == len(places):
        report.say("well", f"All {met} mounting holes of {hole:g} mm are where the frame has them.")
    elif met or screws:
        report.say(
            "care",
            f"{met} of {len(places)} mounting holes of {hole:g} mm were found"
            f" {values['hole_pitch'] / MM:g} mm apart.",
        )
    else:
        report.say(
            "care",
            f"No mounting hole was found; the frame has {len(places)} of {hole:g} mm,"
            f" {values['hole_pitch'] / MM:g} mm apart.",
        )


def _ring(report: Report, placed: Placed, caster: Caster, found: list[Any]) -> None:
    neck = max((o for o in found if o.direction[1] < -0.7), key=lambda o: o.area, default=None)
    slot = find_slot(placed.mesh, caster)
    if neck is not None:
        report.add("neck", "Passages", "Neck", "area", _area(neck.area))
    if slot is None:
        report.say("back", "No slot was found that goes all around the ring.")
        return
    steps = (
        Step(
            "Gap square to the lips",
            "5 % quantile of the rays in each wedge",
            (("wedges", len(slot.widths), ""),),
            slot.mean * MM,
            "m",
        ),
    )
    report.add(
        "slot",
        "Passages",
        "Slot width",
        "length",
        modelled(slot.mean * MM, "m", "part:slot", "facets of the lips", 0.01, steps),
    )
    report.add("slot_area", "Passages", "Slot area", "area", _area(slot.area))
    report.data["slot"] = [round(w, 4) for w in slot.widths]
    spread = max(slot.widths) - min(slot.widths)
    if spread > 0.1 * slot.mean:
        report.say(
            "care",
            f"The slot is {min(slot.widths):.2f} to {max(slot.widths):.2f} mm wide around the ring:"
            " it blows unevenly.",
        )
    if neck is not None:
        if slot.area > neck.area:
            report.say(
                "care",
                f"The slot has {slot.area / 100:.1f} cm², the neck only {neck.area / 100:.1f} cm²:"
                f" the neck chokes it. A slot of {neck.area / (2 * math.pi * slot.radius):.2f} mm"
                " has the neck's area.",
            )
        else:
            report.say(
                "well",
                f"The slot's {slot.area / 100:.1f} cm² are fed by a neck of {neck.area / 100:.1f}"
                " cm².",
            )


def _print(report: Report, placed: Placed, figures: MassFigures, wall: Walls, asked: Asked) -> Laid:
    best = best_way_up(placed.mesh)
    if (
        asked.envelope.part == "rotor"
    ):  # blades are pulled along the layers only where these lie across the axis
        best = min((lay(placed.mesh, n) for n in ("z up", "z down")), key=lambda w: w.overhang)
    made = print_figures(
        figures.volume * MM**3,
        figures.area * MM**2,
        wall.thickness * MM,
        best.height * MM,
        best.overhang * MM**2,
        asked.settings,
        asked.material.density,
        asked.price,
    )
    s = asked.settings
    steps = (
        Step(
            "Walls",
            "Σ A min(n w, t / 2)",
            (("n", s.walls, ""), ("w", s.line, "m")),
            made.wall_share * 100,
            "%",
            "",
            "share of the volume",
        ),
        Step(
            "Plastic",
            "V_wall + infill (V − V_wall)",
            (("infill", 100 * s.infill, "%"), ("V", figures.volume * MM**3, "m3")),
            made.plastic,
            "m3",
        ),
        Step(
            "Mass",
            "ρ V",
            (("ρ", asked.material.density, "kg/m3"),),
            made.mass,
            "kg",
            asked.material.label,
        ),
    )
    report.add(
        "mass",
        "Mass",
        "Mass of the print",
        "mass",
        modelled(made.mass, "kg", "part:print", "flow of the printer, voids", 0.05, steps),
    )
    report.add(
        "time",
        "Print",
        "Time on the printer",
        "duration",
        modelled(
            made.time,
            "s",
            "part:time",
            "printers differ",
            0.25,
            (
                Step(
                    "Lines and layers",
                    "V / (h w v) + layers × pause",
                    (("h", s.layer, "m"), ("w", s.line, "m"), ("v", s.speed, "m/s")),
                    made.time,
                    "s",
                ),
            ),
        ),
    )
    if asked.price:
        report.add(
            "cost",
            "Print",
            "Material",
            "number",
            modelled(made.cost, "", "part:print", "flow of the printer, supports", 0.05),
        )
    report.add(
        "overhang", "Print", "Overhanging surface", "area", exact(best.overhang * MM**2, "m2")
    )
    report.data["up"] = best.name
    share = best.overhang / max(figures.area, 1e-9)
    way = "upwards" if best.name.endswith("up") else "downwards"
    text = (
        f"Laid with {best.name[0]} {way}, {best.overhang / 100:.1f} cm² ({100 * share:.0f} % of the"
        " surface) hang over by more than 45°"
    )
    report.say(
        "care" if share > SUPPORT else "well",
        f"{text} and need support." if best.overhang > 20 else f"{text}.",
    )
    return best
