"""The virtual bench: physics of a fan on a rig, with the scatter, drift and faults of real meters."""

from hauch.core.rig.bench import Bench, Faults, Room, Shift
from hauch.core.rig.fan import Fan, Loft140

__all__ = ["Bench", "Fan", "Faults", "Loft140", "Room", "Shift"]
