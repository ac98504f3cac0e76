"""What other apps may listen to."""

from django.dispatch import Signal

entries_changed = Signal()
"""Which entries take part in a round changed; sent inside the transaction, with ``round``."""
version_named = Signal()
"""Another version of an entry takes part; sent inside the transaction, with ``entry``, before
`entries_changed`.
"""
version_added = Signal()
"""An entry has a further version; sent inside the transaction, with ``user`` and ``version``."""
part_checked = Signal()
"""A part was checked to the end; sent inside the transaction that stores it, with ``version``."""
