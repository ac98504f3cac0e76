"""Workshop: the specimens printed of an entry."""
