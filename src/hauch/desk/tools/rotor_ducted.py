"""The Desk's rotor in a duct: its curve, the duty, where it stalls."""

from __future__ import annotations

import json
import math
from dataclasses import dataclass, replace
from functools import lru_cache

import numpy as np

from hauch.core.geometry.draw_rotors import rotor_drawing
from hauch.core.predict.blading import STATIONS, Blading
from hauch.core.predict.drive import Reached
from hauch.core.predict.duty import Duty
from hauch.core.predict.model import AIR_DENSITY, CannotBe, modelled
from hauch.core.predict.rotor import DOUBTS, LEAST_TRUSTED_FLOW, rotor_curve
from hauch.core.quantity import Quantity, Step
from hauch.desk.tools.base import Answer, Chart, Figure, Line, Remark, Setting, Values
from hauch.desk.tools.fans import PREDICTS, curve_charts, meets_step, plain, system_of
from hauch.desk.tools.rotor_held import MODELLED, held_figures, print_remarks, reached_by
from hauch.desk.tools.rotor_inputs import blading, installed


def duty_of(
    values: Values, setting: Setting, flows: int = 15, stations: int = STATIONS
) -> tuple[Duty, Reached | None]:
    """The duty at the speed that is reached, and what the motor reaches; None where the speed is
    given.
    """
    system = system_of(values, setting)
    duty = Duty.of(rotor_curve(installed(values), flows, stations), system)
    if values["drive"] == "speed":
        return duty, None
    reached = reached_by(values, duty.read("torque"), values["speed"])
    if reached.starts:
        duty = Duty.of(rotor_curve(installed(values, reached.speed), flows, stations), system)
    return duty, reached


THROTTLES = (0.2, 0.35, 0.5, 0.65, 0.8, 0.9, 1.0)


@lru_cache(maxsize=64)
def power_by_throttle(stored: str, setting: Setting) -> tuple[tuple[float, float], ...]:
    """Electrical power by throttle, the speed going with it (share, W); empty where the rotor has
    no duty or stands free.
    """
    values = json.loads(stored)
    if values["placed"] != "ducted":
        return ()
    found = []
    try:
        full, reached = duty_of(values, setting, 9, 9)
        top = reached.speed if reached is not None and reached.starts else full.curve.speed
        for share in THROTTLES:
            slower = {**values, "drive": "speed", "speed": top * share}
            duty, _ = duty_of(slower, setting, 9, 9)
            if not duty.found:
                return ()
            found.append((share, duty.shaft_power / (values["motor_efficiency"] / 100)))
    except CannotBe:
        return ()
    return tuple(found)


@dataclass(frozen=True)
class _Model:
    """The rotor at its duty."""

    values: Values
    row: Blading
    duty: Duty
    reached: Reached | None

    @property
    def stalled(self) -> float:
        """Share of the span that stalls."""
        return self.duty.read("stalled")

    @property
    def nearest(self) -> int:
        """Index of the computed flow that is nearest to the duty."""
        return int(np.abs(self.duty.curve.flow - self.duty.at).argmin())


def ducted(values: Values, setting: Setting) -> Answer:
    """Curve, duty and stall of a rotor in a duct."""
    duty, reached = duty_of(values, setting)
    model = _Model(values, blading(values), duty, reached)
    return Answer(
        rotor_drawing(installed(values).rows, installed(values).bore, _stalled_places(model)),
        _figures(model),
        [*curve_charts(duty, "fan", "total", _taken(duty)), _loading_chart(model)],
        _remarks(model),
        PREDICTS,
    )


def _figures(model: _Model) -> list[Figure]:
    values, duty = model.values, model.duty
    at, power, torque, total = duty.at, duty.shaft_power, duty.read("torque"), duty.read("total")
    doubt = DOUBTS["pressure"] + (DOUBTS["stalled"] - DOUBTS["pressure"]) * model.stalled
    share = 100 * at * total / power if power > 0 else math.nan
    taken = power / (values["motor_efficiency"] / 100)
    of_efficiency = Step(
        "Total efficiency",
        "η = Q Δp / P",
        (("Q", at, "m3/s"), ("Δp", total, "Pa"), ("P", power, "W")),
        share,
        "%",
        "ISO 5801:2017, 3",
    )
    of_supply = Step(
        "Electrical power",
        "P_el = 2π n T / η",
        (
            ("n", duty.curve.speed, "1/min"),
            ("T", torque, "N m"),
            ("η", values["motor_efficiency"], "%"),
        ),
        taken,
        "W",
    )

    def of_model(
        value: float,
        unit: str,
        what: str,
        relative: float,
        *steps: Step,
        absolute: float = 0.0,
    ) -> Quantity:
        why = "the blade-element model"
        return modelled(value, unit, f"rotor:{what}", why, relative, steps, absolute)

    def at_duty(value: float) -> float:
        return value if duty.found else math.nan

    steps = _working(model)
    flow = of_model(at_duty(at), "m3/s", "flow", duty.flow_doubt(doubt), *steps)
    pressure = of_model(
        at_duty(duty.read("static")),
        "Pa",
        "pressure",
        0.0,
        *steps,
        absolute=duty.pressure_doubt(doubt),
    )
    wall = of_model(
        at_duty(duty.read("wall")), "Pa", "pressure", 0.0, absolute=duty.pressure_doubt(doubt)
    )
    of_total = duty.pressure_doubt(doubt, "total") / max(abs(total), 1e-9)
    efficiency = of_model(share, "%", "efficiency", of_total, of_efficiency)
    electrical = of_model(taken, "W", "torque", DOUBTS["torque"] + 0.08, of_supply)
    shaft = of_model(power, "W", "torque", DOUBTS["torque"])
    unloaded = of_model(duty.curve.free_flow, "m3/s", "flow", 0.07)
    turning = of_model(torque, "N m", "torque", DOUBTS["torque"])
    figures = [
        Figure("flow", "Flow at the duty", "volume_flow", flow, True),
        Figure("pressure", "Static pressure there, mean", "pressure", pressure, True),
        Figure("efficiency", "Total efficiency", "percent", efficiency, True),
        Figure("electrical", "Electrical power", "power", electrical, True),
        Figure("torque", "Torque", "torque", turning),
        Figure("shaft", "Shaft power", "power", shaft),
        Figure("free", "Flow without resistance", "volume_flow", unloaded),
        Figure("wall", "Static pressure at the wall behind it", "pressure", wall),
    ]
    if model.reached is not None:
        speed = of_model(model.reached.speed, "1/min", "speed", 0.05)
        figures.append(Figure("speed", "Speed reached", "rotational_speed", speed))
    return figures + held_figures(values, model.row, duty.curve.speed, (at, total))


def _taken(duty: Duty) -> np.ndarray:
    """The system's line in static pressure, cut where it leaves the picture of the curve."""
    taken = duty.system.static_taken(duty.curve)
    return np.where(taken <= 1.25 * np.max(duty.curve.static), taken, np.nan)


def _stalled_places(model: _Model) -> list[float]:
    """Shares of the span of the first row that stall at the duty."""
    row = model.duty.curve.rows[0]
    off = np.flatnonzero(row.stalled[model.nearest])
    return [(k + 0.5) / len(row.radius) for k in off]


def _loading_chart(model: _Model) -> Chart:
    row, nearest = model.duty.curve.rows[0], model.nearest
    angle, off = np.radians(row.angle[nearest]), row.stalled[nearest]
    return Chart(
        "loading",
        "Angle of attack along the radius",
        ("length", "radius"),
        ("angle", "angle of attack"),
        (
            Line("at the duty", plain(row.radius), plain(angle)),
            Line("stall", plain(row.radius), plain(np.radians(row.stall[nearest])), dashed=True),
        ),
        points=tuple(
            ("stalled", float(r), float(a))
            for r, a, s in zip(row.radius, angle, off, strict=True)
            if s
        ),
    )


def _working(model: _Model) -> tuple[Step, ...]:
    """From the middle station to the duty."""
    duty, nearest = model.duty, model.nearest
    row = duty.curve.rows[0]
    k = len(row.radius) // 2
    wheel = 2 * math.pi * duty.curve.speed / 60 * float(row.radius[k])
    axial, swirl = float(row.axial[nearest, k]), float(row.swirl[nearest, k])
    lift, drag = float(row.lift[nearest, k]), float(row.drag[nearest, k])
    angle = float(row.angle[nearest, k])
    return (
        Step(
            "Axial speed half way along the blade",
            "c dc/dr = dh/dr − (s/r) d(r s)/dr",
            (("Q", duty.at, "m3/s"),),
            axial,
            "m/s",
            "radial equilibrium, Dixon and Hall, ch. 6",
        ),
        Step(
            "Angle of attack half way along the blade",
            "α = pitch − atan(c / (u − Δu/2))",
            (("u", wheel, "m/s"), ("Δu", swirl, "m/s")),
            math.radians(angle),
            "rad",
            "Dixon and Hall, ch. 5",
        ),
        Step(
            "Its section",
            "NeuralFoil",
            (("c_l", lift, ""), ("c_d", drag, "")),
            lift / drag if drag else math.nan,
            "",
            "Sharpe and Hansman 2025",
            "lift over drag, secondary and annulus drag (Howell) in it",
        ),
        Step(
            "Work by Euler there",
            "Δp = ρ u Δu",
            (("ρ", AIR_DENSITY, "kg/m3"), ("u", wheel, "m/s"), ("Δu", swirl, "m/s")),
            AIR_DENSITY * wheel * swirl,
            "Pa",
            "no blade gives more",
        ),
        Step(
            "Over all stations, less tip gap, entrance, hub",
            "Σ Δp r dr (1 − 2 s / h) − ζ ρ/2 c²",
            (("s", model.values["gap"], "m"),),
            duty.read("total"),
            "Pa",
            "Cumpsty ch. 8; Idelchik ch. 3; nothing comes back behind the hub",
        ),
        replace(meets_step(duty), source="largest flow at which both agree, the stable one"),
    )


def _remarks(model: _Model) -> list[Remark]:
    duty, reached = model.duty, model.reached
    curve, stall = duty.curve, model.stalled
    found = []
    if reached is not None and not reached.starts:
        found.append(Remark("stop", reached.reason))
    if not duty.found:
        found.append(
            Remark(
                "stop",
                f"At {curve.speed:.0f} 1/min the curve does not meet {duty.system.name}: the rotor"
                " gives too little pressure for it.",
            )
        )
    if stall > 0.02:
        found.append(
            Remark(
                "care",
                f"{100 * stall:.0f} % of the span stalls at the duty: expect noise, and figures"
                " that are only a guide. Less pitch, more flow or more blades help.",
            )
        )
    if math.isfinite(curve.free_flow) and duty.at < LEAST_TRUSTED_FLOW * curve.free_flow:
        found.append(
            Remark(
                "range",
                f"The duty is at {100 * duty.at / curve.free_flow:.0f} % of the free flow. Below"
                f" about {100 * LEAST_TRUSTED_FLOW:.0f} % the flow turns back in such rotors; there"
                " the model does not hold.",
                MODELLED,
            )
        )
    return found + print_remarks(model.values, model.row, curve.speed)
