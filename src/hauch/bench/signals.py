"""What other apps may listen to."""

from django.dispatch import Signal

results_changed = Signal()
"""Results of a round changed; sent inside the transaction, with ``round``."""
