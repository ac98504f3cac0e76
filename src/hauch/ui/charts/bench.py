"""Charts of the bench: repeats, a recording, a sweep."""

from __future__ import annotations

from typing import Any

from hauch.core.quantity.units import KINDS, factor_from_si, from_si
from hauch.ui.charts.theme import (
    AMBER,
    DANGER,
    INK,
    PETROL,
    REFERENCE,
    SECOND,
    Spec,
    chart,
    ground,
    span,
)


def repeats(data: dict[str, Any], system: str) -> Spec:
    """Repeats of one subject in one test with their doubt, over the reference.

    ``data``: kind, points [{label, value, expanded, this}], reference (value, expanded) or None.
    """
    kind = data["kind"]
    unit = KINDS[kind].shown[system]
    factor = factor_from_si(unit, kind)
    rows = [
        {
            "label": p["label"],
            "value": from_si(p["value"], unit, kind),
            "low": from_si(p["value"], unit, kind) - p["expanded"] * factor,
            "high": from_si(p["value"], unit, kind) + p["expanded"] * factor,
            "this": "this run" if p.get("this") else "other repeats",
        }
        for p in data["points"]
    ]
    y = {"type": "quantitative", "scale": {"zero": False, "nice": True}, "title": unit}
    x = {
        "field": "label",
        "type": "nominal",
        "sort": None,
        "title": None,
        "axis": {
            "labelAngle": 0,
            "grid": False,
            "labelLimit": 90,
            "labelOverlap": "greedy",
            "labelSeparation": 6,
        },
    }
    colour = {"condition": {"test": "datum.this == 'this run'", "value": PETROL}, "value": SECOND}
    layers: list[Spec] = []
    if data.get("reference"):
        value = float(from_si(data["reference"][0], unit, kind))
        half = (data["reference"][1] or 0.0) * factor
        layers += ground(value - half, value, value + half, "y", "reference")
    if not rows:
        return chart(layers, 190)
    layers += [
        span(rows, {"type": "rule", "strokeWidth": 2}, x, y, color=colour),
        {
            "data": {"values": rows},
            "mark": {"type": "point", "filled": True, "size": 80, "opacity": 1},
            "encoding": {
                "x": x,
                "y": y | {"field": "value"},
                "color": colour,
                "tooltip": [
                    {"field": "label", "title": "Run"},
                    {"field": "value", "title": unit, "format": ",.4~g"},
                ],
            },
        },
    ]
    return chart(layers, 190)


MARKS = {
    "dropout": AMBER,
    "gap": AMBER,
    "spike": DANGER,
    "stall": DANGER,
    "stuck": DANGER,
    "over_range": AMBER,
    "excluded": SECOND,
    "unit": DANGER,
    "jump": DANGER,
    "seen": PETROL,
}
"""Colour of each kind of mark; its word stands beside it."""


def trace(data: dict[str, Any], system: str) -> Spec:
    """One channel of a recording with its marks, the steady window and, where known, the reference.

    ``data``: kind, label, times [s], values [SI, None where lost], windows [(from, to)] that were
    read, marks [{kind, from, to}], reference (value, expanded) or None, height where it is not the
    usual one.
    """
    kind = data["kind"]
    unit = KINDS[kind].shown[system]
    per, title = (60, "minutes") if data["times"] and data["times"][-1] > 180 else (1, "seconds")
    rows = [
        {"t": t / per, "v": None if v is None else from_si(v, unit, kind)}
        for t, v in zip(data["times"], data["values"], strict=True)
    ]
    x = {"type": "quantitative", "title": title, "axis": {"grid": False}, "scale": {"nice": False}}
    y = {"type": "quantitative", "scale": {"zero": False, "nice": True}, "title": unit}
    layers: list[Spec] = []
    if data.get("reference"):
        value = float(from_si(data["reference"][0], unit, kind))
        half = (data["reference"][1] or 0.0) * factor_from_si(unit, kind)
        layers += ground(value - half, value, value + half, "y", "the reference would end here")
    if data.get("windows"):
        layers.append(
            {
                "data": {
                    "values": [{"a": low / per, "b": high / per} for low, high in data["windows"]]
                },
                "mark": {"type": "rect", "color": PETROL, "opacity": 0.08},
                "encoding": {"x": x | {"field": "a"}, "x2": {"field": "b"}},
            }
        )
    layers.append(
        {
            "data": {"values": rows},
            "mark": {
                "type": "line",
                "color": PETROL,
                "strokeWidth": 1.5,
                "invalid": "break-paths-filter-domains",
            },
            "encoding": {"x": x | {"field": "t"}, "y": y | {"field": "v"}},
        }
    )
    marks = [
        {
            "a": m["from"] / per,
            "b": max(m["to"], m["from"] + data["times"][-1] / 300) / per,
            "what": m["kind"],
            "word": m.get("word", m["kind"]),
        }
        for m in data["marks"]
    ]
    if marks:
        colour = {
            "field": "what",
            "type": "nominal",
            "scale": {"domain": list(MARKS), "range": list(MARKS.values())},
            "legend": None,
        }
        layers += [
            {
                "data": {"values": marks},
                "mark": {"type": "rect", "opacity": 0.35},
                "encoding": {"x": x | {"field": "a"}, "x2": {"field": "b"}, "color": colour},
            },
            {
                "data": {"values": marks},
                "mark": {"type": "text", "align": "left", "dx": 3, "fontSize": 11},
                "encoding": {
                    "x": x | {"field": "a"},
                    "y": {"value": 8},
                    "text": {"field": "word"},
                    "color": colour,
                },
            },
        ]
    return chart(layers, data.get("height", 200))


def sweep(data: dict[str, Any], system: str) -> Spec:
    """Points of a sweep with their doubt, the curve through them, the system's line and where the
    figure is read.

    ``data``: a stored curve: x_label, x_kind, y_label, y_kind, points [(x, ux, y, uy)], line,
    system, at; beside, the line of the reference, where there is one.
    """
    units = {axis: KINDS[data[f"{axis}_kind"]].shown[system] for axis in "xy"}

    def to(axis: str, value: float) -> float:
        return float(from_si(value, units[axis], data[f"{axis}_kind"]))

    factor = factor_from_si(units["y"], data["y_kind"])
    points = [
        {
            "x": to("x", x),
            "y": to("y", y),
            "low": to("y", y) - uy * factor,
            "high": to("y", y) + uy * factor,
        }
        for x, _, y, uy in data["points"]
    ]
    x = {
        "type": "quantitative",
        "title": f"{data['x_label']}, {units['x']}",
        "axis": {"grid": False},
        "scale": {"zero": False, "nice": True},
    }
    y = {
        "type": "quantitative",
        "title": f"{data['y_label']}, {units['y']}",
        "scale": {"zero": False, "nice": True},
    }

    def along(line: list[list[float]], **mark: Any) -> Spec:
        rows = [{"x": to("x", a), "y": to("y", b)} for a, b in line]
        return {
            "data": {"values": rows},
            "mark": {"type": "line", **mark},
            "encoding": {"x": x | {"field": "x"}, "y": y | {"field": "y"}, "order": {"field": "x"}},
        }

    layers = []
    if data.get("beside"):
        layers.append(along(data["beside"], color=SECOND, strokeWidth=1.5))
        last = max(data["beside"], key=lambda place: place[0])
        layers.append(
            {
                "data": {"values": [{"x": to("x", last[0]), "y": to("y", last[1])}]},
                "mark": {
                    "type": "text",
                    "align": "right",
                    "dy": -8,
                    "color": SECOND,
                    "text": "reference",
                },
                "encoding": {"x": x | {"field": "x"}, "y": y | {"field": "y"}},
            }
        )
    layers.append(along(data["line"], color=PETROL, strokeWidth=2))
    if data["system"]:
        layers.append(along(data["system"], color=SECOND, strokeDash=[5, 4]))
    layers += [
        span(points, {"type": "rule", "color": PETROL}, x | {"field": "x"}, y),
        {
            "data": {"values": points},
            "mark": {"type": "point", "filled": True, "size": 50, "color": PETROL, "opacity": 1},
            "encoding": {"x": x | {"field": "x"}, "y": y | {"field": "y"}},
        },
    ]
    if data["at"]:
        at = [{"x": to("x", data["at"][0]), "y": to("y", data["at"][1])}]
        layers.append(
            {
                "data": {"values": at},
                "mark": {
                    "type": "point",
                    "shape": "diamond",
                    "size": 160,
                    "color": INK,
                    "strokeWidth": 2,
                },
                "encoding": {"x": x | {"field": "x"}, "y": y | {"field": "y"}},
            }
        )
    return chart(layers, 240)


DASHES = ([1, 0], [7, 3], [2, 3], [9, 3, 2, 3])
"""Lines of several parts are told apart by their dashes too."""


def overlay(data: dict[str, Any], system: str) -> Spec:
    """Mean curves of several parts over the band of the reference's.

    ``data``: x_label, x_kind, y_label, y_kind, lines [{name, mark, x, y}], reference {x, y, low,
    high} or None, at: x or None; all SI.
    """
    units = {axis: KINDS[data[f"{axis}_kind"]].shown[system] for axis in "xy"}

    def to(axis: str, value: float) -> float:
        return round(float(from_si(value, units[axis], data[f"{axis}_kind"])), 6)

    x: dict[str, Any] = {
        "type": "quantitative",
        "title": f"{data['x_label']}, {units['x']}",
        "axis": {"grid": False},
        "scale": {"zero": False, "nice": True},
    }
    y: dict[str, Any] = {
        "type": "quantitative",
        "title": f"{data['y_label']}, {units['y']}",
        "scale": {"zero": False, "nice": True},
    }
    layers: list[Spec] = []
    if (band := data["reference"]) is not None:
        rows = [
            {"x": to("x", a), "y": to("y", b), "low": to("y", low), "high": to("y", high)}
            for a, b, low, high in zip(band["x"], band["y"], band["low"], band["high"], strict=True)
        ]
        layers += [
            span(rows, {"type": "area", "color": REFERENCE, "opacity": 0.4}, x | {"field": "x"}, y),
            {
                "data": {"values": rows},
                "mark": {"type": "line", "color": SECOND, "strokeWidth": 1.5},
                "encoding": {"x": x | {"field": "x"}, "y": y | {"field": "y"}},
            },
        ]
    ends = []
    for line, dash in zip(data["lines"], DASHES, strict=False):
        rows = [
            {"x": to("x", a), "y": to("y", b)} for a, b in zip(line["x"], line["y"], strict=True)
        ]
        color = f"ink(m{line['mark'] % 8})"
        layers.append(
            {
                "data": {"values": rows},
                "mark": {"type": "line", "color": color, "strokeWidth": 2.2, "strokeDash": dash},
                "encoding": {"x": x | {"field": "x"}, "y": y | {"field": "y"}},
            }
        )
        ends.append(rows[-1] | {"name": line["name"]})
    layers.append(
        {
            "data": {"values": ends},
            "mark": {"type": "text", "align": "right", "dy": -8, "color": INK},
            "encoding": {
                "x": x | {"field": "x"},
                "y": y | {"field": "y"},
                "text": {"field": "name"},
            },
        }
    )
    if data["at"] is not None:
        layers.append(
            {
                "data": {"values": [{"x": to("x", data["at"])}]},
                "mark": {"type": "rule", "color": AMBER, "strokeDash": [5, 4], "strokeWidth": 2},
                "encoding": {"x": x | {"field": "x"}},
            }
        )
    return chart(layers, 260)
