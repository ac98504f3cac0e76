"""The free room: its constants, its drawing, and what is measured on it."""

from __future__ import annotations

import math

from hauch.core.geometry.drawing import Note
from hauch.core.measure import laws
from hauch.core.measure.procedure import Procedure
from hauch.core.measure.rigs.base import Constant, RigKind, Sketch, length
from hauch.core.measure.rigs.common import SPIN, by_place, converted
from hauch.core.measure.run import RunInput
from hauch.core.quantity import Quantity, derive


def _draw(r: Sketch) -> None:
    distance, width, height = r["distance"], r["grid_width"], r["grid_height"]
    r.fan(0, 0, min(width, height) * 0.4)
    r.flow(distance * 0.06, 0, min(width, height) * 0.4)
    r.d.line((0, 0), (distance, 0), layer="axis")
    r.d.line((distance, -height / 2), (distance, height / 2), layer="space")
    left = distance + 0.35 * max(width, distance * 0.4)
    r.d.box(left, -height / 2, width, height, "space")
    places = max(int(r["places"]), 1)
    columns = next(
        (
            c
            for c in range(round(math.sqrt(places * width / height)) or 1, 0, -1)
            if places % c == 0
        ),
        1,
    )
    rows = math.ceil(places / columns)
    for place in range(places):
        x, y = place % columns, place // columns
        r.d.circle(
            (left + (x + 0.5) * width / columns, height / 2 - (y + 0.5) * height / rows),
            min(width / columns, height / rows) * 0.07,
            "part",
        )
    r.d.notes.append(
        Note((left + width / 2, height / 2 * 1.12), f"{places} places, seen from the part")
    )
    r.sensor("air_speed", distance, 0)
    r.dimension("distance", (0, -height / 2), (distance, -height / 2), "below")
    r.dimension("grid_width", (left, -height / 2), (left + width, -height / 2), "below")
    r.dimension("grid_height", (left + width, -height / 2), (left + width, height / 2), "right")


RIG = RigKind(
    key="free_room",
    label="Free room",
    what="Anemometer at a stated distance, over a grid of places.",
    constants=(
        length("distance", "Distance of the grid", 1.0, 0.02, 20.0, needed=True, doubt=0.02),
        length("grid_width", "Width of the grid", 0.6),
        length("grid_height", "Height of the grid", 0.4),
        Constant("places", "Places", "number", 1, 400, 9, needed=True, whole=True),
        length("height", "Height of the axis", 1.0, 0.0, 10.0),
    ),
    channels=("air_speed", "speed"),
    caution=SPIN,
    draw=_draw,
)


def jet_speed(run: RunInput) -> Quantity:
    """Mean air speed [m/s] over the grid at the rig's distance, at the common speed where agreed."""
    means = by_place(run, "air_speed")
    mean = derive(
        "Mean over the grid",
        "v̄ = 1/n Σ vᵢ",
        lambda **x: sum(x.values()) / len(x),
        means,
        "m/s",
        "places of equal area",
    )
    return converted(run, mean, laws.AIR_SPEED, "v̄")


PROCEDURES = (
    Procedure(
        rig=RIG.key,
        key="jet_speed",
        label="Air speed over a grid in the free room",
        short="Jet",
        metric="air speed",
        kind="air_speed",
        direction=+1,
        log=True,
        needs=(("air_speed",),),
        places=True,
        reduce=jet_speed,
    ),
)
