"""Charts of the Desk: curves of a design with its variants, bars of shares and losses."""

from __future__ import annotations

import math
from itertools import pairwise
from typing import Any

from hauch.core.quantity.units import KINDS, from_si
from hauch.ui.charts.theme import AMBER, INK, PETROL, SECOND, Spec, chart

HEIGHT = 168
OTHERS = (("ink(m1)", [7, 3]), ("ink(m5)", [2, 2]), ("ink(m2)", [9, 3, 2, 3]))
"""Colour and dash of other variants: told apart without colour too."""
STYLES: dict[str, tuple[str, list[int]]] = {
    "first": (PETROL, [1, 0]),
    "second": (PETROL, [6, 2]),
    "third": (PETROL, [2, 2]),
    "dashed": (INK, [5, 4]),
    **{f"other{i}": o for i, o in enumerate(OTHERS)},
}


def curves(data: dict[str, Any], system: str) -> Spec:
    """Lines over x with single points and marks, or bars where there are no lines.

    ``data``: x and y (kind, label), lines [{label, xs, ys, style}], points [(label, x, y)], marks
    [(label, x)], bars [(label, value)], add_up, others.
    """
    if data["bars"]:
        return bars(data, system)
    (x_kind, x_label), (y_kind, y_label) = data["x"], data["y"]
    x_unit, y_unit = KINDS[x_kind].shown[system], KINDS[y_kind].shown[system]
    to_x, to_y = (
        (lambda v: float(from_si(v, x_unit, x_kind))),
        (lambda v: float(from_si(v, y_unit, y_kind))),
    )
    x = {
        "type": "quantitative",
        "title": f"{x_label}, {x_unit}",
        "axis": {"grid": False, "tickCount": 6},
        "scale": {"zero": False, "nice": False},
    }
    y = {
        "type": "quantitative",
        "title": f"{y_label}, {y_unit}",
        "axis": {"tickCount": 5},
        "scale": {"zero": False},
    }
    rows = [
        {"x": to_x(a), "y": to_y(b), "line": line["label"]}
        for line in data["lines"]
        for a, b in zip(line["xs"], line["ys"], strict=True)
        if math.isfinite(a) and math.isfinite(b)
    ]
    names, colours, dashes = [], [], []
    for line in data["lines"]:
        names.append(line["label"])
        colour, dash = STYLES[line["style"]]
        colours.append(colour)
        dashes.append(dash)
    legend = (
        {
            "orient": "bottom",
            "direction": "horizontal",
            "symbolType": "stroke",
            "symbolSize": 300,
            "offset": 4,
            "labelLimit": 130,
        }
        if len(names) > 1
        else None
    )
    layers: list[Spec] = [
        {
            "data": {"values": rows},
            "mark": {"type": "line", "strokeWidth": 2, "clip": True},
            "encoding": {
                "x": x | {"field": "x"},
                "y": y | {"field": "y"},
                "color": {
                    "field": "line",
                    "type": "nominal",
                    "sort": None,
                    "scale": {"domain": names, "range": colours},
                    "legend": legend,
                    "title": None,
                },
                "strokeDash": {
                    "field": "line",
                    "type": "nominal",
                    "sort": None,
                    "scale": {"domain": names, "range": dashes},
                    "legend": legend,
                    "title": None,
                },
            },
        },
    ]
    for row, (label, at) in enumerate(
        (label, to_x(v)) for label, v in data["marks"] if math.isfinite(v)
    ):
        values = {"values": [{"x": at, "what": label}]}
        layers += [
            {
                "data": values,
                "mark": {"type": "rule", "color": AMBER, "strokeDash": [3, 3]},
                "encoding": {"x": x | {"field": "x"}},
            },
            {
                "data": values,
                "mark": {"type": "text", "align": "left", "dx": 4, "color": SECOND, "fontSize": 11},
                "encoding": {
                    "x": x | {"field": "x"},
                    "y": {"value": 6 + 14 * row},
                    "text": {"field": "what"},
                },
            },
        ]
    points = [
        {"x": to_x(a), "y": to_y(b), "what": label}
        for label, a, b in data["points"]
        if math.isfinite(a) and math.isfinite(b)
    ]
    if points:
        stalled = {
            "condition": {"test": "datum.what == 'stalled'", "value": AMBER},
            "value": PETROL,
        }
        layers.append(
            {
                "data": {"values": points},
                "mark": {"type": "point", "filled": True, "size": 70, "opacity": 1},
                "encoding": {
                    "x": x | {"field": "x"},
                    "y": y | {"field": "y"},
                    "color": stalled,
                    "tooltip": [
                        {"field": "what"},
                        {"field": "x", "format": ",.4~g"},
                        {"field": "y", "format": ",.4~g"},
                    ],
                },
            }
        )
    return chart(layers, HEIGHT)


def bars(data: dict[str, Any], system: str) -> Spec:
    """Bars of this design, those of variants behind it as ticks; bars that add up begin where the
    one before ends, and their sum stands last.
    """
    kind, label = data["y"]
    unit = KINDS[kind].shown[system]
    rows = [
        {"name": n, "value": float(from_si(v, unit, kind)), "begin": 0.0} for n, v in data["bars"]
    ]
    if data["add_up"]:
        for before, this in pairwise(rows):
            this["begin"] = before["begin"] + before["value"]
        rows.append({"name": "all", "value": sum(r["value"] for r in rows), "begin": 0.0})
    rows = [r | {"end": r["begin"] + r["value"]} for r in rows]
    ticks = [
        {"name": n, "value": float(from_si(v, unit, kind)), "who": who}
        for who, bars_ in data["others"]
        for n, v in bars_
    ]
    y = {
        "field": "name",
        "type": "nominal",
        "sort": None,
        "title": None,
        "axis": {"grid": False, "labelLimit": 150, "labelColor": INK},
    }
    x = {"type": "quantitative", "title": f"{label}, {unit}", "axis": {"tickCount": 6}}
    layers: list[Spec] = [
        {
            "data": {"values": rows},
            "mark": {"type": "bar", "color": PETROL, "opacity": 0.75, "height": {"band": 0.6}},
            "encoding": {"y": y, "x": x | {"field": "begin"}, "x2": {"field": "end"}},
        },
        {
            "data": {"values": rows},
            "mark": {"type": "text", "align": "left", "dx": 4, "color": INK},
            "encoding": {
                "y": y,
                "x": x | {"field": "end"},
                "text": {"field": "value", "type": "quantitative", "format": ",.3~g"},
            },
        },
    ]
    if ticks and not data["add_up"]:
        layers.append(
            {
                "data": {"values": ticks},
                "mark": {"type": "tick", "thickness": 3, "color": "ink(m1)"},
                "encoding": {"y": y, "x": x | {"field": "value"}, "tooltip": [{"field": "who"}]},
            }
        )
    return chart(layers, HEIGHT)


def record(data: list[dict[str, Any]], system: str) -> Spec:
    """Predicted against measured, as error in percent with the line of none. ``data``: [{by,
    metric, error, entry}].
    """
    x = {"type": "quantitative", "title": "predicted against measured, %", "axis": {"tickCount": 8}}
    y = {
        "field": "by",
        "type": "nominal",
        "sort": None,
        "title": None,
        "axis": {"grid": False, "labelLimit": 200, "labelColor": INK},
    }
    layers: list[Spec] = [
        {
            "data": {"values": [{"zero": 0}]},
            "mark": {"type": "rule", "color": INK, "strokeDash": [5, 4]},
            "encoding": {"x": x | {"field": "zero"}},
        },
        {
            "data": {"values": data},
            "mark": {"type": "point", "filled": True, "size": 60, "color": PETROL, "opacity": 0.7},
            "encoding": {
                "y": y,
                "x": x | {"field": "error"},
                "shape": {
                    "field": "metric",
                    "type": "nominal",
                    "legend": {"orient": "top"},
                    "title": None,
                },
                "tooltip": [
                    {"field": "entry"},
                    {"field": "metric"},
                    {"field": "error", "format": "+.1f", "title": "%"},
                ],
            },
        },
    ]
    return chart(layers, 30 + 34 * max(len({row["by"] for row in data}), 1))
