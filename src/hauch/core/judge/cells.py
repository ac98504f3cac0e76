"""What the table of a standing shows: of an entry in a test, of the reference, of a broken limit."""

from __future__ import annotations

import math
from typing import Any

import numpy as np

from hauch.core.judge.difference import NOT_REPEATED, judge_difference
from hauch.core.judge.field import Entered, TestData, mean_value
from hauch.core.judge.reference import Comparison
from hauch.core.judge.schemes import Limit
from hauch.core.quantity import effective_dof, expanded, significant
from hauch.core.quantity.show import show_plain


def absolute_doubt(own: float, common: np.ndarray, c: Comparison) -> tuple[float, float]:
    """Standard uncertainty of a mean of runs in y, from what is its own (scatter and own causes)
    and what each cause of the rig contributes; and its effective degrees of freedom.
    """
    rig = math.sqrt(float(np.sum(common**2)))
    return math.hypot(own, rig), effective_dof([(own, c.dof), (rig, math.inf)])


def cell(data: TestData, entry: Entered, index: int) -> dict[str, Any] | None:
    """What the table shows of one entry in one test."""
    c = data.comparison
    if c is None or entry.key not in data.values or not math.isfinite(c.delta[index]):
        return None
    log = data.test.how.log
    value = mean_value(log, data.values[entry.key].values())
    delta = float(c.delta[index])
    against = math.log(value) - delta if log else value - delta
    found = {
        "value": significant(value),
        "change": significant(100 * math.expm1(delta) if log else delta),
        "count": int(c.counts[index]),
        "prints": int(c.prints[index]),
        "runs": data.runs_of[entry.key],
        "reference": significant(math.exp(against) if log else against),
        "unit_of_change": data.test.how.change_unit,
    }
    return found | (_doubt(data, c, index, value) if c.has_doubt else UNTOLD)


def _doubt(data: TestData, c: Comparison, index: int, value: float) -> dict[str, Any]:
    """How well a figure and its change are known, and what that makes of them."""
    log = data.test.how.log
    u, dof = absolute_doubt(float(c.own_u[index]), c.of_rig[index], c)
    u *= value if log else 1.0
    delta, delta_u = float(c.delta[index]), float(c.u[index])
    delta_dof = float(c.effective_dof[index])
    verdict = judge_difference(
        delta, delta_u, delta_dof, data.test.how.direction, c.repeat_sd, int(c.counts[index])
    )
    delta_half = expanded(delta_u, delta_dof)
    from_reference = float(np.sqrt(np.sum(c.shared[index, c.reference_sd] ** 2)))
    from_rig = float(np.sqrt(np.sum(c.shared[index, ~c.reference_sd] ** 2)))
    slope = 100 * math.exp(delta) if log else 1.0
    return {
        "u": significant(u),
        "expanded": significant(expanded(u, dof)),
        "comparable": significant(delta_half * (value if log else 1.0)),
        "change_expanded": significant(slope * delta_half),
        "word": verdict.word,
        "probability": significant(verdict.probability),
        "repeats": verdict.repeats,
        "repeat_sd": significant(c.repeat_sd * (100 if log else 1)),
        "repeat_dof": significant(c.dof),
        "history": c.history,
        "print_sd": significant(c.print_sd * (100 if log else 1)),
        "dof": delta_dof if math.isfinite(delta_dof) else None,
        "from_repeats": significant(slope * float(c.own_u[index])),
        "from_reference": significant(slope * from_reference),
        "from_rig": significant(slope * from_rig),
    }


UNTOLD: dict[str, Any] = {
    "u": None,
    "expanded": None,
    "comparable": None,
    "change_expanded": None,
    "word": NOT_REPEATED,
    "probability": None,
    "repeats": None,
    "repeat_sd": None,
    "repeat_dof": 0.0,
    "history": False,
    "print_sd": None,
    "dof": None,
    "from_repeats": None,
    "from_reference": None,
    "from_rig": None,
}
"""What is said of a figure whose scatter nobody knows."""


def limit_sentence(data: TestData, limit: Limit, found: dict[str, Any]) -> str:
    """Why a limit is broken, with the numbers that decided."""
    unit = data.test.how.change_unit
    allowed = (
        f"a loss of {limit.most:g} {unit} is allowed"
        if limit.most >= 0
        else f"a gain of {-limit.most:g} {unit} is asked"
    )
    change = show_plain(found["change"], unit, found["change_expanded"], sign=True)
    return f"Outside the limit: {data.test.how.metric} changed by {change} where {allowed}."


def reference_row(data: TestData) -> dict[str, Any]:
    """What the table shows of the reference in one test; None for doubts that nothing tells.

    Raises
    ------
    ValueError : nothing was compared
    """
    c, log = data.comparison, data.test.how.log
    if c is None:
        raise ValueError(f"{data.test.label}: there is no comparison to show")
    base, runs = data.base_runs, data.reference
    count, percent = int(base.sum()), 100.0 if log else 1.0
    mean = float(runs.y[base].mean())
    value = math.exp(mean) if log else mean
    drift, drift_u = c.drift

    def half(u: float, dof: float, scale: float) -> float | None:
        return significant(expanded(u, dof) * scale) if c.has_doubt else None

    scatter = c.repeat_sd / math.sqrt(count)
    u, dof = math.nan, math.inf
    if c.has_doubt:
        own = math.hypot(scatter, math.sqrt(float(np.sum(runs.own[base] ** 2))) / count)
        u, dof = absolute_doubt(own, runs.common[base].mean(axis=0), c)
    return {
        "value": significant(value),
        "expanded": half(u, dof, value if log else 1.0),
        "repeat_expanded": half(scatter, c.dof, percent),
        "comparable": half(c.repeat_sd, c.dof, value if log else 1.0),
        "count": runs.size,
        "drift": significant(drift * percent),
        "drift_expanded": half(drift_u, c.dof, percent),
        "unit_of_change": data.test.how.change_unit,
        "bridges": [
            [data.specimens[s], significant(d * percent), half(u, c.dof, percent), pairs]
            for s, (d, u, pairs) in c.bridges.items()
        ],
        "repeat_sd": significant(c.repeat_sd * percent) if c.has_doubt else None,
        "dof": c.dof if c.has_doubt and math.isfinite(c.dof) else None,
    }
