"""What a tool of the Desk is: inputs, and a function from their values to an answer. No Django in
here.
"""

from __future__ import annotations

import json
import math
from collections.abc import Callable, Mapping
from dataclasses import dataclass, field, replace
from functools import lru_cache
from typing import Any

from hauch.core.geometry.drawing import Drawing
from hauch.core.geometry.fit import misfits
from hauch.core.predict.model import CannotBe, Remark, refuse
from hauch.core.predict.record import Factor
from hauch.core.quantity import Influence, Quantity, Step
from hauch.core.quantity.units import KINDS

Values = Mapping[str, Any]


@dataclass(frozen=True)
class Input:
    """One figure, choice or curve of a tool.

    ``kind`` is a key of `KINDS`, or ``"count"`` or ``"choice"``; figures are SI. ``points`` above 1
    makes a curve from hub to tip. ``shown_with`` names a choice and the value at which the input
    counts; it is hidden otherwise.
    """

    key: str
    label: str
    kind: str
    start: Any
    group: str
    low: float = -math.inf
    high: float = math.inf
    choices: tuple[tuple[str, str], ...] = ()
    points: int = 1
    shown_with: tuple[str, tuple[str, ...]] | None = None
    note: str = ""


@dataclass(frozen=True)
class Rows:
    """A short table of inputs: columns, first rows, and how many there may be."""

    key: str
    label: str
    columns: tuple[Input, ...]
    start: tuple[dict[str, Any], ...]
    most: int
    group: str


@dataclass(frozen=True)
class Figure:
    """One figure of an answer; those that decide stand large. ``outside`` the range of its model it
    is told without an interval.
    """

    key: str
    label: str
    kind: str
    quantity: Quantity
    decides: bool = False
    outside: bool = False

    @property
    def shown(self) -> Quantity:
        """What is told of it: without an interval where that would be worth nothing."""
        return replace(self.quantity, parts={}) if self.outside else self.quantity


@dataclass(frozen=True)
class Line:
    """A line of a chart: label and points in SI; ``dashed`` for the system or the reference."""

    label: str
    xs: tuple[float, ...]
    ys: tuple[float, ...]
    dashed: bool = False


@dataclass(frozen=True)
class Chart:
    """A chart: kinds of x and y, lines, and single points or marks at x; or bars, which ``add_up``
    to a whole (a waterfall).
    """

    key: str
    title: str
    x: tuple[str, str]
    y: tuple[str, str]
    lines: tuple[Line, ...]
    points: tuple[tuple[str, float, float], ...] = ()
    marks: tuple[tuple[str, float], ...] = ()
    bars: tuple[tuple[str, float], ...] = ()
    add_up: bool = False


@dataclass
class Answer:
    """What a tool answers. ``predicts``: procedure of a test -> key of the figure that foretells
    it.
    """

    drawing: Drawing
    figures: list[Figure]
    charts: list[Chart]
    remarks: list[Remark]
    predicts: dict[str, str] = field(default_factory=dict)
    tables: list[tuple[str, tuple[str, ...], list[tuple[str, ...]]]] = field(default_factory=list)

    def figure(self, key: str) -> Figure:
        """A figure by its key."""
        return next(f for f in self.figures if f.key == key)


@dataclass(frozen=True)
class Setting:
    """What surrounds a design: the chosen rig's name and loss (Pa s2/m6 of total pressure), the
    factors measured on it by figure, what the chosen rotor takes by throttle (share, W), and the
    envelope of a round that the part must fit (parameter, m).
    """

    rig: str = ""
    resistance: float = 0.0
    factors: tuple[tuple[str, Factor], ...] = ()
    load: tuple[tuple[float, float], ...] = ()
    envelope: tuple[tuple[str, float], ...] = ()
    envelope_of: str = ""


@dataclass(frozen=True)
class Tool:
    """A tool: its question, inputs, models with their range, and the function that answers."""

    key: str
    label: str
    question: str
    inputs: tuple[Input, ...]
    work: Callable[[Values, Setting], Answer]
    valid: str
    rows: tuple[Rows, ...] = ()
    cautions: tuple[str, ...] = ()
    solid: Callable[[Values], Any] | None = None
    part: str = ""
    also: tuple[str, ...] = ()
    extent: Callable[[Values], dict[str, float]] | None = None

    rig: bool = False
    drives: bool = False
    optimises: bool = False

    @property
    def sketch(self) -> str:
        """The small drawing that stands for it: that of the kind of part that it answers for."""
        return {"impeller": "wheel", "jet": "slit", "cushion": "plenum"}.get(self.key, self.key)

    @property
    def parts(self) -> tuple[str, ...]:
        """Kinds of parts that it designs; none where its answer is no part."""
        return (self.part, *self.also) if self.part else ()

    def start(self) -> dict[str, Any]:
        """The values that the tool begins with."""
        values: dict[str, Any] = {
            i.key: list(i.start) if i.points > 1 else i.start for i in self.inputs
        }
        return values | {r.key: [dict(row) for row in r.start] for r in self.rows}

    def complete(self, values: Values) -> dict[str, Any]:
        """Values with what is missing from the start, without what the tool does not know."""
        known = self.start() | {r.key: [] for r in self.rows}
        made = {key: values.get(key, start) for key, start in known.items()}
        for rows in self.rows:
            if rows.key not in values:
                made[rows.key] = [dict(row) for row in rows.start]
            made[rows.key] = [
                {c.key: row.get(c.key, c.start) for c in rows.columns}
                for row in made[rows.key][: rows.most]
            ]
        return made

    def problems(self, values: Values) -> dict[str, str]:
        """A sentence for each figure that is outside what can be at all, before any model is asked."""
        found: dict[str, str] = {}
        for i in self.inputs:
            for v in values[i.key] if i.points > 1 else [values[i.key]]:
                if problem := _problem(i, v):
                    found[i.key] = f"{i.label}{problem}"
            if i.points > 1 and len(values[i.key]) != i.points:
                found[i.key] = f"{i.label} needs {i.points} points."
        for rows in self.rows:
            for number, row in enumerate(values[rows.key], 1):
                for c in rows.columns:
                    if problem := _problem(c, row[c.key]):
                        found.setdefault(
                            rows.key, f"{rows.label}, row {number}: {c.label}{problem}"
                        )
        return found

    def answer(self, values: Values, setting: Setting | None = None) -> Answer:
        """The answer for values; kept for a while, since variants are asked for again and again.

        Raises
        ------
        CannotBe : with a sentence for each figure that cannot be
        """
        return _answer(
            self.key, json.dumps(self.complete(values), sort_keys=True), setting or Setting()
        )


def _problem(item: Input, value: Any) -> str:
    """What is wrong with one value, to be said after the input's name; empty where nothing is."""
    if item.kind == "text":
        return "" if isinstance(value, str) and len(value) <= 20 else " must be a short text."
    if item.kind == "choice":
        return "" if value in dict(item.choices) else f": “{value}” is not one of the choices."
    if value is None or not math.isfinite(value):
        return " is missing."
    if not item.low <= value <= item.high:
        return (
            f": {spoken(value, item.kind)} cannot be; it lies between {spoken(item.low, item.kind)}"
            f" and {spoken(item.high, item.kind)}."
        )
    return ""


REGISTRY: dict[str, Tool] = {}


def register(tool: Tool) -> Tool:
    """Add a tool to the Desk."""
    REGISTRY[tool.key] = tool
    return tool


@lru_cache(maxsize=256)
def _answer(key: str, stored: str, setting: Setting) -> Answer:
    tool = REGISTRY[key]
    values = json.loads(stored)
    refuse(tool.problems(values))
    answer = tool.work(values, setting)
    outside = {key for r in answer.remarks if r.level == "range" for key in r.figures}
    answer.figures = [replace(f, outside=f.key in outside) for f in answer.figures]
    if setting.envelope and tool.extent is not None:
        answer.remarks = [
            Remark("stop", text)
            for text in misfits(tool.extent(values), dict(setting.envelope), setting.envelope_of)
        ] + answer.remarks
    for name, factor in setting.factors:
        answer.figures = [
            corrected(f, factor, setting.rig) if f.key == name else f for f in answer.figures
        ]
    return answer


def corrected(figure: Figure, factor: Factor, rig: str) -> Figure:
    """A figure times what a rig's measurements gave back; the rig's scatter takes the place of the
    model's doubt.
    """
    value = figure.quantity.value * factor.value
    step = Step(
        f"Measured back on {rig}",
        "value × factor",
        (("value", figure.quantity.value, figure.quantity.unit), ("factor", factor.value, "")),
        value,
        figure.quantity.unit,
        "geometric mean of measured over predicted",
        f"from {factor.count} measured value{'s' if factor.count > 1 else ''}",
    )
    parts = {
        Influence(
            f"factor:{rig}:{figure.key}",
            f"scatter of the model on {rig}",
            "common",
            "A",
            factor.dof,
        ): (value * factor.u)
    }
    made = Quantity(value, figure.quantity.unit, parts, (*figure.quantity.working, step))
    return replace(figure, quantity=made)


def spoken(value: float, kind: str) -> str:
    """A figure in a sentence, in workshop units."""
    from hauch.core.quantity.show import show

    if kind in {"count", "choice"} or kind not in KINDS:
        return f"{value:g}"
    return (
        str(show(value, kind, "workshop"))
        if math.isfinite(value)
        else ("any" if value > 0 else "any less")
    )


__all__ = [
    "REGISTRY",
    "Answer",
    "CannotBe",
    "Chart",
    "Figure",
    "Input",
    "Line",
    "Remark",
    "Rows",
    "Setting",
    "Tool",
    "Values",
    "register",
    "spoken",
]
