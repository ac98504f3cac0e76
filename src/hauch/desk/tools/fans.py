"""What rotors and wheels of the Desk have in common: what they work on, and their charts."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np

from hauch.core.predict.duty import Duty, System
from hauch.core.quantity import Step
from hauch.desk.tools.base import Chart, Line, Setting, Values

PREDICTS = {
    "airflow": "flow",
    "static_pressure": "pressure",
    "electrical_power": "electrical",
    "shaft_power": "shaft",
}
"""Which figure foretells which procedure."""


def system_of(values: Values, setting: Setting) -> System:
    """The chosen rig, else the system of the values."""
    if setting.resistance:
        return System(setting.resistance, 2.0, "total", setting.rig)
    exponent = values["exponent"]
    resistance = values["system_pressure"] / values["system_flow"] ** exponent
    return System(resistance, exponent, "static", "the system")


def meets_step(duty: Duty, note: str = "") -> Step:
    """Working: where curve and system meet."""
    system = duty.system
    return Step(
        f"Meets {system.name}",
        f"p = k Q^{system.exponent:g}",
        (("k", system.resistance, "Pa s^n/m^3n"),),
        duty.read(system.column),
        "Pa",
        note,
    )


def plain(values: np.ndarray) -> tuple[float, ...]:
    """An array as a line of a chart takes it."""
    return tuple(values.tolist())


def curve_charts(duty: Duty, label: str, efficiency: str, taken: np.ndarray) -> list[Chart]:
    """Pressure, efficiency and torque over flow.

    Parameters
    ----------
    efficiency : ``"total"`` or ``"static"``
    taken : the system's line in static pressure [Pa]
    """
    curve = duty.curve
    shares = curve.total_efficiency if efficiency == "total" else curve.static_efficiency
    points: Sequence[tuple[str, float, float]] = (
        (("duty", duty.at, duty.read("static")),) if duty.found else ()
    )
    return [
        Chart(
            "curve",
            "Pressure over flow",
            ("volume_flow", "flow"),
            ("pressure", "static pressure"),
            (
                Line(label, plain(curve.flow), plain(curve.static)),
                Line(duty.system.name, plain(curve.flow), plain(taken), dashed=True),
            ),
            points=tuple(points),
        ),
        Chart(
            "efficiency",
            f"{efficiency.capitalize()} efficiency over flow",
            ("volume_flow", "flow"),
            ("percent", "efficiency"),
            (Line("efficiency", plain(curve.flow), plain(100 * shares)),),
        ),
        Chart(
            "torque",
            "Torque over flow",
            ("volume_flow", "flow"),
            ("torque", "torque"),
            (Line("torque", plain(curve.flow), plain(curve.torque)),),
        ),
    ]
