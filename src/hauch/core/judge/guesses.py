"""Guesses held against what was measured: how well an order was foreseen, how far values were off.

References
----------
M. G. Kendall, Biometrika 33 (1945) 239: rank correlation with ties (tau-b).
"""

from __future__ import annotations

import math
from collections.abc import Mapping, Sequence
from dataclasses import dataclass

import numpy as np
import scipy

LEAST = 2
"""So many entries must be guessed and measured."""


@dataclass(frozen=True, slots=True)
class Scored:
    """A guess against the result.

    Parameters
    ----------
    name : whose it is
    tau : rank correlation, 1 for the same order, -1 for the opposite one; None where the guess or
        the result puts all alike
    error : mean absolute error of values, % or the unit; None where an order was guessed
    entries : how many were guessed and measured
    """

    name: str
    tau: float | None
    error: float | None
    entries: int


def scored(
    name: str,
    guess: Mapping[int, float],
    truth: Mapping[int, float],
    *,
    values: bool = False,
    direction: int = -1,
    log: bool = True,
    order: Mapping[int, float] | None = None,
) -> Scored | None:
    """Hold a guess against the result; None for fewer than two entries that both have.

    Parameters
    ----------
    guess : by entry, a place from 1 or a value
    truth : by entry, the place or the value that was measured
    values : whether they are values
    direction : +1 where more is better; places have -1
    log : whether values are compared as ratios
    order : places by which an order of values is held, where it is not that of the values
    """
    both = [entry for entry in guess if entry in truth and _fine(guess[entry])]
    if len(both) < LEAST:
        return None
    given = np.array([guess[entry] for entry in both], float)
    there = np.array([truth[entry] for entry in both], float)
    goodness = -np.array([order[e] for e in both]) if order is not None else direction * there
    tau = float(scipy.stats.kendalltau(direction * given, goodness).statistic)
    error = None
    if values:
        error = float(np.mean(np.abs(100 * (given / there - 1) if log else given - there)))
    return Scored(name, None if math.isnan(tau) else tau, error, len(both))


def _fine(value: float) -> bool:
    return math.isfinite(value)


def crowd(guesses: Sequence[Mapping[int, float]], *, values: bool = False) -> dict[int, float]:
    """What all guess together: the mean place of each entry, or the median of its values."""
    given: dict[int, list[float]] = {}
    for guess in guesses:
        for entry, value in guess.items():
            given.setdefault(entry, []).append(value)
    middle = np.median if values else np.mean
    return {entry: float(middle(found)) for entry, found in given.items()}
