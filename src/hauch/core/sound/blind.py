"""What blind listening tells: whether two sounds are told apart.

References
----------
Two-alternative test against guessing: binomial distribution, ISO 4120:2021, Annex A (there with a
    third).
"""

from __future__ import annotations

import scipy


def guessed(right: int, trials: int) -> float:
    """Probability that guessing gives as many right answers or more, each with a half.

    Raises ValueError for numbers that cannot be.
    """
    if not 0 <= right <= trials:
        raise ValueError(f"{right} right answers of {trials} cannot be")
    return float(scipy.stats.binom.sf(right - 1, trials, 0.5))
