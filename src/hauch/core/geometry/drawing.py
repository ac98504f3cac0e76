"""A drawing as plain shapes in metres, y upwards, for the writers of SVG and DXF."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, field
from typing import Literal

import numpy as np

Layer = Literal[
    "over",
    "part",
    "thin",
    "axis",
    "mount",
    "keep_out",
    "space",
    "sensor",
    "flow",
    "heat",
    "body",
    "hollow",
    "stalled",
    "stream",
]
Side = Literal["below", "above", "left", "right"]
Point = tuple[float, float]


@dataclass(frozen=True, slots=True)
class Path:
    """A polyline; closed ones may be filled by their layer. ``of`` as in a `Dimension`."""

    points: tuple[Point, ...]
    layer: Layer
    closed: bool = False
    of: str = ""


@dataclass(frozen=True, slots=True)
class Circle:
    """A circle."""

    centre: Point
    radius: float
    layer: Layer


@dataclass(frozen=True, slots=True)
class Arrow:
    """A flow, from one point to another, as wide as ``width`` [m] (0 for a thin line)."""

    start: Point
    end: Point
    layer: Layer = "flow"
    width: float = 0.0


@dataclass(frozen=True, slots=True)
class Note:
    """Text at a point; ``length`` [m] is written after it in the reader's unit. ``of`` as in a
    `Dimension`.
    """

    at: Point
    text: str
    anchor: Literal["start", "middle", "end"] = "middle"
    length: float | None = None
    of: str = ""


@dataclass(frozen=True, slots=True)
class Sensor:
    """Where a sensor sits: its letter in a ring, explained beside the drawing."""

    at: Point
    letter: str
    label: str


@dataclass(frozen=True, slots=True)
class Dimension:
    """A distance between two points along one axis, drawn on a side at a level (1 is nearest the
    part) or further out where something is in its way.

    ``known`` is False where the figure is only typical and the drawing not to scale there; ``of``
    names the field, or the row of fields, that says it, so that it can be shown while that is being
    typed; ``quiet`` ones are only shown then.
    """

    start: Point
    end: Point
    side: Side
    value: float
    level: int = 1
    prefix: str = ""
    known: bool = True
    of: str = ""
    quiet: bool = False


@dataclass
class Drawing:
    """Shapes of one drawing."""

    title: str
    paths: list[Path] = field(default_factory=list)
    circles: list[Circle] = field(default_factory=list)
    arrows: list[Arrow] = field(default_factory=list)
    notes: list[Note] = field(default_factory=list)
    sensors: list[Sensor] = field(default_factory=list)
    dimensions: list[Dimension] = field(default_factory=list)

    def line(self, *points: Point, layer: Layer = "part") -> None:
        """An open polyline."""
        self.paths.append(Path(points, layer))

    def box(self, x: float, y: float, width: float, height: float, layer: Layer = "part") -> None:
        """A rectangle from its lower left corner."""
        self.paths.append(
            Path(
                ((x, y), (x + width, y), (x + width, y + height), (x, y + height)),
                layer,
                closed=True,
            )
        )

    def shape(self, points: Sequence[Point], layer: Layer = "part", of: str = "") -> None:
        """A closed polyline."""
        self.paths.append(Path(tuple(points), layer, closed=True, of=of))

    def circle(self, centre: Point, radius: float, layer: Layer = "part") -> None:
        """A circle."""
        self.circles.append(Circle(centre, radius, layer))

    def bounds(self) -> tuple[float, float, float, float]:
        """Least and greatest x and y of all shapes."""
        points = (
            [p for path in self.paths for p in path.points]
            + [p for a in self.arrows for p in (a.start, a.end)]
            + [s.at for s in self.sensors]
        )
        for c in self.circles:
            points += [
                (c.centre[0] - c.radius, c.centre[1] - c.radius),
                (c.centre[0] + c.radius, c.centre[1] + c.radius),
            ]
        if not points:
            return 0.0, 0.0, 1.0, 1.0
        table = np.array(points)
        low, high = table.min(axis=0), table.max(axis=0)
        return float(low[0]), float(low[1]), float(high[0]), float(high[1])
