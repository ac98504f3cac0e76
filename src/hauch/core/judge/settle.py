"""What would settle a round: the cheapest further repeats after which the first place is as probable as
somebody asks, if the figures stay where they are; and how probable it is that those repeats do it.

References
----------
Allocation by what a repeat gains for its cost: C.-H. Chen, L. H. Lee, Stochastic Simulation
    Optimization (2011), ch. 3 and 4. Common random numbers: P. Glasserman, D. D. Yao, Manage. Sci. 38
    (1992) 884. Forecast before the data are in: preposterior analysis, H. Raiffa, R. Schlaifer, Applied
    Statistical Decision Theory (1961), ch. 5. Draws: JCGM 101:2008, 6.4.9.4.
"""

from __future__ import annotations

import math
from collections.abc import Callable, Sequence
from dataclasses import dataclass, field

import numpy as np
import scipy

from hauch.core.judge.reference import Comparison
from hauch.core.judge.schemes import FRONT, RANK_POINTS, Limit, goodness_of
from hauch.core.judge.standing import Term
from hauch.core.quantity import as_normal

DRAWS = 4000
"""Draws of all doubts, the same for every plan that is tried."""

MOST_CONTENDERS = 8
"""So many entries that may be first are given more repeats."""

CONTENDS = 0.002
"""An entry with a smaller probability of the first place contends for nothing."""

MOST_STEPS = 400
"""More repeats than this in all are no advice."""

AT_ONCE = (1, 2, 4, 8)
"""So many repeats of one part are tried as one step: one alone may gain nothing yet."""

MOST_FIELD = 60
"""So many entries, the best by their figures, are drawn: who is farther behind is never first."""

FUTURES = 200
"""Futures that are played for the forecast."""


@dataclass(frozen=True)
class Question:
    """A round as it stands; T scored tests, L limits, E entries.

    Parameters
    ----------
    scheme, terms, comparisons : as `schemes.judge_rules` takes them
    limits, limited : likewise
    minutes : what one repeat takes, for each of the tests and limits [min], shape (T + L,)
    """

    scheme: str
    terms: Sequence[Term]
    comparisons: Sequence[Comparison]
    limits: Sequence[Limit] = ()
    limited: Sequence[Comparison] = ()
    minutes: Sequence[float] = ()

    @property
    def all(self) -> list[Comparison]:
        """Comparisons of all tests, then of all limits."""
        return [*self.comparisons, *self.limited]


@dataclass(frozen=True, slots=True)
class Step:
    """Further repeats of an entry in a test; ``test`` counts tests, then limits."""

    entry: int
    test: int
    repeats: int


@dataclass(frozen=True)
class Settlement:
    """What would settle it.

    Parameters
    ----------
    leader : the entry that is first by its figures; None where nobody is ranked
    first : its probability of the first place now
    steps : the further repeats, none where it is settled or nothing helps
    then : its probability after them, if the figures stay
    minutes : what they take
    works : probability that somebody's first place is as probable as asked after them
    reached : whether ``then`` is what was asked
    """

    leader: int | None
    first: float
    steps: tuple[Step, ...] = ()
    then: float = 0.0
    minutes: float = 0.0
    works: float = 0.0
    reached: bool = False

    @property
    def repeats(self) -> int:
        """How many in all."""
        return sum(step.repeats for step in self.steps)


@dataclass
class _Draws:
    """Draws that every plan shares: uniform ones for the scale of each test's scatter, normal ones
    for each entry's own runs and for the causes that entries share.
    """

    question: Question
    complete: np.ndarray
    seed: int
    scale: list[np.ndarray] = field(default_factory=list)
    own: list[np.ndarray] = field(default_factory=list)
    shared: list[np.ndarray] = field(default_factory=list)
    scales: dict[tuple[int, float], np.ndarray] = field(default_factory=dict)

    def __post_init__(self) -> None:
        random = np.random.Generator(np.random.SFC64(self.seed))
        size = self.complete.size
        for c in self.question.all:
            self.scale.append(random.random(DRAWS))
            self.own.append(random.standard_normal((DRAWS, size)))
            rows = c.shared[self.complete]
            used = np.flatnonzero(np.any(rows != 0, axis=0))
            causes = random.standard_normal((DRAWS, used.size))
            scatter = c.reference_sd[used]
            self.shared.append(
                np.stack([causes[:, s] @ rows[:, used[s]].T for s in (scatter, ~scatter)])
            )

    def scale_of(self, test: int, dof: float) -> np.ndarray:
        """Standard deviation in each draw over the estimated one."""
        if not math.isfinite(dof):
            return np.ones(DRAWS)
        key = (test, round(dof, 2))
        if key not in self.scales:
            chi2 = 2 * scipy.special.gammaincinv(dof / 2, self.scale[test])
            self.scales[key] = np.sqrt(dof / np.maximum(chi2, 1e-12))
        return self.scales[key]

    def delta(self, test: int, further: np.ndarray, centre: np.ndarray | None = None) -> np.ndarray:
        """Draws of one test's differences after further repeats, shape (draws, entries)."""
        c = self.question.all[test]
        middle = c.delta[self.complete] if centre is None else centre
        scale = self.scale_of(test, c.dof + float(further.sum()))
        own = self.own[test] * own_u(c, further)[self.complete]
        scatter, common = self.shared[test]
        return middle + scale[:, None] * (own + scatter) + common


def own_u(comparison: Comparison, further: np.ndarray) -> np.ndarray:
    """Standard uncertainty of each entry's own runs after further repeats of the prints it has,
    shape (E,): what comes of runs falls with their number, what prints differ by stays.
    """
    c = comparison
    of_prints = np.zeros_like(c.own_u)
    several = c.prints > 1
    if c.print_sd and several.any():
        of_prints[several] = as_normal(c.print_sd, c.print_dof) ** 2 / c.prints[several]
    of_runs = np.maximum(c.own_u**2 - of_prints, 0.0)
    count = np.maximum(c.counts, 1)
    return np.asarray(np.sqrt(of_runs * count / (count + further) + of_prints))


@dataclass
class _Plans:
    """Plans that are tried on one question; its first entry is the leader."""

    question: Question
    draws: _Draws
    goodness: Callable[[list[np.ndarray]], np.ndarray]

    def parts(self, further: np.ndarray) -> list[np.ndarray]:
        return [self.draws.delta(t, further[t]) for t in range(len(self.question.all))]

    def best(self, deltas: Sequence[np.ndarray]) -> np.ndarray:
        """Who is best in each draw, within the limits where anybody is."""
        count = len(self.question.terms)
        value = self.goodness(list(deltas[:count]))
        broken = np.zeros(value.shape, bool)
        for limit, delta in zip(self.question.limits, deltas[count:], strict=True):
            broken |= limit.broken(delta)
        span = float(np.ptp(value)) + 1.0
        return np.asarray(np.argmax(value - span * broken, axis=1))


def settle(question: Question, asked: float = 0.95, seed: int = 1) -> Settlement:
    """The cheapest further repeats that bring the first place's probability to what is asked.

    Parameters
    ----------
    asked : probability of the first place, below 1
    seed : of the draws

    Raises
    ------
    ValueError : ``asked`` is no probability below 1, or a scheme under which more runs settle nothing

    Notes
    -----
    Greedy: at each step the repeats that gain most in the logarithm of what is still missing for
    their minutes; then what turned out to be needless is taken off again. Only entries that may be
    first are run further. The reference's runs stay as they are: what they do not know is nearly
    the same for all.
    """
    if not 0 < asked < 1:
        raise ValueError(f"a probability between 0 and 1 is asked for, got {asked}")
    if question.scheme == FRONT:
        raise ValueError(
            "On a front several are first, and more runs do not choose between them. Rank by one"
            " figure to settle it."
        )
    everything = question.all
    complete = np.flatnonzero(np.all([np.isfinite(c.delta) for c in everything], axis=0))
    if not complete.size or not all(c.has_doubt for c in everything):
        return Settlement(None, 0.0)
    if question.scheme == RANK_POINTS and complete.size > MOST_FIELD:
        raise ValueError(
            f"With rank points, what would settle a round is told for up to {MOST_FIELD} entries."
        )
    goodness = goodness_of(question.scheme, question.terms)
    complete = _nearest(question, goodness, complete)
    plans = _Plans(question, _Draws(question, complete, seed), goodness)
    tests, entries = len(everything), everything[0].delta.size
    further = np.zeros((tests, entries))
    wins = np.bincount(plans.best(plans.parts(further)), minlength=complete.size) / DRAWS
    first, leader = float(wins[0]), int(complete[0])
    if complete.size < 2 or first >= asked:
        return Settlement(leader, first, then=first, works=float(first >= asked), reached=True)
    if question.scheme != RANK_POINTS and np.any(kept := wins > 0):
        kept[0] = True  # who is never first changes nothing
        complete, wins = complete[kept], wins[kept]
        plans = _Plans(question, _Draws(question, complete, seed), goodness)
    draws, deltas = plans.draws, plans.parts(further)
    chance = float(np.mean(plans.best(deltas) == 0))
    contenders = [int(i) for i in np.argsort(-wins)[:MOST_CONTENDERS] if wins[i] >= CONTENDS]
    contenders = sorted({0, *contenders})
    used = [t for t in range(tests) if t >= len(question.terms) or question.terms[t].weight > 0]
    while chance < asked and further.sum() < MOST_STEPS:
        found = _best_step(plans, further, deltas, chance, contenders, used)
        if found is None:
            return Settlement(leader, first, then=chance)
        test, entry, count = found
        further[test, entry] += count
        deltas[test] = draws.delta(test, further[test])
        chance = float(np.mean(plans.best(deltas) == 0))
    if chance < asked:
        return Settlement(leader, first, then=chance)
    chance = _without_needless(plans, further, asked, chance)
    steps = tuple(
        Step(int(e), int(t), int(further[t, e])) for t, e in zip(*np.nonzero(further), strict=True)
    )
    minutes = _minutes(question, further)
    works = _forecast(plans, further, asked, seed)
    return Settlement(leader, first, steps, chance, minutes, works, True)


def _nearest(
    question: Question,
    goodness: Callable[[list[np.ndarray]], np.ndarray],
    complete: np.ndarray,
) -> np.ndarray:
    """The entries that may be first by their figures, the leader first."""
    count = len(question.terms)
    deltas = [c.delta[complete] for c in question.all]
    value, broken = goodness(deltas[:count]), np.zeros(complete.size, bool)
    for limit, delta in zip(question.limits, deltas[count:], strict=True):
        broken |= limit.broken(delta)
    order = np.lexsort((np.arange(complete.size), -value, broken))
    return np.asarray(complete[order[:MOST_FIELD]])


def _minutes(question: Question, further: np.ndarray) -> float:
    minutes = np.asarray(question.minutes or [1.0] * len(question.all), float)
    return float(minutes @ further.sum(axis=1))


def _best_step(
    plans: _Plans,
    further: np.ndarray,
    deltas: list[np.ndarray],
    chance: float,
    contenders: list[int],
    used: list[int],
) -> tuple[int, int, int] | None:
    """The repeats that gain most for their minutes; None where none gain anything."""
    question, complete = plans.question, plans.draws.complete
    best: tuple[float, tuple[int, int, int]] | None = None
    for test in used:
        minutes = question.minutes[test] if question.minutes else 1.0
        for i in contenders:
            entry = int(complete[i])
            for count in AT_ONCE:
                tried = further[test].copy()
                tried[entry] += count
                changed = [*deltas]
                changed[test] = plans.draws.delta(test, tried)
                then = float(np.mean(plans.best(changed) == 0))
                missing = (1 - then + 0.5 / DRAWS) / (1 - chance + 0.5 / DRAWS)
                gain = -math.log(missing) / (count * max(minutes, 1e-9))
                if gain > 0 and then > chance and (best is None or gain > best[0]):
                    best = gain, (test, entry, count)
    return best[1] if best else None


def _without_needless(plans: _Plans, further: np.ndarray, asked: float, chance: float) -> float:
    """Take off, the most expensive first, what is not needed; the probability without it."""
    question = plans.question
    minutes = question.minutes or [1.0] * len(question.all)
    again = True
    while again:
        again = False
        where = sorted(zip(*np.nonzero(further), strict=True), key=lambda at: -minutes[at[0]])
        for test, entry in where:
            further[test, entry] -= 1
            then = float(np.mean(plans.best(plans.parts(further)) == 0))
            if then >= asked:
                chance, again = then, True
            else:
                further[test, entry] += 1
    return chance


def _forecast(plans: _Plans, further: np.ndarray, asked: float, seed: int) -> float:
    """Probability that somebody is first as probably as asked once the repeats are in.

    In each future the true differences are drawn as the figures tell them now; the new means follow
    from them and the repeats, and are judged as they would be then.
    """
    question, draws = plans.question, plans.draws
    complete = draws.complete
    random = np.random.Generator(np.random.SFC64(np.random.SeedSequence([seed, 2])))
    few = slice(0, 1000)
    now = plans.parts(np.zeros_like(further))
    settled = 0
    for future in range(FUTURES):
        deltas = []
        for test, c in enumerate(question.all):
            before, after = (own_u(c, f)[complete] for f in (0 * further[test], further[test]))
            # A mean's own error shrinks from before to after; what it moves by is the difference.
            moved = np.sqrt(np.maximum(before**2 - after**2, 0.0))
            centre = c.delta[complete] + moved * random.standard_normal(complete.size) * float(
                draws.scale_of(test, c.dof)[future]
            )
            told = draws.delta(test, further[test], centre)[few]
            deltas.append(told if further[test].any() else now[test][few])
        wins = np.bincount(plans.best(deltas), minlength=complete.size)
        settled += bool(wins.max() >= asked * (few.stop - few.start))
    return settled / FUTURES
