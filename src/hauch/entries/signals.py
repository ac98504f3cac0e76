"""What other apps may listen to."""

from django.dispatch import Signal

entries_changed = Signal()
"""Which entries take part in a round changed; sent inside the transaction, with ``round``."""
