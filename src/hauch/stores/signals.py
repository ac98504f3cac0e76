"""What the stores tell the stations above them."""

from django.dispatch import Signal

rig_changed = Signal()
"""A rig has a new state: ``old``, ``new``."""

meters_named = Signal()
"""Meters of a rig that were not known are named, for its present state too: ``rig``, ``channels``."""
