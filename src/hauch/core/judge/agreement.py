"""Rankings of several judges put together: mean places, how far they agree, and who stands apart.

References
----------
Coefficient of concordance with ties: M. G. Kendall, J. D. Gibbons, Rank Correlation Methods, 5th
    edition (1990), 6.8; its relation to the mean of the rank correlations of all pairs, 6.4; its
    chi-squared test, 6.6.
Permutation test where judges are few or ranks are missing: E. J. G. Pitman, Biometrika 29 (1938) 322.
Rank correlation of two normal variables, 6/pi asin(rho/2): K. Pearson (1907), in Kendall and Gibbons,
    9.8.
"""

from __future__ import annotations

import math
from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from typing import Generic, TypeVar

import numpy as np
import scipy

Sample = TypeVar("Sample", str, int)

DRAWS, LEAST_DRAWS, MOST_DRAWN = 999, 199, 3_000_000
"""Panels that are drawn for a probability: it is told to 0.1 %, of large panels to 0.5 %; so many ranks
are drawn at most."""

MOST_PAIRS = 2_000
"""Pairs of judges whose correlations are taken, drawn by chance of more: their mean is told to 0.01."""

MANY_JUDGES = 20
"""From so many complete rankings on the chi-squared distribution stands for W."""

LEAST_APART, LEAST_LEFT_OUT = 3, 5
"""Judges from whom on one can stand apart, and from whom on the others alone say how alike judges are.
With fewer the others agree by chance too often once the least alike is left out: up to 26 % of panels
of like judges would be called; as it is, at most 5 % are.
"""

APART = 0.05
"""One of so many panels of like judges has one that is called apart."""


@dataclass(frozen=True, slots=True)
class Agreement(Generic[Sample]):
    """How judges agree.

    Parameters
    ----------
    places : mean place of each sample as a share, 0 the best end and 1 the other: of k that a judge
        ranked, rank r counts (r - 1/2) / k
    u : its standard uncertainty by how far judges differ; 0 for one judge alone
    judges : how many ranked each sample
    w : Kendall's coefficient, 1 where all agree; None with fewer than two rankings
    p : probability of so much agreement where nobody has a preference
    complete : how many ranked all samples
    whole : whether W is of complete rankings alone; else it follows from the correlations of all
        pairs, over what both ranked
    """

    places: dict[Sample, float]
    u: dict[Sample, float]
    judges: dict[Sample, int]
    w: float | None
    p: float | None
    complete: int
    whole: bool = True


def agreement(
    rankings: Sequence[Mapping[Sample, float]], samples: Sequence[Sample]
) -> Agreement[Sample]:
    """Put rankings together.

    Parameters
    ----------
    rankings : of each judge, a number for each sample that was ranked, 1 the best; ties have the same
        number, missing samples are left out
    samples : all of them
    """
    ranks = _ranks(rankings, samples)
    ranks = ranks[np.sum(~np.isnan(ranks), axis=1) > 0]
    shares = {name: _given(_shares(ranks)[:, n]) for n, name in enumerate(samples)}
    complete = ranks[~np.isnan(ranks).any(axis=1)]
    whole = len(complete) == len(ranks)
    w, p = (_concordance(ranks) if whole else _of_pairs(ranks)) if len(ranks) > 1 else (None, None)
    return Agreement(
        {name: float(given.mean()) for name, given in shares.items() if given.size},
        {
            name: float(given.std(ddof=1) / np.sqrt(given.size)) if given.size > 1 else 0.0
            for name, given in shares.items()
            if given.size
        },
        {name: given.size for name, given in shares.items()},
        w,
        p,
        len(complete),
        whole,
    )


def places_given(ranking: Mapping[Sample, float]) -> dict[Sample, float]:
    """Places of what one judge ranked, as shares: 0 the best end, 1 the other."""
    names = list(ranking)
    if not names:
        return {}
    return dict(zip(names, _shares(_ranks([ranking], names))[0].tolist(), strict=True))


def _given(column: np.ndarray) -> np.ndarray:
    return column[~np.isnan(column)]


def _ranks(rankings: Sequence[Mapping[Sample, float]], samples: Sequence[Sample]) -> np.ndarray:
    """Ranks within what each judge ranked, of shape (judges, samples); missing ones are NaN."""
    given = np.array([[one.get(name, math.nan) for name in samples] for one in rankings], float)
    return _ranked(given.reshape(len(rankings), len(samples)))


def _ranked(given: np.ndarray) -> np.ndarray:
    """Ranks along the last axis; what is NaN stays so."""
    ranks = scipy.stats.rankdata(np.where(np.isnan(given), np.inf, given), axis=-1)
    return np.where(np.isnan(given), math.nan, ranks)


def _shares(ranks: np.ndarray) -> np.ndarray:
    """Ranks as shares of what was ranked."""
    return (ranks - 0.5) / np.maximum(np.sum(~np.isnan(ranks), axis=-1, keepdims=True), 1)


def _concordance(ranks: np.ndarray) -> tuple[float | None, float | None]:
    """Kendall's W and its probability, from complete ranks of shape (judges, samples)."""
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
    if m >= MANY_JUDGES:
        return w, float(scipy.stats.chi2.sf(m * (n - 1) * w, n - 1))
    return w, _by_chance(ranks)


def _of_pairs(ranks: np.ndarray) -> tuple[float | None, float | None]:
    """W from the mean rank correlation of all pairs, where ranks are missing."""
    m = len(ranks)
    mean = _mean_of_pairs(ranks)
    if mean is None:
        return None, None
    return max(mean + (1 - mean) / m, 0.0), _by_chance(ranks)


def _mean_of_pairs(ranks: np.ndarray) -> float | None:
    """Mean rank correlation of all pairs that have two samples in common and tell them apart; None
    where there is none.
    """
    first, second = np.triu_indices(len(ranks), 1)
    if first.size > MOST_PAIRS:
        chosen = np.random.default_rng(20_003).choice(first.size, MOST_PAIRS, replace=False)
        first, second = first[chosen], second[chosen]
    found = _correlations(ranks[first], ranks[second], 2)
    return None if np.isnan(found).all() else float(np.nanmean(found))


def _draws(ranks: int) -> int:
    """Panels that are drawn of so many ranks each."""
    return max(min(DRAWS, MOST_DRAWN // max(ranks, 1)), LEAST_DRAWS)


def _correlations(a: np.ndarray, b: np.ndarray, least: int) -> np.ndarray:
    """Rank correlations along the last axis, of shape (...,); NaN where there is none."""
    both = ~np.isnan(a) & ~np.isnan(b)
    x, y = (_ranked(np.where(both, one, math.nan)) for one in (a, b))
    middle = (both.sum(axis=-1, keepdims=True) + 1) / 2
    x, y = (np.where(both, one - middle, 0.0) for one in (x, y))
    size = np.sqrt((x**2).sum(axis=-1) * (y**2).sum(axis=-1))
    fine = (size > 0) & (both.sum(axis=-1) >= least)
    return np.where(fine, (x * y).sum(axis=-1) / np.where(fine, size, 1.0), math.nan)


def _spread(ranks: np.ndarray) -> np.ndarray:
    """How far mean places lie apart: the sum of squares of what each sample has above the middle of
    each judge, of shape (...,).
    """
    k = np.sum(~np.isnan(ranks), axis=-1, keepdims=True)
    off = np.where(np.isnan(ranks), 0.0, (ranks - (k + 1) / 2) / np.sqrt((k + 1) / 12))
    judged = np.maximum(np.sum(~np.isnan(ranks), axis=-2), 1)
    return np.sum(off.sum(axis=-2) ** 2 / judged, axis=-1)


def _by_chance(ranks: np.ndarray) -> float:
    """Probability of so much agreement where each judge's ranks fall on what was ranked by chance."""
    rng = np.random.default_rng(20_001)
    draws = _draws(ranks.size)
    drawn = np.full((draws, *ranks.shape), math.nan)
    for n, row in enumerate(ranks):
        there = np.flatnonzero(~np.isnan(row))
        drawn[:, n, there] = rng.permuted(np.tile(row[there], (draws, 1)), axis=1)
    seen = float(_spread(ranks))
    return (1 + int(np.sum(_spread(drawn) >= seen * (1 - 1e-9)))) / (draws + 1)


@dataclass(frozen=True, slots=True)
class Alike:
    """How alike a judge is to the others.

    Parameters
    ----------
    judge : number of the judge, from 0
    correlation : rank correlation with the mean places of the others; None where they have less than
        three samples in common, or one puts all alike
    apart : whether no panel of like judges would have one so unlike the others, but for one in twenty
    p : share of panels of like judges whose least alike is as unlike the others; None for all but the
        least alike, and with fewer than three judges
    """

    judge: int
    correlation: float | None
    apart: bool = False
    p: float | None = None


def alike(totals: Sequence[Mapping[Sample, float]], samples: Sequence[Sample]) -> list[Alike]:
    """Hold each judge against the others.

    Parameters
    ----------
    totals : of each judge, what each sample came to over all that was judged, small the best; samples
        that were not judged are left out
    samples : all of them

    Notes
    -----
    The least alike stands apart where panels of like judges, drawn with the agreement that the others
    have, hardly ever have one so unlike. Opinions on one sample hang together over criteria and
    faces, so that the totals are compared and not each mark.
    """
    ranks = _ranks(totals, samples)
    found = _with_others(ranks)
    rows = [Alike(n, None if math.isnan(one) else float(one)) for n, one in enumerate(found)]
    known = np.flatnonzero(~np.isnan(found))
    if len(known) < LEAST_APART:
        return rows
    least = int(known[np.argmin(found[known])])
    others = [n for n in known if n != least] if len(known) >= LEAST_LEFT_OUT else known
    mean = _mean_of_pairs(ranks[others]) or 0.0
    latent = min(max(2 * math.sin(math.pi * mean / 6), 0.0), 0.99)
    drawn = _least_alike(latent, ~np.isnan(ranks[known]))
    p = (1 + int(np.sum(drawn <= found[least] + 1e-12))) / (drawn.size + 1)
    rows[least] = Alike(least, float(found[least]), p <= APART, p)
    return rows


LEAST_COMMON = 3
"""Samples that a judge and the others must have in common."""


def _with_others(ranks: np.ndarray) -> np.ndarray:
    """Correlation of each judge with the mean places of the others, of shape (..., judges).

    Parameters
    ----------
    ranks : of shape (..., judges, samples)
    """
    shares = _shares(ranks)
    there = ~np.isnan(shares)
    known = np.where(there, shares, 0.0)
    count = there.sum(axis=-2, keepdims=True) - there
    mean = (known.sum(axis=-2, keepdims=True) - known) / np.maximum(count, 1)
    # rounded, so that equal places are equal whatever the order of the sum
    return _correlations(ranks, np.where(count > 0, np.round(mean, 9), math.nan), LEAST_COMMON)


def _least_alike(latent: float, judged: np.ndarray) -> np.ndarray:
    """Correlation of the least alike judge in panels of like judges, of shape (draws,).

    Parameters
    ----------
    latent : correlation of what two judges think before they rank, 0 to 1
    judged : which samples each judge ranked, of shape (judges, samples)
    """
    rng = np.random.default_rng(20_002)
    m, n = judged.shape
    draws = _draws(judged.size)
    thought = math.sqrt(latent) * rng.normal(size=(draws, 1, n))
    thought = thought + math.sqrt(1 - latent) * rng.normal(size=(draws, m, n))
    found = _with_others(_ranked(np.where(judged, thought, math.nan)))
    return np.min(np.where(np.isnan(found), 1.0, found), axis=-1)
