"""The Desk's centrifugal wheel."""

from __future__ import annotations

import math
from dataclasses import dataclass
from typing import Any

from hauch.core.geometry.draw_rotors import impeller_drawing
from hauch.core.predict.duty import Duty
from hauch.core.predict.impeller import DOUBTS, OUTLETS, Impeller, impeller_curve, wiesner_slip
from hauch.core.predict.model import modelled
from hauch.core.quantity import Quantity, Step
from hauch.core.strength.designs import of_wheel
from hauch.core.strength.limit import SpeedLimit
from hauch.desk.tools.base import Answer, Figure, Input, Remark, Setting, Tool, Values, register
from hauch.desk.tools.fans import PREDICTS, curve_charts, meets_step, system_of
from hauch.desk.tools.noise import sound_figure, tone_figure
from hauch.desk.tools.spinning import (
    CAUTIONS,
    MATERIAL,
    PRINTED,
    limit_of,
    strength_figures,
    strength_remarks,
)

INPUTS = (
    Input("blades", "Blades", "count", 11, "Wheel", 2, 80),
    Input("outer", "Outer diameter", "length", 0.100, "Wheel", 0.005, 2),
    Input("inner", "Blades begin at", "length", 0.052, "Wheel", 0.002, 2),
    Input("eye", "Eye", "length", 0.050, "Wheel", 0.002, 2),
    Input("inner_width", "Width at the inlet", "length", 0.022, "Wheel", 0.0005, 1),
    Input("outer_width", "Width at the outlet", "length", 0.016, "Wheel", 0.0005, 1),
    Input(
        "inner_angle",
        "Blade angle at the inlet",
        "angle",
        math.radians(30),
        "Wheel",
        0,
        math.pi,
        note="from the tangent",
    ),
    Input(
        "outer_angle",
        "Blade angle at the outlet",
        "angle",
        math.radians(42),
        "Wheel",
        0,
        math.pi,
        note="below 90° leans back",
    ),
    Input("thickness", "Blade thickness", "length", 0.0016, "Wheel", 0.0001, 0.05),
    Input(
        "outlet",
        "Blows into",
        "choice",
        "volute",
        "Running",
        choices=tuple((k, v[0]) for k, v in OUTLETS.items()),
    ),
    Input("speed", "Speed", "rotational_speed", 3000.0, "Running", 1, 100000),
    Input("system_pressure", "System: loses", "pressure", 75.0, "Running", 0, 1e5),
    Input("system_flow", "… at", "volume_flow", 0.015, "Running", 1e-5, 100),
    Input("exponent", "Exponent of its loss", "number", 2.0, "Running", 0.8, 2.5),
    Input("motor_efficiency", "Motor efficiency", "percent", 60.0, "Running", 1, 99),
    MATERIAL,
    Input("shaft", "Shaft", "length", 0.004, "Strength", 0.0005, 0.1),
    Input("plate", "Back plate", "length", 0.002, "Strength", 0.0003, 0.05),
    *PRINTED,
)

MODELLED = ("flow", "pressure", "efficiency", "electrical", "torque", "shaft")
"""Figures of the model of the wheel."""


def wheel(values: Values) -> Impeller:
    """The wheel of the values."""
    names = (
        "eye",
        "inner",
        "outer",
        "inner_width",
        "outer_width",
        "inner_angle",
        "outer_angle",
        "thickness",
        "outlet",
    )
    return Impeller(round(values["blades"]), **{n: values[n] for n in names})


def solid(values: Values) -> Any:
    """The wheel as a solid."""
    from hauch.core.geometry.solids import impeller_solid

    return impeller_solid(wheel(values), values["shaft"], values["plate"])


def extent(values: Values) -> dict[str, float]:
    """Sizes that an envelope speaks of [m]."""
    w = wheel(values)
    deep = values["plate"] + max(w.inner_width, w.outer_width)
    return {
        "swept": w.outer,
        "depth": deep,
        "wall": min(w.thickness, values["plate"]),
        "shaft": values["shaft"],
    }


@dataclass(frozen=True)
class _Model:
    """The wheel at its duty."""

    values: Values
    wheel: Impeller
    duty: Duty

    @property
    def tip_speed(self) -> float:
        """Tip speed [m/s]."""
        return 2 * math.pi * self.duty.curve.speed / 60 * self.wheel.outer / 2

    @property
    def limit(self) -> SpeedLimit:
        """Speed limit of the open wheel, its back plate on the bed."""
        stressed = of_wheel(self.wheel, self.values["shaft"], self.values["plate"])
        return limit_of(stressed, self.values)


def work(values: Values, setting: Setting) -> Answer:
    """The curve, the duty and what holds."""
    w = wheel(values)
    curve = impeller_curve(w, values["speed"], 25)
    duty = Duty.of(curve, system_of(values, setting))
    model = _Model(values, w, duty)
    return Answer(
        impeller_drawing(w),
        _figures(model),
        curve_charts(duty, "wheel", "static", duty.system.static_taken(curve)),
        _remarks(model),
        PREDICTS,
    )


def _steps(model: _Model) -> tuple[Step, ...]:
    w, duty = model.wheel, model.duty
    return (
        Step(
            "Tip speed",
            "u₂ = ω d₂ / 2",
            (("n", duty.curve.speed, "1/min"), ("d₂", w.outer, "m")),
            model.tip_speed,
            "m/s",
        ),
        Step(
            "Slip",
            "σ = 1 − √sin β₂ / Z^0.7",
            (("β₂", w.outer_angle, "rad"), ("Z", w.blades, "")),
            wiesner_slip(w.outer_angle, w.blades, w.inner / w.outer),
            "",
            "Wiesner 1967, eqs. 4 and 7",
        ),
        Step(
            "Less shock, friction, slowing, outlet",
            "p = ρ u₂ c_u2 − losses",
            (("Q", duty.at, "m3/s"),),
            duty.read("static"),
            "Pa",
            "Conrad 1980; Darcy; Coppage 1956; Eck ch. X",
        ),
        meets_step(duty),
    )


def _figures(model: _Model) -> list[Figure]:
    values, duty = model.values, model.duty
    at, speed, power = duty.at, duty.curve.speed, duty.shaft_power
    static, torque = duty.read("static"), duty.read("torque")
    share = 100 * at * static / power
    taken = power / values["motor_efficiency"] * 100
    of_efficiency = Step(
        "Static efficiency",
        "η = Q p / P",
        (("Q", at, "m3/s"), ("p", static, "Pa"), ("P", power, "W")),
        share,
        "%",
        "ISO 5801:2017, 3",
    )
    of_shaft = Step(
        "Shaft power",
        "P = ρ u₂ c_u2 Q (1 + leak) + disc friction",
        (("Q", at, "m3/s"), ("n", speed, "1/min")),
        power,
        "W",
        "Euler; Daily and Nece 1960",
    )
    of_supply = Step(
        "Electrical power",
        "P_el = P / η",
        (("P", power, "W"), ("η", values["motor_efficiency"], "%")),
        taken,
        "W",
    )

    def of_model(value: float, unit: str, relative: float, *steps: Step) -> Quantity:
        return modelled(value, unit, "impeller", "the model of the wheel", relative, steps)

    def at_duty(value: float) -> float:
        return value if duty.found else math.nan

    steps = _steps(model)
    flow = of_model(at_duty(at), "m3/s", duty.flow_doubt(DOUBTS["pressure"]), *steps)
    pressure = modelled(
        at_duty(static),
        "Pa",
        "impeller",
        "the model of the wheel",
        0.0,
        steps,
        duty.pressure_doubt(DOUBTS["pressure"]),
    )
    efficiency = of_model(at_duty(share), "%", 0.12, of_efficiency)
    electrical = of_model(taken, "W", DOUBTS["torque"] + 0.05, of_shaft, of_supply)
    return [
        Figure("flow", "Flow at the duty", "volume_flow", flow, True),
        Figure("pressure", "Static pressure there", "pressure", pressure, True),
        Figure("efficiency", "Static efficiency", "percent", efficiency, True),
        Figure("electrical", "Electrical power", "power", electrical, True),
        Figure("torque", "Torque", "torque", of_model(torque, "N m", DOUBTS["torque"])),
        Figure("shaft", "Shaft power", "power", of_model(power, "W", DOUBTS["torque"])),
        tone_figure(model.wheel.blades, speed),
        sound_figure(at, duty.read("total")),
        Figure("tip_speed", "Tip speed", "air_speed", Quantity(model.tip_speed, "m/s")),
        *strength_figures(model.limit, speed),
    ]


def _remarks(model: _Model) -> list[Remark]:
    duty = model.duty
    remarks = []
    if not duty.found:
        remarks.append(
            Remark(
                "stop",
                f"At {duty.curve.speed:.0f} 1/min the curve does not meet {duty.system.name} within"
                " its flows.",
            )
        )
    share = duty.at / float(duty.curve.flow[duty.curve.best])
    if share < 0.4:
        remarks.append(
            Remark(
                "range",
                f"The duty is at {100 * share:.0f} % of the flow of best efficiency; below 40 %"
                " the air turns back in the wheel and the model does not hold.",
                MODELLED,
            )
        )
    remarks += strength_remarks(model.limit, model.values["speed"])
    if model.wheel.outer_angle > math.pi / 2:
        remarks.append(
            Remark(
                "care",
                "Blades that lean forward make more pressure and a curve that rises; the power"
                " grows with flow and can overload the motor.",
            )
        )
    return remarks


TOOL = register(
    Tool(
        "impeller",
        "Centrifugal wheel",
        "What does this wheel give in its housing?",
        INPUTS,
        work,
        "Open or covered wheels with 4 to 60 blades, tips below 100 m/s, duties above 40 % of the"
        " flow of best efficiency. Power within 24 %, pressure within that and a fifth of the"
        " highest of the curve (95 %); a printed volute recovers less than a smooth one. The speed limit is that"
        " of an open wheel.",
        cautions=CAUTIONS,
        solid=solid,
        extent=extent,
        part="rotor",
        also=("wheel",),
        rig=True,
    )
)
