"""Of the check of a part: how it lies on the printer, and what the print takes."""

from __future__ import annotations

from typing import TYPE_CHECKING

from hauch.core.part import MM
from hauch.core.part.findings import CheckInput, Report
from hauch.core.part.pose import (
    Placed,
)
from hauch.core.part.printing import Laid, best_way_up, lay, print_figures
from hauch.core.part.rays import Walls
from hauch.core.part.size import MassFigures
from hauch.core.predict.model import modelled
from hauch.core.quantity import Step, exact

if TYPE_CHECKING:
    pass


SUPPORT = 0.35
"""Share of the surface that overhangs above which a print is mostly support."""


def add_print(
    report: Report, placed: Placed, figures: MassFigures, wall: Walls, asked: CheckInput
) -> Laid:
    """How it lies on the printer, what the print takes, and what may go wrong."""
    best = best_way_up(placed.mesh)
    if (
        asked.envelope.family == "rotor"
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
