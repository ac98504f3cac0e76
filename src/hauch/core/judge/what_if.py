"""What other weights, schemes and limits would make of the same figures: the order, who moves by what,
and how far a weight may go before the order turns. Figures only; whether neighbours can be told apart
needs the draws of `schemes`.
"""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np

from hauch.core.judge.schemes import (
    FRONT,
    Limit,
    goodness_of,
    parts_of,
    rule_problems,
    weights_of,
)
from hauch.core.judge.standing import Term

NOTHING = 1e-9
"""A weight below this is none."""


@dataclass(frozen=True, slots=True)
class Wish:
    """Rules as somebody wonders about them; ``terms`` are all tests with a figure, those with a
    weight of 0 are not scored.
    """

    scheme: str
    terms: tuple[Term, ...]
    limits: tuple[Limit | None, ...]

    @property
    def scored(self) -> list[int]:
        """Numbers of the tests that are scored."""
        return [i for i, term in enumerate(self.terms) if term.weight > 0]

    @property
    def problems(self) -> list[str]:
        """Sentences on why it cannot rank."""
        limits = [limit for limit in self.limits if limit is not None]
        return rule_problems(self.scheme, [self.terms[i] for i in self.scored], limits)


@dataclass(frozen=True)
class Ordered:
    """An order of entries.

    Parameters
    ----------
    entries : indices of those that have every figure that is asked for, best first, shape (C,)
    place : of each, from 1; shared where scores are equal or, under fronts, on one front
    score : of each; the number of its front from 1 under fronts
    outside : whether it breaks a limit; these come last
    parts : what each test puts into the score, weighted, tests that are not scored 0, shape (T, C);
        empty under fronts
    """

    entries: np.ndarray
    place: np.ndarray
    score: np.ndarray
    outside: np.ndarray
    parts: np.ndarray

    def place_of(self, entry: int) -> int | None:
        """Place of an entry; None where it is not ranked."""
        at = np.flatnonzero(self.entries == entry)
        return int(self.place[at[0]]) if at.size else None


def ordered(wish: Wish, deltas: Sequence[np.ndarray]) -> Ordered:
    """The order that rules make of figures.

    Parameters
    ----------
    deltas : for each test, differences to the reference in y, shape (E,), NaN where there is none

    Raises
    ------
    ValueError : rules that cannot rank, with the first sentence of why
    """
    if problems := wish.problems:
        raise ValueError(problems[0])
    scored = wish.scored
    limited = [i for i, limit in enumerate(wish.limits) if limit is not None]
    complete = np.flatnonzero(np.all([np.isfinite(deltas[i]) for i in {*scored, *limited}], axis=0))
    terms, own = [wish.terms[i] for i in scored], [deltas[i][complete] for i in scored]
    goodness = goodness_of(wish.scheme, terms)(own) if complete.size else np.zeros(0)
    outside = np.zeros(complete.size, dtype=bool)
    for i in limited:
        limit = wish.limits[i]
        if limit is not None:
            outside |= limit.broken(deltas[i][complete])
    order = np.lexsort((np.arange(complete.size), -goodness, outside))
    goodness, outside = goodness[order], outside[order]
    place = np.arange(1, order.size + 1)
    for k in range(1, order.size):
        if goodness[k] == goodness[k - 1] and outside[k] == outside[k - 1]:
            place[k] = place[k - 1]
    parts = np.zeros((len(wish.terms), complete.size))
    if wish.scheme != FRONT and complete.size:
        weights = weights_of(wish.scheme, terms)
        for i, weight, part in zip(scored, weights, parts_of(wish.scheme, terms)(own), strict=True):
            parts[i] = weight * part[order]
    score = -goodness if wish.scheme == FRONT else goodness
    return Ordered(complete[order], place, score, outside, parts)


@dataclass(frozen=True, slots=True)
class Move:
    """An entry that changes its place; None where it is not ranked."""

    entry: int
    before: int | None
    after: int | None


def moves(before: Ordered, after: Ordered) -> list[Move]:
    """Who changes places between two orders of the same entries, who ends up best first; what was
    not ranked before, or is not any more, comes last.
    """
    was = dict(zip(before.entries.tolist(), before.place.tolist(), strict=True))
    now = dict(zip(after.entries.tolist(), after.place.tolist(), strict=True))
    found = [
        Move(entry, was.get(entry), now.get(entry))
        for entry in [*now, *(e for e in was if e not in now)]
        if was.get(entry) != now.get(entry)
    ]
    return sorted(found, key=lambda m: (m.before is None or m.after is None, m.after or math.inf))


def passed(
    before: Ordered, after: Ordered, move: Move, alike: bool = True
) -> tuple[list[int], int | None]:
    """The entries that one changes places with, best first, and the number of the test whose part
    carries it furthest past them; None where it is not weights that move it.

    Parameters
    ----------
    alike : whether the parts of both orders are in one unit; else no test is told to carry it
    """
    if move.before is None or move.after is None:
        return [], None
    size = int(max(before.entries.max(), after.entries.max())) + 1
    was, now = (np.full(size, np.nan) for _ in range(2))
    was[before.entries], now[after.entries] = before.place, after.place
    crossed = (was - move.before) * (now - move.after) < 0
    past = [e for e in after.entries.tolist() if crossed[e]]
    by = _carried_by(before, after, move, past) if alike and past else None
    return past, by


def _carried_by(before: Ordered, after: Ordered, move: Move, past: Sequence[int]) -> int | None:
    """The test whose change of part sets an entry most above those that it passes, or below."""
    if not (before.parts.any() and after.parts.any()):
        return None

    def lead(order: Ordered) -> np.ndarray:
        others = np.isin(order.entries, past)
        own = order.entries == move.entry
        return np.asarray(order.parts[:, own][:, 0] - order.parts[:, others].mean(axis=1))

    change = lead(after) - lead(before)
    change = change if (move.after or 0) < (move.before or 0) else -change
    best = int(np.argmax(change))
    return best if change[best] > 0 else None


@dataclass(frozen=True, slots=True)
class Reach:
    """How far a weight may go, all others unchanged.

    Parameters
    ----------
    test : number of the test
    low, high : weights between which the first place stays; high may be infinite
    below, above : entries that take the first place beyond; None where nobody does
    order_low, order_high : weights between which no place changes
    """

    test: int
    low: float
    high: float
    below: int | None
    above: int | None
    order_low: float
    order_high: float


def reaches(wish: Wish, deltas: Sequence[np.ndarray], order: Ordered) -> list[Reach]:
    """How far each weight may go before the order turns; empty for schemes that weights do not
    decide, and for fewer than two entries within the limits.

    Notes
    -----
    A score is linear in each weight (its division by the sum of all weights changes no order): two
    entries change places where their difference is zero. The first change within an order is always
    between neighbours. A test that is not scored yet has a reach where all that are ranked have its
    figure.
    """
    inside = order.entries[~order.outside]
    if wish.scheme == FRONT or len(wish.scored) < 2 or inside.size < 2:
        return []
    found = []
    values = np.zeros((len(wish.terms), order.entries.size))
    known = [bool(np.isfinite(d[order.entries]).all()) for d in deltas]
    terms = [t for t, k in zip(wish.terms, known, strict=True) if k]
    own = [d[order.entries] for d, k in zip(deltas, known, strict=True) if k]
    values[known] = parts_of(wish.scheme, terms)(own)
    values = values[:, ~order.outside]
    weights = np.array([t.weight for t in wish.terms])
    score = weights @ values
    for test in np.flatnonzero(known).tolist():
        lead, slope = score[0] - score[1:], values[test, 0] - values[test, 1:]
        low, high, below, above = _turns(weights[test], lead, slope)
        gap, step = score[:-1] - score[1:], values[test, :-1] - values[test, 1:]
        first, last, _, _ = _turns(weights[test], gap, step)
        found.append(
            Reach(
                test,
                low,
                high,
                None if below is None else int(inside[below + 1]),
                None if above is None else int(inside[above + 1]),
                first,
                last,
            )
        )
    return found


def _turns(
    weight: float, lead: np.ndarray, slope: np.ndarray
) -> tuple[float, float, int | None, int | None]:
    """Weights at which leads lead + (w - weight) slope first turn to zero below and above, and
    whose; a weight is at least 0.
    """
    with np.errstate(divide="ignore", invalid="ignore"):
        at = weight - lead / slope
    down, up = np.where(slope > 0, at, -np.inf), np.where(slope < 0, at, np.inf)
    below, above = int(np.argmax(down)), int(np.argmin(up))
    low, high = float(down[below]), float(up[above])
    if low < NOTHING:  # a tie at a weight of 0, which rounding sets a little above it
        low = 0.0
    return (
        low,
        high,
        below if low > 0 else None,
        above if math.isfinite(high) else None,
    )
