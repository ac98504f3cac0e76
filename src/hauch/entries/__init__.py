"""Entries: who handed in what, and its versions."""
