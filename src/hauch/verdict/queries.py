"""Reading standings: rows, scale of the chart, sentences, the working of a cell."""

from __future__ import annotations

import math
from typing import Any

from hauch.bench.models import Run
from hauch.core.judge.difference import LEVEL
from hauch.core.quantity import Step
from hauch.core.quantity.units import KINDS
from hauch.rounds.models import Round, RuleTerm, RuleVersion, Test
from hauch.verdict.models import Standing, StandingRow


def standing_of(rules: RuleVersion) -> Standing | None:
    """The stored standing under a version of the rules."""
    return Standing.objects.filter(rules=rules).first()


def doubt(row: StandingRow) -> float:
    """Half-width of the 95 % interval of a score (normal: pooled scatter has many degrees of freedom)."""
    return 1.96 * (row.u or 0.0)


def scale_of(rows: list[StandingRow], band: float) -> dict[str, float]:
    """Range and tick step of the score column, the same for all rows."""
    ranked = [row for row in rows if row.score is not None]
    low = min([100 - band, *(row.score - doubt(row) for row in ranked)])
    high = max([100 + band, *(row.score + doubt(row) for row in ranked)])
    step = next((s for s in (1, 2, 5, 10, 20, 50) if (high - low) / s <= 6), 100)
    return {"low": math.floor(low / step) * step, "high": math.ceil(high / step) * step, "step": step, "band": band}


def band_of(rules: RuleVersion, terms: list[RuleTerm], standing: Standing) -> float:
    """The reference's own repeatability as a doubt of the score [%]."""
    total = sum(term.weight for term in terms)
    squares = 0.0
    for term in terms:
        row = standing.reference.get(term.test.key)
        if row:
            half = row["repeat_expanded"]
            if row["unit_of_change"] == "dB":
                half = 100 * half / row["value"] if rules.level_as == RuleVersion.LevelAs.LEVEL else 100 * math.log(2) / 10 * half
            squares += (term.weight / total * half) ** 2
    return math.sqrt(squares)


def leaders(standing: Standing) -> list[StandingRow]:
    """The first two ranked rows."""
    return list(standing.rows.filter(state=StandingRow.State.RANKED).select_related("entry")[:3])


def opening(rules: RuleVersion, first: list[StandingRow]) -> dict[str, Any]:
    """The answer of the round, as parts of a sentence."""
    if not first:
        return {"kind": "none"}
    if len(first) == 1:
        return {"kind": "alone", "leader": first[0]}
    if first[1].rank == first[0].rank:
        return {"kind": "close", "leader": first[0], "second": first[1], "repeats": repeats_to_settle(first[0], first[1])}
    return {"kind": "clear", "leader": first[0], "second": first[1]}


def repeats_to_settle(first: StandingRow, second: StandingRow) -> int | None:
    """Further repeats of both after which their scores would stand apart, all else unchanged; None beyond 30."""
    gap = (first.score or 0) - (second.score or 0)
    own = (first.u or 0) ** 2 + (second.u or 0) ** 2
    counts = [cell["count"] for row in (first, second) for cell in row.tests.values()]
    count = min(counts, default=1)
    for further in range(1, 31):
        if gap > 1.645 * math.sqrt(own * count / (count + further)):
            return further
    return None


def gains_of(rules: RuleVersion, tests: list[Test], row: StandingRow, reference: dict[str, Any]) -> list[dict[str, Any]]:
    """Gain over the reference by test [%], right is better; levels as the rules turn them into percent."""
    gains = []
    for test in tests:
        cell, ground = row.tests.get(test.key), reference.get(test.key)
        if not cell or not ground:
            continue
        change, half, band = cell["change"], cell["change_expanded"], ground["repeat_expanded"]
        if not test.how.log:
            factor = 100 / ground["value"] if rules.level_as == RuleVersion.LevelAs.LEVEL else 100 * math.log(2) / 10
            change = 100 * (2 ** (change / 10) - 1) if rules.level_as == RuleVersion.LevelAs.LOUDNESS else change * factor
            half, band = half * factor, band * factor
        gains.append({"label": test.label, "gain": change * test.how.direction, "expanded": half, "word": cell["word"], "reference": band})
    return gains


def cell_working(test: Test, cell: dict[str, Any], reference: dict[str, Any]) -> list[dict[str, Any]]:
    """How a cell of the standing came about, as steps."""
    kind_unit = KINDS[test.how.kind].unit
    log = test.how.log
    runs = Run.objects.filter(pk__in=cell["runs"]).select_related("result").order_by("started_at")
    values = [run.result.value for run in runs if run.result.value is not None]
    steps = [
        Step(
            f"Mean of {cell['count']} {'repeat' if cell['count'] == 1 else 'repeats'}", "geometric mean" if log else "mean of the levels",
            tuple((f"run {run.pk}", run.result.value, kind_unit) for run in runs if run.result.value is not None), cell["value"], kind_unit,
            "repeats as recorded; voided runs are left out", f"spread {_spread(values, log)}",
        ),
        Step(
            "The reference at those moments", "interpolated in time between the brackets around each run", (), cell["reference"], kind_unit,
            "brackets of reference runs, brought to one specimen by the bridge",
            f"drift over the round {reference['drift']:+.2g} ± {reference['drift_expanded']:.1g} {reference['unit_of_change']}" + _bridges(reference),
        ),
        Step(
            "Change against the reference", "100 (x / x_ref − 1)" if log else "L − L_ref",
            (("x", cell["value"], kind_unit), ("x_ref", cell["reference"], kind_unit)), cell["change"], "%" if log else "dB",
            "JCGM 100:2008, 5.2.2: causes that both share cancel",
        ),
        Step(
            "Is it real?", "probability of better, Student's t", (("repeat s", cell["repeat_sd"], "%" if log else "dB"),), 100 * cell["probability"], "%",
            f"called at {100 * LEVEL:.0f} %, JCGM 106:2012, 7.3",
            f"s of one repeat, pooled over all runs of the test, {cell['dof']:.0f} degrees of freedom" if cell["dof"] else "nothing was repeated",
        ),
    ]  # fmt: skip
    return [step.as_json() for step in steps]


def cell_doubt(cell: dict[str, Any]) -> list[dict[str, Any]]:
    """The doubt of a change, split by where it comes from."""
    parts = [
        ("own repeats", cell["from_repeats"]),
        ("runs of the reference", cell["from_reference"]),
        ("rig and meter, what does not cancel", cell["from_rig"]),
    ]
    total = sum(value**2 for _, value in parts)
    return [{"name": name, "share": value**2 / total} for name, value in sorted(parts, key=lambda p: -p[1])] if total else []


def _spread(values: list[float], log: bool) -> str:
    if len(values) < 2:
        return "not known from one run"
    mean = sum(values) / len(values)
    return f"{100 * (max(values) - min(values)) / mean:.2g} %" if log else f"{max(values) - min(values):.2g} dB"


def _bridges(reference: dict[str, Any]) -> str:
    texts = [
        f"; bridge {change:+.2g} ± {half:.1g} {reference['unit_of_change']} from {pairs} {'bracket' if pairs == 1 else 'brackets'} with both"
        for _, change, half, pairs in reference["bridges"]
    ]
    return "".join(texts)


def runs_since_publication(round: Round) -> int:
    """Runs recorded after the round was published."""
    if not round.is_published:
        return 0
    return Run.objects.filter(test__round=round, started_at__gt=round.published_at).count()
