"""What blind listening tells: whether two sounds are told apart, and how listeners rank several.

References
----------
Two-alternative test against guessing: binomial distribution, ISO 4120:2021, Annex A (there with a
    third). Coefficient of concordance with ties: M. G. Kendall, J. D. Gibbons, Rank Correlation
    Methods, 5th edition (1990), 6.8; its chi-squared test, 6.6.
"""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass

import numpy as np
import scipy


def guessed(right: int, trials: int) -> float:
    """Probability that guessing gives as many right answers or more, each with a half.

    Raises ValueError for numbers that cannot be.
    """
    if not 0 <= right <= trials:
        raise ValueError(f"{right} right answers of {trials} cannot be")
    return float(scipy.stats.binom.sf(right - 1, trials, 0.5))


@dataclass(frozen=True, slots=True)
class Agreement:
    """How listeners agree.

    Parameters
    ----------
    places : mean place of each sample as a share, 0 the most pleasant end and 1 the other: of k
        that a listener ranked, rank r counts (r - 1/2) / k
    u : its standard uncertainty by how far listeners differ; 0 for one listener alone
    listeners : how many ranked each sample
    w : Kendall's coefficient, 1 where all agree; None with fewer than two complete rankings
    p : probability of a W so large where nobody has a preference
    complete : rankings that W is of
    """

    places: dict[str, float]
    u: dict[str, float]
    listeners: dict[str, int]
    w: float | None
    p: float | None
    complete: int


def agreement(rankings: Sequence[Mapping[str, float]], samples: Sequence[str]) -> Agreement:
    """Put rankings together.

    Parameters
    ----------
    rankings : of each listener, a number for each sample that was ranked, 1 the most pleasant; ties
        have the same number, missing samples are left out
    samples : all of them
    """
    shares: dict[str, list[float]] = {name: [] for name in samples}
    complete = []
    for ranking in rankings:
        ranked = [name for name in samples if name in ranking]
        if not ranked:
            continue
        ranks = scipy.stats.rankdata([ranking[name] for name in ranked])
        for name, rank in zip(ranked, ranks, strict=True):
            shares[name].append((float(rank) - 0.5) / len(ranked))
        if len(ranked) == len(samples):
            complete.append(ranks)
    w, p = _concordance(np.array(complete)) if len(complete) > 1 else (None, None)
    return Agreement(
        {name: float(np.mean(given)) for name, given in shares.items() if given},
        {
            name: float(np.std(given, ddof=1) / np.sqrt(len(given))) if len(given) > 1 else 0.0
            for name, given in shares.items()
            if given
        },
        {name: len(given) for name, given in shares.items()},
        w,
        p,
        len(complete),
    )


def _concordance(ranks: np.ndarray) -> tuple[float | None, float | None]:
    """Kendall's W and its probability, from ranks of shape (listeners, samples)."""
    m, n = ranks.shape
    if n < 2:
        return None, None
    sums = ranks.sum(axis=0)
    s = float(np.sum((sums - sums.mean()) ** 2))
    ties = sum(
        float(count**3 - count)
        for row in ranks
        for count in np.unique(row, return_counts=True)[1].astype(float)
    )
    most = m**2 * (n**3 - n) - m * ties
    if most <= 0:
        return None, None  # everybody put all in one place
    w = 12 * s / most
    return w, float(scipy.stats.chi2.sf(m * (n - 1) * w, n - 1))
