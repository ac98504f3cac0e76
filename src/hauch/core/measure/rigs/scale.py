"""The scale fixture: its constants, its drawing, and what is measured on it."""

from __future__ import annotations

import math

from hauch.core.geometry.drawing import Arrow, Dimension, Note
from hauch.core.measure import laws
from hauch.core.measure.procedure import Procedure
from hauch.core.measure.rigs.base import Constant, RigKind, Sketch, length
from hauch.core.measure.rigs.common import (
    SPIN,
    STANDARD_GRAVITY,
    converted,
)
from hauch.core.measure.run import NoResult, RunInput
from hauch.core.quantity import Quantity, derive, exact


def _draw(r: Sketch) -> None:
    side = math.sqrt(r["plate_area"])
    gap = r["stand_off"]
    r.d.box(-side / 2, 0, side, side * 0.06)
    r.d.box(-side * 0.35, -side * 0.28, side * 0.7, side * 0.28, "mount")
    r.d.box(-side / 2, side * 0.06 + gap, side, side * 0.2, "mount")
    r.d.notes.append(Note((0, side * 0.3 + gap), "part"))
    for x in (-0.25, 0.0, 0.25):
        r.d.arrows.append(
            Arrow((x * side, side * 0.06 + gap * 0.9), (x * side, side * 0.06 + gap * 0.15))
        )
    r.sensor("scale_mass", 0, -side * 0.14)
    r.sensor("speed", side * 0.4, side * 0.16 + gap)
    r.d.dimensions.append(
        Dimension(
            (-side / 2, -side * 0.28),
            (side / 2, -side * 0.28),
            "below",
            side,
            prefix="√A = ",
            known="plate_area" in r.constants,
        )
    )
    r.dimension("stand_off", (side / 2, side * 0.06), (side / 2, side * 0.06 + gap), "right")


RIG = RigKind(
    key="scale",
    label="Scale fixture",
    what=(
        "The part blows onto a plate on a scale, or hangs on it: force, or pressure over a known"
        " area."
    ),
    constants=(
        Constant(
            "plate_area",
            "Area under pressure",
            "area",
            1e-5,
            4.0,
            0.0145,
            needed=True,
            doubt=0.0003,
        ),
        length("stand_off", "Outlet above the plate", 0.1, 0.0, 5.0),
    ),
    channels=("scale_mass", "speed"),
    caution=SPIN,
    draw=_draw,
)


def _carried(run: RunInput) -> Quantity:
    """What the scale carries [kg]."""
    mass = run.mean("scale_mass")
    if mass.value <= 0:
        raise NoResult(
            "The scale reads nothing or less. Zero it with the part at rest, and check which way"
            " the force acts."
        )
    return mass


def plate_pressure(run: RunInput) -> Quantity:
    """Pressure [Pa] over the area that a scale carries, in standard air, at the common speed where
    agreed.
    """
    mass = _carried(run)
    pressure = derive(
        "Pressure on the scale",
        "p = m g / A",
        lambda m, g, a: m * g / a,
        {
            "m": mass,
            "g": exact(STANDARD_GRAVITY, "m/s2"),
            "a": run.constant("plate_area", "area under pressure", "m2"),
        },
        "Pa",
        "force over area; standard gravity of ISO 80000-3",
        symbols={"a": "A"},
    )
    return converted(run, pressure, laws.PRESSURE, "p")


def thrust(run: RunInput) -> Quantity:
    """Thrust [N] from a scale, in standard air, at the common speed where agreed."""
    mass = _carried(run)
    force = derive(
        "Thrust",
        "F = m g",
        lambda m, g: m * g,
        {"m": mass, "g": exact(STANDARD_GRAVITY, "m/s2")},
        "N",
        "standard gravity of ISO 80000-3",
    )
    return converted(run, force, laws.FORCE, "F")


PROCEDURES = (
    Procedure(
        rig=RIG.key,
        key="plate_pressure",
        label="Pressure on the scale",
        short="Pressure",
        metric="pressure",
        kind="pressure",
        direction=+1,
        log=True,
        needs=(("scale_mass",),),
        reduce=plate_pressure,
    ),
    Procedure(
        rig=RIG.key,
        key="thrust",
        label="Thrust on the scale",
        short="Thrust",
        metric="thrust",
        kind="force",
        direction=+1,
        log=True,
        needs=(("scale_mass",),),
        reduce=thrust,
    ),
)
