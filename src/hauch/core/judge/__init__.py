"""Judging: differences against the reference, scores, ranks and how sure they are."""
