"""The bag fill: its constants, its drawing, and what is measured on it."""

from __future__ import annotations

import math

from hauch.core.geometry.drawing import Note
from hauch.core.measure.procedure import Procedure
from hauch.core.measure.rigs.base import Constant, RigKind, Sketch, length
from hauch.core.measure.run import RunInput
from hauch.core.quantity import Quantity, derive


def _steps(low: float, high: float, count: int) -> list[float]:
    return [low + (high - low) * i / count for i in range(count + 1)]


def _draw(r: Sketch) -> None:
    radius = (3 * r["bag_volume"] / (4 * math.pi)) ** (1 / 3)
    mouth = min(r["mouth"], 1.6 * radius)
    start = math.asin(min(mouth / 2 / radius, 0.99))
    r.d.line(
        *(
            (math.cos(start) * radius - radius * math.cos(a), radius * math.sin(a))
            for a in _steps(start, 2 * math.pi - start, 60)
        ),
        layer="space",
    )
    r.fan(0, 0, mouth)
    r.flow(radius * 0.1, 0, radius * 0.6)
    r.d.notes.append(Note((radius, -radius * 1.25), "bag: stop the clock when it stands full"))
    r.sensor("fill_time", radius * 1.2, radius * 0.9)
    r.dimension("mouth", (-mouth * 0.2, -mouth / 2), (-mouth * 0.2, mouth / 2), "left", 1, "⌀ ")


RIG = RigKind(
    key="bag_fill",
    label="Bag fill",
    what="Open bag of known volume over the part; the seconds until it is full.",
    constants=(
        Constant(
            "bag_volume", "Volume of the bag", "volume", 0.001, 50.0, 0.12, needed=True, doubt=0.006
        ),
        length("mouth", "Mouth of the bag", 0.3, 0.01, 5.0),
    ),
    channels=("fill_time", "speed"),
    caution="Keep the bag off the intake: a starved rotor runs faster.",
    draw=_draw,
)


def bag_flow(run: RunInput) -> Quantity:
    """Volume flow [m3/s] from the time in which a bag of known volume fills."""
    return derive(
        "Flow into the bag",
        "Q = V / t",
        lambda v, t: v / t,
        {"v": run.constant("bag_volume", "volume of the bag", "m3"), "t": run.mean("fill_time")},
        "m3/s",
        "definition of volume flow",
        note="Spill and the bag's weight make it read low; it compares parts of one kind.",
        symbols={"v": "V"},
    )


PROCEDURES = (
    Procedure(
        rig=RIG.key,
        key="bag_flow",
        label="Flow into the bag",
        short="Bag",
        metric="bag flow",
        kind="volume_flow",
        direction=+1,
        log=True,
        needs=(("fill_time",),),
        optional=(),
        by_speed=False,
        reduce=bag_flow,
    ),
)
