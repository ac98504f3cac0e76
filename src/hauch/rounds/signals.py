"""What the brief tells the stations after it."""

from django.dispatch import Signal

rules_changed = Signal()
"""Rules or the reference of a round have changed, so that it is to be judged again: ``round``."""

tests_replaced = Signal()
"""Tests have successors that the old runs still count for: ``user``, ``pairs`` of (old, new)."""
gate_wanted = Signal()
"""Prints of a round went straight to the bench and now need the safety gate; sent inside the
transaction, with ``user`` and ``round``.
"""
reference_out = Signal()
"""A reference specimen retired or broke; sent inside the transaction, with ``specimen``."""
