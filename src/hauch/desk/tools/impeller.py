"""The Desk's centrifugal wheel."""

from __future__ import annotations

import math
from typing import Any

from hauch.core.geometry.desk_drawings import impeller_drawing
from hauch.core.predict.impeller import DOUBTS, OUTLETS, Impeller, impeller_curve, wiesner_slip
from hauch.core.predict.model import modelled
from hauch.core.predict.strength import MATERIALS, SpeedLimit
from hauch.core.quantity import Quantity, Step
from hauch.desk.tools.base import (
    Answer,
    Chart,
    Figure,
    Input,
    Line,
    Remark,
    Setting,
    Tool,
    Values,
    register,
)
from hauch.desk.tools.noise import sound_figure, tone_figure
from hauch.desk.tools.spinning import limit_figure, limit_remarks

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
    Input("speed", "Speed", "rotational_speed", 6000.0, "Running", 1, 100000),
    Input("system_pressure", "System: loses", "pressure", 300.0, "Running", 0, 1e5),
    Input("system_flow", "… at", "volume_flow", 0.03, "Running", 1e-5, 100),
    Input("exponent", "Exponent of its loss", "number", 2.0, "Running", 0.8, 2.5),
    Input("motor_efficiency", "Motor efficiency", "percent", 60.0, "Running", 1, 99),
    Input(
        "material",
        "Material",
        "choice",
        "petg",
        "Strength",
        choices=tuple((m.key, m.label) for m in MATERIALS.values()),
    ),
    Input("shaft", "Shaft", "length", 0.004, "Strength", 0.0005, 0.1),
    Input("plate", "Back plate", "length", 0.002, "Strength", 0.0003, 0.05),
)


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


def disc_stress(outer: float, speed: float, density: float) -> float:
    """Stress of the plain pull in a flat disc with a small bore, blades not counted [Pa]: (3 + nu)
    / 4 rho (omega R)2, nu = 0.35 (Den Hartog, ch. II).
    """
    return (3 + 0.35) / 4 * density * (2 * math.pi * speed / 60 * outer / 2) ** 2


def work(values: Values, setting: Setting) -> Answer:
    """The curve, the duty and what holds."""
    w = wheel(values)
    curve = impeller_curve(w, values["speed"], 25)
    resistance, exponent, column, name = (
        (setting.resistance, 2.0, "total", setting.rig)
        if setting.resistance
        else (
            values["system_pressure"] / values["system_flow"] ** values["exponent"],
            values["exponent"],
            "static",
            "the system",
        )
    )
    flow = curve.meets(resistance, exponent, column)
    remarks: list[Remark] = []
    if not math.isfinite(flow):
        remarks.append(
            Remark(
                "stop",
                f"At {curve.speed:.0f} 1/min the curve does not meet {name} within its flows.",
            )
        )
    at = flow if math.isfinite(flow) else float(curve.flow[curve.best])
    known = math.isfinite(flow)
    static, total, torque = (curve.at(at, c) for c in ("static", "total", "torque"))
    power = torque * 2 * math.pi * curve.speed / 60
    best = float(curve.flow[curve.best])
    if at < 0.4 * best:
        remarks.append(
            Remark(
                "range",
                f"The duty is at {100 * at / best:.0f} % of the flow of best efficiency; below 40 %"
                " the air turns back in the wheel and the model does not hold.",
            )
        )
    u2 = 2 * math.pi * curve.speed / 60 * w.outer / 2
    slip = wiesner_slip(w.outer_angle, w.blades, w.inner / w.outer)
    steps = (
        Step(
            "Tip speed",
            "u₂ = ω d₂ / 2",
            (("n", curve.speed, "1/min"), ("d₂", w.outer, "m")),
            u2,
            "m/s",
        ),
        Step(
            "Slip",
            "σ = 1 − √sin β₂ / Z^0.7",
            (("β₂", w.outer_angle, "rad"), ("Z", w.blades, "")),
            slip,
            "",
            "Wiesner 1967, eqs. 4 and 7",
        ),
        Step(
            "Less shock, friction, slowing, outlet",
            "p = ρ u₂ c_u2 − losses",
            (("Q", at, "m3/s"),),
            static,
            "Pa",
            "Conrad 1980; Darcy; Coppage 1956; Eck ch. X",
        ),
        Step(
            f"Meets {name}",
            f"p = k Q^{exponent:g}",
            (("k", resistance, "Pa s^n/m^3n"),),
            curve.at(at, column),
            "Pa",
        ),
    )
    step = 0.01 * curve.flow[-1]
    slope = abs(
        (curve.at(at + step, column) - curve.at(at - step, column)) / (2 * step)
    ) + resistance * exponent * at ** (exponent - 1)
    flow_doubt = (
        DOUBTS["pressure"] * max(curve.at(at, column), 0.3 * float(curve.static.max())) / slope / at
    )

    def model(v, unit, relative, working=()):
        return modelled(v, unit, "impeller", "the model of the wheel", relative, working)

    material = MATERIALS[values["material"]]
    stress = disc_stress(w.outer, values["speed"], material.density)
    limit = SpeedLimit(
        w.outer / 2, stress / (2 * math.pi * values["speed"] / 60) ** 2, material.along
    )
    figures = [
        Figure(
            "flow",
            "Flow at the duty",
            "volume_flow",
            model(at if known else math.nan, "m3/s", flow_doubt, steps),
            True,
        ),
        Figure(
            "pressure",
            "Static pressure there",
            "pressure",
            model(static if known else math.nan, "Pa", DOUBTS["pressure"], steps),
            True,
        ),
        Figure(
            "efficiency",
            "Static efficiency",
            "percent",
            model(
                100 * at * static / power if known else math.nan,
                "%",
                0.12,
                (
                    Step(
                        "Static efficiency",
                        "η = Q p / P",
                        (("Q", at, "m3/s"), ("p", static, "Pa"), ("P", power, "W")),
                        100 * at * static / power,
                        "%",
                        "ISO 5801:2017, 3",
                    ),
                ),
            ),
            True,
        ),
        Figure(
            "electrical",
            "Electrical power",
            "power",
            model(
                power / values["motor_efficiency"] * 100,
                "W",
                DOUBTS["torque"] + 0.05,
                (
                    Step(
                        "Shaft power",
                        "P = ρ u₂ c_u2 Q (1 + leak) + disc friction",
                        (("Q", at, "m3/s"), ("n", curve.speed, "1/min")),
                        power,
                        "W",
                        "Euler; Daily and Nece 1960",
                    ),
                    Step(
                        "Electrical power",
                        "P_el = P / η",
                        (("P", power, "W"), ("η", values["motor_efficiency"], "%")),
                        power / values["motor_efficiency"] * 100,
                        "W",
                    ),
                ),
            ),
            True,
        ),
        Figure("torque", "Torque", "torque", model(torque, "N m", DOUBTS["torque"])),
        Figure("shaft", "Shaft power", "power", model(power, "W", DOUBTS["torque"])),
        tone_figure(w.blades, curve.speed),
        sound_figure(at, total),
        Figure("tip_speed", "Tip speed", "air_speed", Quantity(u2, "m/s")),
        limit_figure(limit, material),
    ]
    remarks += limit_remarks(limit, values["speed"])
    if w.outer_angle > math.pi / 2:
        remarks.append(
            Remark(
                "care",
                "Blades that lean forward make more pressure and a curve that rises; the power"
                " grows with flow and can overload the motor.",
            )
        )

    def line(ys):
        return tuple(ys.tolist())

    taken = resistance * curve.flow**exponent - (
        curve.total - curve.static if column == "total" else 0.0
    )
    charts = [
        Chart(
            "curve",
            "Pressure over flow",
            ("volume_flow", "flow"),
            ("pressure", "static pressure"),
            (
                Line("wheel", line(curve.flow), line(curve.static)),
                Line(name, line(curve.flow), line(taken), dashed=True),
            ),
            points=((("duty", at, static),) if known else ()),
        ),
        Chart(
            "efficiency",
            "Static efficiency over flow",
            ("volume_flow", "flow"),
            ("percent", "efficiency"),
            (Line("efficiency", line(curve.flow), line(100 * curve.static_efficiency)),),
        ),
        Chart(
            "torque",
            "Torque over flow",
            ("volume_flow", "flow"),
            ("torque", "torque"),
            (Line("torque", line(curve.flow), line(curve.torque)),),
        ),
    ]
    return Answer(
        impeller_drawing(w),
        figures,
        charts,
        remarks,
        {
            "airflow": "flow",
            "static_pressure": "pressure",
            "electrical_power": "electrical",
            "shaft_power": "shaft",
        },
    )


TOOL = register(
    Tool(
        "impeller",
        "Centrifugal wheel",
        "What does this wheel give in its housing?",
        INPUTS,
        work,
        "Open or covered wheels with 4 to 60 blades, tips below 100 m/s, duties above 40 % of the"
        " flow of best efficiency. Pressure and power within 24 % (95 %); a printed volute recovers"
        " less than a smooth one.",
        cautions=(
            (
                "Spinning prints burst: guard, eye protection, stand out of the plane of rotation,"
                " remote throttle, start low."
            ),
            (
                "The speed limit is a rule of ours with bending allowed for, not computed; it"
                " certifies nothing."
            ),
        ),
        solid=solid,
        extent=extent,
        part="rotor",
        rig=True,
    )
)
