"""One figure against another one: in percent or as a difference, with what both share taken out.

References
----------
JCGM 100:2008, 5.2.2 and F.1.2.3: causes that two figures share enter a difference with both signs,
    and cancel.
Drift that is straight in time falls out of A-B-A: D. C. Montgomery, Design and Analysis of
    Experiments, on blocking.
"""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass

from hauch.core.judge.difference import Word, judge_difference
from hauch.core.quantity import Influence, Quantity, derive


@dataclass(frozen=True, slots=True)
class Against:
    """``change`` with doubt [% or the figure's unit], the word, and the probability of better."""

    change: Quantity
    word: Word
    probability: float


def mean_of(figures: Sequence[Quantity], name: str) -> Quantity:
    """Mean of repeats, with their scatter as one more cause of its own.

    Raises
    ------
    ValueError : no figure
    """
    if not figures:
        raise ValueError("a mean needs at least one figure")
    if len(figures) == 1:
        return figures[0]
    inputs = {f"x{i}": q for i, q in enumerate(figures)}
    mean = derive(
        f"Mean of {len(figures)} repeats",
        "x̄ = 1/n Σ xᵢ",
        lambda **x: sum(x.values()) / len(x),
        inputs,
        figures[0].unit,
        "JCGM 100:2008, 4.2.1",
    )
    spread = math.sqrt(
        sum((q.value - mean.value) ** 2 for q in figures) / (len(figures) - 1) / len(figures)
    )
    own = math.sqrt(sum(part**2 for cause, part in mean.parts.items() if cause.scope == "own"))
    if spread <= own:
        return mean
    # What the repeats scatter beyond their own doubts is a cause that no single one of them knows.
    cause = Influence(f"repeats:{name}", "repeats scatter", "own", "A", len(figures) - 1.0)
    return Quantity(
        mean.value, mean.unit, {**mean.parts, cause: math.sqrt(spread**2 - own**2)}, mean.working
    )


def change(new: Quantity, old: Quantity, log: bool) -> Quantity:
    """New against old: in percent where figures are compared as ratios, else as a difference in
    their unit.

    Raises
    ------
    ValueError : a ratio to a figure that is not above zero
    """
    if log:
        if old.value <= 0:
            raise ValueError(
                f"a change in percent needs a figure above 0 to compare with, got {old.value:g}"
            )
        return derive(
            "Change",
            "100 (x / x₀ − 1)",
            lambda x, x0: 100 * (x / x0 - 1),
            {"x": new, "x0": old},
            "%",
            "definition",
            symbols={"x0": "x₀"},
        )
    return derive(
        "Change",
        "x − x₀",
        lambda x, x0: x - x0,
        {"x": new, "x0": old},
        new.unit,
        "definition",
        symbols={"x0": "x₀"},
    )


def against(new: Quantity, old: Quantity, log: bool, direction: int) -> Against:
    """New against old, judged in one word; ``direction`` is +1 where more is better."""
    found = change(new, old, log)
    judged = judge_difference(found.value, found.u, found.dof, direction)
    return Against(found, judged.word, judged.probability)


def a_b_a(before: Quantity, other: Quantity, after: Quantity, log: bool, direction: int) -> Against:
    """One thing changed and changed back: B against the mean of A before and A after, so that
    straight drift falls out.
    """
    inputs = {"a1": before, "a2": after}
    middle = derive(
        "A, before and after",
        "(A₁ + A₂) / 2",
        lambda a1, a2: (a1 + a2) / 2,
        inputs,
        before.unit,
        "straight drift falls out",
        symbols={"a1": "A₁", "a2": "A₂"},
    )
    return against(other, middle, log, direction)
