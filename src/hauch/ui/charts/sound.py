"""Charts of sound: level over time, narrow-band spectrum, one-third octaves."""

from __future__ import annotations

from typing import Any

from hauch.ui.charts.theme import AMBER, INK, PETROL, REFERENCE, SECOND, Spec, chart, span

LEAST_SPAN = 8.0
"""A level over time is drawn over so much at least [dB]: a tenth is no drama."""

FREQUENCY: dict[str, Any] = {
    "type": "quantitative",
    "title": "Hz",
    "axis": {
        "grid": False,
        "values": [31.5, 63, 125, 250, 500, 1000, 2000, 4000, 8000, 16000],
        "format": "~s",
    },
    "scale": {"type": "log", "domain": [20, 22400], "nice": False},
}


def level(data: dict[str, Any], system: str) -> Spec:
    """Level F over time with the stretch that is used and what was found on the way.

    ``data``: step [s], values [dB], used (from, to) [s], marks [{kind, from, to}], unit.
    """
    step = data["step"]
    last = max(step * len(data["values"]), 1e-6)
    x = {
        "type": "quantitative",
        "title": "seconds",
        "axis": {"grid": False},
        "scale": {"nice": False, "domain": [0, last]},
    }
    low, high = min(data["values"], default=0.0), max(data["values"], default=0.0)
    spare = max((LEAST_SPAN - (high - low)) / 2, 0.0)
    y = {
        "type": "quantitative",
        "title": data["unit"],
        "scale": {"zero": False, "nice": True, "domain": [low - spare, high + spare]},
        "axis": {"tickCount": 4},
    }
    rows = [{"t": round(i * step, 3), "v": v} for i, v in enumerate(data["values"])]
    used = {"values": [{"a": data["used"][0], "b": data["used"][1]}]}
    layers: list[Spec] = [
        {
            "data": used,
            "mark": {"type": "rect", "color": PETROL, "opacity": 0.1},
            "encoding": {"x": x | {"field": "a"}, "x2": {"field": "b"}},
        },
        {
            "data": {"values": rows},
            "mark": {"type": "line", "color": PETROL, "strokeWidth": 1.3},
            "encoding": {"x": x | {"field": "t"}, "y": y | {"field": "v"}},
        },
    ]
    marks = [
        {"a": m["from"], "b": max(m["to"], m["from"] + last / 300), "what": m["kind"]}
        for m in data["marks"]
    ]
    if marks:
        layers += [
            {
                "data": {"values": marks},
                "mark": {"type": "rect", "color": AMBER, "opacity": 0.35},
                "encoding": {"x": x | {"field": "a"}, "x2": {"field": "b"}},
            },
            {
                "data": {"values": marks},
                "mark": {"type": "text", "align": "left", "dx": 3, "fontSize": 11, "color": AMBER},
                "encoding": {
                    "x": x | {"field": "a"},
                    "y": {"value": 8},
                    "text": {"field": "what"},
                },
            },
        ]
    return chart(layers, 120)


def spectrum(data: dict[str, Any], system: str) -> Spec:
    """Narrow-band spectrum over the band of the reference's, with the tones that are heard.

    ``data``: line {f [Hz], v [dB]}, reference {f, low, high} or None, marks [{f, name, level}], unit.
    """
    y = {"type": "quantitative", "title": data["unit"], "scale": {"zero": False, "nice": True}}
    x = FREQUENCY | {"field": "f"}
    layers: list[Spec] = []
    if (band := data["reference"]) is not None:
        rows = [
            {"f": f, "low": low, "high": high}
            for f, low, high in zip(band["f"], band["low"], band["high"], strict=True)
        ]
        layers.append(
            {
                "data": {"values": rows},
                "mark": {
                    "type": "area",
                    "color": REFERENCE,
                    "clip": True,
                    "line": {"color": REFERENCE, "strokeWidth": 1.6},
                },
                "encoding": {"x": x, "y": y | {"field": "low"}, "y2": {"field": "high"}},
            }
        )
    line = data["line"]
    layers.append(
        {
            "data": {
                "values": [{"f": f, "v": v} for f, v in zip(line["f"], line["v"], strict=True)]
            },
            "mark": {"type": "line", "color": PETROL, "strokeWidth": 1.3, "clip": True},
            "encoding": {"x": x, "y": y | {"field": "v"}},
        }
    )
    if data["marks"]:
        layers.append(
            {
                "data": {"values": data["marks"]},
                "mark": {
                    "type": "text",
                    "dy": -8,
                    "fontSize": 11,
                    "color": INK,
                },
                "encoding": {
                    "x": FREQUENCY | {"field": "f"},
                    "y": y | {"field": "level"},
                    "text": {"field": "name"},
                },
            }
        )
    return chart(layers, 220)


def bands(data: dict[str, Any], system: str) -> Spec:
    """One-third octaves without the background as bars, those of the reference as ticks.

    ``data``: bands [{f [Hz], v [dB], limit, reference [dB] or None}], unit.
    """
    rows = [row | {"a": row["f"] * 10**-0.045, "b": row["f"] * 10**0.045} for row in data["bands"]]
    floor = min((row["v"] for row in rows), default=0.0) - 3
    y = {
        "type": "quantitative",
        "title": data["unit"],
        "scale": {"zero": False, "nice": True},
    }
    rows = [row | {"low": floor} for row in rows]
    tip = [
        {"field": "f", "title": "Hz", "format": ",.0f"},
        {"field": "v", "title": data["unit"], "format": ".1f"},
    ]
    layers: list[Spec] = [
        {
            "data": {"values": rows},
            "mark": {"type": "rect", "clip": True},
            "encoding": {
                "x": FREQUENCY | {"field": "a"},
                "x2": {"field": "b"},
                "y": y | {"field": "low"},
                "y2": {"field": "v"},
                "color": {
                    "condition": {"test": "datum.limit", "value": SECOND},
                    "value": PETROL,
                },
                "opacity": {"condition": {"test": "datum.limit", "value": 0.3}, "value": 0.8},
                "tooltip": tip,
            },
        }
    ]
    held = [row for row in rows if row["reference"] is not None]
    if held:
        layers.append(
            {
                "data": {"values": held},
                "mark": {"type": "rule", "color": INK, "strokeWidth": 2},
                "encoding": {
                    "x": FREQUENCY | {"field": "a"},
                    "x2": {"field": "b"},
                    "y": y | {"field": "reference"},
                },
            }
        )
    return chart(layers, 200)


def changes(data: dict[str, Any], system: str) -> Spec:
    """Differences of the one-third octaves against the reference, with their doubt.

    ``data``: bands [{f [Hz], v, low, high [dB], clear}].
    """
    rows = data["bands"]
    x = FREQUENCY | {"field": "f"}
    y = {"type": "quantitative", "title": "dB over the reference"}
    color = {"condition": {"test": "datum.clear", "value": PETROL}, "value": SECOND}
    tip = [
        {"field": "f", "title": "Hz", "format": ",.0f"},
        *({"field": k, "title": k, "format": "+.1f"} for k in ("v", "low", "high")),
    ]
    layers: list[Spec] = [
        {
            "data": {"values": [{"y": 0}]},
            "mark": {"type": "rule", "color": INK, "strokeDash": [4, 3]},
            "encoding": {"y": y | {"field": "y"}},
        },
        span(rows, {"type": "rule", "strokeWidth": 2}, x, y, color=color),
        {
            "data": {"values": rows},
            "mark": {"type": "point", "filled": True, "size": 42},
            "encoding": {
                "x": x,
                "y": y | {"field": "v"},
                "color": color,
                "shape": {
                    "condition": {"test": "datum.clear", "value": "circle"},
                    "value": "diamond",
                },
                "tooltip": tip,
            },
        },
    ]
    return chart(layers, 170)
