"""Blades measured on the mesh of a rotor: how many, chord and pitch along the radius, each of them as
sections.

References
----------
Sections on cylinders about the axis, as blade elements are defined (ISO 5801 takes pitch from the
    plane of rotation).
"""

from __future__ import annotations

from collections import Counter
from dataclasses import dataclass, field
from typing import TYPE_CHECKING

import numpy as np
import scipy
from numpy.typing import NDArray

from hauch.core.part import MM
from hauch.core.part.sections import Loop, cylinder_cuts, plane_cuts
from hauch.core.strength.sections import Outline, Sections

if TYPE_CHECKING:
    import trimesh

Floats = NDArray[np.float64]

CUTS = 44
OUTERMOST = 0.99
"""Share of the tip's radius at which the outermost cut lies."""


@dataclass(frozen=True)
class Station:
    """The blades where a cylinder cuts them: radius, mean chord, greatest thickness [mm], pitch
    from the plane of rotation [rad], area of all [mm2]; and their outlines, unrolled (radius times
    angle, z) [mm].
    """

    radius: float
    chord: float
    pitch: float
    thickness: float
    area: float
    outlines: tuple[Floats, ...] = field(default=(), repr=False, compare=False)

    def in_space(self, points: int = 28) -> list[list[list[float]]]:
        """Outlines as closed lines in space (x, y, z) [mm], each of so many points at most."""
        made = []
        for outline in self.outlines:
            thin = outline[:: max(len(outline) // points, 1)]
            angle = thin[:, 0] / self.radius
            line = np.column_stack(
                [self.radius * np.cos(angle), self.radius * np.sin(angle), thin[:, 1]]
            )
            made.append(np.round(line, 2).tolist())
        return made


@dataclass(frozen=True)
class Blades:
    """Blades of a rotor: their count, where they leave the hub and end [mm], and their stations
    (none on a wheel whose blades stand on a plate).
    """

    count: int
    hub: float
    tip: float
    stations: tuple[Station, ...]

    @property
    def reach_the_tip(self) -> bool:
        """Whether they could be followed to their tips: not where a ring joins them there."""
        return bool(self.stations) and self.stations[-1].radius > (2 * OUTERMOST - 1) * self.tip

    def sections(self) -> list[Sections]:
        """Each blade as sections, followed from cut to cut by the angle of its centroid."""
        radius = np.array([s.radius for s in self.stations]) * MM
        rows = [[Outline.of(o * MM) for o in s.outlines] for s in self.stations]
        turns = [
            np.array([o.centre[0] for o in row]) / r for row, r in zip(rows, radius, strict=True)
        ]
        found = []
        for first in range(self.count):
            at, turn = [first], turns[0][first]
            for k in range(1, len(rows)):
                nearest = int(np.abs(np.exp(1j * turns[k]) - np.exp(1j * turn)).argmin())
                at.append(nearest)
                turn = turns[k][nearest]
            found.append(
                Sections.of_outlines(
                    radius, [row[i] for row, i in zip(rows, at, strict=True)], self.tip * MM
                )
            )
        return found


def _section(loop: Loop) -> tuple[float, float, float]:
    """Chord, pitch and thickness of one blade section: the farthest pair of points makes the chord."""
    points = loop.points
    try:
        hull = points[scipy.spatial.ConvexHull(points).vertices]
    except scipy.spatial.QhullError:
        hull = points
    apart = np.linalg.norm(hull[:, None] - hull[None, :], axis=2)
    i, j = np.unravel_index(apart.argmax(), apart.shape)
    along = (hull[j] - hull[i]) / apart[i, j]
    across = (points - hull[i]) @ np.array([-along[1], along[0]])
    position = (points - hull[i]) @ along
    order = np.argsort(position)
    bins = np.linspace(0, apart[i, j], 18)
    where = np.clip(np.digitize(position[order], bins), 1, len(bins) - 1)
    thick = [
        np.ptp(across[order][where == k]) for k in range(2, len(bins) - 2) if (where == k).sum() > 1
    ]
    pitch = float(np.arctan2(abs(along[1]), abs(along[0])))
    return (
        float(apart[i, j]),
        pitch,
        float(np.median(sorted(thick)[-3:])) if thick else float("nan"),
    )


def measure_blades(mesh: trimesh.Trimesh) -> Blades | None:
    """Blades of a rotor on the z axis; None where fewer than two are found.

    Notes
    -----
    Axial blades are separate islands on cylinders; the widest stretch of radius with the same
    number of them is the blading. Where there is none (blades on a plate or under a cover) islands
    are counted in cuts across the axis.
    """
    radius = np.hypot(mesh.vertices[:, 0], mesh.vertices[:, 1])
    tip = float(radius.max())
    levels = np.linspace(0.1, OUTERMOST, CUTS) * tip
    islands = []
    for _, loops in cylinder_cuts(mesh, levels):
        whole = any(c.around for c in loops)
        single = [c for c in loops if not c.around and c.area > 0]
        most = max((c.area for c in single), default=0.0)
        islands.append([] if whole else [c for c in single if c.area > 0.2 * most])
    counts = [len(i) for i in islands]
    runs: list[tuple[int, int, int]] = []  # length, start, count
    start = 0
    for k in range(1, len(counts) + 1):
        if k == len(counts) or counts[k] != counts[start]:
            if counts[start] >= 2:
                runs.append((k - start, start, counts[start]))
            start = k
    if runs and max(runs)[0] >= 5:
        length, first, count = max(runs)
        stations = []
        for k in range(first, first + length):
            parts = np.array([_section(c) for c in islands[k]])
            chord, pitch, thick = np.nanmedian(parts, axis=0)
            stations.append(
                Station(
                    float(levels[k]),
                    float(chord),
                    float(pitch),
                    float(thick),
                    float(sum(c.area for c in islands[k])),
                    tuple(c.points for c in islands[k]),
                )
            )
        return Blades(count, stations[0].radius, tip, tuple(stations))
    return _on_a_plate(mesh, tip)


def _on_a_plate(mesh: trimesh.Trimesh, tip: float) -> Blades | None:
    low, high = mesh.bounds[:, 2]
    found: Counter[int] = Counter()
    inner = tip
    for _, loops in plane_cuts(mesh, 2, np.linspace(low, high, 22)[1:-1]):
        islands = [c for c in loops if c.area > 0 and np.linalg.norm(c.centre) > 0.2 * tip]
        if len(islands) >= 2:
            found[len(islands)] += 1
            inner = min(inner, *(float(np.linalg.norm(c.points, axis=1).min()) for c in islands))
    if not found:
        return None
    return Blades(found.most_common(1)[0][0], inner, tip, ())
