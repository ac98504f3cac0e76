"""Hauch compares printed parts that move air on a test bench."""

__version__ = "0.18.0"
