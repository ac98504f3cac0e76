"""One theme for all charts. Inks are names, `ink(petrol)`; the page's style sheet gives the colours
(see assets/charts.js).
"""

from __future__ import annotations

from typing import Any

INK, SECOND, HAIR, PETROL, AMBER, DANGER, REFERENCE, PAPER = (
    f"ink({name})" for name in ("ink", "ink2", "hair", "petrol", "amber", "danger", "ref", "paper")
)
FONT = "Hyper, sans-serif"

CONFIG: dict[str, Any] = {
    "background": None,
    "font": FONT,
    "view": {"stroke": None},
    "axis": {
        "labelColor": SECOND,
        "titleColor": SECOND,
        "labelFontSize": 12,
        "titleFontSize": 12,
        "titleFontWeight": 500,
        "gridColor": HAIR,
        "domain": False,
        "ticks": False,
        "labelFlush": False,
        "labelSeparation": 4,
        "labelPadding": 6,
        "titlePadding": 8,
        "labelFont": FONT,
        "titleFont": FONT,
    },
    "axisY": {
        "titleAngle": 0,
        "titleAlign": "left",
        "titleAnchor": "start",
        "titleY": -12,
        "titleX": 0,
    },
    "legend": {
        "labelColor": SECOND,
        "titleColor": SECOND,
        "labelFontSize": 12,
        "orient": "top",
        "title": None,
        "labelFont": FONT,
    },
    "text": {"font": FONT, "fontSize": 12, "color": INK},
}


Spec = dict[str, Any]


def chart(layers: list[dict[str, Any]], height: int, **more: Any) -> dict[str, Any]:
    """A layered chart as wide as its place."""
    return {
        "width": "container",
        "height": height,
        "autosize": {"type": "fit-x", "contains": "padding"},
        "config": CONFIG,
        "layer": layers,
        **more,
    }


def span(
    rows: list[Spec], mark: Spec, across: Spec, along: Spec, axis: str = "y", **encoding: Any
) -> Spec:
    """A layer from ``low`` to ``high`` of each row along an axis: whiskers as a rule, a band as an
    area.
    """
    other = "x" if axis == "y" else "y"
    return {
        "data": {"values": rows},
        "mark": mark,
        "encoding": {
            other: across,
            axis: along | {"field": "low"},
            f"{axis}2": {"field": "high"},
            **encoding,
        },
    }


def ground(
    low: float, value: float, high: float, axis: str, label: str, labelled: bool = True
) -> list[dict[str, Any]]:
    """The reference as a grey band with a dashed ink line, along x or y; drawn alike in every
    chart.
    """
    data = {"values": [{"low": low, "value": value, "high": high, "label": label}]}
    layers: list[dict[str, Any]] = [
        {
            "data": data,
            "mark": {"type": "rect", "color": REFERENCE, "opacity": 0.3},
            "encoding": {
                axis: {"field": "low", "type": "quantitative"},
                f"{axis}2": {"field": "high"},
            },
        },
        {
            "data": data,
            "mark": {"type": "rule", "color": INK, "strokeDash": [5, 4]},
            "encoding": {axis: {"field": "value", "type": "quantitative"}},
        },
    ]
    if labelled:
        place = (
            {"x": {"value": {"expr": "width"}}, "align": "right", "dy": -8}
            if axis == "y"
            else {"y": {"value": -6}, "align": "center", "dy": 0}
        )
        mark = {"type": "text", "align": place.pop("align"), "dy": place.pop("dy"), "color": SECOND}
        layers.append(
            {
                "data": data,
                "mark": mark,
                "encoding": {
                    axis: {"field": "value", "type": "quantitative"},
                    "text": {"field": "label"},
                    **place,
                },
            }
        )
    return layers
