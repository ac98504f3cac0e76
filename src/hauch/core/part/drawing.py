"""A handed-in part cut open in its place: what fits, and what sticks out in red."""

from __future__ import annotations

import math

import numpy as np

from hauch.core.geometry.drawing import Drawing, Layer
from hauch.core.geometry.envelope import Envelope
from hauch.core.part import MM
from hauch.core.part.pose import PLAY, Placed, placed_at
from hauch.core.part.sections import plane_cuts

MOST_POINTS = 600
"""Points of a line that is kept for the drawing."""


Lines = list[list[list[float]]]


def cut_open(placed: Placed) -> tuple[Lines, float]:
    """Lines of the cut through the axis, as (z, y) [m], holes running the other way round; and how
    far beside the axis it was cut [m]. Where something sticks out the cut goes through the farthest
    of it: a rotor is turned about its axis, anything else is cut beside it.
    """
    mesh, level = placed.mesh, 0.0
    if placed.outside.any():
        points = np.asarray(mesh.vertices)[placed.outside]
        worst = points[np.argmax(np.hypot(points[:, 0], points[:, 1]))]
        if placed.bore is not None:
            mesh = placed_at(
                mesh, _turn_about_z(math.pi / 2 - math.atan2(worst[1], worst[0])), np.zeros(3)
            )
        else:
            level = 0.98 * float(worst[0])
    _, loops = next(iter(plane_cuts(mesh, 0, [level])), (0.0, []))
    made = []
    for loop in sorted(loops, key=lambda c: -abs(c.area))[:80]:
        points = loop.points[:: max(len(loop.points) // MOST_POINTS, 1)]  # (y, z)
        made.append([[round(float(z) * MM, 6), round(float(y) * MM, 6)] for y, z in points])
    return made, level * MM


def _turn_about_z(angle: float) -> np.ndarray:
    c, s = math.cos(angle), math.sin(angle)
    return np.array([[c, -s, 0], [s, c, 0], [0, 0, 1]])


def section_drawing(lines: Lines, envelope: Envelope, beside: float = 0.0) -> Drawing:
    """The cut in the outline of its place, its longer side across; pieces of its lines that lie
    outside are drawn over in red. What is to be kept free is filled where the cut goes through it,
    an outline where it lies before or behind.

    Parameters
    ----------
    lines, beside : as `cut_open` gives them
    """
    d = Drawing("The part cut through its axis, in its envelope")
    low, high = _place(envelope)
    lying = high[1] - low[1] > high[0] - low[0]
    at = (lambda z, y: (y, z)) if lying else (lambda z, y: (z, y))

    def box(z: float, y: float, dz: float, dy: float, layer: Layer) -> None:
        x0, y0 = at(z, y)
        x1, y1 = at(z + dz, y + dy)
        d.box(x0, y0, x1 - x0, y1 - y0, layer)

    for line in lines:
        d.shape([at(z, y) for z, y in line], "body" if _area(line) < 0 else "hollow")
    box(low[0], low[1], high[0] - low[0], high[1] - low[1], "space")
    if envelope.family == "rotor":
        for side in (0.5, -0.5):
            d.line(
                at(low[0] - 0.004, side * envelope["shaft"]),
                at(high[0] + 0.004, side * envelope["shaft"]),
                layer="thin",
            )
    for keep in envelope.keep_outs:
        cut = keep.box.at[0] <= beside <= keep.box.at[0] + keep.box.size[0]
        layer: Layer = "keep_out" if cut else "thin"
        box(keep.box.at[2], keep.box.at[1], keep.box.size[2], keep.box.size[1], layer)
    d.line(at(low[0] - 0.01, 0), at(high[0] + 0.01, 0), layer="axis")
    for line in lines:
        for run in _over(line, low, high):
            d.line(*(at(z, y) for z, y in run), layer="over")
    return d


def _place(envelope: Envelope) -> tuple[tuple[float, float], tuple[float, float]]:
    """Least and greatest (z, y) that the envelope leaves [m]."""
    if envelope.family == "rotor":
        return (0.0, -envelope.swept_radius), (envelope["depth"], envelope.swept_radius)
    if envelope.family == "ring":
        return (0.0, -envelope["neck_drop"]), (envelope["depth"], envelope["outer"] / 2)
    return (0.0, -envelope["height"] / 2), (envelope["length"], envelope["height"] / 2)


def _area(line: list[list[float]]) -> float:
    z, y = np.array(line).T
    return float((z * np.roll(y, -1) - np.roll(z, -1) * y).sum() / 2)


def _over(
    line: list[list[float]], low: tuple[float, float], high: tuple[float, float]
) -> list[list[tuple[float, float]]]:
    """Pieces of a line that lie outside of the place."""
    play = PLAY * MM
    runs: list[list[tuple[float, float]]] = [[]]
    for z, y in [*line, line[0]]:
        if low[0] - play <= z <= high[0] + play and low[1] - play <= y <= high[1] + play:
            if runs[-1]:
                runs.append([])
        else:
            runs[-1].append((z, y))
    return [run for run in runs if len(run) > 1]
