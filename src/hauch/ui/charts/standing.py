"""Charts of the standing: gains by test, probabilities of places, sizes tried, a panel."""

from __future__ import annotations

from typing import Any

from hauch.core.quantity.units import KINDS, from_si
from hauch.ui.charts.theme import (
    AMBER,
    DANGER,
    HAIR,
    INK,
    PAPER,
    PETROL,
    SECOND,
    Spec,
    chart,
    ground,
    span,
)


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
        span(rows, {"type": "rule", "strokeWidth": 2}, y, x, "x", color=colour),
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


def bracket(data: dict[str, Any], system: str) -> Spec:
    """Change against the reference over a size that was tried, and the size to try next.

    ``data``: kind, name, unit, points [{size [SI], value, half, label}], next, best [SI] or None.
    """
    unit = KINDS[data["kind"]].shown[system]
    rows = [
        {
            "x": from_si(one["size"], unit, data["kind"]),
            "y": one["value"],
            "low": one["value"] - one["half"],
            "high": one["value"] + one["half"],
            "label": one["label"],
        }
        for one in data["points"]
    ]
    x = {
        "type": "quantitative",
        "title": f"{data['name']}, {unit}",
        "scale": {"zero": False, "nice": True},
        "axis": {"grid": False},
    }
    y = {"type": "quantitative", "title": f"against the reference, {data['unit']}"}
    layers: list[Spec] = [
        {
            "data": {"values": [{"y": 0}]},
            "mark": {"type": "rule", "color": INK, "strokeDash": [4, 3]},
            "encoding": {"y": y | {"field": "y"}},
        },
        {
            "data": {"values": [{"x": from_si(data["next"], unit, data["kind"])}]},
            "mark": {"type": "rule", "color": AMBER, "strokeDash": [5, 4], "strokeWidth": 2},
            "encoding": {"x": x | {"field": "x"}},
        },
        span(rows, {"type": "rule", "strokeWidth": 2, "color": PETROL}, x | {"field": "x"}, y),
        {
            "data": {"values": rows},
            "mark": {"type": "point", "filled": True, "size": 60, "color": PETROL},
            "encoding": {"x": x | {"field": "x"}, "y": y | {"field": "y"}},
        },
        {
            "data": {"values": rows},
            "mark": {"type": "text", "dx": 14, "align": "left", "color": INK},
            "encoding": {
                "x": x | {"field": "x"},
                "y": y | {"field": "y"},
                "text": {"field": "label"},
            },
        },
    ]
    return chart(layers, 220)


def panel(data: dict[str, Any], system: str) -> Spec:
    """What each judge gave each sample, and the mean of the judges with its standard uncertainty.

    ``data``: unit, title, most, samples [{name, mean, u}] with the best first, points [{name, value,
    judge, apart}].
    """
    means = [
        one | {"low": one["mean"] - one["u"], "high": one["mean"] + one["u"]}
        for one in data["samples"]
    ]
    y = {
        "field": "name",
        "type": "nominal",
        "sort": None,
        "title": None,
        "scale": {"domain": [one["name"] for one in means]},
        "axis": {"labelLimit": 220, "labelColor": INK, "labelFontSize": 13, "grid": False},
    }
    x = {
        "type": "quantitative",
        "title": data["title"],
        "scale": {"domain": [0, data["most"]]},
        "axis": {"grid": True, "tickCount": 6},
    }
    layers: list[Spec] = [
        {
            "data": {"values": data["points"]},
            "mark": {"type": "point", "size": 60, "opacity": 0.8, "strokeWidth": 1.5},
            "encoding": {
                "y": y,
                "x": x | {"field": "value"},
                "stroke": {"condition": {"test": "datum.apart", "value": AMBER}, "value": SECOND},
                "shape": {
                    "condition": {"test": "datum.apart", "value": "diamond"},
                    "value": "circle",
                },
                "tooltip": [
                    {"field": "judge", "title": "Judge"},
                    {"field": "value", "title": data["unit"], "format": ",.3~g"},
                ],
            },
        },
        span(means, {"type": "rule", "strokeWidth": 2, "color": PETROL}, y, x, "x"),
        {
            "data": {"values": means},
            "mark": {"type": "tick", "thickness": 3, "size": 18, "color": PETROL},
            "encoding": {"y": y, "x": x | {"field": "mean"}},
        },
    ]
    return chart(layers, 30 * max(len(means), 1))


SHAPES = ("diamond", "circle", "triangle-up", "square")
"""What was measured, all guesses, designers, the Desk."""


def guesses(data: dict[str, Any], system: str) -> Spec:
    """What was measured beside what was guessed and foretold, entry by entry.

    ``data``: kind (empty for places), label, entries [name in order], who [name, what was measured
    first], points [{name, who, value [SI]}], spread [{name, low, high}] of the guesses.
    """
    kind = data["kind"]
    unit = KINDS[kind].shown[system] if kind else ""

    def shown(value: float) -> float:
        return float(from_si(value, unit, kind)) if kind else value

    points = [one | {"value": shown(one["value"])} for one in data["points"]]
    spread = [
        one | {"low": shown(one["low"]), "high": shown(one["high"])} for one in data["spread"]
    ]
    y = {
        "field": "name",
        "type": "nominal",
        "sort": None,
        "title": None,
        "scale": {"domain": data["entries"]},
        "axis": {"labelLimit": 220, "labelColor": INK, "labelFontSize": 13, "grid": False},
    }
    x = {
        "type": "quantitative",
        "title": f"{data['label']}, {unit}" if unit else data["label"],
        "scale": {"zero": False, "nice": True},
        "axis": {"grid": True, "tickCount": 6},
    }
    who = data["who"]
    inks = {"domain": who, "range": [INK, SECOND, PETROL, AMBER][: len(who)]}
    layers: list[Spec] = [
        span(
            spread, {"type": "rule", "strokeWidth": 2, "color": SECOND, "opacity": 0.6}, y, x, "x"
        ),
        {
            "data": {"values": points},
            "mark": {"type": "point", "size": 70, "opacity": 1, "strokeWidth": 2},
            "encoding": {
                "y": y,
                "x": x | {"field": "value"},
                "shape": {
                    "field": "who",
                    "type": "nominal",
                    "scale": {"domain": who, "range": list(SHAPES[: len(who)])},
                },
                "stroke": {"field": "who", "type": "nominal", "scale": inks},
                "fill": {
                    "condition": {"test": f"datum.who === '{who[0]}'", "value": INK},
                    "value": PAPER,
                },
                "tooltip": [
                    {"field": "who", "title": "Who"},
                    {"field": "value", "title": unit or "place", "format": ",.4~g"},
                ],
            },
        },
    ]
    return chart(layers, 30 * max(len(data["entries"]), 1))
