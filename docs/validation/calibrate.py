"""Simulates what is stated and writes docs/calibration.md, its plots, and the table of it in
docs/method.md. Run by `./hauch validation`; seeded, so that it comes out alike.
"""

from __future__ import annotations

import json
import re
from itertools import groupby
from pathlib import Path
from typing import Any

import numpy as np
import vl_convert

from tests.simulated import CASES, PLANE, STATED, Stated, first_told, settled, steady_alarms

HERE = Path(__file__).parent
FIGURES = HERE / "calibration.json"
METHOD = HERE.parent / "method.md"
INK, PETROL, AMBER = "#10252e", "#006872", "#8a5200"

GROUPS = {
    "reductions": "Reductions",
    "comparison": "Differences and prints",
    "ranks": "Ranks and probabilities",
    "settling": "Settling and forecasts",
    "charts": "Control charts",
    "traces": "Faults in traces",
}


def plot(name: str, spec: dict[str, Any]) -> None:
    whole = {"width": 460, "background": "white", **spec}
    (HERE / f"{name}.svg").write_text(vl_convert.vegalite_to_svg(whole) + "\n", encoding="utf-8")


def axis(field: str, title: str, kind: str = "quantitative", **more: Any) -> dict[str, Any]:
    return {"field": field, "type": kind, "title": title, **more}


def coverage_plot(figures: dict[str, float]) -> None:
    """A point for each reduction, with the doubt of the simulation."""
    rows = []
    for stated in STATED:
        if stated.group == "reductions":
            share = figures[stated.key] / 100
            half = 196 * (share * (1 - share) / stated.repeats) ** 0.5
            what = CASES[stated.key.removeprefix("held_")][1]
            rows.append(
                {"what": what, "x": 100 * share, "a": 100 * share - half, "b": 100 * share + half}
            )
    y = axis("what", "", "nominal", sort=None, axis={"labelLimit": 300})
    scale = {"domain": [90, 100], "zero": False}
    plot(
        "calibration_reductions",
        {
            "title": "95 % intervals that hold the truth",
            "height": {"step": 17},
            "data": {"values": rows},
            "layer": [
                {
                    "mark": {"type": "rule", "color": AMBER},
                    "encoding": {"x": {"datum": 95, "scale": scale}},
                },
                {
                    "mark": {"type": "rule", "color": PETROL},
                    "encoding": {"y": y, "x": axis("a", "%", scale=scale), "x2": {"field": "b"}},
                },
                {
                    "mark": {"type": "point", "filled": True, "color": PETROL},
                    "encoding": {"y": y, "x": axis("x", "%", scale=scale)},
                },
            ],
        },
    )


def reliability_plot() -> None:
    """How often an entry was first, over what was told, for two spreads of the entries."""
    rows = []
    for spread, repeats in ((0.01, 2500), (0.03, 2500)):
        found = first_told(6, spread, repeats)
        at = np.minimum((found[:, 0] * 10).astype(int), 9)
        for k in range(10):
            chosen = found[at == k]
            if len(chosen) > 20:
                told, was = chosen.mean(axis=0)
                label = f"entries differ by {100 * spread:g} %"
                rows.append({"told": 100 * told, "was": 100 * was, "what": label})
    plot(
        "calibration_first",
        {
            "title": "First of six: told and true",
            "height": 320,
            "layer": [
                {
                    "data": {"values": [{"told": 0, "was": 0}, {"told": 100, "was": 100}]},
                    "mark": {"type": "line", "color": INK, "strokeDash": [4, 4]},
                    "encoding": {"x": axis("told", "told, %"), "y": axis("was", "was first, %")},
                },
                {
                    "data": {"values": rows},
                    "mark": {"type": "point", "filled": True, "size": 60},
                    "encoding": {
                        "x": axis("told", "told, %"),
                        "y": axis("was", "was first, %"),
                        "color": axis("what", "", "nominal", scale={"range": [AMBER, PETROL]}),
                        "shape": axis("what", "", "nominal"),
                    },
                },
            ],
        },
    )


def plane_plot() -> None:
    """Intervals that hold over shares and ratios of two bodies."""
    rows = [
        {
            "share": f"{100 * cell.share:.0f}",
            "ratio": f"{cell.ratio:g}",
            "long": f"soak of {1 / cell.long:g} time constants",
            "held": 100 * settled(cell, 1000 * number + seed)[0],
        }
        for number, cell in enumerate(PLANE)
        for seed in range(10)
    ]
    held = axis(
        "held", "%", aggregate="mean", scale={"domain": [80, 100], "range": ["#8a5200", "#006872"]}
    )
    plot(
        "calibration_plane",
        {
            "title": "Two bodies: ends of soaks that hold, 20 simulations a cell",
            "data": {"values": rows},
            "facet": axis(
                "long", "", "nominal", sort=[f"soak of {n} time constants" for n in (1, 2, 4, 10)]
            ),
            "columns": 2,
            "spec": {
                "width": 200,
                "height": 110,
                "encoding": {
                    "x": axis("share", "share of the light body, %", "ordinal", sort=None),
                    "y": axis("ratio", "ratio of time constants", "ordinal", sort=None),
                },
                "layer": [
                    {"mark": "rect", "encoding": {"color": held}},
                    {
                        "mark": {"type": "text", "fontSize": 10, "color": INK},
                        "encoding": {
                            "text": axis("held", "", aggregate="mean", format=".0f"),
                            "color": {"value": "white"},
                        },
                    },
                ],
            },
        },
    )


def charts_plot() -> None:
    rows = []
    for base in (8, 10, 14, 20, 30, 40):
        rows.append({"base": base, "alarms": 100 * steady_alarms(base, 5000)[0]})
    plot(
        "calibration_charts",
        {
            "title": "Steady references that alarm within 100 runs",
            "height": 200,
            "data": {"values": rows},
            "layer": [
                {
                    "mark": {"type": "point", "filled": True, "size": 60, "color": PETROL},
                    "encoding": {
                        "x": axis("base", "runs from which the limits come", scale={"zero": True}),
                        "y": axis("alarms", "%", scale={"domain": [0, 50]}),
                    },
                },
                {"mark": {"type": "rule", "color": AMBER}, "encoding": {"y": {"datum": 18}}},
            ],
        },
    )


def told(stated: Stated, value: float) -> str:
    """A figure as it is printed."""
    if stated.unit == "runs":
        return f"{value:.0f} runs"
    if stated.unit == "K":
        return f"{value:.2f} K"
    if stated.unit == "points":
        return f"{value:+.0f} points".replace("-0", "0").replace("+0", "0").replace("-", "−")
    digits = 2 if value < 1 else 1
    return f"{value:.{digits}f}{' ' + stated.unit if stated.unit else ''}"


def table(figures: dict[str, float], group: str) -> str:
    lines = ["| simulated | figure | repeats |", "|---|---|---|"]
    for stated in STATED:
        if stated.group == group:
            lines.append(
                f"| {stated.what} | {told(stated, figures[stated.key])} | {stated.repeats:,} |"
            )
    return "\n".join(lines)


def short_table(figures: dict[str, float]) -> str:
    """For the notes on method: figures of one kind in one line, with the values they stand for."""
    lines = ["| simulated | figures |", "|---|---|"]
    for key, some in groupby(STATED, lambda s: (s.group, s.key.split("_")[0])):
        row = list(some)
        if key == ("reductions", "held"):
            values = [figures[s.key] for s in row]
            lines.append(
                f"| intervals that hold the truth, {len(row)} reductions |"
                f" {min(values):.1f} to {max(values):.1f} % |"
            )
            continue
        lines += [f"| {s.what} | {told(s, figures[s.key])} |" for s in row]
    return "\n".join(lines)


def with_table(method: str, figures: dict[str, float]) -> str:
    """The notes on method with the table of simulated figures put in anew."""
    return re.sub(
        r"(<!-- simulated -->\n).*?(\n<!-- end -->)",
        lambda found: found[1] + short_table(figures) + found[2],
        method,
        flags=re.DOTALL,
    )


def main() -> None:
    figures = {stated.key: round(stated.run(stated.repeats), 4) for stated in STATED}
    FIGURES.write_text(json.dumps(figures, indent=1) + "\n", encoding="utf-8")
    coverage_plot(figures)
    reliability_plot()
    plane_plot()
    charts_plot()
    page = (HERE / "calibration_template.md").read_text(encoding="utf-8")
    for group in GROUPS:
        page = page.replace(f"@{group.upper()}@", table(figures, group))
    (HERE.parent / "calibration.md").write_text(page, encoding="utf-8")
    METHOD.write_text(with_table(METHOD.read_text(encoding="utf-8"), figures), encoding="utf-8")


if __name__ == "__main__":
    main()
