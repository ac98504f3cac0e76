"""The Desk's rotor without a duct."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from hauch.core.geometry.draw_rotors import rotor_drawing
from hauch.core.predict.blading import Blading
from hauch.core.predict.drive import Reached
from hauch.core.predict.free_rotor import FreeRotor, free_rotor
from hauch.core.predict.model import modelled
from hauch.core.quantity import Quantity
from hauch.desk.tools.base import Answer, Chart, Figure, Line, Remark, Values
from hauch.desk.tools.fans import plain
from hauch.desk.tools.rotor_held import MODELLED, held_figures, print_remarks, reached_by
from hauch.desk.tools.rotor_inputs import blading


@dataclass(frozen=True)
class _Model:
    """The rotor at the speed that it reaches [1/min]."""

    values: Values
    row: Blading
    speed: float
    made: FreeRotor
    reached: Reached | None


def free(values: Values) -> Answer:
    """Thrust and power of a rotor without walls nearby."""
    model = _model(values)
    return Answer(
        rotor_drawing((model.row,), model.row.tip * 1.08),
        _figures(model),
        _charts(model),
        _remarks(model),
        {"electrical_power": "electrical", "shaft_power": "shaft", "airflow": "flow"},
    )


def _model(values: Values) -> _Model:
    row, speed, advance = blading(values), values["speed"], values["advance"]
    made, reached = free_rotor(row, speed, advance), None
    if values["drive"] == "motor":
        reached = reached_by(values, made.torque, speed)
        if reached.starts:
            speed = reached.speed
            made = free_rotor(row, speed, advance)
    return _Model(values, row, speed, made, reached)


def _figures(model: _Model) -> list[Figure]:
    made = model.made

    def of_model(value: float, unit: str, relative: float) -> Quantity:
        return modelled(value, unit, "rotor:free", "blade-element momentum", relative)

    flow, merit = of_model(made.flow, "m3/s", 0.10), of_model(100 * made.merit, "%", 0.10)
    electrical = of_model(made.power / (model.values["motor_efficiency"] / 100), "W", 0.15)
    figures = [
        Figure("flow", "Flow through the disc", "volume_flow", flow, True),
        Figure("thrust", "Thrust", "force", of_model(made.thrust, "N", 0.15), True),
        Figure("merit", "Least power over its own", "percent", merit, True),
        Figure("electrical", "Electrical power", "power", electrical, True),
        Figure("shaft", "Shaft power", "power", of_model(made.power, "W", 0.10)),
        Figure("torque", "Torque", "torque", of_model(made.torque, "N m", 0.10)),
    ]
    if model.reached is not None:
        speed = of_model(model.speed, "1/min", 0.05)
        figures.append(Figure("speed", "Speed reached", "rotational_speed", speed))
    return figures + held_figures(model.values, model.row, model.speed, None)


def _remarks(model: _Model) -> list[Remark]:
    made, row = model.made, model.row
    remarks = []
    if model.reached is not None and not model.reached.starts:
        remarks.append(Remark("stop", model.reached.reason))
    if made.stalled > 0.02:
        remarks.append(
            Remark(
                "care",
                f"{100 * made.stalled:.0f} % of the span stalls. Less pitch or more blades help.",
            )
        )
    if row.hub > 0.5 * row.tip:
        remarks.append(
            Remark(
                "range",
                "The hub takes more than half of the diameter; the model of a free rotor is not"
                " made for that.",
                MODELLED,
            )
        )
    return remarks + print_remarks(model.values, row, model.speed)


def _charts(model: _Model) -> list[Chart]:
    made, advance = model.made, model.values["advance"]
    speeds = [model.speed * k / 10 for k in range(4, 13)]
    thrusts = tuple(free_rotor(model.row, n, advance).thrust for n in speeds)
    radius = plain(made.radius)
    return [
        Chart(
            "thrust",
            "Thrust over speed",
            ("rotational_speed", "speed"),
            ("force", "thrust"),
            (Line("thrust", tuple(speeds), thrusts),),
            points=(("now", model.speed, made.thrust),),
        ),
        Chart(
            "loading",
            "Angle of attack along the radius",
            ("length", "radius"),
            ("angle", "angle of attack"),
            (Line("now", radius, plain(np.radians(made.angle))),),
        ),
        Chart(
            "induced",
            "Speed through the disc along the radius",
            ("length", "radius"),
            ("air_speed", "air speed"),
            (Line("induced", radius, plain(made.induced + advance)),),
        ),
    ]
