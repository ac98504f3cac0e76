"""Cuts through a mesh: by planes across and along its axis and by cylinders about it, as closed loops
with the material on their left.
"""

from __future__ import annotations

import math
from collections.abc import Iterable, Iterator
from dataclasses import dataclass
from typing import TYPE_CHECKING

import numpy as np
from numpy.typing import NDArray

if TYPE_CHECKING:
    import trimesh

Floats = NDArray[np.float64]


@dataclass(frozen=True)
class Loop:
    """A closed line in a cut: points (n, 2) [mm], its area [mm2] (negative around a hole), and
    whether it runs all around the axis.
    """

    points: Floats
    area: float
    around: bool = False

    @property
    def centre(self) -> Floats:
        """Middle of the area, by the shoelace formula [mm]."""
        x, y = self.points[:, 0] - self.points[0, 0], self.points[:, 1] - self.points[0, 1]
        cross = x * np.roll(y, -1) - np.roll(x, -1) * y
        if abs(self.area) < 1e-12:
            return self.points.mean(axis=0)
        return self.points[0] + np.array(
            [((x + np.roll(x, -1)) * cross).sum(), ((y + np.roll(y, -1)) * cross).sum()]
        ) / (6 * self.area)

    @property
    def roundness(self) -> tuple[float, float]:
        """Radius of the circle of the same area [mm], and how far the points stray from it as a
        share of it.
        """
        radius = np.sqrt(abs(self.area) / np.pi)
        off = np.linalg.norm(self.points - self.centre, axis=1) - radius
        return float(radius), float(np.abs(off).max() / max(radius, 1e-12))


def shoelace(points: Floats) -> float:
    """Signed area of a closed polygon (n, 2)."""
    x, y = points[:, 0] - points[0, 0], points[:, 1] - points[0, 1]
    return float((x * np.roll(y, -1) - np.roll(x, -1) * y).sum() / 2)


class _Cutter:
    """Cuts a mesh where a height, given at each vertex, takes a level."""

    def __init__(self, mesh: trimesh.Trimesh, height: Floats):
        self.vertices, self.height = np.asarray(mesh.vertices), height
        self.faces = np.asarray(mesh.faces, np.int64)
        a, b, c = (height[corner] for corner in self.faces.T)
        self.low, self.high = np.minimum(np.minimum(a, b), c), np.maximum(np.maximum(a, b), c)

    def lines(self, level: float) -> list[Floats]:
        """Closed lines at a level: points in space (n, 3), each with the material on its left when
        looked at against the height's gradient.
        """
        faces = self.faces[(self.low <= level) & (self.high > level)]
        if not len(faces):
            return []
        vertices, height = self.vertices, self.height
        sides = height[faces] > level
        later = np.roll(sides, -1, axis=1)
        row = np.arange(len(faces))

        def edge(which: NDArray[np.bool_]) -> tuple[NDArray[np.int64], NDArray[np.int64]]:
            corner = which.argmax(axis=1)
            a, b = faces[row, corner], faces[row, (corner + 1) % 3]
            return np.minimum(a, b), np.maximum(a, b)

        (ua, ub), (da, db) = edge(~sides & later), edge(sides & ~later)
        size = np.int64(len(vertices))
        came, goes = da * size + db, ua * size + ub
        keys, where = np.unique(np.concatenate([came, goes]), return_inverse=True)
        a, b = keys // size, keys % size
        share = ((level - height[a]) / (height[b] - height[a]))[:, None]
        points = vertices[a] + share * (vertices[b] - vertices[a])
        after = np.full(len(keys), -1)
        after[where[: len(faces)]] = where[len(faces) :]
        following = after.tolist()
        used = [False] * len(keys)
        lines = []
        for start in range(len(keys)):
            if used[start]:
                continue
            chain, at = [], start
            while at >= 0 and not used[at]:
                used[at] = True
                chain.append(at)
                at = following[at]
            if at == start and len(chain) > 2:
                lines.append(points[chain])
        return lines


def plane_cuts(
    mesh: trimesh.Trimesh, axis: int, levels: Iterable[float]
) -> Iterator[tuple[float, list[Loop]]]:
    """Loops of cuts across a file axis (0, 1, 2) at levels [mm], in the two other coordinates in
    cyclic order.
    """
    others = [(axis + 1) % 3, (axis + 2) % 3]
    cutter = _Cutter(mesh, np.asarray(mesh.vertices)[:, axis])
    for level in levels:
        flat = [line[:, others] for line in cutter.lines(float(level) + 1e-6)]
        yield float(level), [Loop(points, shoelace(points)) for points in flat]


def cylinder_cuts(
    mesh: trimesh.Trimesh, radii: Iterable[float]
) -> Iterator[tuple[float, list[Loop]]]:
    """Loops of cuts by cylinders about the z axis, unrolled: (radius times angle, z) [mm]."""
    vertices = np.asarray(mesh.vertices)
    cutter = _Cutter(mesh, np.hypot(vertices[:, 0], vertices[:, 1]))
    for radius in radii:
        made = []
        for line in cutter.lines(float(radius) + 1e-6):
            bare = np.arctan2(line[:, 1], line[:, 0])
            angle = np.unwrap(bare)
            closing = angle[-1] - angle[0] + np.angle(np.exp(1j * (bare[0] - bare[-1])))
            flat = np.column_stack([radius * angle, line[:, 2]])
            made.append(Loop(flat, shoelace(flat), bool(abs(closing) > np.pi)))
        yield float(radius), made


GOLDEN = (math.sqrt(5) - 1) / 2


def half_sections(mesh: trimesh.Trimesh, planes: int) -> Iterator[tuple[float, list[Floats]]]:
    """Closed lines (radius, z) [mm] of half planes from the z axis outwards, two for each plane: turn
    of the half plane [rad], its lines. What crosses the axis is left out.

    The planes are not evenly apart, so that what repeats around the axis is not always met.
    """
    for k in range(planes):
        turn = math.pi * (k + 0.9 * (k * GOLDEN % 1.0)) / planes
        cos, sin = math.cos(turn), math.sin(turn)
        x, y = np.asarray(mesh.vertices)[:, :2].T
        halves: tuple[list[Floats], list[Floats]] = ([], [])
        for line in _Cutter(mesh, y * cos - x * sin).lines(1e-6):
            flat = np.column_stack([line[:, 0] * cos + line[:, 1] * sin, line[:, 2]])
            if (flat[:, 0] > 0).all():
                halves[0].append(flat[::-1])
            elif (flat[:, 0] < 0).all():
                halves[1].append(flat * (-1.0, 1.0))
        yield turn, halves[0]
        yield turn + math.pi, halves[1]
