"""The Desk's air cushion."""

from __future__ import annotations

import math

from hauch.core.geometry.desk_drawings import cushion_drawing
from hauch.core.predict.cushion import DOUBT, Cushion, gap_at_power, jet_hover, plenum_hover
from hauch.core.predict.model import modelled
from hauch.core.quantity import Step, exact
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
    Input("mass", "Mass carried", "mass", 1.2, "Cushion", 0.0001, 5000),
    Input("area", "Area", "area", 0.09, "Cushion", 1e-5, 50),
    Input("perimeter", "Perimeter", "length", 1.2, "Cushion", 0.01, 100),
    Input("power", "Electrical power", "power", 8.0, "Cushion", 0.01, 1e5),
    Input("efficiency", "Efficiency of fan and motor", "percent", 30.0, "Cushion", 0, 100),
    Input(
        "form",
        "Form",
        "choice",
        "jet",
        "Peripheral jet",
        choices=(("plenum", "open plenum"), ("jet", "peripheral jet")),
    ),
    Input("nozzle", "Nozzle width", "length", 0.003, "Peripheral jet", 0.00001, 0.2),
    Input("inward", "Leans inwards", "angle", math.radians(45), "Peripheral jet", -0.5, 1.6),
)


def work(values: Values, setting: Setting) -> Answer:
    """Gap at the power, for both forms."""
    c = Cushion(values["mass"], values["area"], values["perimeter"], values["efficiency"] / 100)
    t, lean = values["nozzle"], values["inward"]
    open_gap, jet_gap = gap_at_power(c, values["power"]), gap_at_power(c, values["power"], t, lean)
    jet = values["form"] == "jet"
    gap = jet_gap if jet else open_gap
    now = jet_hover(c, gap, t, lean) if jet else plenum_hover(c, gap)
    pressure = Step(
        "Cushion pressure",
        "p = m g / A",
        (("m", c.mass, "kg"), ("A", c.area, "m2")),
        c.pressure,
        "Pa",
        "equilibrium",
    )
    open_step = Step(
        "Gap of the open plenum",
        "P η = C h L p √(2 p / ρ)",
        (("P", values["power"], "W"), ("η", values["efficiency"], "%")),
        open_gap,
        "m",
        "Mantle 1980, ch. 3; C = 0.6",
    )
    jet_step = Step(
        "Gap of the peripheral jet",
        "p_c / P_j = 1 − exp(−2 (t/h)(1 + sin θ))",
        (("t", t, "m"), ("θ", lean, "rad")),
        jet_gap,
        "m",
        "exponential theory, Stanton-Jones 1959",
    )

    def told(v, steps):
        return modelled(v, "m", "cushion", "the cushion model", DOUBT, steps)

    figures = [
        Figure(
            "gap",
            "Gap of the chosen form",
            "length",
            told(gap, (pressure, jet_step if jet else open_step)),
            True,
        ),
        Figure(
            "other",
            f"Gap as {'open plenum' if jet else 'peripheral jet'}",
            "length",
            told(open_gap if jet else jet_gap, (pressure, open_step if jet else jet_step)),
            True,
        ),
        Figure(
            "cushion",
            "Cushion pressure",
            "pressure",
            exact(c.pressure, "Pa").with_step(pressure),
            True,
        ),
        Figure(
            "flow",
            "Flow needed",
            "volume_flow",
            modelled(now.flow, "m3/s", "cushion", "the cushion model", DOUBT, (pressure,)),
            True,
        ),
        Figure(
            "supply",
            "Pressure from the fan",
            "pressure",
            modelled(now.supply, "Pa", "cushion", "the cushion model", DOUBT / 2),
        ),
    ]
    remarks = [
        Remark(
            "note",
            f"At {values['power']:g} W the"
            f" {'peripheral jet' if jet_gap > open_gap else 'open plenum'} hovers"
            f" {100 * abs(jet_gap / open_gap - 1):.0f} % higher.",
        )
    ]
    if jet and t > gap:
        remarks.append(
            Remark(
                "range",
                f"The nozzle ({1000 * t:.2f} mm) is wider than the gap ({1000 * gap:.2f} mm); the"
                " theory is made for jets that are thin against the gap.",
            )
        )
    if gap < 0.0003:
        remarks.append(
            Remark(
                "care",
                f"A gap of {1000 * gap:.2f} mm is no more than a print is flat; it will rub."
                " Lighten it, widen it or feed it more.",
            )
        )
    if gap > 0.1 * math.sqrt(c.area):
        remarks.append(
            Remark(
                "range",
                "The gap is more than a tenth of the cushion's width; the pressure under it is no"
                " longer even.",
            )
        )
    gaps = [gap * (0.2 + 0.1 * k) for k in range(19)]
    charts = [
        Chart(
            "power",
            "Electrical power over gap",
            ("length", "gap"),
            ("power", "power"),
            (
                Line(
                    "open plenum",
                    tuple(gaps),
                    tuple(plenum_hover(c, h).power for h in gaps),
                    dashed=True,
                ),
                Line(
                    "peripheral jet",
                    tuple(gaps),
                    tuple(jet_hover(c, h, t, lean).power for h in gaps),
                ),
            ),
            points=(("now", gap, now.power),),
        )
    ]
    return Answer(
        cushion_drawing(c, gap, t, lean, jet), figures, charts, remarks, {"hover_gap": "gap"}
    )


TOOL = register(
    Tool(
        "cushion",
        "Air cushion",
        "How high does it hover: as an open plenum or with a peripheral jet?",
        INPUTS,
        work,
        "Rigid edges over a flat floor, gaps up to a tenth of the width, jets thinner than the gap."
        " Gap within 24 % (95 %).",
        cautions=(
            (
                "A cushion slips away without friction: keep it on a line, keep fingers from under"
                " its edge, guard its fan."
            ),
        ),
    )
)
