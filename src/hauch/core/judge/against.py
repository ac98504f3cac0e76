"""One figure against another one: in percent or as a difference, with what both share taken out.

Scatter inside a run says little of how the next run would read: what a mean or a change is known to
comes from repeats, or from what the rig showed before. Where neither tells it, nothing is called.

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

from hauch.core.judge.band import Scatter
from hauch.core.judge.difference import NOT_REPEATED, judge_difference
from hauch.core.quantity import Influence, Quantity, derive


@dataclass(frozen=True, slots=True)
class Against:
    """``change`` with doubt [% or the figure's unit], the word, and the probability of better; it
    is None, and the word says so, where nobody knows how a run scatters.
    """

    change: Quantity
    word: str
    probability: float | None

    @property
    def has_doubt(self) -> bool:
        """Whether the change has a doubt."""
        return self.word != NOT_REPEATED


def mean_of(figures: Sequence[Quantity]) -> Quantity:
    """Mean of repeats with what all of them share; how they scatter is not in it yet.

    Raises
    ------
    ValueError : no figure
    """
    if not figures:
        raise ValueError("a mean needs at least one figure")
    if len(figures) == 1:
        return figures[0]
    return derive(
        f"Mean of {len(figures)} repeats",
        "x̄ = 1/n Σ xᵢ",
        lambda **x: sum(x.values()) / len(x),
        {f"x{i}": q for i, q in enumerate(figures)},
        figures[0].unit,
        "JCGM 100:2008, 4.2.1",
    )


def repeated(mean: Quantity, runs: float, scatter: Scatter | None, log: bool) -> Quantity:
    """A mean of so many runs, with how runs scatter in place of the scatter inside them.

    Parameters
    ----------
    scatter : of one run, in y; None leaves what is known from inside the runs
    log : whether y is the logarithm of the figure
    """
    if scatter is None:
        return mean
    parts = {c: u for c, u in mean.parts.items() if not (c.scope == "own" and c.kind == "A")}
    cause = Influence("repeatability", "scatter from run to run", "own", "A", scatter.dof)
    size = scatter.sd * (abs(mean.value) if log else 1.0) / math.sqrt(runs)
    return Quantity(mean.value, mean.unit, {**parts, cause: size}, mean.working)


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


def against(
    new: Quantity,
    old: Quantity,
    log: bool,
    direction: int,
    scatter: Scatter | None,
    runs: tuple[float, float] = (1, 1),
) -> Against:
    """New against old, judged in one word.

    Parameters
    ----------
    direction : +1 where more is better, -1 where less is better
    scatter : of one run, in y; None where nobody knows it
    runs : how many runs each of the two is the mean of; infinite for what is no measurement
    """
    found = change(new, old, log)
    if scatter is None:
        return Against(found, NOT_REPEATED, None)
    # One estimate for both, so one cause: two would seem to have twice its degrees of freedom.
    parts = {c: u for c, u in found.parts.items() if not (c.scope == "own" and c.kind == "A")}
    size = scatter.sd * math.sqrt(1 / runs[0] + 1 / runs[1])
    size *= 100 + found.value if log else 1.0
    cause = Influence("repeatability", "scatter from run to run", "own", "A", scatter.dof)
    told = Quantity(found.value, found.unit, {**parts, cause: size}, found.working)
    judged = judge_difference(told.value, told.u, told.dof, direction)
    return Against(told, judged.word, judged.probability)


def a_b_a(
    before: Quantity,
    other: Quantity,
    after: Quantity,
    log: bool,
    direction: int,
    scatter: Scatter | None,
) -> Against:
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
    return against(other, middle, log, direction, scatter, (1, 2))
