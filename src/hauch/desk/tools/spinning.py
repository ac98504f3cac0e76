"""Strength of what spins, as the Desk tells it for rotors and wheels."""

from __future__ import annotations

import math

from hauch.core.part.printing import USUAL
from hauch.core.predict.model import modelled
from hauch.core.strength.limit import (
    GROWTH_UNCERTAINTY,
    UNCERTAINTY,
    SpeedLimit,
    Stressed,
)
from hauch.core.strength.material import MATERIALS, WARM, Printed
from hauch.desk.tools.base import Figure, Input, Remark, Values

GROUP = "Strength"
MATERIAL = Input(
    "material",
    "Material",
    "choice",
    "petg",
    GROUP,
    choices=tuple((m.key, m.label) for m in MATERIALS.values()),
)
PRINTED = (
    Input(
        "infill",
        "Infill",
        "percent",
        100 * USUAL.infill,
        GROUP,
        0,
        100,
        note=f"inside {USUAL.walls} walls of {1000 * USUAL.line:g} mm",
    ),
    Input("warm", "Gets warm up to", "temperature", WARM, GROUP, -40, 200),
)
"""How it is printed, as far as strength goes."""
CAUTIONS = (
    (
        "Spinning prints burst: guard, eye protection, stand out of the plane of rotation, remote"
        " throttle, start low."
    ),
    (
        "The speed limit is computed for a sound print of the model. Flaws of the print, fatigue,"
        " creep, blows, resonance, twisting and what glue or screws hold are not in it; it"
        " certifies nothing."
    ),
)


def limit_of(stressed: Stressed, values: Values, *, flat: bool = True) -> SpeedLimit:
    """The speed limit of what was found, printed as the values say."""
    material = MATERIALS[values["material"]]
    shell = USUAL.walls * USUAL.line
    return SpeedLimit(
        stressed, Printed(material, flat, shell, values["infill"] / 100, values["warm"])
    )


def strength_figures(limit: SpeedLimit, speed: float) -> list[Figure]:
    """Stress of each place and growth of the tips at a speed [1/min], and the speed limit."""
    omega, density = 2 * math.pi * speed / 60, limit.printed.material.density
    figures = [
        Figure(
            f"stress_{place.key}",
            f"Stress: {place.label[0].lower()}{place.label[1:]}",
            "stress",
            modelled(
                place.stress(density, omega),
                "Pa",
                "part:stress",
                "model of the stress",
                UNCERTAINTY,
            ),
        )
        for place in limit.stressed.places
    ]
    grown = limit.stressed.grown(limit.printed, omega)[0]
    growth = modelled(grown, "m", "part:growth", "model of the stress", GROWTH_UNCERTAINTY)
    figures.append(Figure("growth", "Tips grow by", "length", growth))
    figures.append(Figure("limit", "Not to be spun above", "rotational_speed", limit.quantity()))
    return figures


def strength_remarks(limit: SpeedLimit, speed: float, gap: float | None = None) -> list[Remark]:
    """A word where the speed lies above the limit, and where the tips come near their bore across
    a gap [m].
    """
    found = []
    if limit.softens:
        found.append(Remark("stop", limit.why))
    elif speed > limit.speed:
        found.append(
            Remark(
                "stop",
                f"It is not to be spun above {limit.speed:,.0f} 1/min as a print. {limit.why}",
            )
        )
    grown = limit.stressed.grown(limit.printed, 2 * math.pi * speed / 60)[0]
    if gap is not None and grown > gap / 4:
        found.append(
            Remark(
                "stop" if grown > gap else "care",
                f"Its tips grow by {1000 * grown:.2f} mm of a gap of {1000 * gap:.2f} mm; creep and"
                " heat take more.",
            )
        )
    return found
