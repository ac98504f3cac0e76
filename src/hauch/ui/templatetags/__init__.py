"""Template tags that every template has: figures, marks, the line, charts."""
