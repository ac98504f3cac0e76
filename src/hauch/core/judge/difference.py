"""One difference in one word, with its probability and what would settle it.

References
----------
JCGM 106:2012, 7.3 (probability of being above a limit from a value and its standard uncertainty);
JCGM 100:2008, G.3 (Student's t for few degrees of freedom).
"""

from __future__ import annotations

import math
from dataclasses import dataclass
from typing import Literal

import scipy

from hauch.core.quantity import expanded

Word = Literal["better", "worse", "too close to call"]

NOT_REPEATED = "not repeated: cannot be told"
"""What is said instead of a word where nobody knows how a reading scatters."""

LEVEL = 0.95
"""Probability at which a difference is called."""

MOST_REPEATS = 50
"""More further repeats than this are no advice."""


@dataclass(frozen=True, slots=True)
class Difference:
    """A judged difference: the word, the probability of better, and how many further repeats of the
    entry would call it.

    ``repeats`` is 0 when it is called already and None when repeats alone cannot call it.
    """

    word: Word
    probability: float
    repeats: int | None


def judge_difference(
    delta: float, u: float, dof: float, direction: int, repeat_sd: float = 0.0, count: int = 1
) -> Difference:
    """Judge a difference to the reference.

    Parameters
    ----------
    delta, u : difference and its standard uncertainty, in one unit
    dof : degrees of freedom of u
    direction : +1 where more is better, -1 where less is better
    repeat_sd : standard deviation of one repeat, same unit
    count : repeats that the entry has now, at least 1

    Raises
    ------
    ValueError : negative doubt, a direction that is neither +1 nor -1, or no repeat
    """
    if u < 0 or not math.isfinite(u):
        raise ValueError(f"the standard uncertainty must be 0 or more, got {u}")
    if direction not in (1, -1):
        raise ValueError(f"the direction must be +1 or -1, got {direction}")
    if count < 1:
        raise ValueError(f"a difference needs at least one repeat, got {count}")
    gain = delta * direction
    if u == 0:
        probability = 0.5 if gain == 0 else float(gain > 0)
    else:
        probability = float(scipy.special.stdtr(min(dof, 1e9), gain / u))
    bound = (1 + LEVEL) / 2
    if probability >= bound:
        return Difference("better", probability, 0)
    if probability <= 1 - bound:
        return Difference("worse", probability, 0)
    return Difference(
        "too close to call", probability, repeats_to_call(abs(gain), u, dof, repeat_sd, count)
    )


def repeats_to_call(size: float, u: float, dof: float, repeat_sd: float, count: int) -> int | None:
    """Further repeats after which a difference of this size would stand out, all else unchanged."""
    rest = max(u * u - repeat_sd**2 / count, 0.0)
    for further in range(1, MOST_REPEATS + 1):
        u_then = math.sqrt(rest + repeat_sd**2 / (count + further))
        if size > expanded(u_then, dof + further):
            return further
    return None
