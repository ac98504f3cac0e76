"""The Desk's air cushion."""

from __future__ import annotations

import math
from dataclasses import dataclass

from hauch.core.geometry.draw_ducts import cushion_drawing
from hauch.core.predict.cushion import DOUBT, Cushion, Hover, gap_at_power, jet_hover, plenum_hover
from hauch.core.predict.model import modelled
from hauch.core.quantity import Quantity, Step, exact
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

MODELLED = ("gap", "other", "flow", "supply")
"""Figures of the cushion model."""


@dataclass(frozen=True)
class _Model:
    """The cushion at the power, in both forms: gaps [m] and what the chosen one needs."""

    values: Values
    cushion: Cushion
    open_gap: float
    jet_gap: float
    now: Hover

    @property
    def jet(self) -> bool:
        """Whether the peripheral jet was chosen."""
        return bool(self.values["form"] == "jet")

    @property
    def gap(self) -> float:
        """Gap of the chosen form [m]."""
        return self.jet_gap if self.jet else self.open_gap


def work(values: Values, setting: Setting) -> Answer:
    """Gap at the power, for both forms."""
    c = Cushion(values["mass"], values["area"], values["perimeter"], values["efficiency"] / 100)
    t, lean = values["nozzle"], values["inward"]
    open_gap, jet_gap = gap_at_power(c, values["power"]), gap_at_power(c, values["power"], t, lean)
    now = jet_hover(c, jet_gap, t, lean) if values["form"] == "jet" else plenum_hover(c, open_gap)
    model = _Model(values, c, open_gap, jet_gap, now)
    return Answer(
        cushion_drawing(c, model.gap, t, lean, model.jet),
        _figures(model),
        [_chart(model)],
        _remarks(model),
        {"hover_gap": "gap"},
    )


def _figures(model: _Model) -> list[Figure]:
    values, c = model.values, model.cushion
    pressure = Step(
        "Cushion pressure",
        "p = m g / A",
        (("m", c.mass, "kg"), ("A", c.area, "m2")),
        c.pressure,
        "Pa",
        "equilibrium",
    )
    of_open = Step(
        "Gap of the open plenum",
        "P η = C h L p √(2 p / ρ)",
        (("P", values["power"], "W"), ("η", values["efficiency"], "%")),
        model.open_gap,
        "m",
        "Mantle 1980, ch. 3; C = 0.6",
    )
    of_jet = Step(
        "Gap of the peripheral jet",
        "p_c / P_j = 1 − exp(−2 (t/h)(1 + sin θ)), fan P_j / (1 − 0.28 sin θ)",
        (("t", values["nozzle"], "m"), ("θ", values["inward"], "rad")),
        model.jet_gap,
        "m",
        "exponential theory, Stanton-Jones 1959, with what computed jets lose",
    )

    def hovering(value: float, unit: str, *steps: Step, doubt: float = DOUBT) -> Quantity:
        return modelled(value, unit, "cushion", "the cushion model", doubt, steps)

    chosen, other = (of_jet, of_open) if model.jet else (of_open, of_jet)
    other_gap = model.open_gap if model.jet else model.jet_gap
    said = f"Gap as {'open plenum' if model.jet else 'peripheral jet'}"
    flow = hovering(model.now.flow, "m3/s", pressure)
    supply = hovering(model.now.supply, "Pa", doubt=DOUBT if model.jet else DOUBT / 2)
    return [
        Figure(
            "gap",
            "Gap of the chosen form",
            "length",
            hovering(model.gap, "m", pressure, chosen),
            True,
        ),
        Figure("other", said, "length", hovering(other_gap, "m", pressure, other), True),
        Figure(
            "cushion",
            "Cushion pressure",
            "pressure",
            exact(c.pressure, "Pa").with_step(pressure),
            True,
        ),
        Figure("flow", "Flow needed", "volume_flow", flow, True),
        Figure("supply", "Pressure from the fan", "pressure", supply),
    ]


def _remarks(model: _Model) -> list[Remark]:
    values, gap, t = model.values, model.gap, model.values["nozzle"]
    higher = "peripheral jet" if model.jet_gap > model.open_gap else "open plenum"
    remarks = [
        Remark(
            "note",
            f"At {values['power']:g} W the {higher} hovers"
            f" {100 * abs(model.jet_gap / model.open_gap - 1):.0f} % higher.",
        )
    ]
    if model.jet and t > gap:
        remarks.append(
            Remark(
                "range",
                f"The nozzle ({1000 * t:.2f} mm) is wider than the gap ({1000 * gap:.2f} mm); the"
                " theory is made for jets that are thin against the gap.",
                MODELLED,
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
    if gap > 0.1 * math.sqrt(model.cushion.area):
        remarks.append(
            Remark(
                "range",
                "The gap is more than a tenth of the cushion's width; the pressure under it is no"
                " longer even.",
                MODELLED,
            )
        )
    return remarks


def _chart(model: _Model) -> Chart:
    c, t, lean = model.cushion, model.values["nozzle"], model.values["inward"]
    gaps = tuple(model.gap * (0.2 + 0.1 * k) for k in range(19))
    of_open = tuple(plenum_hover(c, h).power for h in gaps)
    of_jet = tuple(jet_hover(c, h, t, lean).power for h in gaps)
    return Chart(
        "power",
        "Electrical power over gap",
        ("length", "gap"),
        ("power", "power"),
        (
            Line("open plenum", gaps, of_open, dashed=True),
            Line("peripheral jet", gaps, of_jet),
        ),
        points=(("now", model.gap, model.now.power),),
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
