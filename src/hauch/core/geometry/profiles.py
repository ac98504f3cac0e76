"""Half sections (radius, z) of turned parts, for their drawings and for their solids."""

from __future__ import annotations

import math
from dataclasses import dataclass

from hauch.core.predict.model import refuse
from hauch.core.predict.ring import Ring


@dataclass(frozen=True)
class RingProfile:
    """The half section of a ring: the whole and its hollow with the slot, as closed polygons
    (radius, z) [m].
    """

    solid: list[tuple[float, float]]
    hollow: list[tuple[float, float]]
    inner_edge: float
    outer_radius: float
    slot_end: float
    plenum_depth: float
    plenum_middle: float


def ring_profile(ring: Ring) -> RingProfile:
    """The section that follows from a ring's figures.

    Notes
    -----
    The slot runs along the throat's wall between it and a lip in front; the plenum outside is so
    wide that half the flow meets no less area than half the neck.
    """
    throat, out, wall, slot, depth = (
        ring.throat / 2,
        ring.exit / 2,
        ring.wall,
        ring.slot,
        ring.depth,
    )
    lip = throat - slot - wall
    if lip <= 0 or 0.16 * depth <= wall or 0.72 * depth <= 4 * wall:
        refuse(
            {
                "wall": (
                    f"Walls of {1000 * wall:.4g} mm leave no room for plenum and slot in a ring"
                    f" {1000 * depth:.4g} mm deep with a throat of {2000 * throat:.4g} mm."
                )
            }
        )
    slot_end = 0.28 * depth
    slot_start = 0.12 * depth + wall
    back = 0.72 * depth

    def at(z):
        return throat + (out - throat) * max(0.0, (z - slot_end) / (depth - slot_end))

    room = back - 2 * wall
    width = max(ring.neck_area / 2 / room, 0.004)
    outer = at(back) + wall + width + wall
    solid = [
        (lip, 0.0),
        (outer - 0.3 * width, 0.0),
        (outer, 0.15 * depth),
        (outer, back - 0.1 * depth),
        (at(depth) + wall, depth),
        (at(depth), depth),
        (throat, slot_end),
        (throat - slot, slot_end),
        (lip, slot_end),
    ]
    hollow = [
        (throat - slot, wall),
        (outer - wall - 0.3 * width, wall),
        (outer - wall, 0.15 * depth + wall / 2),
        (outer - wall, back - 0.1 * depth - wall / 2),
        (at(back - wall) + wall + 0.35 * width, back - wall),
        (at(back - wall) + wall, back - wall),
        (throat + wall, slot_start + wall),
        (throat, slot_start),
        (throat, slot_end + 1e-5),
        (throat - slot, slot_end + 1e-5),
    ]
    return RingProfile(
        solid, hollow, throat + wall, outer, slot_end, room, (wall + back - wall) / 2
    )


def neck_radius(ring: Ring) -> float:
    """Radius of the round bore that the plenum's depth leaves for the neck [m]."""
    return min(ring.neck / 2, ring_profile(ring).plenum_depth / 2)


def turn_area(profile: list[tuple[float, float]]) -> float:
    """Volume of a turned profile [m3], by Pappus and Guldin from its polygon."""
    total = 0.0
    for (r0, z0), (r1, z1) in zip(profile, [*profile[1:], profile[0]], strict=True):
        total += (r0 + r1) * (r0 * z1 - r1 * z0) / 6
    return abs(2 * math.pi * total)
