"""Blades in space: the points of their sections, wrapped on cylinders. Lengths in metres; z along the
flow.
"""

from __future__ import annotations

import math

import numpy as np
from numpy.typing import NDArray

from hauch.core.predict.blading import Blading
from hauch.core.predict.impeller import Impeller
from hauch.core.predict.section import TAIL, outline

Array = NDArray[np.float64]


def blade_rings(
    row: Blading, spanwise: int = 40, around: int = 33, root: float = 0.0, edge: float = 0.0
) -> Array:
    """Rings of points of one blade, wrapped on cylinders: (rings, points, 3) [m]. The first lies
    ``root`` below the hub's surface.

    ``edge`` is the least thickness towards the tail, as a printer asks for it.
    """
    share = np.linspace(0, 1, spanwise)

    def at(curve):
        return row.along(curve, share)

    chord, pitch, camber, thickness = (
        at(row.chord),
        at(row.pitch),
        at(row.camber),
        at(row.thickness),
    )
    radius = row.hub / 2 + share * row.span
    rings = []
    for k in range(spanwise):
        shape = outline(
            row.family,
            thickness[k] / chord[k],
            camber[k],
            around,
            max(TAIL, edge / chord[k] * math.hypot(1, 4 * camber[k])),
        )
        x, y = (
            (0.45 - shape[:, 0]) * chord[k],
            -shape[:, 1] * chord[k],
        )  # the convex side meets the air
        along = x * math.cos(pitch[k]) + y * math.sin(pitch[k])
        axial = -x * math.sin(pitch[k]) + y * math.cos(pitch[k])
        r = radius[k] - (root if k == 0 else 0.0)
        turn = along / radius[k] + row.sweep * share[k]
        rings.append(
            np.column_stack([r * np.cos(turn), r * np.sin(turn), axial + row.lean * share[k]])
        )
    return np.array(rings)


def blade_depth(row: Blading) -> tuple[float, float]:
    """Lowest and highest z of a blade [m]."""
    z = blade_rings(row, 20, 17)[:, :, 2]
    return float(z.min()), float(z.max())


def boss_of(wheel: Impeller) -> tuple[float, float]:
    """Wall around the shaft of a wheel and its height above the plate [m]."""
    return 0.003, 0.6 * wheel.outer_width
