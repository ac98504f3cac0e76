"""What is not air: mass, print time and cost of a part, as figures that are compared like all others."""

from __future__ import annotations

from hauch.core.geometry.drawing import Note
from hauch.core.measure.procedure import Procedure
from hauch.core.measure.rigs.base import RigKind, Sketch, length
from hauch.core.measure.run import NoResult, RunInput
from hauch.core.quantity import Quantity


def _draw(r: Sketch) -> None:
    pan = r["pan"]
    r.d.box(-pan / 2, -0.12 * pan, pan, 0.12 * pan, "mount")
    r.d.box(-0.22 * pan, 0.0, 0.44 * pan, 0.3 * pan, "part")
    r.d.box(0.75 * pan, -0.12 * pan, 0.5 * pan, 0.6 * pan, "mount")
    r.d.line((0.8 * pan, 0.3 * pan), (1.2 * pan, 0.3 * pan), layer="thin")
    r.d.box(1.5 * pan, -0.12 * pan, 0.4 * pan, 0.6 * pan, "thin")
    for line in range(4):
        r.d.line(
            (1.55 * pan, (0.36 - 0.1 * line) * pan), (1.85 * pan, (0.36 - 0.1 * line) * pan),
            layer="thin",
        )  # fmt: skip
    r.sensor("scale_mass", 0.0, -0.06 * pan)
    r.sensor("print_time", 1.0 * pan, 0.3 * pan)
    r.sensor("cost", 1.7 * pan, 0.0)
    r.d.notes += [
        Note((0.0, 0.38 * pan), "part on the scale"),
        Note((1.0 * pan, 0.56 * pan), "printer"),
        Note((1.7 * pan, 0.56 * pan), "bill"),
    ]
    r.dimension("pan", (-pan / 2, -0.12 * pan), (pan / 2, -0.12 * pan), "below")


RIG = RigKind(
    key="record",
    label="Scale, printer and bill",
    what="What a part weighs, how long it prints and what it costs: read off, not measured in air.",
    constants=(length("pan", "Pan of the scale, across", 0.15, 0.01, 2.0),),
    channels=("scale_mass", "print_time", "cost"),
    caution="A part from the oven or with glue on it is weighed when it has cooled and set.",
    draw=_draw,
)


def _above_zero(run: RunInput, channel: str, what: str) -> Quantity:
    value = run.mean(channel)
    if value.value <= 0:
        raise NoResult(f"{what} of {value.value:g} cannot be compared as a share. Read it again.")
    return value


def part_mass(run: RunInput) -> Quantity:
    """Mass [kg] of the part as weighed."""
    return _above_zero(run, "scale_mass", "A mass")


def print_time(run: RunInput) -> Quantity:
    """Time [s] that the part prints, as the printer tells it."""
    return _above_zero(run, "print_time", "A print time")


def part_cost(run: RunInput) -> Quantity:
    """Cost of the part, in one currency for all."""
    return _above_zero(run, "cost", "A cost")


PROCEDURES = (
    Procedure(
        rig=RIG.key,
        key="part_mass",
        label="Mass of the part",
        short="Mass",
        metric="mass",
        kind="mass",
        direction=-1,
        log=True,
        needs=(("scale_mass",),),
        by_speed=False,
        reduce=part_mass,
    ),
    Procedure(
        rig=RIG.key,
        key="print_time",
        label="Print time of the part",
        short="Print time",
        metric="print time",
        kind="duration",
        direction=-1,
        log=True,
        needs=(("print_time",),),
        by_speed=False,
        reduce=print_time,
    ),
    Procedure(
        rig=RIG.key,
        key="part_cost",
        label="Cost of the part",
        short="Cost",
        metric="cost",
        kind="number",
        direction=-1,
        log=True,
        needs=(("cost",),),
        by_speed=False,
        reduce=part_cost,
    ),
)
