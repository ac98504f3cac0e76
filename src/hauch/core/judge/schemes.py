"""Schemes: how the figures of several tests become one order, and which rules can rank at all.

References
----------
JCGM 101:2008, 6.4.9.4 and 7 (Monte Carlo propagation, t distribution for a pooled standard
    deviation).
JCGM 106:2012, 8.2 (simple acceptance: a limit is kept or broken by the value; the probability is
    told beside it).
K. Deb and others, IEEE Trans. Evol. Comput. 6 (2002) 182 (fronts of entries that none beats in
    everything).
"""

from __future__ import annotations

from collections.abc import Callable, Iterator, Sequence
from dataclasses import dataclass

import numpy as np
import scipy

from hauch.core.judge.family import apart_factor
from hauch.core.judge.reference import Comparison
from hauch.core.judge.standing import CHUNK, TAIL, Standing, Term, TieRule

WEIGHTED, SINGLE = "weighted_percent", "best_single"
RANK_POINTS, SUM, FRONT, CONSTRAINT = "rank_points", "sum", "front", "constraint"
LAYERED_UP_TO = 60
"""Fronts of more entries than this are drawn fewer times, since every entry is held against every
other.
"""
FEWER_DRAWS = 500

ONE_SIGMA = (0.15866, 0.84134)
"""Quantiles one standard deviation from the middle of a normal distribution."""
Deltas = list[np.ndarray]
"""For each test, differences to the reference in y, entries along the last axis."""


@dataclass(frozen=True, slots=True)
class Limit:
    """A limit that an entry must keep: its loss in a test may be at most ``most`` (percent, or dB
    or points); below 0 asks for a gain.
    """

    test: str
    most: float
    direction: int
    log: bool

    def change(self, delta: np.ndarray) -> np.ndarray:
        """Change against the reference in the unit in which it is told."""
        return 100 * np.expm1(delta) if self.log else delta

    def broken(self, delta: np.ndarray) -> np.ndarray:
        """Whether the loss is larger than allowed."""
        return -self.direction * self.change(delta) > self.most


@dataclass(frozen=True)
class Outcome:
    """What a scheme makes of the entries that have all figures; E entries.

    ``score``, its standard uncertainty ``u`` and the half-width ``expanded`` of its 95 % interval
    (all empty for fronts, and for rank points of a single entry), ``ground`` the reference's own
    score, ``kept`` probability that an entry keeps all limits, ``breaks`` which limits it breaks by
    value, shape (E, limits).
    """

    complete: np.ndarray
    score: np.ndarray | None
    u: np.ndarray | None
    expanded: np.ndarray | None
    ground: float
    kept: np.ndarray
    breaks: np.ndarray
    standing: Standing


def rule_problems(scheme: str, terms: Sequence[Term], limits: Sequence[Limit] = ()) -> list[str]:
    """Sentences on why rules cannot rank; empty where they can."""
    problems = []
    if not terms:
        problems.append("The rules score no test. Give at least one test a weight.")
    for term in terms:
        if not term.weight > 0:
            problems.append(
                f"The weight of “{term.test}” is {term.weight:g}. Give a weight above 0, or take"
                " the test out of the score."
            )
        if term.direction not in (1, -1):
            problems.append(
                f"The direction of “{term.test}” must be more (+1) or less (-1), got"
                f" {term.direction}."
            )
    one = {
        SINGLE: "“Best single metric” ranks by one test",
        CONSTRAINT: "“Constraint, then objective” has one objective",
    }
    if scheme in one and len(terms) > 1:
        problems.append(
            f"{one[scheme]}, but {len(terms)} have a weight: {', '.join(t.test for t in terms)}."
            " Keep one."
        )
    if scheme == CONSTRAINT and not limits:
        problems.append(
            "“Constraint, then objective” needs at least one limit. Give a test the most that an"
            " entry may lose."
        )
    if scheme in {FRONT, RANK_POINTS, SUM} and len(terms) == 1:
        problems.append(
            f"Only “{terms[0].test}” is scored; with one test choose “best single metric”."
        )
    both = sorted({t.test for t in terms} & {limit.test for limit in limits})
    if scheme == CONSTRAINT and both:
        problems.append(
            f"“{both[0]}” is both the objective and a limit. A test is one or the other."
        )
    return problems


def judge_rules(
    scheme: str,
    terms: Sequence[Term],
    comparisons: Sequence[Comparison],
    limits: Sequence[Limit] = (),
    limited: Sequence[Comparison] = (),
    tie_rule: TieRule = "too_close",
    draws: int = 20_000,
    seed: int = 1,
) -> Outcome:
    """Rank entries by any scheme, drawing all doubts.

    Parameters
    ----------
    terms, comparisons : the scored tests, in the same order, over the same entries
    limits, limited : limits and the comparisons of their tests

    Raises
    ------
    ValueError : rules that cannot rank, with the first sentence of `rule_problems`

    Notes
    -----
    Entries that break a limit come after all that keep it. Under ``front`` an entry's rank is one
    more than the number of entries on better fronts, and ties are fronts.
    """
    if problems := rule_problems(scheme, terms, limits):
        raise ValueError(problems[0])
    everything = [*comparisons, *limited]
    complete = np.flatnonzero(np.all([np.isfinite(c.delta) for c in everything], axis=0))
    goodness = goodness_of(scheme, terms)
    count = len(terms)

    def judged(deltas: Deltas) -> tuple[np.ndarray, np.ndarray]:
        broken = [limit.broken(delta) for limit, delta in zip(limits, deltas[count:], strict=True)]
        outside = np.any(broken, axis=0) if broken else np.zeros(deltas[0].shape, dtype=bool)
        return goodness(deltas[:count]), outside

    nominal_deltas = [c.delta[complete] for c in everything]
    nominal, outside = judged(nominal_deltas)
    if scheme == FRONT and complete.size > LAYERED_UP_TO:
        draws = min(draws, FEWER_DRAWS)
    logs = [term.log for term in terms] + [limit.log for limit in limits]
    drawn, out = _draw_all(judged, everything, logs, complete, draws, seed)
    breaks = (
        np.array([limit.broken(d) for limit, d in zip(limits, nominal_deltas[count:], strict=True)])
        .reshape(len(limits), complete.size)
        .T
    )
    apart = apart_factor(complete.size, min((c.dof for c in everything[:count]), default=np.inf))
    standing = _rank(nominal, outside, drawn, out, tie_rule, apart, fronts=scheme == FRONT)
    zero = float(goodness([np.zeros(1) for _ in terms])[0])
    sign = -1.0 if scheme == SUM else 1.0
    score = u = half = None
    alone = scheme == RANK_POINTS and complete.size == 1  # points of one entry say nothing
    if scheme != FRONT and not alone:
        score = sign * nominal
        u, half = (_half_width(drawn, ends) for ends in (ONE_SIGMA, (TAIL, 1 - TAIL)))
    ground = float("nan") if scheme in {FRONT, RANK_POINTS} else sign * zero
    return Outcome(complete, score, u, half, ground, 1 - out.mean(axis=0), breaks, standing)


def _half_width(drawn: np.ndarray, ends: tuple[float, float]) -> np.ndarray:
    """Half of what lies between two quantiles of each entry's draws, shape (E,). A standard deviation
    would be that of the few farthest draws where little was repeated.
    """
    if not drawn.size:
        return np.zeros(drawn.shape[1])
    return np.ptp(np.quantile(drawn, ends, axis=0), axis=0).astype(float) / 2


def goodness_of(scheme: str, terms: Sequence[Term]) -> Callable[[Deltas], np.ndarray]:
    """The function that makes one figure, more being better, of the deltas of all scored tests."""
    if scheme == FRONT:
        return lambda deltas: (
            -front_numbers(
                np.stack([t.direction * d for t, d in zip(terms, deltas, strict=True)], axis=-1)
            )
        )
    parts = parts_of(scheme, terms)
    weights = weights_of(scheme, terms)
    ground = 100.0 if scheme in PERCENT else 0.0

    def summed(deltas: Deltas) -> np.ndarray:
        weighted = [w * part for w, part in zip(weights, parts(deltas), strict=True)]
        return ground + np.sum(weighted, axis=0)

    return summed


PERCENT = frozenset({WEIGHTED, SINGLE, CONSTRAINT})
"""Schemes whose weights are shares of the score."""


def weights_of(scheme: str, terms: Sequence[Term]) -> list[float]:
    """What each test's part counts for: its share of all weights, or its weight."""
    total = sum(t.weight for t in terms) if scheme in PERCENT else 1.0
    return [t.weight / total for t in terms]


def parts_of(scheme: str, terms: Sequence[Term]) -> Callable[[Deltas], list[np.ndarray]]:
    """The function that makes what each test puts into the score before its weight, more being
    better, for all schemes but fronts: percent of gain, rank points, or the figure itself.
    """

    def percent(deltas: Deltas) -> list[np.ndarray]:
        return [t.direction * t.percent(d) for t, d in zip(terms, deltas, strict=True)]

    def points(deltas: Deltas) -> list[np.ndarray]:
        entries = deltas[0].shape[-1]
        return [
            entries + 1 - scipy.stats.rankdata(-t.direction * d, axis=-1)
            for t, d in zip(terms, deltas, strict=True)
        ]

    def figures(deltas: Deltas) -> list[np.ndarray]:
        with np.errstate(over="ignore"):  # what is no number any more is refused by `_rank`
            return [
                t.direction * (t.reference_level * np.exp(d) if t.log else t.reference_level + d)
                for t, d in zip(terms, deltas, strict=True)
            ]

    return {
        WEIGHTED: percent,
        SINGLE: percent,
        CONSTRAINT: percent,
        RANK_POINTS: points,
        SUM: figures,
    }[scheme]


def front_numbers(gains: np.ndarray) -> np.ndarray:
    """Number of the front on which each entry lies, from 1; shape (..., E) from gains (..., E, T),
    more being better.

    An entry is beaten when another is at least as good in every test and better in one.
    """
    one = gains[..., :, None, :]
    other = gains[..., None, :, :]
    beaten = np.all(other >= one, axis=-1) & np.any(other > one, axis=-1)
    number = np.zeros(gains.shape[:-1])
    left = np.ones(gains.shape[:-1], dtype=bool)
    front = 0
    while left.any():
        front += 1
        now = left & ~np.any(beaten & left[..., None, :], axis=-1)
        number[now] = front
        left &= ~now
    return number


FARTHEST = 60.0
"""Draws of a difference end here: a figure e^60 times the reference's, or 60 halvings of loudness (600 dB).
The t distribution of a test that was repeated once has tails beyond what a number can hold; order and
quantiles do not know the difference.
"""


def _draws(
    comparisons: Sequence[Comparison],
    logs: Sequence[bool],
    complete: np.ndarray,
    draws: int,
    seed: int,
    chunk: int,
) -> Iterator[Deltas]:
    """Seeded draws of all deltas: scatter with one scale for each test and draw, common causes as
    normal.
    """
    sizes = [chunk] * (draws // chunk) + ([draws % chunk] if draws % chunk else [])
    for stream, size in zip(np.random.SeedSequence(seed).spawn(len(sizes)), sizes, strict=True):
        random = np.random.Generator(np.random.SFC64(stream))
        deltas = []
        for c, log in zip(comparisons, logs, strict=True):
            scale = (
                np.sqrt(c.dof / random.chisquare(c.dof, size))
                if np.isfinite(c.dof)
                else np.ones(size)
            )
            used = np.flatnonzero(np.any(c.shared[complete] != 0, axis=0))
            causes = random.standard_normal((size, used.size)) * np.where(
                c.reference_sd[used], scale[:, None], 1.0
            )
            own = random.standard_normal((size, complete.size)) * scale[:, None] * c.own_u[complete]
            delta = c.delta[complete] + own + causes @ c.shared[np.ix_(complete, used)].T
            far = FARTHEST if log else 10 * FARTHEST
            deltas.append(np.clip(delta, -far, far))
        yield deltas


def _draw_all(
    judged: Callable[[Deltas], tuple[np.ndarray, np.ndarray]],
    comparisons: Sequence[Comparison],
    logs: Sequence[bool],
    complete: np.ndarray,
    draws: int,
    seed: int,
) -> tuple[np.ndarray, np.ndarray]:
    """Goodness of every draw, shape (draws, E), and whether a limit is broken in it."""
    chunk = min(CHUNK, max(1, 2_000_000 // max(complete.size, 1) ** 2))
    parts = [judged(deltas) for deltas in _draws(comparisons, logs, complete, draws, seed, chunk)]
    return np.concatenate([g.astype(np.float32) for g, _ in parts]), np.concatenate(
        [o for _, o in parts]
    )


def _rank(
    nominal: np.ndarray,
    outside: np.ndarray,
    drawn: np.ndarray,
    out: np.ndarray,
    tie_rule: TieRule,
    apart: float,
    *,
    fronts: bool,
) -> Standing:
    count = nominal.size
    if not (np.isfinite(nominal).all() and np.isfinite(drawn).all()):
        raise ValueError("a figure or its uncertainty is too large to rank by")
    order = np.lexsort((np.arange(count), -nominal, outside))
    ranks = np.zeros(count, dtype=int)
    leader = 0
    for place, entry in enumerate(order):
        head = order[leader]
        same = (
            nominal[head] == nominal[entry]
            if fronts
            else _together(head, entry, nominal, drawn, tie_rule, apart)
        )
        if outside[head] != outside[entry] or not same:
            leader = place
        ranks[entry] = leader + 1
    # Entries that break a limit in a draw come after all that keep it there.
    span = float(np.ptp(drawn)) + 1.0 if drawn.size else 1.0
    if not count:
        return Standing.of(order, ranks, np.zeros((0, 0)))
    place_of = scipy.stats.rankdata(-(drawn - span * out), method="min", axis=1).astype(int)
    probability = np.stack(
        [np.bincount(place_of[:, e] - 1, minlength=count) for e in range(count)]
    ) / len(place_of)
    return Standing.of(order, ranks, probability)


def _together(
    head: int,
    entry: int,
    nominal: np.ndarray,
    drawn: np.ndarray,
    tie_rule: TieRule,
    apart: float,
) -> bool:
    """Whether two entries share a rank: their gap is below `apart_factor` times its standard
    uncertainty, which is half of what holds 68 % of its draws.
    """
    if tie_rule == "equal_score":
        return bool(round(float(nominal[head]), 1) == round(float(nominal[entry]), 1))
    low, high = np.quantile(drawn[:, head] - drawn[:, entry], ONE_SIGMA)
    return bool(abs(nominal[head] - nominal[entry]) <= apart * (high - low) / 2)
