"""Open file formats, read and written. Knows the core, not the database or the web."""
