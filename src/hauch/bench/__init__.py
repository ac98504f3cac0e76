"""Bench: runs, readings, recordings and their results."""
