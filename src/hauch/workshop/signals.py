"""What other apps may listen to."""

from django.dispatch import Signal

left_the_bench = Signal()
"""A specimen that was ready for the bench is so no more; sent inside the transaction, with
``specimen``.
"""
