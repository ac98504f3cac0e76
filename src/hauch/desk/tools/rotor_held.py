"""What ducted and free rotors of the Desk have in common: tone, sound, strength, what prints."""

from __future__ import annotations

import math

from hauch.core.predict.blading import Blading
from hauch.core.predict.drive import Gear, Motor, Reached, reached_speed
from hauch.core.predict.model import AIR_DENSITY
from hauch.core.predict.section import MODEL_REYNOLDS
from hauch.core.quantity import Quantity
from hauch.core.strength.designs import of_rotor
from hauch.core.strength.limit import SpeedLimit
from hauch.core.strength.material import MATERIALS
from hauch.desk.tools.base import Figure, Remark, Values
from hauch.desk.tools.noise import sound_figure, tone_figure
from hauch.desk.tools.spinning import limit_of, strength_figures, strength_remarks

MODELLED = (
    "flow",
    "pressure",
    "wall",
    "efficiency",
    "electrical",
    "torque",
    "shaft",
    "free",
    "speed",
    "thrust",
    "merit",
)
"""Figures of the models of rotors."""


def reached_by(values: Values, torque: float, speed: float) -> Reached:
    """Speed that the drive of the values reaches against a torque [N m] at a speed [1/min]."""
    return reached_speed(
        Motor(values["stall_torque"], values["idle_speed"]),
        Gear(values["gear_ratio"], values["gear_efficiency"] / 100, values["friction"]),
        max(torque, 1e-9),
        speed,
    )


def speed_limit(values: Values, row: Blading) -> SpeedLimit:
    """The rotor's speed limit, with where it is stressed."""
    density = MATERIALS[values["material"]].density
    stressed = of_rotor(row, values["wall"], values["depth"], density)
    return limit_of(stressed, values, flat=values["layers"] == "flat")


def held_figures(
    values: Values, row: Blading, speed: float, air: tuple[float, float] | None
) -> list[Figure]:
    """Tone, sound, strength: for ducted and free rotors alike."""
    if not speed:
        return []
    figures = [tone_figure(row.blades, speed)]
    if air:
        figures.append(sound_figure(*air))
    figures += [
        Figure(
            "tip_speed",
            "Tip speed",
            "air_speed",
            Quantity(2 * math.pi * speed / 60 * row.tip / 2, "m/s"),
        ),
        *strength_figures(speed_limit(values, row), speed),
    ]
    return figures


def print_remarks(values: Values, row: Blading, speed: float) -> list[Remark]:
    """What to mind of the blades as a print."""
    found = []
    rows = row.stations(5)
    reynolds = AIR_DENSITY * 2 * math.pi * speed / 60 * rows.radius * rows.chord / 1.813e-5
    if reynolds.min() < MODEL_REYNOLDS[0]:
        most = reynolds[3] < MODEL_REYNOLDS[0]  # where most of the work is done
        found.append(
            Remark(
                "range" if most else "care",
                f"The Reynolds number falls to {reynolds.min():,.0f} at the hub; below"
                f" {MODEL_REYNOLDS[0]:,.0f} section figures scatter, in wind tunnels too.",
                MODELLED if most else (),
            )
        )
    if row.hides():
        found.append(
            Remark(
                "care",
                f"Up to {1000 * row.hides():.0f} mm diameter the blades cover one another along the"
                " axis: it prints only with supports.",
            )
        )
    if speed:
        found += strength_remarks(
            speed_limit(values, row), speed, row.gap if values["placed"] == "ducted" else None
        )
    return found
