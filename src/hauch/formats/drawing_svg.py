"""Drawings as SVG: to scale, dimensioned, in the page's inks or, as a file of its own, in black."""

from __future__ import annotations

import math
from collections.abc import Callable
from html import escape

from hauch.core.geometry.drawing import Dimension, Drawing, Point

STEP = 24.0
"""Distance between levels of dimensions [px]."""
EDGE = 26.0
"""Room around the drawing [px], besides its dimensions."""
TEXT = 12

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
                f' points="{points}"/>'
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
        parts += [self._dimension(dimension) for dimension in d.dimensions]
        for note in d.notes:
            text = note.text if note.length is None else f"{note.text} {self.length(note.length)}"
            parts.append(self._text(*self.at(note.at), text, note.anchor, "note"))
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
        reach = d.level * STEP
        if d.side in {"below", "above"}:
            y = max(y0, y1) + reach if d.side == "below" else min(y0, y1) - reach
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
            x = max(x0, x1) + reach if d.side == "right" else min(x0, x1) - reach
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
        return f'<path class="dim" d="{lines}"/>{tips}{written}'

    def _text(
        self,
        x: float,
        y: float,
        text: str,
        anchor: str,
        name: str = "figure-text",
        *,
        turned: bool = False,
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
            f' text-anchor="{anchor}"{turn}>{escape(text)}</text>'
        )


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
