"""The charts. Each takes plain data (SI) and the person's unit system, and gives a Vega-Lite spec."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any

from hauch.core.quantity.units import KINDS, factor_from_si, from_si
from hauch.ui.charts import desk
from hauch.ui.charts.theme import AMBER, DANGER, HAIR, INK, PAPER, PETROL, SECOND, chart, ground

Spec = dict[str, Any]


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
        {
            "data": {"values": rows},
            "mark": {"type": "rule", "strokeWidth": 2},
            "encoding": {
                "x": x,
                "y": y | {"field": "low"},
                "y2": {"field": "high"},
                "color": colour,
            },
        },
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
    "seen": PETROL,
}
"""Colour of each kind of mark; its word stands beside it."""


def trace(data: dict[str, Any], system: str) -> Spec:
    """One channel of a recording with its marks, the steady window and, where known, the reference.

    ``data``: kind, label, times [s], values [SI, None where lost], windows [(from, to)] that were
    read, marks [{kind, from, to}], reference (value, expanded) or None.
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
    return chart(layers, 200)


def sweep(data: dict[str, Any], system: str) -> Spec:
    """Points of a sweep with their doubt, the curve through them, the system's line and where the
    figure is read.

    ``data``: a stored curve: x_label, x_kind, y_label, y_kind, points [(x, ux, y, uy)], line,
    system, at.
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

    layers = [along(data["line"], color=PETROL, strokeWidth=2)]
    if data["system"]:
        layers.append(along(data["system"], color=SECOND, strokeDash=[5, 4]))
    layers += [
        {
            "data": {"values": points},
            "mark": {"type": "rule", "color": PETROL},
            "encoding": {
                "x": x | {"field": "x"},
                "y": y | {"field": "low"},
                "y2": {"field": "high"},
            },
        },
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


def gains(data: list[dict[str, Any]], system: str) -> Spec:
    """Gain over the reference by test, in percent, more is better.

    ``data``: [{label, gain, expanded, word}].
    """
    rows = [
        row | {"low": row["gain"] - row["expanded"], "high": row["gain"] + row["expanded"]}
        for row in data
    ]
    y = {
        "field": "label",
        "type": "nominal",
        "sort": None,
        "title": None,
        "axis": {"labelLimit": 260, "labelColor": INK, "labelFontSize": 13, "grid": False},
    }
    x = {
        "type": "quantitative",
        "title": "gain over the reference, % (right is better)",
        "axis": {"grid": True, "tickCount": 8},
    }
    half = sum(row["reference"] for row in data) / len(data) if data else 0.0
    shape = {
        "field": "word",
        "type": "nominal",
        "scale": {
            "domain": ["better", "worse", "too close to call"],
            "range": ["circle", "diamond", "circle"],
        },
    }
    colour = {
        "condition": [
            {"test": "datum.word == 'too close to call'", "value": AMBER},
            {"test": "datum.word == 'worse'", "value": DANGER},
        ],
        "value": PETROL,
    }
    filled = colour | {
        "condition": [
            {"test": "datum.word == 'too close to call'", "value": PAPER},
            *colour["condition"][1:],
        ]
    }
    layers: list[Spec] = [
        *ground(-half, 0.0, half, "x", "reference"),
        {
            "data": {"values": rows},
            "mark": {"type": "rule", "strokeWidth": 2},
            "encoding": {
                "y": y,
                "x": x | {"field": "low"},
                "x2": {"field": "high"},
                "color": colour,
            },
        },
        {
            "data": {"values": rows},
            "mark": {"type": "point", "size": 80, "opacity": 1, "strokeWidth": 2},
            "encoding": {
                "y": y,
                "x": x | {"field": "gain"},
                "stroke": colour,
                "fill": filled,
                "shape": shape | {"legend": None},
            },
        },
        {
            "data": {"values": rows},
            "mark": {"type": "text", "align": "left", "dx": 10, "dy": -9, "fontSize": 12},
            "encoding": {
                "y": y,
                "x": x | {"field": "gain"},
                "text": {"field": "word"},
                "color": colour,
            },
        },
    ]
    return chart(layers, 46 * max(len(rows), 1))


def places(data: dict[str, Any], system: str) -> Spec:
    """Probability of each place, entry by entry.

    ``data``: entries [name in order], cells [{entry, place, p}].
    """
    cells = [
        c | {"text": f"{100 * c['p']:.0f}" if c["p"] >= 0.015 else ""}
        for c in data["cells"]
        if c["p"] >= 0.001
    ]
    x = {
        "field": "place",
        "type": "ordinal",
        "title": "place",
        "axis": {"labelAngle": 0, "orient": "top", "grid": False},
        "scale": {"domain": list(range(1, len(data["entries"]) + 1))},
    }
    y = {
        "field": "entry",
        "type": "nominal",
        "title": None,
        "scale": {"domain": data["entries"]},
        "axis": {"labelColor": INK, "labelFontSize": 13, "grid": False},
    }
    layers: list[Spec] = [
        {
            "mark": {"type": "rect", "color": PETROL, "stroke": HAIR},
            "encoding": {
                "x": x,
                "y": y,
                "opacity": {
                    "field": "p",
                    "type": "quantitative",
                    "scale": {"domain": [0, 1], "range": [0.04, 1]},
                    "legend": None,
                },
            },
        },
        {
            "mark": {"type": "text", "fontSize": 12},
            "encoding": {
                "x": x,
                "y": y,
                "text": {"field": "text"},
                "color": {"condition": {"test": "datum.p > 0.65", "value": PAPER}, "value": INK},
            },
        },
    ]
    return chart(layers, 30 * len(data["entries"]), data={"values": cells})


def control(data: dict[str, Any], system: str) -> Spec:
    """Control chart of a reference: runs as change against the centre, their limits, the moving
    average with its limits.

    ``data``: points [{n, y, ewma, low, high, what}], limit, unit, ready.
    """
    points = data["points"]
    x = {
        "type": "quantitative",
        "title": "run",
        "axis": {"grid": False, "tickMinStep": 1},
        "scale": {"nice": False},
    }
    y = {"type": "quantitative", "title": f"change, {data['unit']}", "scale": {"nice": True}}
    layers: list[Spec] = []
    if data["ready"]:
        layers += ground(-data["limit"], 0.0, data["limit"], "y", "limits of one run")
        layers.append(
            {
                "data": {"values": points},
                "mark": {"type": "area", "color": PETROL, "opacity": 0.15},
                "encoding": {
                    "x": x | {"field": "n"},
                    "y": y | {"field": "low"},
                    "y2": {"field": "high"},
                },
            }
        )
    colour = {
        "condition": [
            {"test": "datum.what == 'outside'", "value": DANGER},
            {"test": "datum.what == 'drifting'", "value": AMBER},
        ],
        "value": SECOND,
    }
    shape = {
        "field": "what",
        "type": "nominal",
        "legend": None,
        "scale": {
            "domain": ["inside", "drifting", "outside"],
            "range": ["circle", "triangle-up", "diamond"],
        },
    }
    layers += [
        {
            "data": {"values": points},
            "mark": {"type": "point", "filled": True, "opacity": 1, "size": 36},
            "encoding": {
                "x": x | {"field": "n"},
                "y": y | {"field": "y"},
                "color": colour,
                "shape": shape,
                "tooltip": [
                    {"field": "run", "title": "Run"},
                    {"field": "at", "title": "When"},
                    {"field": "y", "title": data["unit"], "format": "+.2~f"},
                ],
            },
        },
        {
            "data": {"values": points},
            "mark": {"type": "line", "color": PETROL, "strokeWidth": 2},
            "encoding": {"x": x | {"field": "n"}, "y": y | {"field": "ewma"}},
        },
    ]
    return chart(layers, 240)


def residuals(data: dict[str, Any], system: str) -> Spec:
    """Points of a calibration as they lie off the line, with the doubt of the line as a band.

    ``data``: kind, points [{at, off}], band [{at, low, high}], SI.
    """
    kind = data["kind"]
    unit = KINDS[kind].shown[system]
    factor = factor_from_si(unit, kind)
    points = [
        {"at": from_si(p["at"], unit, kind), "off": p["off"] * factor} for p in data["points"]
    ]
    band = [
        {"at": from_si(p["at"], unit, kind), "low": p["low"] * factor, "high": p["high"] * factor}
        for p in data["band"]
    ]
    x = {
        "type": "quantitative",
        "title": f"it shows, {unit}",
        "axis": {"grid": False},
        "scale": {"zero": False},
    }
    y = {"type": "quantitative", "title": f"off the line, {unit}", "scale": {"nice": True}}
    layers: list[Spec] = [
        {
            "data": {"values": band},
            "mark": {"type": "area", "color": PETROL, "opacity": 0.15},
            "encoding": {
                "x": x | {"field": "at"},
                "y": y | {"field": "low"},
                "y2": {"field": "high"},
            },
        },
        {
            "data": {"values": [{"zero": 0}]},
            "mark": {"type": "rule", "color": INK},
            "encoding": {"y": y | {"field": "zero"}},
        },
        {
            "data": {"values": points},
            "mark": {"type": "point", "filled": True, "size": 70, "color": PETROL, "opacity": 1},
            "encoding": {"x": x | {"field": "at"}, "y": y | {"field": "off"}},
        },
    ]
    return chart(layers, 180)


def profile(data: dict[str, Any], system: str) -> Spec:
    """Speed over centre speed by radius, and the profile factor as a dashed line.

    ``data``: points [(r/R, v/v_centre)], factor.
    """
    points = [{"r": 0.0, "v": 1.0}, *({"r": r, "v": v} for r, v in data["points"])]
    x = {
        "type": "quantitative",
        "title": "radius over R",
        "scale": {"domain": [0, 1]},
        "axis": {"grid": False},
    }
    y = {"type": "quantitative", "title": "v / v centre", "scale": {"zero": False, "nice": True}}
    layers: list[Spec] = [
        {
            "data": {"values": points},
            "mark": {"type": "line", "color": PETROL, "point": {"color": PETROL, "size": 50}},
            "encoding": {"x": x | {"field": "r"}, "y": y | {"field": "v"}},
        },
        {
            "data": {"values": [{"k": data["factor"]}]},
            "mark": {"type": "rule", "color": INK, "strokeDash": [5, 4]},
            "encoding": {"y": y | {"field": "k"}},
        },
    ]
    return chart(layers, 180)


SPECS: dict[str, Callable[[Any, str], Spec]] = {
    "repeats": repeats,
    "trace": trace,
    "sweep": sweep,
    "gains": gains,
    "places": places,
    "control": control,
    "residuals": residuals,
    "profile": profile,
    "curves": desk.curves,
    "record": desk.record,
}
