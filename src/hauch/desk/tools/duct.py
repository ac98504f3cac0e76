"""The Desk's duct and splitter."""

from __future__ import annotations

import math
from dataclasses import dataclass
from typing import Any

from hauch.core.geometry.draw_ducts import duct_drawing
from hauch.core.predict.duct import (
    DOUBTS,
    Branch,
    Shared,
    Splitter,
    balancing_outlets,
    fed_by,
    share_flow,
    wall_mass,
)
from hauch.core.predict.model import CannotBe, modelled
from hauch.core.predict.source import FanSource
from hauch.core.quantity import Quantity, Step, exact
from hauch.core.quantity.show import show
from hauch.core.strength.material import MATERIALS
from hauch.desk.tools.base import (
    Answer,
    Chart,
    Figure,
    Input,
    Line,
    Remark,
    Rows,
    Setting,
    Tool,
    Values,
    register,
)

INPUTS = (
    Input("width", "Trunk: width", "length", 0.070, "Trunk", 0.002, 2),
    Input("height", "… height", "length", 0.040, "Trunk", 0.002, 2),
    Input("length", "… length", "length", 0.060, "Trunk", 0, 5),
    Input("wall", "Wall", "length", 0.0012, "Trunk", -0.01, 0.05),
    Input(
        "material",
        "Material",
        "choice",
        "petg",
        "Trunk",
        choices=tuple((m.key, m.label) for m in MATERIALS.values()),
    ),
    Input("fed", "Fed by", "choice", "fan", "Air", choices=(("fan", "a fan"), ("flow", "a flow"))),
    Input("flow", "Flow", "volume_flow", 0.02, "Air", 1e-6, 10, shown_with=("fed", ("flow",))),
    Input(
        "shut_off",
        "Fan: pressure without flow",
        "pressure",
        66.0,
        "Air",
        0.1,
        1e5,
        shown_with=("fed", ("fan",)),
    ),
    Input(
        "free_flow",
        "… and flow without resistance",
        "volume_flow",
        0.068,
        "Air",
        1e-5,
        10,
        shown_with=("fed", ("fan",)),
    ),
)
START = [
    {
        "name": "top",
        "width": 0.028,
        "height": 0.04,
        "length": 0.16,
        "bend": math.radians(35),
        "radius": 1.5,
        "split": math.radians(35),
        "outlet": 8e-4,
        "x": 0.09,
        "z": 0.25,
    },
    {
        "name": "middle",
        "width": 0.028,
        "height": 0.04,
        "length": 0.12,
        "bend": 0.0,
        "radius": 1.5,
        "split": 0.0,
        "outlet": 8e-4,
        "x": 0.0,
        "z": 0.25,
    },
    {
        "name": "bottom",
        "width": 0.028,
        "height": 0.04,
        "length": 0.22,
        "bend": math.radians(35),
        "radius": 1.0,
        "split": math.radians(35),
        "outlet": 8e-4,
        "x": -0.13,
        "z": 0.25,
    },
]
_TURN = "leaves at: the sharp turn out of the trunk; bend: what turns further along, never the same"
BRANCHES = Rows(
    "branches",
    "Outlets",
    (
        Input("name", "name", "text", "outlet", ""),
        Input("width", "width", "length", 0.028, "", 0.001, 1),
        Input("height", "height", "length", 0.04, "", 0.001, 1),
        Input("length", "length", "length", 0.12, "", 0.001, 5),
        Input("split", "leaves at", "angle", 0.0, "", 0, 1.6, note=_TURN),
        Input("bend", "bend", "angle", 0.0, "", 0, math.pi),
        Input("radius", "radius / width", "number", 1.5, "", 0, 20),
        Input("outlet", "outlet area", "area", 8e-4, "", 1e-6, 1),
        Input("x", "aim x", "length", 0.0, "", -10, 10),
        Input("z", "aim z", "length", 0.0, "", -10, 10),
    ),
    tuple(START),
    6,
    "Outlets",
)


def splitter(values: Values) -> Splitter:
    """The duct of the values."""
    branches = tuple(
        Branch(
            str(r["name"])[:20] or f"outlet {i}",
            r["width"],
            r["height"],
            r["length"],
            r["bend"],
            r["radius"],
            r["split"],
            r["outlet"],
            (r["x"], r["z"]),
        )
        for i, r in enumerate(values["branches"], 1)
    )
    if values["wall"] <= 0:
        raise CannotBe({"wall": f"The wall is {1000 * values['wall']:g} mm; it must be above 0."})
    return Splitter(values["width"], values["height"], values["length"], branches, values["wall"])


def solid(values: Values) -> Any:
    """The duct as a solid."""
    from hauch.core.geometry.solids import splitter_solid

    return splitter_solid(splitter(values))


def aim_misses(duct: Splitter) -> list[float]:
    """How far the line out of each outlet passes its aim point [m]; NaN where none was set or it
    lies behind the outlet.
    """
    from hauch.core.geometry.solids import branch_paths

    found = []
    for b, path in zip(duct.branches, branch_paths(duct), strict=True):
        x, z, at = path[-1]
        to = (b.aim[0] - x, b.aim[1] + duct.length - z)
        ahead = to[0] * math.sin(at) + to[1] * math.cos(at)
        found.append(
            abs(to[0] * math.cos(at) - to[1] * math.sin(at))
            if b.aim != (0.0, 0.0) and ahead > 0
            else math.nan
        )
    return found


def extent(values: Values) -> dict[str, float]:
    """Sizes that an envelope speaks of [m], of the part as the generator makes it."""
    size = solid(values).extents
    return {
        "width": float(size[0]),
        "height": float(size[1]),
        "length": float(size[2]),
        "wall": values["wall"],
    }


@dataclass(frozen=True)
class _Model:
    """The duct with what flows through it."""

    values: Values
    duct: Splitter
    fan: FanSource
    shared: Shared
    balancing: list[float]

    @property
    def fed_by_fan(self) -> bool:
        """Whether a fan feeds it, or a stated flow."""
        return bool(self.values["fed"] == "fan")


def work(values: Values, setting: Setting) -> Answer:
    """Flows, balance, weight."""
    duct = splitter(values)
    fan = FanSource(values["shut_off"], values["free_flow"])
    shared = fed_by(duct, fan) if values["fed"] == "fan" else share_flow(duct, values["flow"])
    balancing = balancing_outlets(duct, shared.total) if len(duct.branches) > 1 else []
    model = _Model(values, duct, fan, shared, list(balancing))
    return Answer(
        duct_drawing(duct, shared),
        _figures(model),
        _charts(model),
        _remarks(model),
        {"imbalance": "imbalance", "airflow": "total"},
    )


def _figures(model: _Model) -> list[Figure]:
    duct, shared = model.duct, model.shared
    steps = tuple(
        Step(
            f"Resistance of {b.name}",
            "R = ρ/2 (Σ K / A² + (1 + ζ) / A_o²)",
            (("A", b.area, "m2"), ("A_o", b.outlet, "m2"), ("Q", q, "m3/s")),
            b.resistance(q, duct.area, total=shared.total),
            "Pa s2/m6",
            "fluids: Churchill, Rennels; Idelchik ch. 7",
        )
        for b, q in zip(duct.branches, shared.flows, strict=True)
    )

    def of_losses(value: float, unit: str, relative: float, absolute: float = 0.0) -> Quantity:
        why = "losses of bends, wye and outlets"
        return modelled(value, unit, "duct", why, relative, steps, absolute)

    doubt = DOUBTS["flow"] if model.fed_by_fan else 0.0
    differ = of_losses(100 * shared.imbalance, "%", 0.0, 100 * DOUBTS["share"] * math.sqrt(2))
    before = of_losses(shared.pressure, "Pa", 0.15)
    static = of_losses(shared.static, "Pa", 0.0, 0.15 * shared.pressure)
    figures = [
        Figure("total", "Total flow", "volume_flow", of_losses(shared.total, "m3/s", doubt), True),
        Figure("imbalance", "Imbalance of the outlets", "percent", differ, True),
        Figure("pressure", "Total pressure before the duct", "pressure", before, True),
        Figure("static", "Static pressure there, as a tap reads it", "pressure", static),
        Figure("mass", "Weight of the walls", "mass", _mass(model), True),
    ]
    for i, (b, q, v) in enumerate(zip(duct.branches, shared.flows, shared.speeds, strict=True)):
        flow = of_losses(q, "m3/s", DOUBTS["flow"])
        speed = of_losses(v, "m/s", DOUBTS["flow"])
        figures += [
            Figure(f"flow_{i}", f"Flow of {b.name}", "volume_flow", flow),
            Figure(f"speed_{i}", f"Speed at {b.name}", "air_speed", speed),
        ]
    for i, (b, miss) in enumerate(zip(duct.branches, aim_misses(duct), strict=True)):
        if math.isfinite(miss):
            said = f"{b.name.capitalize()} misses its aim by"
            figures.append(Figure(f"miss_{i}", said, "length", exact(miss, "m")))
    for i, area in enumerate(model.balancing):
        said = f"Outlet of {duct.branches[i].name} that would balance"
        figures.append(Figure(f"area_{i}", said, "area", exact(area, "m2")))
    return figures


def _mass(model: _Model) -> Quantity:
    """Weight of the walls [kg]."""
    density = MATERIALS[model.values["material"]].density
    mass = wall_mass(model.duct, density)
    step = Step(
        "Walls",
        "Σ ((w + 2 t)(h + 2 t) − w h) l ρ",
        (("t", model.duct.wall, "m"), ("ρ", density, "kg/m3")),
        mass,
        "kg",
    )
    return modelled(mass, "kg", "duct:mass", "flanges and overlaps are not counted", 0.1, (step,))


def _charts(model: _Model) -> list[Chart]:
    duct, shared, fan = model.duct, model.shared, model.fan
    grid = tuple(shared.total * k / 10 for k in range(1, 17))
    lines = [Line("duct", grid, tuple(share_flow(duct, q).static for q in grid))]
    if model.fed_by_fan:
        lines.append(Line("fan", grid, tuple(max(fan.pressure(q), 0) for q in grid), dashed=True))
    return [
        Chart(
            "shares",
            "Flow of each outlet",
            ("number", ""),
            ("volume_flow", "flow"),
            (),
            bars=tuple((b.name, q) for b, q in zip(duct.branches, shared.flows, strict=True)),
        ),
        Chart(
            "loss",
            "Static pressure before the duct over flow",
            ("volume_flow", "flow"),
            ("pressure", "static pressure"),
            tuple(lines),
            points=(("now", shared.total, shared.static),),
        ),
    ]


def _of_outlets(duct: Splitter) -> list[str]:
    """Keys of the figures of each outlet."""
    return [f"{what}_{i}" for i in range(len(duct.branches)) for what in ("flow", "speed", "area")]


def _remarks(model: _Model) -> list[Remark]:
    duct, shared = model.duct, model.shared
    remarks = []
    slowest = min(
        q / b.area * b.hydraulic for q, b in zip(shared.flows, duct.branches, strict=True)
    )
    reynolds = slowest / 1.5e-5
    if reynolds < 4000:
        remarks.append(
            Remark(
                "range",
                f"The Reynolds number falls to {reynolds:,.0f} in a branch: below 4,000 losses of"
                " bends and wyes are not well known, and small differences in the print shift the"
                " balance.",
                ("total", "imbalance", "pressure", "static", *_of_outlets(duct)),
            )
        )
    for b in duct.branches:
        ratio = b.outlet / b.area
        if ratio > 1.6:
            remarks.append(
                Remark(
                    "care",
                    f"{b.name}: the outlet is {ratio:.1f} times the branch; so short a widening"
                    " separates and the air leaves on one side.",
                )
            )
    if model.balancing and shared.imbalance > 2 * DOUBTS["share"]:
        narrowed = ", ".join(
            f"{b.name} to {show(area, 'area')}"
            for b, area in zip(duct.branches, model.balancing, strict=True)
            if area < b.outlet * 0.995
        )
        remarks.append(
            Remark(
                "care",
                f"The outlets differ by {100 * shared.imbalance:.0f} %. Narrow {narrowed} and"
                " they agree.",
            )
        )
    return remarks


TOOL = register(
    Tool(
        "duct",
        "Duct and splitter",
        "What leaves where, and which outlets would balance it?",
        INPUTS,
        work,
        "Rectangular passages with Reynolds numbers above 4,000, bends with a radius of at least"
        " half the width, one splitting point. Flow of an outlet within 16 %, share within 10 %"
        " (95 %).",
        rows=(BRANCHES,),
        solid=solid,
        extent=extent,
        part="duct",
    )
)
