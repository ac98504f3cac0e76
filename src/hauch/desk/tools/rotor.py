"""The Desk's rotor tool: axial, ducted or free, one row or two."""

from __future__ import annotations

import json
import math
from functools import lru_cache
from typing import Any

import numpy as np

from hauch.core.geometry.desk_drawings import rotor_drawing
from hauch.core.predict import rotor as ducted
from hauch.core.predict.blading import STATIONS, Blading
from hauch.core.predict.drive import Gear, Motor, Reached, reached_speed
from hauch.core.predict.free_rotor import FreeRotor, free_rotor
from hauch.core.predict.model import AIR_DENSITY, CannotBe, modelled
from hauch.core.predict.rotor import RotorCurve, rotor_curve
from hauch.core.predict.section import MODEL_REYNOLDS
from hauch.core.predict.strength import MATERIALS, Spin, spin
from hauch.core.quantity import Quantity, Step
from hauch.desk.tools.base import (
    Answer,
    Chart,
    Figure,
    Line,
    Remark,
    Setting,
    Tool,
    Values,
    register,
)
from hauch.desk.tools.noise import sound_figure, tone_figure
from hauch.desk.tools.rotor_inputs import INPUTS, blading, extent, installed, solid
from hauch.desk.tools.spinning import limit_figure, limit_remarks


def system(values: Values, setting: Setting) -> tuple[float, float, str, str]:
    """Resistance, exponent, the pressure it takes and what it is called."""
    if setting.resistance:
        return setting.resistance, 2.0, "total", setting.rig
    return (
        values["system_pressure"] / values["system_flow"] ** values["exponent"],
        values["exponent"],
        "static",
        "the system",
    )


def duty(
    values: Values, setting: Setting, flows: int = 15, stations: int = STATIONS
) -> tuple[RotorCurve, float, Reached | None]:
    """The curve at the speed that is reached, and the flow at the duty."""
    resistance, exponent, column, _ = system(values, setting)
    curve = rotor_curve(installed(values), flows, stations)
    flow = curve.meets(resistance, exponent, column)
    if values["drive"] == "speed":
        return curve, flow, None
    at = flow if math.isfinite(flow) else float(curve.flow[curve.best])
    reached = reached_speed(
        Motor(values["stall_torque"], values["idle_speed"]),
        Gear(values["gear_ratio"], values["gear_efficiency"] / 100, values["friction"]),
        max(curve.at(at, "torque"), 1e-9),
        values["speed"],
    )
    if reached.starts:
        curve = rotor_curve(installed(values, reached.speed), flows, stations)
        flow = curve.meets(resistance, exponent, column)
    return curve, flow, reached


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
        full, _, reached = duty(values, setting, 9, 9)
        top = reached.speed if reached is not None and reached.starts else full.speed
        for share in THROTTLES:
            curve, flow, _ = duty({**values, "drive": "speed", "speed": top * share}, setting, 9, 9)
            if not math.isfinite(flow):
                return ()
            found.append(
                (
                    share,
                    curve.at(flow, "torque")
                    * 2
                    * math.pi
                    * curve.speed
                    / 60
                    / (values["motor_efficiency"] / 100),
                )
            )
    except CannotBe:
        return ()
    return tuple(found)


def work(values: Values, setting: Setting) -> Answer:
    """Ducted or free."""
    return _free(values) if values["placed"] == "free" else _ducted(values, setting)


def _ducted(values: Values, setting: Setting) -> Answer:
    row = blading(values)
    curve, flow, reached = duty(values, setting)
    resistance, exponent, column, name = system(values, setting)
    remarks: list[Remark] = []
    if reached is not None and not reached.starts:
        remarks.append(Remark("stop", reached.reason))
    found = math.isfinite(flow)
    if not found:
        remarks.append(
            Remark(
                "stop",
                f"At {curve.speed:.0f} 1/min the curve does not meet {name}: the rotor gives too"
                " little pressure for it.",
            )
        )
    at = flow if found else float(curve.flow[curve.best])
    stall = curve.at(at, "stalled")
    stations = _stalled(curve, at)
    doubt = (
        ducted.DOUBTS["pressure"] + (ducted.DOUBTS["stalled"] - ducted.DOUBTS["pressure"]) * stall
    )
    static, total, torque = (curve.at(at, c) for c in ("static", "total", "torque"))
    power = torque * 2 * math.pi * curve.speed / 60
    step = 0.01 * curve.flow[-1]
    slope = abs(
        (curve.at(at + step, column) - curve.at(at - step, column)) / (2 * step)
    ) + resistance * exponent * at ** (exponent - 1)
    flow_doubt = (
        doubt * max(abs(curve.at(at, column)), 0.3 * float(np.max(curve.static))) / slope / at
    )
    work_steps = _working(values, curve, at, resistance, exponent, column, name)

    def model(value, unit, what, relative, steps=()):
        return modelled(value, unit, f"rotor:{what}", "the blade-element model", relative, steps)

    figures = [
        Figure(
            "flow",
            "Flow at the duty",
            "volume_flow",
            model(at if found else math.nan, "m3/s", "flow", flow_doubt, work_steps),
            True,
        ),
        Figure(
            "pressure",
            "Static pressure there",
            "pressure",
            model(static if found else math.nan, "Pa", "pressure", doubt, work_steps),
            True,
        ),
        Figure(
            "efficiency",
            "Total efficiency",
            "percent",
            model(
                100 * at * total / power if power > 0 else math.nan,
                "%",
                "efficiency",
                doubt,
                (
                    Step(
                        "Total efficiency",
                        "η = Q Δp / P",
                        (("Q", at, "m3/s"), ("Δp", total, "Pa"), ("P", power, "W")),
                        100 * at * total / power if power > 0 else math.nan,
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
                power / (values["motor_efficiency"] / 100),
                "W",
                "torque",
                ducted.DOUBTS["torque"] + 0.08,
                (
                    Step(
                        "Electrical power",
                        "P_el = 2π n T / η",
                        (
                            ("n", curve.speed, "1/min"),
                            ("T", torque, "N m"),
                            ("η", values["motor_efficiency"], "%"),
                        ),
                        power / (values["motor_efficiency"] / 100),
                        "W",
                    ),
                ),
            ),
            True,
        ),
        Figure(
            "torque", "Torque", "torque", model(torque, "N m", "torque", ducted.DOUBTS["torque"])
        ),
        Figure(
            "shaft", "Shaft power", "power", model(power, "W", "torque", ducted.DOUBTS["torque"])
        ),
        Figure(
            "free",
            "Flow without resistance",
            "volume_flow",
            model(curve.free_flow, "m3/s", "flow", 0.07),
        ),
    ]
    if reached is not None:
        figures.append(
            Figure(
                "speed",
                "Speed reached",
                "rotational_speed",
                model(reached.speed, "1/min", "speed", 0.05),
            )
        )
    figures += _common(values, row, curve.speed, (at, total))
    remarks += _remarks(values, curve, at, stall, row)
    charts = [
        Chart(
            "curve",
            "Pressure over flow",
            ("volume_flow", "flow"),
            ("pressure", "static pressure"),
            (
                Line("fan", tuple(curve.flow.tolist()), tuple(curve.static.tolist())),
                Line(
                    name,
                    tuple(curve.flow.tolist()),
                    tuple((_taken(curve, resistance, exponent, column)).tolist()),
                    dashed=True,
                ),
            ),
            points=((("duty", at, static),) if found else ()),
        ),
        Chart(
            "efficiency",
            "Total efficiency over flow",
            ("volume_flow", "flow"),
            ("percent", "efficiency"),
            (
                Line(
                    "efficiency",
                    tuple(curve.flow.tolist()),
                    tuple((100 * curve.total_efficiency).tolist()),
                ),
            ),
        ),
        Chart(
            "torque",
            "Torque over flow",
            ("volume_flow", "flow"),
            ("torque", "torque"),
            (Line("torque", tuple(curve.flow.tolist()), tuple(curve.torque.tolist())),),
        ),
        _loading_chart(curve, at),
    ]
    return Answer(
        rotor_drawing(installed(values).rows, installed(values).bore, stations),
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


def _taken(curve: RotorCurve, resistance: float, exponent: float, column: str) -> Any:
    """The system's line in static pressure, whichever pressure it takes; cut where it leaves the
    picture of the curve.
    """
    taken = resistance * curve.flow**exponent
    taken = taken - (curve.total - curve.static) if column == "total" else taken
    return np.where(taken <= 1.25 * np.max(curve.static), taken, np.nan)


def _stalled(curve: RotorCurve, at: float) -> list[float]:
    """Shares of the span of the first row that stall at a flow."""
    row = curve.rows[0]
    nearest = int(np.abs(curve.flow - at).argmin())
    return [(k + 0.5) / len(row.radius) for k in np.flatnonzero(row.stalled[nearest])]


def _loading_chart(curve: RotorCurve, at: float) -> Chart:
    row = curve.rows[0]
    nearest = int(np.abs(curve.flow - at).argmin())
    off = row.stalled[nearest]
    points = tuple(
        ("stalled", float(r), float(np.radians(a)))
        for r, a, s in zip(row.radius, row.angle[nearest], off, strict=True)
        if s
    )
    return Chart(
        "loading",
        "Angle of attack along the radius",
        ("length", "radius"),
        ("angle", "angle of attack"),
        (
            Line(
                "at the duty",
                tuple(row.radius.tolist()),
                tuple(np.radians(row.angle[nearest]).tolist()),
            ),
            Line(
                "stall",
                tuple(row.radius.tolist()),
                tuple(np.radians(row.stall[nearest]).tolist()),
                dashed=True,
            ),
        ),
        points=points,
    )


def _working(
    values: Values,
    curve: RotorCurve,
    at: float,
    resistance: float,
    exponent: float,
    column: str,
    name: str,
) -> tuple[Step, ...]:
    """From the middle station to the duty."""
    row, nearest = curve.rows[0], int(np.abs(curve.flow - at).argmin())
    k = len(row.radius) // 2
    wheel = 2 * math.pi * curve.speed / 60 * float(row.radius[k])
    axial, swirl = float(row.axial[nearest, 0]), float(row.swirl[nearest, k])
    lift, drag, angle = (
        float(row.lift[nearest, k]),
        float(row.drag[nearest, k]),
        float(row.angle[nearest, k]),
    )
    return (
        Step("Axial speed in the annulus", "c = Q / A", (("Q", at, "m3/s"),), axial, "m/s"),
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
            (("s", values["gap"], "m"),),
            curve.at(at, "total"),
            "Pa",
            "Cumpsty ch. 8; Idelchik ch. 3; Borda-Carnot",
        ),
        Step(
            f"Meets {name}",
            f"p = k Q^{exponent:g}",
            (("k", resistance, "Pa s^n/m^3n"),),
            curve.at(at, column),
            "Pa",
            "largest flow at which both agree, the stable one",
        ),
    )


def _common(
    values: Values, row: Blading, speed: float, air: tuple[float, float] | None
) -> list[Figure]:
    """Tone, sound, strength: for ducted and free rotors alike."""
    if not speed:
        return []
    held = strength(values, row, speed)
    figures = [tone_figure(row.blades, speed)]
    if air:
        figures.append(sound_figure(*air))
    figures += [
        Figure("tip_speed", "Tip speed", "air_speed", Quantity(held.tip_speed, "m/s")),
        Figure(
            "stress",
            "Pull at the blade root, without bending",
            "stress",
            modelled(held.root, "Pa", "rotor:stress", "plain pull without bending", 0.2),
        ),
        limit_figure(held.limit, MATERIALS[values["material"]]),
    ]
    return figures


def strength(values: Values, row: Blading, speed: float) -> Spin:
    """Pull at a speed, and the speed limit."""
    return spin(row, speed, MATERIALS[values["material"]], values["wall"], values["layers"])


def _remarks(
    values: Values, curve: RotorCurve, at: float, stall: float, row: Blading
) -> list[Remark]:
    found = []
    if stall > 0.02:
        found.append(
            Remark(
                "care",
                f"{100 * stall:.0f} % of the span stalls at the duty: expect noise, and figures"
                " that are only a guide. Less pitch, more flow or more blades help.",
            )
        )
    if math.isfinite(curve.free_flow) and at < ducted.LEAST_TRUSTED_FLOW * curve.free_flow:
        found.append(
            Remark(
                "range",
                f"The duty is at {100 * at / curve.free_flow:.0f} % of the free flow. Below about"
                f" {100 * ducted.LEAST_TRUSTED_FLOW:.0f} % the flow turns back in such rotors;"
                " there the model does not hold.",
            )
        )
    return found + _print_remarks(values, row, curve.speed)


def _print_remarks(values: Values, row: Blading, speed: float) -> list[Remark]:
    found = []
    rows = row.stations(5)
    reynolds = AIR_DENSITY * 2 * math.pi * speed / 60 * rows.radius * rows.chord / 1.813e-5
    if reynolds.min() < MODEL_REYNOLDS[0]:
        found.append(
            Remark(
                "range",
                f"The Reynolds number falls to {reynolds.min():,.0f} at the hub; below"
                f" {MODEL_REYNOLDS[0]:,.0f} section figures scatter, in wind tunnels too.",
            )
        )
    if row.hides():
        found.append(
            Remark(
                "care",
                f"Up to {1000 * row.hides():.0f} mm diameter the blades cover one another along the"
                " axis: it prints only with supports.",
            )
        )
    if speed:
        found += limit_remarks(strength(values, row, speed).limit, speed)
    return found


def _free(values: Values) -> Answer:
    row = blading(values)
    speed = values["speed"]
    remarks: list[Remark] = []
    made: FreeRotor = free_rotor(row, speed, values["advance"])
    if values["drive"] == "motor":
        reached = reached_speed(
            Motor(values["stall_torque"], values["idle_speed"]),
            Gear(values["gear_ratio"], values["gear_efficiency"] / 100, values["friction"]),
            max(made.torque, 1e-9),
            speed,
        )
        if reached.starts:
            speed = reached.speed
            made = free_rotor(row, speed, values["advance"])
        else:
            remarks.append(Remark("stop", reached.reason))

    def model(value, unit, relative):
        return modelled(value, unit, "rotor:free", "blade-element momentum", relative)

    electrical = made.power / (values["motor_efficiency"] / 100)
    figures = [
        Figure(
            "flow", "Flow through the disc", "volume_flow", model(made.flow, "m3/s", 0.10), True
        ),
        Figure("thrust", "Thrust", "force", model(made.thrust, "N", 0.15), True),
        Figure(
            "merit", "Least power over its own", "percent", model(100 * made.merit, "%", 0.10), True
        ),
        Figure("electrical", "Electrical power", "power", model(electrical, "W", 0.15), True),
        Figure("shaft", "Shaft power", "power", model(made.power, "W", 0.10)),
        Figure("torque", "Torque", "torque", model(made.torque, "N m", 0.10)),
    ]
    if values["drive"] == "motor":
        figures.append(
            Figure("speed", "Speed reached", "rotational_speed", model(speed, "1/min", 0.05))
        )
    figures += _common(values, row, speed, None)
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
            )
        )
    remarks += _print_remarks(values, row, speed)
    speeds = [speed * k / 10 for k in range(4, 13)]
    sweep = [free_rotor(row, n, values["advance"]) for n in speeds]
    charts = [
        Chart(
            "thrust",
            "Thrust over speed",
            ("rotational_speed", "speed"),
            ("force", "thrust"),
            (Line("thrust", tuple(speeds), tuple(f.thrust for f in sweep)),),
            points=(("now", speed, made.thrust),),
        ),
        Chart(
            "loading",
            "Angle of attack along the radius",
            ("length", "radius"),
            ("angle", "angle of attack"),
            (Line("now", tuple(made.radius.tolist()), tuple(np.radians(made.angle).tolist())),),
        ),
        Chart(
            "induced",
            "Speed through the disc along the radius",
            ("length", "radius"),
            ("air_speed", "air speed"),
            (
                Line(
                    "induced",
                    tuple(made.radius.tolist()),
                    tuple((made.induced + values["advance"]).tolist()),
                ),
            ),
        ),
    ]
    return Answer(
        rotor_drawing((row,), row.tip * 1.08),
        figures,
        charts,
        remarks,
        {"electrical_power": "electrical", "shaft_power": "shaft", "airflow": "flow"},
    )


TOOL = register(
    Tool(
        "rotor",
        "Rotor",
        "What does this rotor give, and where does it stall?",
        INPUTS,
        work,
        "Axial rotors in a duct with tips below 100 m/s, sections above a Reynolds number of"
        " 20,000, duties above 45 % of the free flow; free rotors without walls nearby (thrust"
        " within 30 %, mostly too high). Pressure and torque within 20 % (95 %), more where"
        " stations stall. Comparisons between variants are surer than absolute figures.",
        cautions=(
            (
                "Spinning prints burst: guard, eye protection, stand out of the plane of rotation,"
                " remote throttle, start low. Never wear a spinning part."
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
        optimises=True,
    )
)
