"""Drawings as SVG: to scale, dimensioned, in the page's inks or, as a file of its own, in black."""

from __future__ import annotations

import itertools
import math
from collections.abc import Callable
from html import escape

import numpy as np

from hauch.core.geometry.drawing import Dimension, Drawing, Point

STEP = 24.0
"""Distance between levels of dimensions [px]."""
EDGE = 26.0
"""Room around the drawing [px], besides its dimensions."""
TEXT = 12
SOLID = {"part", "mount", "heat", "body", "hollow", "stalled", "stream", "keep_out"}
"""Layers of which no dimension is drawn across; spaces, axes and thin lines may be."""

_ALONE = """<style>text{font:12px sans-serif;fill:#10252e}.part,.mount,.heat{fill:none;stroke:#10252e;stroke-width:1.5}.mount{stroke-width:1}
.thin,.dim{fill:none;stroke:#4a616b;stroke-width:.8}.axis{fill:none;stroke:#4a616b;stroke-width:.8;stroke-dasharray:10 3 2 3}
.space{fill:none;stroke:#006872;stroke-width:1.2;stroke-dasharray:5 3}.keep_out{fill:#ad231c;fill-opacity:.12;stroke:#ad231c}
.flow{stroke:#006872;stroke-width:1.5;fill:none}.wide{fill:none;stroke:#006872}.tip{fill:#006872}.dimtip{fill:#4a616b}.body{fill:#cfdadc;stroke:#10252e;stroke-width:1.2}.hollow{fill:#fff;stroke:#4a616b;stroke-width:.8}.stalled{fill:#fbeccb;stroke:#8a5200;stroke-width:1.5}
.stream{fill:#006872;fill-opacity:.14;stroke:none}.sensor{fill:#fff;stroke:#006872;stroke-width:1.5}</style>"""  # noqa: E501


def to_svg(
    drawing: Drawing,
    length: Callable[[float], str],
    width: float = 760.0,
    height: float = 380.0,
    *,
    alone: bool = False,
) -> str:
    """Write a drawing.

    Parameters
    ----------
    drawing : the shapes [m]
    length : writes a length [m] with its unit
    width, height : of the picture [px]
    alone : with its own styles, to be opened outside the application
    """
    return _Writer(drawing, length, width, height).svg(alone=alone)


class _Writer:
    def __init__(
        self, drawing: Drawing, length: Callable[[float], str], width: float, height: float
    ):
        self.drawing, self.length = drawing, length
        self.boxes: list[tuple[float, float, float, float]] = []
        self.placed: list[tuple[str, float, float, float]] = []
        levels = {
            side: max((d.level for d in drawing.dimensions if d.side == side), default=0)
            for side in ("below", "above", "left", "right")
        }
        left, right, above, below = (
            EDGE + levels[s] * STEP for s in ("left", "right", "above", "below")
        )
        x0, y0, x1, y1 = drawing.bounds()
        self.scale = min(
            (width - left - right) / max(x1 - x0, 1e-9),
            (height - above - below) / max(y1 - y0, 1e-9),
        )
        self.width = left + right + (x1 - x0) * self.scale
        self.height = above + below + (y1 - y0) * self.scale
        self.x0, self.y1, self.left, self.above = x0, y1, left, above
        self.in_the_way = self._edges()

    def _edges(self) -> np.ndarray:
        """Straight pieces of all that a dimension must not be drawn across: x and y of both ends
        [px] and the number of the closed shape (-1 where it is open), shape (n, 5).
        """
        pieces: list[tuple[Point, Point, int]] = []
        for number, path in enumerate(self.drawing.paths):
            if path.layer in SOLID:
                points = [*path.points, path.points[0]] if path.closed else list(path.points)
                shape = number if path.closed else -1
                pieces += [(a, b, shape) for a, b in itertools.pairwise(points)]
        for circle in self.drawing.circles:
            if circle.layer in SOLID:
                (x, y), r = circle.centre, circle.radius
                ring = [
                    (x + r * math.cos(2 * math.pi * k / 32), y + r * math.sin(2 * math.pi * k / 32))
                    for k in range(33)
                ]
                number = len(self.drawing.paths) + len(pieces)
                pieces += [(a, b, number) for a, b in itertools.pairwise(ring)]
        pieces += [(arrow.start, arrow.end, -1) for arrow in self.drawing.arrows]
        return np.array([[*self.at(a), *self.at(b), n] for a, b, n in pieces]).reshape(-1, 5)

    def _place(self, d: Dimension) -> float:
        """Where the line of a dimension stands [px]: the first level from its own on that crosses
        nothing, and lies in no part.
        """
        (x0, y0), (x1, y1) = self.at(d.start), self.at(d.end)
        flat = d.side in {"below", "above"}
        outwards = 1.0 if d.side in {"below", "right"} else -1.0
        along = (min(x0, x1), max(x0, x1)) if flat else (min(y0, y1), max(y0, y1))
        edge = {"below": max(y0, y1), "above": min(y0, y1), "left": min(x0, x1)}
        from_ = edge.get(d.side, max(x0, x1))
        for level in range(d.level, d.level + 40):
            place = from_ + outwards * level * STEP
            taken = any(
                side == d.side and abs(place - where) < STEP - 1 and along[0] < b and a < along[1]
                for side, where, a, b in self.placed
            )
            if not taken and not _crossed(self.in_the_way, place, along, int(flat)):
                break
        if not d.quiet:
            self.placed.append((d.side, place, *along))
        return place

    def at(self, point: Point) -> tuple[float, float]:
        return (
            self.left + (point[0] - self.x0) * self.scale,
            self.above + (self.y1 - point[1]) * self.scale,
        )

    def svg(self, *, alone: bool) -> str:
        d = self.drawing
        parts = [_ALONE] if alone else []
        for path in d.paths:
            points = " ".join(f"{x:.1f},{y:.1f}" for x, y in map(self.at, path.points))
            parts.append(
                f'<{"polygon" if path.closed else "polyline"} class="{path.layer}"'
                f' points="{points}"{_of(path.of)}/>'
            )
        for circle in d.circles:
            x, y = self.at(circle.centre)
            parts.append(
                f'<circle class="{circle.layer}" cx="{x:.1f}" cy="{y:.1f}"'
                f' r="{circle.radius * self.scale:.1f}"/>'
            )
        for arrow in d.arrows:
            (x0, y0), (x1, y1) = self.at(arrow.start), self.at(arrow.end)
            wide = (
                f' stroke-width="{arrow.width * self.scale:.1f}" stroke-opacity=".35"'
                if arrow.width
                else ""
            )
            parts.append(
                f'<path class="{"wide" if wide else arrow.layer}" d="M{x0:.1f} {y0:.1f}L{x1:.1f}'
                f' {y1:.1f}"{wide}/>{_tip((x0, y0), (x1, y1), "tip", 7)}'
            )
        shown = [one for one in d.dimensions if not (one.quiet and alone)]
        in_order = sorted(shown, key=lambda one: one.quiet)
        parts += [self._dimension(dimension) for dimension in in_order]
        for note in d.notes:
            text = note.text if note.length is None else f"{note.text} {self.length(note.length)}"
            parts.append(self._text(*self.at(note.at), text, note.anchor, "note", of=note.of))
        for sensor in d.sensors:
            x, y = self.at(sensor.at)
            parts.append(
                f'<circle class="sensor" cx="{x:.1f}" cy="{y:.1f}" r="9"/><text x="{x:.1f}"'
                f' y="{y + 4:.1f}" text-anchor="middle">{sensor.letter}</text>'
            )
        sensors = "; ".join(f"{s.letter} {s.label.lower()}" for s in d.sensors)
        label = escape(d.title + (f", sensors: {sensors}" if sensors else ""), quote=True)
        x0, y0 = min([0.0, *(b[0] for b in self.boxes)]), min([0.0, *(b[1] for b in self.boxes)])
        x1, y1 = (
            max([self.width, *(b[2] for b in self.boxes)]),
            max([self.height, *(b[3] for b in self.boxes)]),
        )
        return (
            f'<svg class="drawing" xmlns="http://www.w3.org/2000/svg" width="{x1 - x0:.0f}"'
            f' height="{y1 - y0:.0f}" viewBox="{x0:.0f} {y0:.0f} {x1 - x0:.0f} {y1 - y0:.0f}"'
            ' role="img"'
            f' aria-label="{label}"><title>{escape(d.title)}</title>{"".join(parts)}</svg>'
        )

    def _dimension(self, d: Dimension) -> str:
        (x0, y0), (x1, y1) = self.at(d.start), self.at(d.end)
        text = f"{'' if d.known else '≈ '}{d.prefix}{self.length(d.value)}"
        if d.side in {"below", "above"}:
            y = self._place(d)
            lines = (
                f"M{x0:.1f} {y0:.1f}V{y:.1f}M{x1:.1f} {y1:.1f}V{y:.1f}M{x0:.1f} {y:.1f}H{x1:.1f}"
            )
            ends = (x0, y), (x1, y)
            fits = abs(x1 - x0) > _wide(text)
            written = (
                self._text((x0 + x1) / 2, y - 4, text, "middle")
                if fits
                else self._text(max(x0, x1) + 5, y + 4, text, "start")
            )
        else:
            x = self._place(d)
            lines = (
                f"M{x0:.1f} {y0:.1f}H{x:.1f}M{x1:.1f} {y1:.1f}H{x:.1f}M{x:.1f} {y0:.1f}V{y1:.1f}"
            )
            ends = (x, y0), (x, y1)
            fits = abs(y1 - y0) > _wide(text)
            written = (
                self._text(x - 4, (y0 + y1) / 2, text, "middle", turned=True)
                if fits
                else self._text(x + 4, min(y0, y1) - 5, text, "start", turned=True)
            )
        tips = _tip(ends[0], ends[1], "dimtip", 5) + _tip(ends[1], ends[0], "dimtip", 5)
        low, high = np.min([*ends, (x0, y0), (x1, y1)], axis=0), np.max(ends, axis=0)
        self.boxes.append((low[0] - 2, low[1] - 2, high[0] + 2, high[1] + 2))
        name = "dimension quiet" if d.quiet else "dimension"
        return f'<g class="{name}"{_of(d.of)}><path class="dim" d="{lines}"/>{tips}{written}</g>'

    def _text(
        self,
        x: float,
        y: float,
        text: str,
        anchor: str,
        name: str = "figure-text",
        *,
        turned: bool = False,
        of: str = "",
    ) -> str:
        """Text, and a note of the room that it takes."""
        start = {"start": 0.0, "middle": -0.5, "end": -1.0}[anchor] * _wide(text)
        along, across = (start, start + _wide(text)), (-TEXT, 5.0)
        self.boxes.append(
            (x + across[0], y - along[1], x + across[1], y - along[0])
            if turned
            else (x + along[0], y + across[0], x + along[1], y + across[1])
        )
        turn = f' transform="rotate(-90 {x:.1f} {y:.1f})"' if turned else ""
        return (
            f'<text class="{name}" x="{x:.1f}" y="{y:.1f}"'
            f' text-anchor="{anchor}"{turn}{_of(of)}>{escape(text)}</text>'
        )


def _of(name: str) -> str:
    return f' data-of="{escape(name, quote=True)}"' if name else ""


def _crossed(pieces: np.ndarray, place: float, along: tuple[float, float], across: int) -> bool:
    """Whether a line at ``place`` on axis ``across`` (0 for x), from and to ``along`` on the other,
    meets one of the pieces, or lies within a shape that they enclose.
    """
    if not len(pieces):
        return False
    down = 1 - across
    a, b = pieces[:, across], pieces[:, across + 2]
    met = (a - place) * (b - place) < 0
    share = np.where(met, (place - a) / np.where(met, b - a, 1.0), 0.0)
    at = pieces[:, down] + share * (pieces[:, down + 2] - pieces[:, down])
    if bool((met & (at > along[0] + 1) & (at < along[1] - 1)).any()):
        return True
    beyond = pieces[met & (at >= along[1] - 1) & (pieces[:, 4] >= 0), 4].astype(int)
    if bool((np.bincount(beyond) % 2).any()):
        return True
    flat = ~met & (np.abs(a - place) < 3) & (np.abs(b - place) < 3)
    low, high = (
        np.minimum(pieces[:, down], pieces[:, down + 2]),
        np.maximum(pieces[:, down], pieces[:, down + 2]),
    )
    return bool((flat & (low < along[1] - 1) & (high > along[0] + 1)).any())


def _wide(text: str) -> float:
    """About how wide a text is [px]."""
    return 6.9 * len(text) + 6


def _tip(start: Point, end: Point, name: str, size: float) -> str:
    dx, dy = end[0] - start[0], end[1] - start[1]
    length = math.hypot(dx, dy)
    if length < 1e-6:
        return ""
    ux, uy = dx / length, dy / length
    base = end[0] - size * ux, end[1] - size * uy
    half = size * 0.38
    return (
        f'<polygon class="{name}" points="{end[0]:.1f},{end[1]:.1f}'
        f" {base[0] - half * uy:.1f},{base[1] + half * ux:.1f}"
        f' {base[0] + half * uy:.1f},{base[1] - half * ux:.1f}"/>'
    )
