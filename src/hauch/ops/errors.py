"""Troubles that the command line tells in one sentence."""


class CannotGoOn(Exception):
    """Says what is wrong and what to do."""
