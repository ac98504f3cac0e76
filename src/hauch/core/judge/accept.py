"""Accept or reject: a change of a part against limits that were set beforehand, in a sentence with the
numbers that decide; and between which sizes of a dimension the best one lies.

References
----------
JCGM 106:2012, 7.3 (probability of keeping a limit from a value and its standard uncertainty) and 8.3
    (guarded decisions: only what is sure either way decides). JCGM 100:2008, G.3 (Student's t).
Optimum of a fitted curve: G. E. P. Box, K. B. Wilson, J. R. Stat. Soc. B 13 (1951) 1.
"""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass
from typing import Literal

import numpy as np
import scipy

from hauch.core.judge.difference import LEVEL, repeats_to_call
from hauch.core.quantity import expanded

Held = Literal["kept", "broken", "open"]

SURE = (1 + LEVEL) / 2
"""Probability from which a limit is said to be kept, or one less it to be broken."""


@dataclass(frozen=True, slots=True)
class Criterion:
    """What a change must keep.

    Parameters
    ----------
    test : what is measured, in words
    against : what it is held against, in words: the reference, version 2
    most : loss that is allowed [% or the figure's unit]; below 0 a gain that is asked for, 0 a gain
        that can be told from nothing
    direction : +1 where more is better, -1 where less is
    log : whether figures are compared as ratios
    unit : of the change as it is told
    """

    test: str
    against: str
    most: float
    direction: int
    log: bool
    unit: str

    def told(self, delta: float) -> float:
        """A difference in y as it is told."""
        return 100 * math.expm1(delta) if self.log else delta

    @property
    def limit(self) -> float:
        """The limit as a difference in y; a loss of all or more has none."""
        change = -self.direction * self.most
        if not self.log:
            return change
        return math.log1p(change / 100) if change > -100 else -math.inf


@dataclass(frozen=True, slots=True)
class Finding:
    """A criterion on a measured change.

    Parameters
    ----------
    change, half : as it is told, and the half-width at 95 %
    probability : that the limit is kept
    held : kept, broken, or open where neither is sure
    repeats : further repeats that would tell; None where more would not, 0 where it is told
    """

    criterion: Criterion
    change: float
    half: float
    probability: float
    held: Held
    repeats: int | None = 0

    @property
    def sentence(self) -> str:
        """What was found, with its numbers."""
        one = self.criterion
        size = f"{abs(self.change):.3g} ± {self.half:.2g} {one.unit}"
        way = _way(self.change, one)
        found = f"{one.test} {way} by {size} against {one.against}"
        if one.most > 0:
            asked = f"a loss of {one.most:g} {one.unit} is allowed"
            words = {
                "kept": f"{asked}",
                "broken": f"where {asked}",
                "open": f"{asked}, and whether it keeps that cannot be told",
            }
            return f"{found}{' ' if self.held == 'broken' else ', '}{words[self.held]}"
        if one.most == 0:
            tail = {
                "kept": "a gain",
                "broken": "a loss where a gain is asked for",
                "open": "which cannot be told from nothing",
            }
            return f"{found}, {tail[self.held]}"
        asked = f"a gain of {-one.most:g} {one.unit} is asked for"
        tail = {"kept": asked, "broken": f"where {asked}", "open": f"{asked}, and cannot be told"}
        return f"{found}{' ' if self.held == 'broken' else ', '}{tail[self.held]}"


def _way(change: float, one: Criterion) -> str:
    if one.log or one.unit != "dB":
        return "rose" if change >= 0 else "fell"
    return "is louder" if change >= 0 else "is quieter"


def found(
    criterion: Criterion,
    delta: float,
    u: float,
    dof: float,
    repeat_sd: float = 0.0,
    count: int = 1,
) -> Finding:
    """Hold a measured change against a criterion.

    Parameters
    ----------
    delta, u, dof : difference in y, its standard uncertainty and degrees of freedom
    repeat_sd : standard deviation of one repeat in y
    count : repeats that the part has now

    Raises
    ------
    ValueError : a doubt that is no number
    """
    if not (u >= 0 and math.isfinite(u)):
        raise ValueError(f"the standard uncertainty must be 0 or more, got {u}")
    room = criterion.direction * (delta - criterion.limit)
    if u == 0:
        probability = 1.0 if room >= 0 else 0.0
    else:
        probability = float(scipy.special.stdtr(min(dof, 1e9), room / u))
    held: Held = "kept" if probability >= SURE else "broken" if probability <= 1 - SURE else "open"
    repeats = 0 if held != "open" else repeats_to_call(abs(room), u, dof, repeat_sd, count)
    change = criterion.told(delta)
    half = expanded(u, dof)
    if criterion.log:
        half = 100 * math.exp(delta) * half
    return Finding(criterion, change, half, probability, held, repeats)


Verdict = Literal["accepted", "rejected", "open"]


def verdict(findings: Sequence[Finding]) -> tuple[Verdict, str]:
    """What the criteria make of a change, and the sentence: rejected where any limit is surely
    broken, or a gain that is asked for cannot be told; accepted where all are surely kept; else it
    cannot be decided yet.

    Raises
    ------
    ValueError : no criterion
    """
    if not findings:
        raise ValueError("a verdict needs a criterion")
    broken = [f for f in findings if f.held == "broken"]
    unsure = [f for f in findings if f.held == "open"]
    if broken:
        # What speaks against it: first what is broken, then gains that cannot be told.
        against = [*broken, *(f for f in unsure if f.criterion.most <= 0)]
        return "rejected", f"Rejected: {_listed([f.sentence for f in against])}."
    if unsure:
        more = [f.repeats for f in unsure]
        if any(n is None for n in more):
            how = "more repeats alone would not tell"
        else:
            most = max(n or 0 for n in more)
            how = f"{most} further repeat{'s' if most > 1 else ''} would tell"
        return (
            "open",
            f"Cannot be decided yet: {_listed([f.sentence for f in unsure])}; {how}.",
        )
    return "accepted", f"Accepted: {_listed([f.sentence for f in findings])}."


def _listed(texts: Sequence[str]) -> str:
    return "; ".join(texts[:-1]) + ("; and " if len(texts) > 1 else "") + texts[-1]


@dataclass(frozen=True, slots=True)
class Tried:
    """A size of a dimension that was tried: the gain it came to, in y times the direction, and its
    standard uncertainty.
    """

    size: float
    gain: float
    u: float


@dataclass(frozen=True)
class Bracket:
    """What tries tell of a dimension.

    Parameters
    ----------
    low, high : sizes between which the best lies; None where it lies at or beyond an end
    best, half : the best size by the fitted curve and the half-width at 95 %, within what was
        tried; None where the curve has none there
    next : size to try next
    why : in words
    line : of the fitted curve (size, gain), empty for fewer than three sizes
    """

    low: float | None
    high: float | None
    best: float | None
    half: float | None
    next: float
    why: str
    line: tuple[tuple[float, float], ...] = ()


BEYOND = 0.5
"""Beyond an end the next size is this share of the last step farther."""

DRAWS = 4000


def bracket(tried: Sequence[Tried], seed: int = 1) -> Bracket:
    """Between which sizes the best one lies, and what to try next.

    Parameters
    ----------
    tried : at least two different sizes; several of one size are taken together

    Raises
    ------
    ValueError : fewer than two different sizes

    Notes
    -----
    Three or more sizes are fitted by a parabola, each weighted by its doubt; its top counts where
    the parabola bends down and the top lies within the sizes in at least nine of ten draws.
    """
    sizes, gains, doubts = _together(tried)
    if sizes.size < 2:
        raise ValueError("a bracket needs at least two different sizes")
    top = int(np.argmax(gains))
    line: tuple[tuple[float, float], ...] = ()
    best = half = None
    if sizes.size >= 3:
        best, half, line = _top(sizes, gains, doubts, seed)
    if 0 < top < sizes.size - 1:
        low, high = float(sizes[top - 1]), float(sizes[top + 1])
        middle = best if best is not None and low < best < high else float(sizes[top])
        gap = (low + sizes[top]) / 2 if sizes[top] - low > high - sizes[top] else None
        next_one = middle if middle != sizes[top] else float(gap or (high + sizes[top]) / 2)
        return Bracket(low, high, best, half, next_one, "the best lies between", line)
    if top == 0:
        step = sizes[1] - sizes[0]
        next_one = float(max(sizes[0] - BEYOND * step, sizes[0] / 2 if sizes[0] > 0 else -math.inf))
        return Bracket(
            None, float(sizes[1]), best, half, next_one, "the smallest is the best so far", line
        )
    step = sizes[-1] - sizes[-2]
    next_one = float(sizes[-1] + BEYOND * step)
    return Bracket(
        float(sizes[-2]), None, best, half, next_one, "the largest is the best so far", line
    )


def _together(tried: Sequence[Tried]) -> tuple[np.ndarray, np.ndarray, np.ndarray]:
    """Sizes in order, the weighted mean gain of each, and its doubt."""
    by_size: dict[float, list[Tried]] = {}
    for one in tried:
        by_size.setdefault(one.size, []).append(one)
    sizes = np.array(sorted(by_size))
    gains, doubts = [], []
    for size in sizes.tolist():
        weights = np.array([1 / max(t.u, 1e-12) ** 2 for t in by_size[size]])
        gains.append(float(np.average([t.gain for t in by_size[size]], weights=weights)))
        doubts.append(float(1 / math.sqrt(weights.sum())))
    return sizes, np.array(gains), np.array(doubts)


def _top(
    sizes: np.ndarray, gains: np.ndarray, doubts: np.ndarray, seed: int
) -> tuple[float | None, float | None, tuple[tuple[float, float], ...]]:
    """Top of the weighted parabola, its half-width by draws, and the curve."""
    scale = float(np.ptp(sizes))
    x = (sizes - sizes.mean()) / scale
    weights = 1 / np.maximum(doubts, 1e-12)
    basis = np.stack([x**2, x, np.ones_like(x)], axis=1)
    solve = np.linalg.pinv(basis * weights[:, None])
    random = np.random.default_rng(seed)
    drawn = gains + doubts * random.standard_normal((DRAWS, gains.size))
    a, b, _ = (solve @ (drawn * weights).T)[:, :]
    fit = solve @ (gains * weights)
    at = np.linspace(x[0], x[-1], 41)
    line = tuple(
        (float(sizes.mean() + scale * t), float(fit[0] * t * t + fit[1] * t + fit[2])) for t in at
    )
    with np.errstate(divide="ignore", invalid="ignore"):
        tops = -b / (2 * a)
    inside = (a < 0) & (tops > x[0]) & (tops < x[-1])
    if not fit[0] < 0 or inside.mean() < 0.9:
        return None, None, line
    best = float(sizes.mean() + scale * (-fit[1] / (2 * fit[0])))
    low, high = np.quantile(tops[inside], [0.025, 0.975])
    return best, float(scale * (high - low) / 2), line
