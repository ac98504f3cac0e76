"""A handed-in part cut open in its place: what fits, and what sticks out in red."""

from __future__ import annotations

from typing import Any

import numpy as np

from hauch.core.geometry.drawing import Drawing
from hauch.core.geometry.envelope import Envelope
from hauch.core.part import MM
from hauch.core.part.pose import PLAY, Placed
from hauch.core.part.sections import plane_cuts

MOST_POINTS = 600
"""Points of a line that is kept for the drawing."""


def cut_open(placed: Placed) -> list[list[list[float]]]:
    """Lines of the cut through the axis, as (z, y) [m]; holes run the other way round."""
    _, loops = next(iter(plane_cuts(placed.mesh, 0, [0.0])), (0.0, []))
    made = []
    for loop in sorted(loops, key=lambda c: -abs(c.area))[:80]:
        points = loop.points[:: max(len(loop.points) // MOST_POINTS, 1)]  # (y, z)
        made.append([[round(float(z) * MM, 6), round(float(y) * MM, 6)] for y, z in points])
    return made


def section_drawing(lines: list[list[list[float]]], envelope: Envelope) -> Drawing:
    """The cut in the outline of its place; pieces of its lines that lie outside are drawn over in red."""
    d = Drawing("The part cut through its axis, in its envelope")
    low, high = _place(envelope)
    for line in lines:
        area = _area(line)
        d.shape([(z, y) for z, y in line], "body" if area < 0 else "hollow")
    d.box(low[0], low[1], high[0] - low[0], high[1] - low[1], "space")
    if envelope.part == "rotor":
        shaft = envelope["shaft"] / 2
        d.line((low[0] - 0.004, shaft), (high[0] + 0.004, shaft), layer="thin")
        d.line((low[0] - 0.004, -shaft), (high[0] + 0.004, -shaft), layer="thin")
    for keep in envelope.keep_outs:
        d.box(keep.box.at[2], keep.box.at[1], keep.box.size[2], keep.box.size[1], "keep_out")
    d.line((low[0] - 0.01, 0), (high[0] + 0.01, 0), layer="axis")
    for line in lines:
        _over(d, line, low, high)
    return d


def _place(envelope: Envelope) -> tuple[tuple[float, float], tuple[float, float]]:
    """Least and greatest (z, y) that the envelope leaves [m]."""
    if envelope.part == "rotor":
        return (0.0, -envelope.swept_radius), (envelope["depth"], envelope.swept_radius)
    if envelope.part == "ring":
        return (0.0, -envelope["neck_drop"]), (envelope["depth"], envelope["outer"] / 2)
    return (0.0, -envelope["height"] / 2), (envelope["length"], envelope["height"] / 2)


def _area(line: list[list[float]]) -> float:
    z, y = np.array(line).T
    return float((z * np.roll(y, -1) - np.roll(z, -1) * y).sum() / 2)


def _over(d: Drawing, line: list[list[float]], low: Any, high: Any) -> None:
    play = PLAY * MM
    run: list[tuple[float, float]] = []
    for z, y in [*line, line[0]]:
        outside = not (low[0] - play <= z <= high[0] + play and low[1] - play <= y <= high[1] + play)
        if outside:
            run.append((z, y))
        elif run:
            if len(run) > 1:
                d.line(*run, layer="over")
            run = []
    if len(run) > 1:
        d.line(*run, layer="over")
