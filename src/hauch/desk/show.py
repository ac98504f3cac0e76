"""Answers brought to a page: figures with change against the variant on the page, charts with
several variants, files.
"""

from __future__ import annotations

import csv
import io
import json
import math
from typing import Any

from hauch.core import CORE_VERSION
from hauch.core.quantity.show import show
from hauch.core.quantity.units import KINDS
from hauch.desk.models import Design
from hauch.desk.tools.base import Answer, Chart, Figure, Tool
from hauch.formats.json_in import read_json
from hauch.formats.tables import safe_cell as cell
from hauch.people.requests import whole


def chart_data(chart: Chart, others: list[tuple[str, Answer]], units: str) -> dict[str, Any]:
    """Plain data of a chart, with the first line of each other variant beside it."""
    own = iter(("first", "second", "third"))
    lines = [
        {
            "label": line.label,
            "xs": line.xs,
            "ys": line.ys,
            "style": "dashed" if line.dashed else next(own),
        }
        for line in chart.lines
    ]
    for i, (name, answer) in enumerate(others):
        other = next((c for c in answer.charts if c.key == chart.key), None)
        if other is not None and other.lines:
            lines.append(
                {
                    "label": name,
                    "xs": other.lines[0].xs,
                    "ys": other.lines[0].ys,
                    "style": f"other{i}",
                }
            )
    return {
        "x": chart.x,
        "y": chart.y,
        "lines": lines,
        "points": chart.points,
        "marks": chart.marks,
        "bars": chart.bars,
        "add_up": chart.add_up,
        "others": [
            (name, next((c.bars for c in a.charts if c.key == chart.key), ())) for name, a in others
        ],
    }


def comparison(answer: Answer, others: list[tuple[str, Answer]]) -> list[dict[str, Any]]:
    """One row for each figure: this design, and each other with its change against this one [%].

    A model's own error is the same cause in all variants and cancels in the change, so that small
    changes count more than the figures' doubts suggest.
    """
    rows = []
    for figure in answer.figures:
        row: dict[str, Any] = {"figure": figure, "others": []}
        for _, other in others:
            found = next((f for f in other.figures if f.key == figure.key), None)
            row["others"].append(
                None if found is None else {"figure": found, "change": _change(figure, found)}
            )
        rows.append(row)
    return rows


def _change(figure: Figure, other: Figure) -> float | None:
    here, there = figure.shown.value, other.shown.value
    if (
        not (math.isfinite(here) and math.isfinite(there))
        or here == 0
        or figure.kind in {"decibel", "temperature", "percent"}
    ):
        return None
    return 100 * (there / here - 1)


def to_json(tool: Tool, name: str, values: dict[str, Any], answer: Answer) -> bytes:
    """A design and its answer with workings as JSON, SI units."""
    content = {
        "tool": tool.key,
        "name": name,
        "core": CORE_VERSION,
        "inputs": values,
        "figures": {
            f.key: {"label": f.label, "outside_the_range": f.outside, **f.shown.as_json()}
            for f in answer.figures
            if math.isfinite(f.shown.value)
        },
        "remarks": [{"level": r.level, "text": r.text} for r in answer.remarks],
        "valid": tool.valid,
    }
    return json.dumps(content, ensure_ascii=False, indent=1).encode()


def to_csv(answer: Answer, units: str) -> bytes:
    """Figures and curves as one table in the person's units, safe to open in a spreadsheet."""
    out = io.StringIO()
    table = csv.writer(out)
    table.writerow(["figure", "value", "± (95 %)", "unit", ""])
    for f in answer.figures:
        shown = show(f.shown.value, f.kind, units, f.shown.expanded or None)
        where = "outside the range" if f.outside else ""
        row = (f.label, shown.number, shown.doubt, shown.unit, where)
        table.writerow([cell(v) for v in row])
    for chart in answer.charts:
        for line in chart.lines:
            table.writerow([])
            table.writerow(
                [
                    cell(v)
                    for v in (
                        chart.title,
                        line.label,
                        f"{chart.x[1]} ({KINDS[chart.x[0]].unit})",
                        f"{chart.y[1]} ({KINDS[chart.y[0]].unit})",
                    )
                ]
            )
            for x, y in zip(line.xs, line.ys, strict=True):
                table.writerow(["", "", f"{x:.6g}", f"{y:.6g}" if math.isfinite(y) else ""])
    return ("\ufeff" + out.getvalue()).encode()


def imported(tool: Tool, data: bytes) -> tuple[str, dict[str, Any]]:
    """Name and inputs of a design that was exported as JSON.

    Raises
    ------
    ValueError : with a sentence
    """
    try:
        content = read_json(data)
        key, inputs, name = content["tool"], content["inputs"], str(content["name"])[:60]
    except (ValueError, KeyError, TypeError, UnicodeDecodeError) as problem:
        raise ValueError("The file is no design that the Desk has written.") from problem
    if key != tool.key or not isinstance(inputs, dict):
        raise ValueError(f"The file holds a design for another tool ({str(key)[:20]}).")
    if not _same_shape(tool.start(), inputs):
        raise ValueError("The file's inputs do not have the shape of this tool's.")
    return name, tool.complete(inputs)


def _same_shape(start: Any, given: Any) -> bool:
    if isinstance(start, dict):
        return isinstance(given, dict) and all(
            key not in given or _same_shape(value, given[key]) for key, value in start.items()
        )
    if isinstance(start, list):
        if not isinstance(given, list) or len(given) > 20:
            return False
        return not start or all(_same_shape(start[0], one) for one in given)
    if isinstance(start, str):
        return isinstance(given, str)
    return isinstance(given, (int, float)) and not isinstance(given, bool)


def compared(user: Any, tool: Tool, wanted: list[str]) -> list[Design]:
    """Designs of a person that are compared with the one on the page, at most three."""
    numbers = [n for w in wanted if (n := whole(w)) is not None][:3]
    rows = {
        d.pk: d
        for d in Design.objects.filter(owner=user, tool=tool.key, pk__in=numbers).select_related(
            "rig", "fit", "load__rig"
        )
    }
    return [rows[n] for n in numbers if n in rows]
