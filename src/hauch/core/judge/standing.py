"""Standings: scores against the reference, shared ranks, and how probable each rank is.

References
----------
JCGM 101:2008, 6.4.9.4 (t distribution for a pooled standard deviation), 7 (Monte Carlo
    propagation).
S. S. Stevens, "The measurement of loudness", J. Acoust. Soc. Am. 27 (1955) 815: loudness doubles
    with 10 dB.
"""

from __future__ import annotations

import math
import os
from collections.abc import Sequence
from concurrent.futures import ThreadPoolExecutor
from dataclasses import dataclass, field
from functools import cached_property
from typing import Literal

import numpy as np

from hauch.core.judge.family import apart_factor
from hauch.core.judge.reference import Comparison
from hauch.core.quantity import expanded

TieRule = Literal["too_close", "equal_score"]
LevelAs = Literal["level", "loudness"]

TAIL = 0.025
"""Probability left out at either end of the places between which an entry lies."""

CHUNK = 2048
"""Draws that are ranked at a time; part of the seeded result."""


@dataclass(frozen=True, slots=True)
class Term:
    """One test in a scheme.

    Parameters
    ----------
    test : key of the test
    weight : above 0
    direction : +1 where more is better, -1 where less is better
    log : whether figures are compared as ratios (True) or as differences of levels (False)
    reference_level : mean level of the reference [dB], for levels
    level_as : how a difference of levels becomes percent: of the level as read, or of loudness
    """

    test: str
    weight: float
    direction: int
    log: bool
    reference_level: float = math.nan
    level_as: LevelAs = "level"

    def percent(self, delta: np.ndarray) -> np.ndarray:
        """Change against the reference [%] from a difference in y."""
        if self.log:
            return 100 * np.expm1(delta)
        if self.level_as == "loudness":
            return 100 * (2 ** (delta / 10) - 1)
        return 100 * delta / self.reference_level

    def percent_slope(self, delta: np.ndarray) -> np.ndarray:
        """Derivative of `percent` [% per unit of y]."""
        if self.log:
            return 100 * np.exp(delta)
        if self.level_as == "loudness":
            return 100 * math.log(2) / 10 * 2 ** (delta / 10)
        return np.full_like(np.asarray(delta, dtype=float), 100 / self.reference_level)


@dataclass(frozen=True)
class Scores:
    """Scores of the entries that can be ranked; E entries, T tests, S shared causes.

    ``score`` [%], ``own_variance`` by test (T, E), ``shared`` (E, S), ``shared_test`` the test each
    shared column belongs to, ``scatter`` which columns are scatter of reference runs, ``dof`` of
    each test.
    """

    score: np.ndarray
    own_variance: np.ndarray
    shared: np.ndarray
    shared_test: np.ndarray
    scatter: np.ndarray
    dof: np.ndarray

    @cached_property
    def u(self) -> np.ndarray:
        """Standard uncertainty of the score [%], shape (E,)."""
        return np.sqrt(self.own_variance.sum(axis=0) + np.sum(self.shared**2, axis=1))

    @property
    def expanded(self) -> np.ndarray:
        """Half-width of the 95 % interval of the score [%], shape (E,). Scatter of one test is one
        estimate, whoever it comes from (GUM eq. G.2b).
        """
        scatter = np.array(
            [
                own + np.sum(self.shared[:, self.scatter & (self.shared_test == test)] ** 2, axis=1)
                for test, own in enumerate(self.own_variance)
            ]
        )
        with np.errstate(divide="ignore", invalid="ignore"):
            dof = self.u**4 / np.sum(scatter**2 / self.dof[:, None], axis=0)
        return np.array(
            [
                expanded(float(u), float(d)) if u > 0 else 0.0
                for u, d in zip(self.u, dof, strict=True)
            ]
        )


@dataclass(frozen=True)
class Standing:
    """Ranks in the order of ``order`` (indices of entries, best first).

    ``rank`` shared where the tie rule says so; ``first`` probability of first place; ``low``,
    ``high`` the places between which an entry lies with 95 %; ``probability`` of each place, shape
    (E, E), entry by place.
    """

    order: np.ndarray
    rank: np.ndarray
    first: np.ndarray
    low: np.ndarray
    high: np.ndarray
    probability: np.ndarray = field(repr=False)

    @classmethod
    def of(cls, order: np.ndarray, ranks: np.ndarray, probability: np.ndarray) -> Standing:
        """A standing with what follows from the probability of each place, for any number of
        entries, none included.
        """
        if not order.size:
            return cls(
                order,
                ranks,
                np.zeros(0),
                np.zeros(0, dtype=int),
                np.zeros(0, dtype=int),
                np.zeros((0, 0)),
            )
        cumulative = np.cumsum(probability, axis=1)
        low = np.argmax(cumulative >= TAIL, axis=1) + 1
        high = np.argmax(cumulative >= 1 - TAIL, axis=1) + 1
        return cls(order, ranks, probability[:, 0], low, high, probability)


def score(terms: Sequence[Term], comparisons: Sequence[Comparison]) -> tuple[np.ndarray, Scores]:
    """Score = 100 % + weighted mean of the gains over the reference.

    Parameters
    ----------
    terms, comparisons : one of each for each test, in the same order, over the same entries

    Returns
    -------
    indices of the entries that have a figure in every test, and their scores; for rules that
    `schemes.rule_problems` finds nothing wrong with. Doubts to first order (relative doubts below
    about 10 %).
    """
    total = sum(term.weight for term in terms)
    complete = np.flatnonzero(np.all([np.isfinite(c.delta) for c in comparisons], axis=0))
    score_ = np.full(complete.size, 100.0)
    own, shared, owner, scatter = [], [], [], []
    for number, (term, c) in enumerate(zip(terms, comparisons, strict=True)):
        delta = c.delta[complete]
        share = term.direction * term.weight / total
        score_ += share * term.percent(delta)
        slope = share * term.percent_slope(delta)
        own.append((slope * c.own_u[complete]) ** 2)
        shared.append(slope[:, None] * c.shared[complete])
        owner.append(np.full(c.shared.shape[1], number))
        scatter.append(c.reference_sd)
    return complete, Scores(
        score_,
        np.array(own),
        np.hstack(shared),
        np.concatenate(owner),
        np.concatenate(scatter),
        np.array([c.dof for c in comparisons]),
    )


def set_apart(scores: Scores, first: int, others: np.ndarray) -> np.ndarray:
    """Whether the score of an entry and those of others stand so far apart that a field of equal ones
    would show it nowhere with 95 %; shared causes cancel. Of shape (others,).
    """
    gap = np.abs(scores.score[first] - scores.score[others])
    across = (scores.shared[first] - scores.shared[others]) ** 2
    own = scores.own_variance[:, [first]] + scores.own_variance[:, others]
    of_test = np.zeros((scores.scatter.size, own.shape[0]))  # scatter of the reference, by test
    of_test[scores.scatter, scores.shared_test[scores.scatter]] = 1.0
    scatter = own + (across @ of_test).T
    variance = own.sum(axis=0) + across.sum(axis=1)
    freedom = np.sum(scatter**2 / scores.dof[:, None], axis=0)
    with np.errstate(divide="ignore", invalid="ignore"):
        dof = np.where(freedom > 0, variance**2 / freedom, np.inf)
    factor = np.array([apart_factor(scores.score.size, one) for one in dof.tolist()])
    return np.where(variance > 0, gap > factor * np.sqrt(variance), gap > 0)


def rank_probabilities(scores: Scores, draws: int, seed: int) -> np.ndarray:
    """Probability of each place, shape (E, E): entry by place, by seeded Monte Carlo.

    Scatter is drawn with one scale for each test and draw (pooled standard deviation, so a
    multivariate t), common causes as normal. Equal scores share their places evenly in the long
    run, since draws are continuous.
    """
    count = scores.score.size
    used = np.flatnonzero(np.any(scores.shared != 0, axis=0))
    # Single precision is ample for a draw, and twice as fast.
    shared = np.ascontiguousarray(scores.shared[:, used].T, dtype=np.float32)
    own_variance = scores.own_variance.astype(np.float32)
    owner, scatter = scores.shared_test[used], scores.scatter[used]
    finite = np.isfinite(scores.dof)
    entry = np.arange(count)
    offset = entry * count
    mask = np.int64((1 << max(count - 1, 1).bit_length()) - 1)

    def counted(seed: np.random.SeedSequence, size: int) -> np.ndarray:
        own, common = (np.random.Generator(np.random.SFC64(stream)) for stream in seed.spawn(2))
        scale = np.ones((size, scores.dof.size))
        if finite.any():
            scale[:, finite] = np.sqrt(
                scores.dof[finite] / own.chisquare(scores.dof[finite], (size, int(finite.sum())))
            )
        causes = common.standard_normal((size, used.size), dtype=np.float32)
        causes *= (
            np.where(scatter, scale[:, owner], 1.0).astype(np.float32)
            if scatter.any()
            else np.float32(1)
        )
        off = own.standard_normal((size, count), dtype=np.float32)
        off *= np.sqrt((scale**2).astype(np.float32) @ own_variance)
        off += causes @ shared
        drawn = scores.score + off
        # Which entry a draw belongs to goes into its lowest bits, far below any doubt: then a plain
        # sort ranks, faster than argsort.
        tagged = drawn.view(np.int64)
        tagged &= ~mask
        tagged |= entry
        drawn.sort(axis=1)
        tagged &= mask
        tagged += offset
        return np.bincount(tagged.ravel(), minlength=count * count)

    sizes = [CHUNK] * (draws // CHUNK) + ([draws % CHUNK] if draws % CHUNK else [])
    seeds = np.random.SeedSequence(seed).spawn(len(sizes))
    places = np.zeros(count * count, dtype=np.int64)
    # NumPy releases the interpreter while it draws and sorts. Each chunk has its own stream, so
    # threads change nothing.
    with ThreadPoolExecutor(max_workers=min(4, os.cpu_count() or 1)) as pool:
        for part in pool.map(counted, seeds, sizes):
            places += part
    return places.reshape(count, count)[::-1].T / draws


def rank(
    scores: Scores,
    tie_rule: TieRule = "too_close",
    draws: int = 20_000,
    seed: int = 1,
    digits: int = 1,
) -> Standing:
    """Rank entries by score.

    Parameters
    ----------
    scores : of the entries, in a fixed order (the result depends on it through the draws)
    tie_rule : ``too_close`` shares a rank while the group's first is not `set_apart` from the entry;
        ``equal_score`` shares it where the scores agree to ``digits`` decimals
    draws, seed : of the Monte Carlo
    """
    order = np.lexsort((np.arange(scores.score.size), -scores.score))
    ranks = np.empty(order.size, dtype=int)
    leader = 0
    while leader < order.size:
        after = _next_leader(scores, order, leader, tie_rule, digits)
        ranks[order[leader:after]] = leader + 1
        leader = after
    return Standing.of(order, ranks, rank_probabilities(scores, draws, seed))


def _next_leader(
    scores: Scores, order: np.ndarray, leader: int, tie_rule: TieRule, digits: int
) -> int:
    """Place in the order of the first entry that does not share the leader's rank."""
    head, begin, size = order[leader], leader + 1, 16
    while begin < order.size:
        # few at a time at first: most often the next ones stand apart already
        some = order[begin : begin + size]
        if tie_rule == "too_close":
            apart = set_apart(scores, head, some)
        else:
            shown = round(float(scores.score[head]), digits)
            apart = np.array([round(float(scores.score[e]), digits) != shown for e in some])
        if apart.any():
            return begin + int(np.argmax(apart))
        begin, size = begin + size, 2 * size
    return order.size
