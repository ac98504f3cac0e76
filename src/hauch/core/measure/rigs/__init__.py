"""Kinds of rigs, one file each: what is known of it, how it is drawn, what can hurt at it, and what
is measured on it. A new kind is one file here and one word in `MODULES`.
"""

from hauch.core.measure.rigs import (
    bag_fill,
    brake,
    chamber,
    drive,
    flow_bench,
    free_room,
    hot_block,
    lift,
    other,
    outlets,
    panel,
    power,
    record,
    scale,
    sound_spot,
    tunnel,
    vibration,
)
from hauch.core.measure.rigs.base import Constant, RigKind, check_constants, rig_drawing

MODULES = (
    tunnel,
    chamber,
    scale,
    flow_bench,
    hot_block,
    sound_spot,
    power,
    drive,
    brake,
    free_room,
    bag_fill,
    lift,
    panel,
    outlets,
    vibration,
    record,
    other,
)
"""In the order in which they are offered."""

RIGS: dict[str, RigKind] = {module.RIG.key: module.RIG for module in MODULES}

__all__ = ["MODULES", "RIGS", "Constant", "RigKind", "check_constants", "rig_drawing"]
