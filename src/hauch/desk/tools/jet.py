"""The Desk's slit on compressed air."""

from __future__ import annotations

import math
from dataclasses import dataclass, replace

from hauch.core.geometry.draw_ducts import slit_drawing
from hauch.core.predict.model import cause
from hauch.core.predict.slit import CRITICAL, HAND_LIMIT, Blown, Slit, blow, drain_time
from hauch.core.predict.spread import spread
from hauch.core.quantity import Quantity, exact, measured
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

INPUTS = (
    Input("gap", "Gap", "length", 0.00004, "Slit", 1e-7, 0.1),
    Input("gap_doubt", "Gap tolerance (standard deviation)", "length", 0.00001, "Slit", 0, 0.01),
    Input("length", "Length", "length", 0.300, "Slit", 0.0005, 10),
    Input("discharge", "Discharge coefficient", "number", 0.8, "Slit", 0, 2),
    Input(
        "land",
        "Land along the flow",
        "length",
        0.0,
        "Slit",
        0,
        0.1,
        note="0: the coefficient counts it; else the coefficient is that of the entrance, near 0.95",
    ),
    Input(
        "gauge", "Pressure at the slit, above the room", "supply_pressure", 3e5, "Air", -1e5, 2e6
    ),
    Input("temperature", "Air temperature", "temperature", 20.0, "Air", -20, 100),
    Input("tank", "Tank", "volume", 0.024, "Tank", 0, 10),
    Input("tank_pressure", "… filled to", "supply_pressure", 8e5, "Tank", 0, 3e7),
)


@dataclass(frozen=True)
class _Model:
    """The slit, what it blows now, and how long a tank lasts."""

    values: Values
    slit: Slit
    now: Blown

    def drain(self, slit: Slit) -> float:
        """Time until the tank falls to the pressure at the slit [s]; NaN without a tank."""
        values = self.values
        if not values["tank"]:
            return math.nan
        return drain_time(slit, values["tank"], values["tank_pressure"], values["gauge"])

    @property
    def scatter(self) -> float:
        """The gap's tolerance [%]."""
        return float(100 * self.values["gap_doubt"] / self.values["gap"])


def work(values: Values, setting: Setting) -> Answer:
    """What the slit blows, with the gap's tolerance in it."""
    kelvin = values["temperature"] + 273.15
    slit = Slit(
        values["gap"],
        values["length"],
        values["gauge"],
        kelvin,
        values["discharge"],
        land=values["land"],
    )
    model = _Model(values, slit, blow(slit))
    return Answer(slit_drawing(slit), _figures(model), _charts(model), _remarks(model))


def _made(model: _Model) -> dict[str, Quantity]:
    """Mass flow, free air and thrust with the doubt of gap and discharge."""
    slit = model.slit

    def blown(gap: float, discharge: float) -> dict[str, float]:
        other = replace(slit, gap=max(gap, 1e-9), discharge=min(max(discharge, 0.4), 1.0))
        made = blow(other)
        return {
            "mass": made.mass_flow,
            "free": made.free_air,
            "thrust": made.thrust,
            "drain": model.drain(other),
        }

    tolerance = cause("slit:gap", "tolerance of the gap")
    coefficient = cause("slit:cd", "discharge coefficient")
    inputs = {
        "gap": measured(slit.gap, "m", [(tolerance, model.values["gap_doubt"])]),
        "discharge": measured(slit.discharge, "", [(coefficient, 0.06)]),
    }
    formula = (
        "ṁ = C A p₀ √(γ/(R T)) (2/(γ+1))^((γ+1)/(2(γ−1)))"
        if model.now.choked
        else "ṁ = C A p₀ √(2γ/((γ−1) R T) (r^(2/γ) − r^((γ+1)/γ)))"
    )
    wanted = {
        "mass": ("kg/s", "Mass flow", formula, "Shapiro 1953, ch. 4; ISO 9300"),
        "free": ("m3/s", "Free air", "Q = ṁ R T_n / p_n", "ISO 1217, 20 °C and 1 bar"),
        "thrust": ("N", "Thrust", "F = ṁ v + (p_e − p) A C", "momentum"),
        "drain": (
            "s",
            "Tank lasts",
            "t = (p₁ − p₂) V / (R T ṁ)",
            "ideal gas at the room's temperature",
        ),
    }
    return spread(blown, inputs, wanted)


def _figures(model: _Model) -> list[Figure]:
    now, made = model.now, _made(model)
    cold = exact(now.temperature - 273.15, "degC")
    return [
        Figure("mass", "Mass flow", "mass_flow", made["mass"], True),
        Figure("free", "Free air", "volume_flow", made["free"], True),
        Figure("thrust", "Thrust", "force", made["thrust"], True),
        Figure(
            "drain",
            "Tank lasts",
            "duration" if made["drain"].value > 180 else "time",
            made["drain"],
            True,
        ),
        Figure("speed", "Speed at the slit", "air_speed", exact(now.speed, "m/s")),
        Figure("temperature", "Temperature of the jet", "temperature", cold),
        Figure(
            "per_gap",
            "Flow changes for a gap wider by its tolerance",
            "percent",
            exact(model.scatter, "%"),
        ),
    ]


def _remarks(model: _Model) -> list[Remark]:
    slit = model.slit
    choked = (
        "choked: the air leaves at the speed of sound, and only more pressure or area gives more"
        if model.now.choked
        else "not choked"
    )
    remarks = [
        Remark(
            "note",
            f"The slit is {choked} (room over supply"
            f" {slit.ambient / (slit.ambient + slit.gauge):.2f}, limit {CRITICAL:.3f}).",
        )
    ]
    if model.scatter > 15:
        remarks.append(
            Remark(
                "care",
                f"A gap that scatters by {model.scatter:.0f} % makes the flow scatter by as much,"
                " also along the slit. Print it wider and set it with a shim of known thickness.",
            )
        )
    if slit.gauge > HAND_LIMIT:
        remarks.append(
            Remark(
                "stop",
                f"Above {HAND_LIMIT / 1e5:g} bar the jet injures at close range. Take less"
                " pressure, or shut the slit off from hands and eyes.",
            )
        )
    if slit.gauge == 0:
        remarks.append(Remark("note", "Without pressure nothing flows."))
    return remarks


def _charts(model: _Model) -> list[Chart]:
    slit, now = model.slit, model.now
    pressures = [slit.gauge * k / 20 if slit.gauge > 0 else 1e4 * k for k in range(0, 31)]
    pressures = [p for p in pressures if p <= 10e5]
    gaps = [slit.gap * (0.4 + 0.08 * k) for k in range(16)]

    def line(xs: list[float], changed: str) -> Line:
        flows = tuple(blow(replace(slit, **{changed: x})).mass_flow for x in xs)
        return Line("slit", tuple(xs), flows)

    return [
        Chart(
            "pressure",
            "Mass flow over pressure",
            ("supply_pressure", "pressure above the room"),
            ("mass_flow", "mass flow"),
            (line(pressures, "gauge"),),
            points=(("now", slit.gauge, now.mass_flow),),
            marks=(("choked from here", slit.ambient / CRITICAL - slit.ambient),),
        ),
        Chart(
            "gap",
            "Mass flow over gap",
            ("length", "gap"),
            ("mass_flow", "mass flow"),
            (line(gaps, "gap"),),
            points=(("now", slit.gap, now.mass_flow),),
        ),
    ]


TOOL = register(
    Tool(
        "jet",
        "Compressed-air slit",
        "How much air does the slit take, is it choked, and how exact must the gap be?",
        INPUTS,
        work,
        "Dry air, gaps far above a hundredth of a millimetre, up to 10 bar. The uncertainty is that of the"
        " gap and of the discharge coefficient.",
        cautions=(
            (
                "Compressed air: never at skin or eyes, low nozzle pressure, relief valve and"
                " guard. Printed parts are no pressure vessels: keep the volume behind the slit"
                " small and shielded."
            ),
            "Noise above 85 dB(A): hearing protection, exposure time.",
        ),
    )
)
