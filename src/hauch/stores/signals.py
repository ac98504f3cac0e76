"""What the stores tell the stations above them."""

from django.dispatch import Signal

rig_changed = Signal()
"""A rig has a new state: ``old``, ``new``."""

rig_completed = Signal()
"""Meters or constants of a rig that were not known are told, for its present state too: ``rig``."""

meter_changed = Signal()
"""Figures of runs may be others by what is now known of a meter or its calibrations:
``instrument``.
"""
