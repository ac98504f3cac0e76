"""What one change of a part would do, by the tool that foretold it: each input of its shape moved a
step, all else as it is.
"""

from __future__ import annotations

import math
from collections.abc import Iterator, Mapping
from dataclasses import dataclass
from typing import Any

from hauch.desk.tools.base import Answer, CannotBe, Input, Setting, Tool, spoken

SHAPE: dict[str, tuple[str, ...]] = {
    "rotor": ("Blades", "Along the radius"),
    "impeller": ("Wheel",),
    "ring": ("Ring",),
    "duct": ("Trunk", "Outlets"),
    "intake": ("Generator", "Elements"),
}
"""Groups of inputs that a maker changes at the part, by tool; what it runs on and in stays."""

FIXED = {"slot_doubt", "wall", "material", "thickness", "x", "z", "name"}
"""Inputs that are no shape of the air: how well a slot is known, the wall that holds, where it lies."""

STEP, TURN = 0.1, math.radians(2.0)
"""A step: a tenth of a size, 2 degrees of an angle, one of a count."""


@dataclass(frozen=True)
class Step:
    """One change.

    Parameters
    ----------
    key : names it among all of the same design
    label : what is changed, from what to what
    values : all inputs with it
    changes : by procedure that is foretold, the figure before and after
    """

    key: str
    label: str
    values: dict[str, Any]
    changes: dict[str, tuple[float, float]]


def steps(tool: Tool, values: Mapping[str, Any], setting: Setting | None = None) -> list[Step]:
    """Every single change that the tool can answer for, within what fits and what its models hold for.

    Raises
    ------
    CannotBe : the design itself cannot be
    """
    known = tool.complete(values)
    base = tool.answer(known, setting)
    before = _foretold(base)
    found = []
    for key, label, changed in _variants(tool, known):
        try:
            answer = tool.answer(changed, setting)
        except CannotBe:
            continue
        if _warns(answer) - _warns(base):
            continue  # it would not fit, hold or lie within the model any more
        after = _foretold(answer)
        changes = {
            procedure: (value, after[procedure])
            for procedure, value in before.items()
            if procedure in after
        }
        if changes:
            found.append(Step(key, label, changed, changes))
    return found


def _foretold(answer: Answer) -> dict[str, float]:
    """What is foretold, by procedure, where it has a size and lies within the model's range."""
    found = {}
    for procedure, key in answer.predicts.items():
        figure = answer.figure(key)
        value = figure.quantity.value
        if math.isfinite(value) and value > 0 and not figure.outside:
            found[procedure] = value
    return found


def _warns(answer: Answer) -> set[tuple[str, str]]:
    """Remarks that a change must not bring about, by their level and what they are of."""
    return {
        (one.level, ",".join(one.figures) or one.text.split(":")[0][:40])
        for one in answer.remarks
        if one.level in {"stop", "range", "danger"}
    }


def _variants(tool: Tool, known: Mapping[str, Any]) -> Iterator[tuple[str, str, dict[str, Any]]]:
    """Key, words and inputs of each change."""
    groups = SHAPE.get(tool.key, ())
    for one in tool.inputs:
        if one.group in groups and one.key not in FIXED and _counts(one, known):
            for sign, words, value in _moves(one, known[one.key]):
                label = one.label.replace("… ", f"{one.group}, ")
                yield f"{one.key}:{sign}", f"{label}: {words}", {**known, one.key: value}
    for rows in tool.rows:
        if rows.group not in groups:
            continue
        for number, row in enumerate(known[rows.key]):
            for one in rows.columns:
                if one.key in FIXED or one.kind in {"choice", "text"}:
                    continue  # another kind of element is another design
                for sign, words, value in _moves(one, row[one.key]):
                    changed = [dict(other) for other in known[rows.key]]
                    changed[number][one.key] = value
                    named = row.get("name") or f"{number + 1}"
                    yield (
                        f"{rows.key}.{number}.{one.key}:{sign}",
                        f"{rows.label}, {named}, {one.label.lower()}: {words}",
                        {**known, rows.key: changed},
                    )


def _counts(one: Input, known: Mapping[str, Any]) -> bool:
    return one.shown_with is None or known[one.shown_with[0]] in one.shown_with[1]


def _moves(one: Input, value: Any) -> Iterator[tuple[str, str, Any]]:
    """One step down and one up, in words and as a value."""
    if one.kind in {"choice", "text"}:
        for choice, label in one.choices:
            if choice != value:
                yield choice, f"{label} instead of {dict(one.choices).get(value, value)}", choice
        return
    for sign, factor in (("-", -1), ("+", 1)):
        if one.points > 1:
            along = [_moved(one, v, factor) for v in value]
            if all(one.low <= v <= one.high for v in along):
                yield sign, _along(one, factor), along
            continue
        moved = _moved(one, value, factor)
        if one.low <= moved <= one.high and moved != value:
            yield sign, f"{spoken(moved, one.kind)} instead of {spoken(value, one.kind)}", moved


def _along(one: Input, factor: int) -> str:
    if one.kind == "angle":
        return f"{math.degrees(TURN):g}° {'more' if factor > 0 else 'less'} all along the radius"
    return f"{100 * STEP:g} % {'more' if factor > 0 else 'less'} all along the radius"


def _moved(one: Input, value: float, factor: int) -> float:
    if one.kind == "count":
        return value + factor
    if one.kind == "angle":
        return value + factor * TURN
    return value * (1 + factor * STEP)
