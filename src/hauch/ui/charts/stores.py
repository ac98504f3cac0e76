"""Charts of the stores: how a reference keeps, a calibration, a profile."""

from __future__ import annotations

from typing import Any

from hauch.core.quantity.units import KINDS, factor_from_si, from_si
from hauch.ui.charts.theme import AMBER, DANGER, INK, PETROL, SECOND, Spec, chart, ground, span


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
        band = {"type": "area", "color": PETROL, "opacity": 0.15}
        layers.append(span(points, band, x | {"field": "n"}, y))
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
        span(band, {"type": "area", "color": PETROL, "opacity": 0.15}, x | {"field": "at"}, y),
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
