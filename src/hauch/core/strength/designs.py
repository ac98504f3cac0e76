"""Stress of what the Desk designs, from its figures: a rotor, an open wheel."""

from __future__ import annotations

import math
from functools import lru_cache

import numpy as np

from hauch.core.geometry.bladed import blade_rings, boss_of
from hauch.core.predict.blading import Blading
from hauch.core.predict.impeller import Impeller
from hauch.core.strength.hub import Hub, hub_place
from hauch.core.strength.limit import Stressed
from hauch.core.strength.sections import Outline, Sections, bending
from hauch.core.strength.wheel import Wheel, flexed

STATIONS = 21
"""Sections of a blade, from its foot to its tip."""
RINGS = 36
LAYERS = 6


@lru_cache(maxsize=64)
def of_rotor(row: Blading, wall: float, depth: float, density: float) -> Stressed:
    """Stress of a rotor on a hub that is a cup.

    Parameters
    ----------
    row : the blading
    wall, depth : of the hub's shell, the wall of its bottom alike [m]
    density : of its material [kg/m3]; it only weighs the air against the pull
    """
    rings = blade_rings(row, STATIONS)
    radius = row.hub / 2 + np.linspace(0, 1, STATIONS) * row.span
    outlines = [
        Outline.of(np.column_stack([r * np.unwrap(np.arctan2(p[:, 1], p[:, 0])), p[:, 2]]))
        for r, p in zip(radius, rings, strict=True)
    ]
    bent = bending(Sections.of_outlines(radius, outlines, row.tip / 2), density)
    outer = row.hub / 2
    section = wall * depth + wall * max(outer / 2 - wall, 0.0)
    hub = hub_place(Hub(outer, wall, depth, section), row.blades, bent.foot)
    return Stressed(row.tip / 2, (bent.place(density), hub), growth=bent.growth, shift=bent.shift)


@lru_cache(maxsize=64)
def of_wheel(wheel: Impeller, shaft: float, plate: float) -> Stressed:
    """Stress of an open wheel: a plate, a boss around the shaft, blades on the plate.

    Parameters
    ----------
    shaft, plate : diameter and thickness [m]
    """
    boss_wall, boss_height = boss_of(wheel)
    bore, boss, inner, outer = shaft / 2, shaft / 2 + boss_wall, wheel.inner / 2, wheel.outer / 2
    boss = min(boss, 0.9 * inner)
    edges = np.unique(
        np.concatenate(
            [
                np.linspace(bore, boss, 4),
                np.linspace(boss, inner, RINGS // 3),
                np.linspace(inner, outer, 2 * RINGS // 3),
            ]
        )
    )
    r = (edges[1:] + edges[:-1]) / 2
    bladed = r > inner
    low, high = np.zeros(len(r)), np.where(r < boss, plate + boss_height, plate)
    at = np.clip((r - inner) / (outer - inner), 0, 1)
    angle = wheel.inner_angle + at * (wheel.outer_angle - wheel.inner_angle)
    width = wheel.inner_width + at * (wheel.outer_width - wheel.inner_width)
    levels = high[:, None] + np.where(bladed, width, 0.0)[:, None] * np.linspace(0, 1, LAYERS + 1)
    share = wheel.blades * wheel.thickness / np.sin(angle) / (2 * math.pi * r)
    found = flexed(
        Wheel(
            edges,
            low,
            high,
            levels,
            np.repeat(np.where(bladed, np.minimum(share, 1.0), 0.0)[:, None], LAYERS, axis=1),
            np.where(bladed, math.pi / 2 - angle, 0.0),
            wheel.blades,
        )
    )
    return Stressed(outer, found.places, growth=found.growth, shift=found.shift)
