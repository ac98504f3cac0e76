"""Sound levels."""
