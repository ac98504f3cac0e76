"""A rotor's hub: a ring that turns, carries its blades and is bent by them.

References
----------
Ring of its own mass, ring twisted by moments along its line: S. Timoshenko, Strength of Materials,
    part II, ch. on twisting of a circular ring by couples uniformly distributed along its centre
    line. Rotating rings: J. P. Den Hartog, Advanced Strength of Materials, ch. II.
"""

from __future__ import annotations

import math
from dataclasses import dataclass

from hauch.core.strength.limit import Place
from hauch.core.strength.sections import Foot


@dataclass(frozen=True, slots=True)
class Hub:
    """A hub as a ring.

    Parameters
    ----------
    radius : of its outside [m]
    wall : thickness of its shell under the blades [m]
    depth : of the shell along the axis [m]
    section : area of its half section outside half its radius [m2], the shell and what closes it
    """

    radius: float
    wall: float
    depth: float
    section: float


def hub_place(hub: Hub, blades: int, foot: Foot) -> Place:
    """Stress of a hub.

    Parameters
    ----------
    hub : the hub
    blades : how many it carries
    foot : what each of them brings

    Notes
    -----
    Four parts are added up, which is on the safe side, since they are not greatest at one point:
    its own mass ``R2``; the blades' pull in the ring ``B N / (2 pi A)``; the ring twisted by
    moments about its line ``(B M_t / 2 pi) (d / 2) / (t d3 / 12)``; and the shell bent where a blade
    stands on it, half its moment about the chord to each side: ``6 (M_c / 2 c) / t2``.
    """
    wall, depth = hub.wall, hub.depth
    local = 3 / (foot.chord * wall**2)
    own = (
        hub.radius**2
        + blades * foot.pull / (2 * math.pi * hub.section)
        + blades * abs(foot.about_turn) / (2 * math.pi) * 6 / (wall * depth**2)
        + local * foot.about_chord
    )
    return Place("hub", "The hub's shell", own, local * foot.air, wall)
