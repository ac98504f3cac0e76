"""Reading standings: rows, scale of the chart, sentences, the working of a cell."""

from __future__ import annotations

import math
from typing import Any

from hauch.bench.models import Run
from hauch.core.judge.difference import LEVEL
from hauch.core.judge.family import apart_factor
from hauch.core.quantity import Step
from hauch.core.quantity.units import KINDS
from hauch.entries.models import Entry
from hauch.people.models import User
from hauch.people.permissions import allowed
from hauch.rounds.models import Round, RuleVersion, Test, TestReference
from hauch.rounds.queries import current_rules, round_tests
from hauch.verdict.models import Standing, StandingRow


def standing_of(rules: RuleVersion) -> Standing | None:
    """The stored standing under a version of the rules."""
    return getattr(rules, "standing", None)


def standing_now(round: Round) -> tuple[RuleVersion | None, Standing | None]:
    """The rules in force and the standing under them."""
    rules = round.rules.select_related("standing").order_by("-number").first()
    return rules, standing_of(rules) if rules else None


def scale_of(
    rows: list[StandingRow], ground: float | None, band: float, tests: int = 0
) -> dict[str, float | None] | None:
    """Range and tick step of the score column, the same for all rows, and whether many columns of
    tests leave it little room; None where there is no score.
    """
    ranked = [row for row in rows if row.score is not None]
    if not ranked and ground is None:
        return None
    ends = [] if ground is None else [ground - band, ground + band]
    reach = [(row.score or 0.0, row.expanded or 0.0) for row in ranked]
    low = min([*ends, *(score - half for score, half in reach)])
    high = max([*ends, *(score + half for score, half in reach)])
    if high == low:  # a single entry, or scores without any doubt
        low, high = low - 0.5, high + 0.5
    step = next((s for s in (0.5, 1, 2, 5, 10, 20, 50) if (high - low) / s <= 6), 100)
    return {
        "low": math.floor(low / step) * step,
        "high": math.ceil(high / step) * step,
        "step": step,
        "band": band,
        "ground": ground,
        "narrow": tests > MOST_BESIDE_A_WIDE_SCORE,
    }


MOST_BESIDE_A_WIDE_SCORE = 4

MOST_COLUMNS = 7
"""More tests than this stand in lines under each entry instead of in columns."""


def place_of_reference(rules: RuleVersion, rows: list[StandingRow], ground: float | None) -> int:
    """Index of the row before which the reference stands: by its score, after all ranked entries
    where it has none.
    """
    if ground is None:
        return next((i for i, row in enumerate(rows) if row.rank is None), len(rows))
    better = (lambda s: s < ground) if rules.less_is_better else (lambda s: s >= ground)
    return next(
        (
            i
            for i, row in enumerate(rows)
            if row.outside or row.score is None or not better(row.score)
        ),
        len(rows),
    )


def percent_of_change(rules: RuleVersion, test: Test, ground: float) -> float:
    """Percent that one unit of a difference counts for, in a test that is not compared by ratios."""
    if test.how.kind == "level" and rules.level_as == RuleVersion.LevelAs.LOUDNESS:
        return 100 * math.log(2) / 10
    return 100 / ground if ground else 0.0


def leaders(standing: Standing) -> list[StandingRow]:
    """The first two ranked rows."""
    return list(standing.rows.filter(state=StandingRow.State.RANKED).select_related("entry")[:3])


def opening(rules: RuleVersion, first: list[StandingRow]) -> dict[str, Any]:
    """The answer of the round, as parts of a sentence."""
    return {"rules": rules, "against": against_reference(rules, first), **_opening(rules, first)}


def against_reference(rules: RuleVersion, first: list[StandingRow]) -> str:
    """Whether who leads is better or worse than the reference, or too close to it to call; empty
    where the score does not tell.
    """
    row = first[0] if first else None
    ground = row.standing.ground if row else None
    if row is None or ground is None or row.score is None or row.expanded is None:
        return ""
    gain = (row.score - ground) * (-1 if rules.less_is_better else 1)
    if abs(gain) <= row.expanded:
        return "close"
    return "better" if gain > 0 else "worse"


def headings(tests: list[Test]) -> dict[str, str]:
    """What stands over the column of each test, by key: its short word, or where several share one,
    such as with and without a shroud, its name.
    """
    short = [test.how.short for test in tests]
    return {
        test.key: test.how.short if short.count(test.how.short) == 1 else test.label
        for test in tests
    }


def reference_name(tests: list[Test]) -> str:
    """The specimens that tests are bracketed with now, by name."""
    rows = TestReference.objects.filter(test__in=tests, until=None, bridging=False)
    names = {str(row.specimen) for row in rows.select_related("specimen__type")}
    return ", ".join(sorted(names))


def _opening(rules: RuleVersion, first: list[StandingRow]) -> dict[str, Any]:
    if not first:
        return {"kind": "none"}
    if rules.scheme == RuleVersion.Scheme.FRONT:
        return {"kind": "front", "leader": first[0]}
    if len(first) == 1:
        return {"kind": "alone", "leader": first[0]}
    if first[1].rank == first[0].rank:
        return {
            "kind": "close",
            "leader": first[0],
            "second": first[1],
            "repeats": repeats_to_settle(first[0], first[1], ranked_count(first[0])),
        }
    return {"kind": "clear", "leader": first[0], "second": first[1]}


def ranked_count(row: StandingRow) -> int:
    """How many entries are ranked beside one."""
    return row.standing.rows.filter(state=StandingRow.State.RANKED).count()


def repeats_to_settle(first: StandingRow, second: StandingRow, entries: int) -> int | None:
    """Further repeats of both after which their scores would stand apart in a field of so many
    entries, all else unchanged; None beyond 30.
    """
    gap = abs((first.score or 0) - (second.score or 0))
    own = (first.u or 0) ** 2 + (second.u or 0) ** 2
    counts = [cell["count"] for row in (first, second) for cell in row.tests.values()]
    count = min(counts, default=1)
    apart = apart_factor(entries, math.inf)
    for further in range(1, 31):
        if gap > apart * math.sqrt(own * count / (count + further)):
            return further
    return None


def evidence(user: User, round: Round, entry: Entry) -> dict[str, Any]:
    """What a person may know of an entry's place and figures: ``rules``, ``row`` and its ``doubt``,
    ``gains`` and ``cells`` by test, ``reference``.
    """
    newest = round.rules.order_by("-number").values("pk")[:1]
    row = (
        StandingRow.objects.filter(standing__rules=newest, entry=entry)
        .select_related("standing__rules")
        .first()
    )
    rules = row.standing.rules if row else current_rules(round)
    known: dict[str, Any] = {
        "rules": rules,
        "row": None,
        "doubt": 0,
        "gains": [],
        "cells": [],
        "reference": {},
    }
    if row is None or rules is None:
        return known
    if allowed(user, "verdict.view_early", round):
        known |= {"row": row, "doubt": row.expanded or 0.0}
    if allowed(user, "round.view", round):
        rules.round = round
        tests = round_tests(round, rules)
        known["reference"] = row.standing.reference
        known["gains"] = gains_of(rules, tests, row, row.standing.reference)
        known["cells"] = [(test, row.tests[test.key]) for test in tests if row.tests.get(test.key)]
    return known


def gains_of(
    rules: RuleVersion, tests: list[Test], row: StandingRow, reference: dict[str, Any]
) -> list[dict[str, Any]]:
    """Gain over the reference by test [%], right is better; levels as the rules turn them into
    percent.
    """
    gains = []
    for test in tests:
        cell, ground = row.tests.get(test.key), reference.get(test.key)
        if not cell or not ground:
            continue
        change, half, band = cell["change"], cell["change_expanded"], ground["repeat_expanded"]
        if half is None:
            continue  # nothing drawn surer than it is
        if not test.how.log:
            factor = percent_of_change(rules, test, ground["value"])
            heard = test.how.kind == "level" and rules.level_as == RuleVersion.LevelAs.LOUDNESS
            change = 100 * (2 ** (change / 10) - 1) if heard else change * factor
            half, band = half * factor, band * factor
        gains.append(
            {
                "label": test.label,
                "gain": change * test.how.direction,
                "expanded": half,
                "word": cell["word"],
                "reference": band,
            }
        )
    return gains


def cell_working(
    test: Test, cell: dict[str, Any], reference: dict[str, Any]
) -> list[dict[str, Any]]:
    """How a cell of the standing came about, as steps."""
    kind_unit = KINDS[test.how.kind].unit
    log = test.how.log
    runs = Run.objects.filter(pk__in=cell["runs"]).select_related("result").order_by("started_at")
    values = [run.result.value for run in runs if run.result.value is not None]
    steps = [
        Step(
            f"Mean of {cell['count']} {'repeat' if cell['count'] == 1 else 'repeats'}",
            "geometric mean" if log else "mean",
            tuple(
                (f"run {run.pk}", run.result.value, kind_unit)
                for run in runs
                if run.result.value is not None
            ),
            cell["value"],
            kind_unit,
            "repeats as recorded; voided runs are left out",
            f"spread {_spread(test, values)}",
        ),
        Step(
            "The reference at those moments",
            "interpolated in time between the brackets around each run",
            (),
            cell["reference"],
            kind_unit,
            "brackets of reference runs, brought to one specimen by the bridge",
            f"drift over the round {reference['drift']:+.2g}{_plus_minus(reference['drift_expanded'])}"
            f" {reference['unit_of_change']}" + _bridges(reference),
        ),
        Step(
            "Change against the reference",
            "100 (x / x_ref − 1)" if log else "x − x_ref",
            (("x", cell["value"], kind_unit), ("x_ref", cell["reference"], kind_unit)),
            cell["change"],
            test.how.change_unit,
            "JCGM 100:2008, 5.2.2: causes that both share cancel",
        ),
    ]
    if cell["change_expanded"] is not None:
        steps.append(_is_it_real(test, cell))
    return [step.as_json() for step in steps]


SUREST = 0.1
"""Nothing is told to be more probable than 100 % less this, or less probable than this [%]: the
scatter of a few repeats has no tails that anybody has seen.
"""


def _is_it_real(test: Test, cell: dict[str, Any]) -> Step:
    unit = test.how.change_unit
    inputs = [("repeat s", cell["repeat_sd"], unit)]
    where = (
        f"from the rig's history of this procedure ({cell['repeat_dof']:.0f} degrees of freedom),"
        " since nothing was repeated in the test"
        if cell.get("history")
        else "pooled over all parts of the test that were run more than once"
    )
    note = f"s of one repeat, {where}"
    if cell["dof"]:
        note += f"; the change has {cell['dof']:.0f} effective degrees of freedom"
    if cell.get("prints", 1) > 1:
        note += f"; the mean of {cell['prints']} prints, each counting the same"
        if cell["print_sd"]:
            inputs.append(("print s", cell["print_sd"], unit))
            note += ", which differ by more than their repeats scatter"
    percent = 100 * cell["probability"]
    shown = min(max(percent, SUREST), 100 - SUREST)
    if shown != percent:
        note += f"; {'over' if percent > shown else 'below'} {shown:g} %"
    return Step(
        "Is it real?",
        "probability of better, Student's t",
        tuple(inputs),
        round(shown, 1),
        "%",
        f"called at {100 * LEVEL:.0f} %, JCGM 106:2012, 7.3",
        note,
    )


def cell_doubt(cell: dict[str, Any]) -> list[dict[str, Any]]:
    """The doubt of a change, split by where it comes from."""
    if cell["change_expanded"] is None:
        return []
    parts = [
        ("own repeats", cell["from_repeats"]),
        ("runs of the reference", cell["from_reference"]),
        ("rig and meter, what does not cancel", cell["from_rig"]),
    ]
    total = sum(value**2 for _, value in parts)
    return (
        [
            {"name": name, "share": value**2 / total}
            for name, value in sorted(parts, key=lambda p: -p[1])
        ]
        if total
        else []
    )


def _spread(test: Test, values: list[float]) -> str:
    if len(values) < 2:
        return "not known from one run"
    spread, unit = max(values) - min(values), test.how.change_unit
    return (
        f"{100 * spread / (sum(values) / len(values)):.2g} {unit}"
        if test.how.log
        else f"{spread:.2g} {unit}"
    )


def _plus_minus(half: float | None) -> str:
    return ", not repeated," if half is None else f" ± {half:.1g}"


def _bridges(reference: dict[str, Any]) -> str:
    texts = [
        f"; bridge {change:+.2g}{_plus_minus(half)} {reference['unit_of_change']} from {pairs}"
        f" {'bracket' if pairs == 1 else 'brackets'} with both"
        for _, change, half, pairs in reference["bridges"]
    ]
    return "".join(texts)


def runs_since_publication(round: Round) -> int:
    """Runs that came in after the round was published, whenever they were made: a file may hold
    older ones.
    """
    if not round.is_published:
        return 0
    return Run.objects.filter(test__round=round, created_at__gt=round.published_at).count()
