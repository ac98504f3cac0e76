"""What other apps may listen to."""

from django.dispatch import Signal

entries_changed = Signal()
"""Which entries take part in a round changed; sent inside the transaction, with ``round``."""
part_checked = Signal()
"""A part was checked to the end; sent inside the transaction that stores it, with ``version``."""
