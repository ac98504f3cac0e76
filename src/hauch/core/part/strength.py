"""What spinning does to a handed-in rotor: balance, tip speed, pull, speed limit, blade-passing
tone.
"""

from __future__ import annotations

import math
from typing import Any

import numpy as np

from hauch.core.part import MM
from hauch.core.part.blades import Blades, pull_of
from hauch.core.part.findings import Asked, Report
from hauch.core.part.pose import Placed
from hauch.core.part.printing import Laid
from hauch.core.part.size import MassFigures
from hauch.core.predict.model import modelled
from hauch.core.predict.strength import MARGIN_ASKED, SpeedLimit, permissible_unbalance
from hauch.core.quantity import Step, exact

GRADE = 0.0063
"""Balance quality grade asked of a fan's rotor [m/s]: G 6.3 (ISO 14694:2003, table 4, category
BV-3).
"""
MODEL_OFFSET = 0.02
"""Offset of the centre of mass below which a model is taken as balanced [mm]; facets alone leave a
hundredth.
"""


def spinning(
    report: Report,
    placed: Placed,
    figures: MassFigures,
    blades: Blades | None,
    laid: Laid,
    asked: Asked,
) -> None:
    """Add what spinning does to the report of a rotor that lies on its axis."""
    mass = next(f.quantity.value for f in report.figures if f.key == "mass")
    matrix = placed.matrix
    centre = matrix[:3, :3] @ figures.centre + matrix[:3, 3]
    axis = matrix[:3, :3].T @ np.array([0, 0, 1.0])
    on_axis = matrix[:3, :3].T @ -matrix[:3, 3]
    density = mass / (figures.volume * MM**3)
    inertia = density * figures.about(on_axis, axis) * MM**5
    report.add(
        "inertia",
        "Spinning",
        "Inertia about its axis",
        "inertia",
        modelled(
            inertia,
            "kg m2",
            "part:print",
            "infill is taken as even",
            0.05,
            (Step("Inertia", "ρ ∫ r² dV", (("ρ", density, "kg/m3"),), inertia, "kg m2"),),
        ),
    )
    _balance(report, centre, mass, asked)
    tip = float(np.hypot(placed.mesh.vertices[:, 0], placed.mesh.vertices[:, 1]).max()) * MM
    speed = 2 * math.pi * asked.speed / 60
    report.add(
        "tip_speed",
        "Spinning",
        f"Tip speed at {asked.speed:,.0f} 1/min",
        "air_speed",
        exact(speed * tip, "m/s"),
    )
    if blades is None:
        report.say(
            "care",
            "No blades were found: neither islands on cylinders about its axis nor on a plate.",
        )
    else:
        report.data["blades"] = {
            "count": blades.count,
            "outlines": [s.in_space() for s in blades.stations[3::8]],
            "stations": [
                [s.radius * MM, s.chord * MM, s.thickness * MM, s.pitch] for s in blades.stations
            ],
        }
        tone = blades.count * asked.speed / 60
        report.add("blades", "Spinning", "Blades", "number", exact(float(blades.count), ""))
        report.add(
            "tone",
            "Spinning",
            "Blade-passing tone",
            "frequency",
            exact(tone, "Hz").with_step(
                Step(
                    "Blade-passing tone",
                    "f = B n / 60",
                    (("B", blades.count, ""), ("n", asked.speed, "1/min")),
                    tone,
                    "Hz",
                )
            ),
        )
        report.add(
            "hub", "Spinning", "Blades begin at diameter", "length", exact(2 * blades.hub * MM, "m")
        )
        least = asked.envelope["hub"]
        if blades.stations and 2 * blades.hub * MM < least - 1e-3:
            report.say(
                "back", f"Its hub has {2 * blades.hub:.1f} mm; {least / MM:g} mm is the least."
            )
    _speed_limit(report, placed, figures, blades, laid, asked, tip)


def _balance(report: Report, centre: Any, mass: float, asked: Asked) -> None:
    offset = float(math.hypot(centre[0], centre[1]))
    towards = math.degrees(math.atan2(centre[1], centre[0])) % 360
    unbalance = mass * offset * MM
    allowed = permissible_unbalance(GRADE, mass, asked.speed)
    steps = (
        Step("Centre of mass off the axis", "e = |c − axis|", (), offset * MM, "m"),
        Step(
            "Unbalance", "U = m e", (("m", mass, "kg"), ("e", offset * MM, "m")), unbalance, "kg m"
        ),
        Step(
            "Allowed at this speed",
            "U = G m / ω",
            (("G", GRADE, "m/s"), ("n", asked.speed, "1/min")),
            allowed,
            "kg m",
            "ISO 21940-11:2016, 6.3",
        ),
    )
    report.add(
        "unbalance",
        "Spinning",
        "Unbalance of the model",
        "unbalance",
        modelled(
            unbalance,
            "kg m",
            "part:print",
            "infill is taken as even",
            0.05,
            steps,
            0.5 * mass * MODEL_OFFSET * MM,
        ),
    )
    report.data["balance"] = {"offset": offset, "towards": towards}
    if offset <= MODEL_OFFSET or unbalance <= 0.5 * allowed:
        report.say(
            "well",
            f"Its centre of mass lies {offset:.2f} mm off the axis, within what G 6.3 allows at"
            f" {asked.speed:,.0f} 1/min.",
        )
        return
    radius = _correction_radius(report)
    grams = unbalance / (radius * MM) * 1000
    report.say(
        "back" if unbalance > 10 * allowed else "care",
        f"Its centre of mass lies {offset:.2f} mm off the axis, towards {towards:.0f}° from x:"
        f" {unbalance * 1e6:.1f} g mm, {unbalance / allowed:.1f} times what G 6.3 allows at"
        f" {asked.speed:,.0f} 1/min. Add {grams:.2f} g at {radius:.0f} mm radius towards"
        f" {(towards + 180) % 360:.0f}°, or take as much off towards {towards:.0f}°.",
    )


def _correction_radius(report: Report) -> float:
    """Where mass is added or taken off [mm]: at the hub's rim where one was found, else half way
    out.
    """
    points = report.placed.mesh.vertices if report.placed else np.zeros((1, 3))
    return 0.3 * float(np.hypot(points[:, 0], points[:, 1]).max())


def _speed_limit(
    report: Report,
    placed: Placed,
    figures: MassFigures,
    blades: Blades | None,
    laid: Laid,
    asked: Asked,
    tip: float,
) -> None:
    """Add the pull on blades and hub, and the speed that is not to be passed."""
    pull = pull_of(
        placed.mesh, blades, figures.volume, placed.bore.diameter if placed.bore else 0.0
    )
    omega = 2 * math.pi * asked.speed / 60
    flat = abs(laid.up[2]) > 0.7
    held = asked.material.held(flat)
    along = "along" if flat else "across"
    per_pull = asked.material.density * omega**2
    turning = (("ρ", asked.material.density, "kg/m3"), ("n", asked.speed, "1/min"))
    places = (
        (
            "root",
            "Pull in the blades, without bending",
            pull.blade,
            "Worst station of the blades",
            "σ = ρ ω² ∫ A r dr / A",
            (*turning, ("r", pull.blade_radius * MM, "m")),
            "Den Hartog, ch. II",
        ),
        (
            "hub_stress",
            "Pull in the hub, without bending",
            pull.hub,
            "Hub or plate",
            "σ = ρ ω² R² + pull of the blades",
            turning,
            "Den Hartog, ch. II; Roark, table 16.1",
        ),
    )
    for key, label, share, name, formula, inputs, source in places:
        if math.isfinite(share):
            step = Step(name, formula, inputs, per_pull * share, "Pa", source)
            report.add(
                key,
                "Spinning",
                label,
                "stress",
                modelled(
                    per_pull * share,
                    "Pa",
                    "part:stress",
                    "plain pull without bending",
                    0.2,
                    (step,),
                ),
            )
    worst = max(v for v in (pull.blade, pull.hub) if math.isfinite(v)) * asked.material.density
    limit = SpeedLimit(tip, worst, held)
    laid_so = f"laid {laid.name}: the pull goes {along} the layers"
    report.add(
        "cap",
        "Spinning",
        "Not to be spun above",
        "rotational_speed",
        limit.quantity(asked.material.label, laid_so),
    )
    told = f"Not to be spun above {limit.speed:,.0f} 1/min. {limit.why}"
    if asked.speed <= limit.speed:
        report.say(
            "well", f"At {asked.speed:,.0f} 1/min its tips run at {omega * tip:.0f} m/s. {told}"
        )
        return
    fast = (
        f"At the {asked.speed:,.0f} 1/min of the round its tips would run at {omega * tip:.0f} m/s"
    )
    if asked.speed > limit.speed * math.sqrt(MARGIN_ASKED):
        report.say("back", f"{fast}: nothing would be left of the margin that is asked. {told}")
    else:
        report.say("care", f"{fast}. {told}")
