"""What the table of a standing shows: of an entry in a test, of the reference, of a broken limit."""

from __future__ import annotations

import math
from typing import Any

import numpy as np

from hauch.core.judge.band import Scatter, of_mean
from hauch.core.judge.difference import judge_difference
from hauch.core.judge.field import Entered, TestData, mean_value
from hauch.core.judge.reference import Comparison, Runs
from hauch.core.judge.schemes import Limit
from hauch.core.quantity import effective_dof, expanded, significant
from hauch.core.quantity.show import show_plain


def absolute_doubt(runs: Runs, mine: np.ndarray, c: Comparison) -> tuple[float, float]:
    """Standard uncertainty of the mean of some runs in y, from their scatter, their own causes and
    all causes of the rig; and its effective degrees of freedom.
    """
    count = int(mine.sum())
    scatter = c.repeat_sd / math.sqrt(count)
    rest = math.sqrt(
        float(np.sum(runs.own[mine] ** 2)) / count**2
        + float(np.sum(runs.common[mine].mean(axis=0) ** 2))
    )
    return math.hypot(scatter, rest), effective_dof([(scatter, c.dof), (rest, math.inf)])


def cell(data: TestData, entry: Entered, index: int) -> dict[str, Any] | None:
    """What the table shows of one entry in one test."""
    c = data.comparison
    if c is None or entry.key not in data.values or not math.isfinite(c.delta[index]):
        return None
    log = data.test.how.log
    value = mean_value(log, data.values[entry.key])
    u, dof = absolute_doubt(data.entries, data.entries.subject == index, c)
    u *= value if log else 1.0
    delta, delta_u = float(c.delta[index]), float(c.u[index])
    delta_dof = float(c.effective_dof[index])
    verdict = judge_difference(
        delta, delta_u, delta_dof, data.test.how.direction, c.repeat_sd, int(c.counts[index])
    )
    delta_half = expanded(delta_u, delta_dof)
    from_reference = float(np.sqrt(np.sum(c.shared[index, c.reference_sd] ** 2)))
    from_rig = float(np.sqrt(np.sum(c.shared[index, ~c.reference_sd] ** 2)))
    against = math.log(value) - delta if log else value - delta
    change = 100 * math.expm1(delta) if log else delta
    slope = 100 * math.exp(delta) if log else 1.0
    return {
        "value": significant(value),
        "u": significant(u),
        "expanded": significant(expanded(u, dof)),
        "comparable": significant(delta_half * (value if log else 1.0)),
        "change": significant(change),
        "change_expanded": significant(slope * delta_half),
        "word": verdict.word,
        "probability": significant(verdict.probability),
        "repeats": verdict.repeats,
        "count": int(c.counts[index]),
        "runs": data.runs_of[entry.key],
        "reference": significant(math.exp(against) if log else against),
        "repeat_sd": significant(c.repeat_sd * (100 if log else 1)),
        "dof": delta_dof if math.isfinite(delta_dof) else None,
        "from_repeats": significant(slope * float(c.own_u[index])),
        "from_reference": significant(slope * from_reference),
        "from_rig": significant(slope * from_rig),
        "unit_of_change": data.test.how.change_unit,
    }


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
    """What the table shows of the reference in one test.

    Raises
    ------
    ValueError : nothing was compared
    """
    c, log = data.comparison, data.test.how.log
    if c is None:
        raise ValueError(f"{data.test.label}: there is no comparison to show")
    scatter = Scatter(c.repeat_sd, c.dof)
    band = of_mean(data.reference.y[data.base_runs], scatter)
    if band is None or band.half is None:
        raise ValueError(f"{data.test.label}: there is no run of the reference")
    value = math.exp(band.value) if log else band.value
    drift, drift_u = c.drift
    percent = 100.0 if log else 1.0
    u, dof = absolute_doubt(data.reference, data.base_runs, c)
    return {
        "value": significant(value),
        "expanded": significant(expanded(u, dof) * (value if log else 1.0)),
        "repeat_expanded": significant(band.half * percent),
        "comparable": significant(expanded(c.repeat_sd, c.dof) * (value if log else 1.0)),
        "count": data.reference.size,
        "drift": significant(drift * percent),
        "drift_expanded": significant(expanded(drift_u, c.dof) * percent),
        "unit_of_change": data.test.how.change_unit,
        "bridges": [
            [
                data.specimens[s],
                significant(d * percent),
                significant(expanded(u, c.dof) * percent),
                pairs,
            ]
            for s, (d, u, pairs) in c.bridges.items()
        ],
        "repeat_sd": significant(c.repeat_sd * percent),
        "dof": c.dof if math.isfinite(c.dof) else None,
    }
