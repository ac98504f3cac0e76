"""The Desk's intake: a chain of elements."""

from __future__ import annotations

import math
from dataclasses import dataclass
from typing import Any

from hauch.core.geometry.draw_ducts import intake_drawing
from hauch.core.predict.intake import (
    DOUBT,
    KINDS,
    STEEP,
    Element,
    Loss,
    chain_losses,
    choke_places,
    free_area,
    outgoing_head,
    steep_places,
)
from hauch.core.predict.model import AIR_DENSITY, modelled
from hauch.core.quantity import Quantity, Step, exact
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
    Input("flow", "Flow", "volume_flow", 0.03, "Air", 1e-6, 10),
    Input(
        "stock_sensor",
        "Stock part: diameter at the flow sensor",
        "length",
        0.060,
        "Stock part",
        0.002,
        1,
    ),
    Input("stock_loss", "… and its loss at this flow", "pressure", 60.0, "Stock part", 0, 1e5),
    Input("lip", "Generator, bell mouth: lip", "length", 0.012, "Generator", 0.001, 0.2),
    Input("wall", "… wall", "length", 0.0016, "Generator", -0.01, 0.02),
)
_EXTRA = "screen, grid: free area %; bell mouth: lip mm; filter: Pa at 1 m/s; bend: degrees"
ELEMENTS = Rows(
    "elements",
    "Elements, from the inlet on",
    (
        Input(
            "kind",
            "element",
            "choice",
            "straight",
            "",
            choices=tuple((k.key, k.label) for k in KINDS.values()),
        ),
        Input("diameter", "ends at ø", "length", 0.06, "", 0.001, 2),
        Input("length", "length", "length", 0.05, "", 0, 5),
        Input("extra", "and", "number", 0.0, "", 0, 1e4, note=_EXTRA),
    ),
    (
        {"kind": "screen", "diameter": 0.09, "length": 0.002, "extra": 65.0},
        {"kind": "bell", "diameter": 0.07, "length": 0.02, "extra": 12.0},
        {"kind": "bend", "diameter": 0.07, "length": 0.11, "extra": 60.0},
        {"kind": "change", "diameter": 0.055, "length": 0.05, "extra": 0.0},
        {"kind": "sensor", "diameter": 0.055, "length": 0.03, "extra": 0.0},
        {"kind": "change", "diameter": 0.07, "length": 0.04, "extra": 0.0},
    ),
    10,
    "Elements",
)


def chain(values: Values) -> list[Element]:
    """The elements, their extra figure in SI."""
    scale = {"screen": 0.01, "grid": 0.01, "bell": 0.001, "bend": math.pi / 180}
    return [
        Element(r["kind"], r["diameter"], r["length"], r["extra"] * scale.get(r["kind"], 1.0))
        for r in values["elements"]
    ]


def solid(values: Values) -> Any:
    """The bell mouth of the intake: the first one in the chain, or one on its first diameter."""
    from hauch.core.geometry.solids import bell_mouth_solid

    elements = chain(values)
    at = next((e for e in elements if e.kind == "bell"), elements[0])
    return bell_mouth_solid(
        at.diameter,
        at.extra if at.kind == "bell" and at.extra else values["lip"],
        max(at.length, 0.005),
        values["wall"],
    )


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
    """The chain of elements with the loss of each at the flow."""

    values: Values
    elements: list[Element]
    losses: list[Loss]

    @property
    def total(self) -> float:
        """Loss of the intake [Pa]."""
        return sum(x.loss for x in self.losses)

    @property
    def head(self) -> float:
        """Velocity head of the air that leaves [Pa]."""
        return outgoing_head(self.elements, self.values["flow"])

    @property
    def sensor(self) -> Loss | None:
        """Where the flow sensor sits."""
        return next((x for x in self.losses if x.element.kind == "sensor"), None)

    @property
    def sensor_change(self) -> float:
        """Speed at the sensor against the stock part [%]."""
        stock = self.values["flow"] / (math.pi / 4 * self.values["stock_sensor"] ** 2)
        return 100 * (self.sensor.speed / stock - 1) if self.sensor else math.nan


def work(values: Values, setting: Setting) -> Answer:
    """Loss by element, area along the path, sensor section against stock."""
    elements = chain(values)
    model = _Model(values, elements, chain_losses(elements, values["flow"]))
    return Answer(
        intake_drawing(elements),
        _figures(model),
        _charts(model),
        _remarks(model),
        {"effective_area": "area"},
    )


def _figures(model: _Model) -> list[Figure]:
    values, losses, total = model.values, model.losses, model.total
    steps = tuple(
        Step(
            f"{n} {KINDS[x.element.kind].label}",
            "Δp = K ρ/2 v²",
            (("ø", x.element.diameter, "m"), ("v", x.speed, "m/s")),
            x.loss,
            "Pa",
            "Idelchik; Crane TP 410; Rennels; Blevins",
        )
        for n, x in enumerate(losses, 1)
    )

    def of_losses(
        value: float,
        unit: str,
        doubt: float = DOUBT,
        working: tuple[Step, ...] = steps,
        absolute: float = 0.0,
    ) -> Quantity:
        why = "losses of the elements, each on its own"
        return modelled(value, unit, "intake", why, doubt, working, absolute)

    worst = max(range(len(losses)), key=lambda i: losses[i].loss)
    head = model.head
    area = values["flow"] / math.sqrt(2 * (total + head) / AIR_DENSITY)
    area_step = Step(
        "Effective area, as a flow bench reads it",
        "A = Q / √(2 (Δp + ρ/2 v²) / ρ)",
        (("Q", values["flow"], "m3/s"), ("Δp", total, "Pa"), ("head at the end", head, "Pa")),
        area,
        "m2",
    )
    if values["stock_loss"]:
        share = total / values["stock_loss"]
        against = of_losses(100 * (share - 1), "%", 0.0, absolute=100 * DOUBT * share)
        said = "Loss against the stock part"
    else:
        against, said = exact(math.nan, "%"), "Against the stock part"
    figures = [
        Figure("loss", "Loss of the intake", "pressure", of_losses(total, "Pa"), True),
        Figure("against", said, "percent", against, True),
        Figure(
            "area",
            "Effective area",
            "area",
            of_losses(area, "m2", DOUBT / 2 * total / (total + head), (area_step,)),
            True,
        ),
        Figure(
            "worst",
            f"Most in element {worst + 1}, {KINDS[losses[worst].element.kind].label.lower()}",
            "pressure",
            of_losses(losses[worst].loss, "Pa"),
            True,
        ),
        Figure(
            "end",
            "Speed at the end",
            "air_speed",
            exact(values["flow"] / model.elements[-1].area, "m/s"),
        ),
        Figure(
            "driving",
            "Pressure that draws this flow through it",
            "pressure",
            of_losses(total + head, "Pa", 0.0, absolute=DOUBT * total),
        ),
    ]
    if model.sensor is not None:
        speed, change = exact(model.sensor.speed, "m/s"), exact(model.sensor_change, "%")
        figures += [
            Figure("sensor", "Speed at the flow sensor", "air_speed", speed),
            Figure("sensor_change", "… against stock", "percent", change),
        ]
    return figures


def _charts(model: _Model) -> list[Chart]:
    values, elements = model.values, model.elements
    place, xs, areas = 0.0, [0.0], [elements[0].area]
    for e in elements:
        place += max(e.length, 1e-3)
        xs.append(place)
        areas.append(free_area(e))
    grid = tuple(values["flow"] * k / 10 for k in range(1, 16))
    lost = tuple(sum(x.loss for x in chain_losses(elements, q)) for q in grid)
    stock = tuple(values["stock_loss"] * (q / values["flow"]) ** 2 for q in grid)
    return [
        Chart(
            "waterfall",
            "Loss of each element",
            ("number", ""),
            ("pressure", "loss"),
            (),
            bars=tuple(
                (f"{n} {KINDS[x.element.kind].label.lower()}", x.loss)
                for n, x in enumerate(model.losses, 1)
            ),
            add_up=True,
        ),
        Chart(
            "area",
            "Free area along the path",
            ("length", "path"),
            ("area", "free area"),
            (Line("free area", tuple(xs), tuple(areas)),),
        ),
        Chart(
            "loss",
            "Loss over flow",
            ("volume_flow", "flow"),
            ("pressure", "loss"),
            (
                Line("intake", grid, lost),
                Line("stock, with the square of flow", grid, stock, dashed=True),
            ),
            points=(("now", values["flow"], model.total),),
        ),
    ]


def _remarks(model: _Model) -> list[Remark]:
    elements = model.elements
    remarks = [
        Remark(
            "care",
            f"Element {i + 1} ({KINDS[elements[i].kind].label.lower()}) is a choke: its free area"
            f" is {1e4 * free_area(elements[i]):.1f} cm², the end of the intake has"
            f" {1e4 * elements[-1].area:.1f} cm².",
        )
        for i in choke_places(elements)
    ]
    for i in steep_places(elements):
        wider = elements[i].diameter - elements[i - 1].diameter
        remarks.append(
            Remark(
                "care",
                f"Element {i + 1} widens by more than {math.degrees(STEEP):.0f}° a side: the stream"
                f" leaves the wall. Make it {1000 * wider / 2 / math.tan(STEEP):.0f} mm long or"
                " more.",
            )
        )
    return remarks + _of_the_sensor(model)


def _of_the_sensor(model: _Model) -> list[Remark]:
    """Whether the flow sensor still tells the truth."""
    if model.sensor is None:
        return []
    remarks, change = [], model.sensor_change
    if abs(change) > 2:
        remarks.append(
            Remark(
                "stop",
                f"The air passes the flow sensor {abs(change):.0f} %"
                f" {'faster' if change > 0 else 'slower'} than in the stock part. A sensor that"
                f" knows only speed would read the flow {abs(change):.0f} % too"
                f" {'high' if change > 0 else 'low'}: its calibration must be made anew, or the"
                f" section kept at {1000 * model.values['stock_sensor']:.0f} mm.",
            )
        )
    remarks.append(
        Remark(
            "note",
            "A sensor also answers to a changed profile: bends and widenings within five"
            " diameters before it shift its reading even at equal area.",
        )
    )
    return remarks


TOOL = register(
    Tool(
        "intake",
        "Intake",
        "Where is the pressure lost, and does the flow sensor still tell the truth?",
        INPUTS,
        work,
        "Elements several diameters apart, Reynolds numbers above 4,000, screens with 5 to 90 %"
        " free area, no choking. Loss within 50 % (95 %); pulsating flow of an engine is not"
        " in it.",
        rows=(ELEMENTS,),
        cautions=(
            (
                "Vehicles: running engines, belts and hot parts, debris and water; changes can be"
                " illegal. Local codes come first, and a licensed workshop decides."
            ),
        ),
        solid=solid,
        extent=extent,
        part="intake",
    )
)
