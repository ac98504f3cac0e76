"""Inputs of the Desk's rotor tool, and the blading, bore and solid that they describe."""

from __future__ import annotations

import math
from typing import Any

import numpy as np

from hauch.core.predict.blading import Blading
from hauch.core.predict.rotor import INLETS, Installed
from hauch.core.predict.section import FAMILIES
from hauch.desk.tools.base import Input, Values
from hauch.desk.tools.spinning import MATERIAL, PRINTED

DUCTED = ("placed", ("ducted",))
MOTOR = ("drive", ("motor",))

INPUTS = (
    Input("blades", "Blades", "count", 7, "Blades", 1, 60),
    Input(
        "family",
        "Section",
        "choice",
        "arc",
        "Blades",
        choices=tuple((f.key, f.label) for f in FAMILIES.values()),
    ),
    Input("hub", "Hub diameter", "length", 0.050, "Blades", 0.001, 1.0),
    Input("tip", "Tip diameter", "length", 0.134, "Blades", 0.005, 2.0),
    Input("gap", "Tip gap", "length", 0.001, "Blades", -0.01, 0.05),
    Input(
        "pitch",
        "Pitch",
        "angle",
        tuple(np.radians([42, 34, 28, 24, 21]).tolist()),
        "Along the radius",
        math.radians(1),
        math.radians(89),
        points=5,
    ),
    Input(
        "chord",
        "Chord",
        "length",
        (0.028, 0.031, 0.034, 0.036, 0.037),
        "Along the radius",
        0.001,
        0.5,
        points=5,
    ),
    Input(
        "camber",
        "Camber",
        "percent",
        (6.0, 6.0, 5.5, 5.0, 4.5),
        "Along the radius",
        -2,
        15,
        points=5,
    ),
    Input(
        "thickness",
        "Thickness",
        "length",
        (0.0025, 0.0022, 0.0019, 0.0016, 0.0014),
        "Along the radius",
        0.0002,
        0.05,
        points=5,
    ),
    Input(
        "sweep",
        "Sweep of the tip",
        "angle",
        0.0,
        "Blades",
        -1.0,
        1.0,
        note="forward is positive; in strength and print, not in the flow",
    ),
    Input(
        "lean",
        "Lean of the tip",
        "length",
        0.0,
        "Blades",
        -0.1,
        0.1,
        note="along the axis; in strength and print, not in the flow",
    ),
    Input(
        "placed",
        "Placed",
        "choice",
        "ducted",
        "Running",
        choices=(("ducted", "in a duct or frame"), ("free", "free, without a duct")),
    ),
    Input("speed", "Speed", "rotational_speed", 1900.0, "Running", 1, 60000),
    Input(
        "arrangement",
        "Rows",
        "choice",
        "one",
        "Running",
        choices=(
            ("one", "one"),
            ("series", "two in series, push-pull"),
            ("straightened", "two in series, struts between"),
            ("counter", "two, counter-rotating"),
        ),
        shown_with=DUCTED,
    ),
    Input(
        "inlet",
        "Entrance",
        "choice",
        "rounded",
        "Running",
        choices=tuple((k, v[0]) for k, v in INLETS.items()),
        shown_with=DUCTED,
    ),
    Input(
        "system_pressure", "System: loses", "pressure", 20.0, "Running", 0, 1e5, shown_with=DUCTED
    ),
    Input("system_flow", "… at", "volume_flow", 0.05, "Running", 1e-5, 100, shown_with=DUCTED),
    Input(
        "exponent", "Exponent of its loss", "number", 2.0, "Running", 0.8, 2.5, shown_with=DUCTED
    ),
    Input(
        "advance",
        "Air comes towards it at",
        "air_speed",
        0.0,
        "Running",
        0,
        50,
        shown_with=("placed", ("free",)),
    ),
    Input(
        "drive",
        "Driven at",
        "choice",
        "speed",
        "Motor and gear",
        choices=(("speed", "the speed above"), ("motor", "what motor and gear reach")),
    ),
    Input(
        "stall_torque",
        "Motor torque at rest",
        "torque",
        0.030,
        "Motor and gear",
        0,
        100,
        shown_with=MOTOR,
    ),
    Input(
        "idle_speed",
        "Motor speed without load",
        "rotational_speed",
        2600.0,
        "Motor and gear",
        1,
        100000,
        shown_with=MOTOR,
    ),
    Input(
        "gear_ratio",
        "Motor turns for one of the rotor",
        "number",
        1.0,
        "Motor and gear",
        0.01,
        100,
        shown_with=MOTOR,
    ),
    Input(
        "gear_efficiency",
        "Gear efficiency",
        "percent",
        100.0,
        "Motor and gear",
        1,
        100,
        shown_with=MOTOR,
    ),
    Input(
        "friction",
        "Friction at the rotor",
        "torque",
        0.0005,
        "Motor and gear",
        0,
        10,
        shown_with=MOTOR,
    ),
    Input("motor_efficiency", "Motor efficiency", "percent", 55.0, "Motor and gear", 1, 99),
    MATERIAL,
    Input("wall", "Hub wall", "length", 0.0016, "Strength", 0.0001, 0.05),
    Input(
        "edge",
        "Blade edge, at least",
        "length",
        0.001,
        "Strength",
        0,
        0.01,
        note="of the print; the prediction keeps the section's own edge",
    ),
    Input("depth", "Hub depth", "length", 0.024, "Strength", 0.002, 0.5),
    Input("shaft", "Shaft", "length", 0.004, "Strength", 0.0005, 0.1),
    Input(
        "layers",
        "Layers lie",
        "choice",
        "flat",
        "Strength",
        choices=(("flat", "across the axis"), ("standing", "along the axis")),
    ),
    *PRINTED,
)


def blading(values: Values) -> Blading:
    """The blading of the values."""
    return Blading(
        round(values["blades"]),
        values["hub"],
        values["tip"],
        tuple(values["chord"]),
        tuple(values["pitch"]),
        tuple(c / 100 for c in values["camber"]),
        tuple(values["thickness"]),
        values["family"],
        values["sweep"],
        values["lean"],
        values["gap"],
    )


def installed(values: Values, speed: float | None = None) -> Installed:
    """The rows in their bore."""
    row = blading(values)
    two = values["arrangement"] != "one"
    turns = (1, -1) if values["arrangement"] == "counter" else (1, 1)
    return Installed(
        (row, row) if two else (row,),
        speed or values["speed"],
        turns if two else (1,),
        values["inlet"],
        values["arrangement"] == "straightened",
    )


def solid(values: Values) -> Any:
    """The rotor as a solid."""
    from hauch.core.geometry.solids import Hub, rotor_solid

    return rotor_solid(
        blading(values), Hub(values["shaft"], values["wall"], values["depth"]), edge=values["edge"]
    )


def extent(values: Values) -> dict[str, float]:
    """Sizes that an envelope speaks of [m]."""
    from hauch.core.geometry.bladed import blade_depth

    row = blading(values)
    low, high = blade_depth(row)
    half = values["depth"] / 2
    return {
        "swept": row.tip,
        "hub": row.hub,
        "depth": max(high, half) - min(low, -half),
        "wall": min(*row.thickness, values["wall"]),
        "shaft": values["shaft"],
    }
