"""What spinning does to a handed-in rotor: balance, tip speed, pull, speed limit, blade-passing
tone.
"""

from __future__ import annotations

import math
from typing import Any

import numpy as np

from hauch.core.part import MM
from hauch.core.part.balance import GRADE, permissible_unbalance
from hauch.core.part.blades import Blades
from hauch.core.part.findings import CheckInput, Report
from hauch.core.part.pose import Placed
from hauch.core.part.printing import Laid
from hauch.core.part.rays import Caster
from hauch.core.part.size import MassFigures
from hauch.core.part.stressed import stressed
from hauch.core.predict.model import modelled
from hauch.core.quantity import Step, exact
from hauch.core.strength.limit import (
    GROWTH_UNCERTAINTY,
    MARGIN_ASKED,
    UNCERTAINTY,
    Place,
    SpeedLimit,
)

MODEL_OFFSET = 0.02
"""Offset of the centre of mass below which a model is taken as balanced [mm]; facets alone leave a
hundredth.
"""


def spinning(
    report: Report,
    placed: Placed,
    caster: Caster,
    figures: MassFigures,
    blades: Blades | None,
    laid: Laid,
    asked: CheckInput,
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
    found = stressed(
        placed.mesh,
        caster,
        blades,
        placed.bore.diameter if placed.bore else 0.0,
        asked.material.density,
    )
    report.data["stressed"] = found.as_json()
    limit = SpeedLimit(found, asked.settings.printed(asked.material, flat=lies_flat(laid.name)))
    _stresses(report, limit, asked)
    _growth(report, limit, asked)
    _speed_limit(report, limit, asked)


def _balance(report: Report, centre: Any, mass: float, asked: CheckInput) -> None:
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


def lies_flat(up: str) -> bool:
    """Whether the layers of a part that is laid so (key of `DIRECTIONS`) lie square to its axis."""
    return up.startswith("z")


_WORKINGS = {
    "blade": (
        "Pull and bending by what lies outside",
        "σ = N/A + a t + b z",
        "Den Hartog, ch. II; unsymmetric bending",
    ),
    "foot": (
        "Bent over from the plate",
        "σ = 6 sin λ ρ ω² r ∫ t z dz / t²",
        "strips that stand on the plate",
    ),
    "plate": (
        "Plate turned over by its blades' pull",
        "finite elements along the radius",
        "Timoshenko and Woinowsky-Krieger, ch. 3 and 11",
    ),
    "hub": (
        "Ring with its blades' pull and moments",
        "σ = ρ ω² R² + B N / 2πA + twist + 3 M / c t²",
        "Den Hartog, ch. II; Timoshenko",
    ),
}


def _stresses(report: Report, limit: SpeedLimit, asked: CheckInput) -> None:
    """Nominal stress of each place at the round's speed."""
    omega, density = 2 * math.pi * asked.speed / 60, asked.material.density
    for place in limit.stressed.places:
        report.add(
            f"stress_{place.key}",
            "Spinning",
            f"Stress: {place.label[0].lower()}{place.label[1:]}",
            "stress",
            modelled(
                place.stress(density, omega),
                "Pa",
                "part:stress",
                "model of the stress",
                UNCERTAINTY,
                (_working(place, density, asked.speed, omega),),
            ),
        )


def _working(place: Place, density: float, speed: float, omega: float) -> Step:
    name, formula, source = _WORKINGS[place.key]
    inputs = (
        ("ρ", density, "kg/m3"),
        ("n", speed, "1/min"),
        ("own σ/ρω²", place.own, "m2"),
        ("air", place.air * omega**2, "Pa"),
    )
    return Step(name, formula, inputs, place.stress(density, omega), "Pa", source)


def _growth(report: Report, limit: SpeedLimit, asked: CheckInput) -> None:
    """How far the tips come nearer to the bore at the round's speed."""
    if not limit.stressed.places:
        return
    out, along = limit.stressed.grown(limit.printed, 2 * math.pi * asked.speed / 60)
    step = Step(
        "Growth of the tips",
        "1.3 ρ ω² / E ∫ strain and curvature",
        (
            ("E", asked.material.stiffness, "Pa"),
            ("n", asked.speed, "1/min"),
            ("along the axis", along, "m"),
        ),
        out,
        "m",
        "as bending; 1.3 for what gives way under the blades; creep and heat are not in it",
    )
    report.add(
        "growth",
        "Spinning",
        f"Tips grow at {asked.speed:,.0f} 1/min by",
        "length",
        modelled(out, "m", "part:growth", "model of the stress", GROWTH_UNCERTAINTY, (step,)),
    )
    gap = asked.envelope["bore"] / 2 - limit.stressed.tip
    at_limit = out * (limit.speed / asked.speed) ** 2
    least = min(out, at_limit)
    if gap > 0 and least > gap / 4:
        speed = min(asked.speed, limit.speed)
        report.say(
            "care",
            f"At {speed:,.0f} 1/min its tips grow by {least / MM:.2f} mm of a gap of"
            f" {gap / MM:.2f} mm; creep and heat take more.",
        )


def _speed_limit(report: Report, limit: SpeedLimit, asked: CheckInput) -> None:
    """Add the speed that is not to be passed."""
    tip, omega = limit.stressed.tip, 2 * math.pi * asked.speed / 60
    told = limit.why
    if limit.speed > 0:
        report.add("cap", "Spinning", "Not to be spun above", "rotational_speed", limit.quantity())
        told = f"Not to be spun above {limit.speed:,.0f} 1/min. {told}"
    if asked.speed <= limit.speed:
        report.say(
            "well" if limit.stressed.places else "care",
            f"At {asked.speed:,.0f} 1/min its tips run at {omega * tip:.0f} m/s. {told}",
        )
        return
    fast = (
        f"At the {asked.speed:,.0f} 1/min of the round its tips would run at {omega * tip:.0f} m/s"
    )
    if asked.speed > limit.speed * math.sqrt(MARGIN_ASKED):
        report.say("back", f"{fast}: nothing would be left of the margin that is asked. {told}")
    else:
        report.say("care", f"{fast}. {told}")
