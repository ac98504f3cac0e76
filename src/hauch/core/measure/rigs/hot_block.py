"""The hot block: its constants, its drawing, and what is measured on it."""

from __future__ import annotations

from hauch.core.geometry.drawing import Arrow, Note
from hauch.core.measure.procedure import Procedure
from hauch.core.measure.rigs.base import Constant, RigKind, Sketch, length
from hauch.core.measure.run import NoResult, RunInput
from hauch.core.quantity import Quantity, derive


def _draw(r: Sketch) -> None:
    width, height, gap = r["block_width"], r["block_height"], r["distance"]
    r.d.box(0, 0, width, height, "heat")
    for fin in range(9):
        x = width * (fin + 0.5) / 9
        r.d.line((x, height), (x, height * 1.8), layer="thin")
    size = width * 0.9
    r.d.box(width * 0.05, height * 1.8 + gap, size, width * 0.18, "mount")
    r.d.notes.append(Note((width / 2, height * 1.8 + gap + width * 0.24), "part"))
    for x in (0.25, 0.5, 0.75):
        r.d.arrows.append(
            Arrow((x * width, height * 1.8 + gap * 0.9), (x * width, height * 1.8 + gap * 0.2))
        )
    r.d.notes.append(Note((width / 2, height * 0.16), "heater with cut-out"))
    r.sensor("load_temperature", width * 0.5, max(height - r["sensor_depth"], 0.0))
    r.sensor("room_temperature", width * 1.6, height)
    r.dimension("block_width", (0, 0), (width, 0), "below", 2)
    r.dimension("block_height", (0, 0), (0, height), "left")
    r.dimension("distance", (width, height * 1.8), (width, height * 1.8 + gap), "right", 1)


RIG = RigKind(
    key="hot_block",
    label="Hot block",
    what=(
        "Heater or processor load under the air of the part; load and room temperature until"
        " settled."
    ),
    constants=(
        length("block_width", "Width of the block", 0.12),
        length("block_height", "Height of the block", 0.04),
        length("distance", "Part to block", 0.06, 0.0, 5.0),
        Constant("heat", "Heat of the load", "power", 0.1, 5000.0, 75.0),
        length("sensor_depth", "Depth of the sensor", 0.01, 0.0, 1.0),
    ),
    channels=("load_temperature", "room_temperature", "power", "speed", "throttle"),
    power_of_part=False,
    caution=(
        "Heater loads need a thermal cut-out and are never left alone. Mains parts are built and"
        " checked by people competent in it."
    ),
    draw=_draw,
)


def temperature_rise(run: RunInput) -> Quantity:
    """Rise of the load over the room [K], settled."""
    return derive(
        "Rise over the room",
        "ΔT = T_load − T_room",
        lambda load, room: load - room,
        {"load": run.mean("load_temperature"), "room": run.mean("room_temperature")},
        "K",
        "both read at the same moments",
        symbols={"load": "T_load", "room": "T_room"},
    )


def thermal_resistance(run: RunInput) -> Quantity:
    """Thermal resistance [K/W] of the cooled load: rise over the room by the heat that it gives
    off.
    """
    heat = run.mean("power") if run.has("power") else run.constant("heat", "heat of the load", "W")
    if heat.value <= 0:
        raise NoResult(
            "The heat of the load is 0 W, so it has no thermal resistance. Switch the heater on, or"
            " enter its heat in Stores."
        )
    rise = temperature_rise(run)
    return derive(
        "Thermal resistance",
        "R_th = ΔT / P",
        lambda rise, heat: rise / heat,
        {"rise": rise, "heat": heat},
        "K/W",
        "definition",
        symbols={"rise": "ΔT", "heat": "P"},
    )


PROCEDURES = (
    Procedure(
        rig=RIG.key,
        key="temperature_rise",
        label="Temperature rise of the hot block",
        short="Rise",
        metric="temperature rise",
        kind="temperature_difference",
        direction=-1,
        log=True,
        needs=(("load_temperature", "room_temperature"),),
        by_speed=False,
        reduce=temperature_rise,
    ),
    Procedure(
        rig=RIG.key,
        key="thermal_resistance",
        label="Thermal resistance of the hot block",
        short="R_th",
        metric="thermal resistance",
        kind="thermal_resistance",
        direction=-1,
        log=True,
        needs=(("load_temperature", "room_temperature"),),
        optional=("power", "speed"),
        by_speed=False,
        reduce=thermal_resistance,
    ),
)
