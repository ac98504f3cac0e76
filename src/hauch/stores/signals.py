"""What the stores tell the stations above them."""

from django.dispatch import Signal

rig_changed = Signal()
"""A rig has a new state: ``old``, ``new``."""
