"""From stored results to the arrays that the core judges, and back to rows of a standing."""

from __future__ import annotations

import math
from collections import defaultdict
from dataclasses import dataclass, field
from typing import Any

import numpy as np
from django.db.models import Q

from hauch.bench.models import Run
from hauch.bench.queries import counting, dnf_entries, versions_in
from hauch.core.judge.difference import judge_difference
from hauch.core.judge.reference import Comparison, Runs, compare
from hauch.core.judge.schemes import Limit, Outcome, judge_rules
from hauch.core.judge.standing import Term, rank, score
from hauch.core.quantity import coverage_factor, significant
from hauch.core.quantity.show import show_plain
from hauch.entries.models import Entry, Version
from hauch.rounds.models import Round, RuleTerm, RuleVersion, Test, TestReference
from hauch.rounds.queries import round_tests
from hauch.stores.models import ReferenceSpecimen

MATRIX_UP_TO = 40
"""Rounds of up to this many ranked entries keep the probability of every place."""


@dataclass(frozen=True)
class TestData:
    """The runs of one test as the core takes them, with what is shown of the reference."""

    test: Test
    entries: Runs
    reference: Runs
    base: int
    specimens: list[int]
    values: dict[int, list[float]]
    comparison: Comparison | None
    problem: str = ""
    runs_of: dict[int, list[int]] = field(default_factory=dict)
    reference_runs: list[int] = field(default_factory=list)


_RESULT_FIELDS = (
    "id",
    "started_at",
    "reference_id",
    "specimen__version__entry_id",
    "result__value",
    "result__parts",
    "rig_id",
)


def load_tests(
    tests: list[Test], position: dict[int, int], versions: dict[int, Version]
) -> list[TestData]:
    """Read the valid runs of tests at their scored settings, in three queries.

    Parameters
    ----------
    tests : the tests
    position : entry id -> index in the order in which the core sees entries
    versions : entry id -> the version that takes part; runs of no other one are read
    """
    chosen = Q(reference__isnull=False) | Q(
        specimen__version__in=[version.pk for version in versions.values()]
    )
    found = counting().filter(
        chosen, test__in=tests, state=Run.State.VALID, result__value__isnull=False
    )
    rows: dict[int, list[tuple]] = defaultdict(list)
    for test_id, *row in found.order_by("started_at", "uid").values_list(
        "test_id", *_RESULT_FIELDS
    ):
        rows[test_id].append(tuple(row))
    assigned: dict[int, list[int]] = defaultdict(list)
    for test_id, specimen in (
        TestReference.objects.filter(test__in=tests)
        .order_by("since", "id")
        .values_list("test_id", "specimen_id")
    ):
        assigned[test_id].append(specimen)
    serials = dict(
        ReferenceSpecimen.objects.filter(
            pk__in={row[2] for of_test in rows.values() for row in of_test} - {None}
        ).values_list("pk", "serial")
    )
    return [_test_data(test, position, rows[test.pk], assigned[test.pk], serials) for test in tests]


def _test_data(
    test: Test,
    position: dict[int, int],
    rows: list[tuple],
    assigned: list[int],
    serials: dict[int, str],
) -> TestData:
    entry_rows = [row for row in rows if row[3] in position]
    reference_rows = [row for row in rows if row[2] is not None]
    specimens = sorted(
        {row[2] for row in reference_rows},
        key=lambda pk: (assigned.index(pk) if pk in assigned else len(assigned), serials[pk]),
    )
    origin = rows[0][1] if rows else None
    keys = sorted({part[0] for row in rows for part in row[5] if part[2] == "common"})
    column = {key: index for index, key in enumerate(keys)}

    def as_runs(chosen: list[tuple], subject: list[int]) -> Runs:
        size = len(chosen)
        y, time, own, common = (
            np.zeros(size),
            np.zeros(size),
            np.zeros(size),
            np.zeros((size, len(keys))),
        )
        rigs = np.array([row[6] for row in chosen], dtype=int)
        for index, (_, started, _, _, value, parts, _) in enumerate(chosen):
            scale = 1 / value if test.how.log else 1.0
            y[index] = math.log(value) if test.how.log else value
            time[index] = (started - origin).total_seconds()
            for key, _, scope, kind, _, part in parts:
                if scope == "common":
                    common[index, column[key]] += part * scale
                elif kind == "B":  # scatter within a run is part of the scatter between repeats
                    own[index] = math.hypot(own[index], part * scale)
        return Runs(np.array(subject, dtype=int), y, time, own, common, rigs)

    entries = as_runs(entry_rows, [position[row[3]] for row in entry_rows])
    reference = as_runs(reference_rows, [specimens.index(row[2]) for row in reference_rows])
    values: dict[int, list[float]] = defaultdict(list)
    runs_of: dict[int, list[int]] = defaultdict(list)
    for row in entry_rows:
        values[row[3]].append(row[4])
        runs_of[row[3]].append(row[0])
    comparison, problem = None, ""
    if reference.size == 0:
        problem = (
            f"{test.label}: there is no run of the reference yet, so nothing can be compared. Run"
            " the reference."
        )
    else:
        comparison = compare(
            entries, reference, len(position), 0, fallback_sd=_within_runs(rows, test.how.log)
        )
    return TestData(
        test,
        entries,
        reference,
        0,
        specimens,
        values,
        comparison,
        problem,
        runs_of,
        [row[0] for row in reference_rows],
    )


def _within_runs(rows: list[tuple], log: bool) -> float:
    """Scatter inside the runs, in y: the only knowledge of repeatability where nothing was
    repeated.
    """
    squares = [
        sum(
            (part[5] / (row[4] if log else 1.0)) ** 2
            for part in row[5]
            if part[3] == "A" and part[2] == "own"
        )
        for row in rows
    ]
    return math.sqrt(sum(squares) / len(squares)) if squares else 0.0


def mean_value(test: Test, values: list[float]) -> float:
    """Mean of repeats: levels by plain mean of the levels, as they are compared."""
    return float(np.exp(np.mean(np.log(values)))) if test.how.log else float(np.mean(values))


def level_of_reference(data: TestData) -> float:
    """Mean figure of the reference in the test."""
    values = np.exp(data.reference.y) if data.test.how.log else data.reference.y
    return float(values.mean())


def absolute_u(data: TestData, index: int) -> float:
    """Standard uncertainty of an entry's own figure in y: its repeats and all causes of the rig."""
    runs = data.entries
    mine = runs.subject == index
    count = int(mine.sum())
    own = (data.comparison.repeat_sd if data.comparison else 0.0) ** 2 / count + float(
        np.sum(runs.own[mine] ** 2)
    ) / count**2
    return math.sqrt(own + float(np.sum(runs.common[mine].mean(axis=0) ** 2)))


def cell(data: TestData, entry: Entry, index: int, direction: int) -> dict[str, Any] | None:
    """What the table shows of one entry in one test."""
    c = data.comparison
    if c is None or entry.pk not in data.values or not math.isfinite(c.delta[index]):
        return None
    log = data.test.how.log
    value = mean_value(data.test, data.values[entry.pk])
    u = absolute_u(data, index) * (value if log else 1.0)
    delta, delta_u = float(c.delta[index]), float(c.u[index])
    verdict = judge_difference(delta, delta_u, c.dof, direction, c.repeat_sd, int(c.counts[index]))
    factor = coverage_factor(c.dof)
    from_reference = float(np.sqrt(np.sum(c.shared[index, c.reference_sd] ** 2)))
    from_rig = float(np.sqrt(np.sum(c.shared[index, ~c.reference_sd] ** 2)))
    against = math.log(value) - delta if log else value - delta
    change = 100 * math.expm1(delta) if log else delta
    slope = 100 * math.exp(delta) if log else 1.0
    return {
        "value": significant(value),
        "u": significant(u),
        "expanded": significant(2.0 * u),
        "comparable": significant(factor * delta_u * (value if log else 1.0)),
        "change": significant(change),
        "change_expanded": significant(factor * slope * delta_u),
        "word": verdict.word,
        "probability": significant(verdict.probability),
        "repeats": verdict.repeats,
        "count": int(c.counts[index]),
        "runs": data.runs_of[entry.pk],
        "reference": significant(math.exp(against) if log else against),
        "repeat_sd": significant(c.repeat_sd * (100 if log else 1)),
        "dof": c.dof if math.isfinite(c.dof) else None,
        "from_repeats": significant(slope * float(c.own_u[index])),
        "from_reference": significant(slope * from_reference),
        "from_rig": significant(slope * from_rig),
        "unit_of_change": data.test.how.change_unit,
    }


def entries_in_order(round: Round) -> list[Entry]:
    """Entries that take part, in the fixed order in which the core sees them (so that draws do not
    depend on the database).
    """
    return list(round.entries.filter(state=Entry.State.IN).order_by("uid"))


def terms_of(
    rules: RuleVersion, loaded: list[TestData]
) -> tuple[list[tuple[TestData, Term]], list[tuple[TestData, Limit]]]:
    """What the rules score and what they limit, as the core takes it."""
    by_test: dict[int, RuleTerm] = {term.test_id: term for term in rules.terms.all()}
    scored, limited = [], []
    for data in loaded:
        term, how = by_test.get(data.test.pk), data.test.how
        if term is not None and term.weight is not None:
            ground = level_of_reference(data) if data.reference.size else math.nan
            level_as = rules.level_as if how.kind == "level" else RuleVersion.LevelAs.LEVEL
            scored.append(
                (data, Term(data.test.label, term.weight, how.direction, how.log, ground, level_as))
            )  # type: ignore[arg-type]
        if term is not None and term.most_loss is not None:
            limited.append((data, Limit(data.test.label, term.most_loss, how.direction, how.log)))
    return scored, limited


PERCENT_SCHEMES = (RuleVersion.Scheme.WEIGHTED, RuleVersion.Scheme.SINGLE)


def outcome_of(
    rules: RuleVersion, scored: list[tuple[TestData, Term]], limited: list[tuple[TestData, Limit]]
) -> Outcome | None:
    """The ranking, or None while a test has no comparison."""
    comparisons = [data.comparison for data, _ in scored if data.comparison]
    held = [data.comparison for data, _ in limited if data.comparison]
    if not scored or len(comparisons) < len(scored) or len(held) < len(limited):
        return None
    terms = [term for _, term in scored]
    if (
        rules.scheme in PERCENT_SCHEMES and not limited
    ):  # linear in the figures: faster, and the draws that published rounds had
        complete, scores = score(terms, comparisons)
        standing = rank(scores, rules.tie_rule, rules.draws, rules.seed)  # type: ignore[arg-type]
        sure = np.ones(complete.size)
        return Outcome(
            complete,
            scores.score,
            scores.u,
            100.0,
            sure,
            np.zeros((complete.size, 0), bool),
            standing,
        )
    limits = [limit for _, limit in limited]
    return judge_rules(
        rules.scheme, terms, comparisons, limits, held, rules.tie_rule, rules.draws, rules.seed
    )  # type: ignore[arg-type]


@dataclass(frozen=True)
class Judged:
    """A judged round: rows of the standing in order (fields of `StandingRow`), the reference by
    test key, sentences on what could not be compared, and the reference's own score.
    """

    rows: list[dict[str, Any]]
    reference: dict[str, Any]
    notes: list[str]
    ground: float | None


def judge(rules: RuleVersion) -> Judged:
    """Judge a round by a version of its rules."""
    round = rules.round
    everyone = entries_in_order(round)
    tests = round_tests(round, rules)
    versions = versions_in(round.entries.filter(state=Entry.State.IN))
    out = dnf_entries(tests, versions)
    racing = [entry for entry in everyone if entry.pk not in out]
    position = {entry.pk: index for index, entry in enumerate(racing)}
    loaded = load_tests(tests, position, versions)
    notes = (
        [data.problem for data in loaded if data.problem]
        + _bridge_notes(loaded)
        + _left_out_notes(loaded)
    )
    cells = {
        e.pk: {
            d.test.key: c for d in loaded if (c := cell(d, e, position[e.pk], d.test.how.direction))
        }
        for e in racing
    }

    scored, limited = terms_of(rules, loaded)
    outcome = outcome_of(rules, scored, limited)
    rows = _ranked_rows(racing, outcome, limited, cells) if outcome is not None else []
    ranked = {row["entry_id"] for row in rows}
    wanted = [data for data, _ in [*scored, *limited]]
    for entry in sorted((e for e in racing if e.pk not in ranked), key=lambda e: e.name.casefold()):
        lacking = list(
            dict.fromkeys(d.test.label.lower() for d in wanted if d.test.key not in cells[entry.pk])
        )
        of = (
            f" for version {versions[entry.pk].number}"
            if entry.pk in versions and versions[entry.pk].number > 1
            else ""
        )
        rows.append(
            {
                "entry_id": entry.pk,
                "state": "incomplete",
                "reason": f"Not complete: {', '.join(lacking) or 'no reference'} missing{of}.",
            }
        )
    for entry in sorted((e for e in everyone if e.pk in out), key=lambda e: e.name.casefold()):
        rows.append(
            {
                "entry_id": entry.pk,
                "state": "dnf",
                "reason": f"Did not finish: {out[entry.pk].reason}",
            }
        )
    for place, row in enumerate(rows, start=1):
        row["place"] = place
        row["version"] = versions[row["entry_id"]].number if row["entry_id"] in versions else None
        row["tests"] = cells.get(row["entry_id"], {})
    ground = None if outcome is None or math.isnan(outcome.ground) else significant(outcome.ground)
    return Judged(
        rows,
        {data.test.key: _reference_row(data) for data in loaded if data.comparison},
        notes,
        ground,
    )


def _ranked_rows(
    racing: list[Entry],
    outcome: Outcome,
    limited: list[tuple[TestData, Limit]],
    cells: dict[int, dict[str, Any]],
) -> list[dict[str, Any]]:
    small = outcome.complete.size <= MATRIX_UP_TO
    standing = outcome.standing
    rows = []
    for i in standing.order:
        entry = racing[outcome.complete[i]]
        broken = [limited[n] for n in np.flatnonzero(outcome.breaks[i])] if limited else []
        rows.append(
            {
                "entry_id": entry.pk,
                "state": "ranked",
                "rank": int(standing.rank[i]),
                "score": None if outcome.score is None else significant(float(outcome.score[i])),
                "u": None if outcome.u is None else significant(float(outcome.u[i])),
                "first": float(standing.first[i]),
                "low": int(standing.low[i]),
                "high": int(standing.high[i]),
                "probabilities": standing.probability[i].tolist() if small else [],
                "kept": float(outcome.kept[i]) if limited else None,
                "outside": bool(broken),
                "reason": " ".join(
                    _limit_sentence(data, limit, cells[entry.pk][data.test.key])
                    for data, limit in broken
                ),
            }
        )
    return rows


def _limit_sentence(data: TestData, limit: Limit, found: dict[str, Any]) -> str:
    """Why a limit is broken, with the numbers that decided."""
    unit = data.test.how.change_unit
    allowed = (
        f"a loss of {limit.most:g} {unit} is allowed"
        if limit.most >= 0
        else f"a gain of {-limit.most:g} {unit} is asked"
    )
    change = show_plain(found["change"], unit, found["change_expanded"], sign=True)
    return f"Outside the limit: {data.test.how.metric} changed by {change} where {allowed}."


def _reference_row(data: TestData) -> dict[str, Any]:
    c, log = data.comparison, data.test.how.log
    if c is None:
        raise ValueError(f"{data.test}: there is no comparison to show")
    base = data.reference.subject == data.base
    y = float(data.reference.y[base].mean()) if base.any() else float(data.reference.y.mean())
    value = math.exp(y) if log else y
    runs = int(base.sum()) or data.reference.size
    repeat = c.repeat_sd / math.sqrt(runs)
    common = float(np.sum(data.reference.common.mean(axis=0) ** 2))
    drift, drift_u = c.drift
    percent = 100.0 if log else 1.0
    return {
        "value": significant(value),
        "expanded": significant(2 * math.sqrt(repeat**2 + common) * (value if log else 1.0)),
        "repeat_expanded": significant(coverage_factor(c.dof) * repeat * percent),
        "comparable": significant(coverage_factor(c.dof) * c.repeat_sd * (value if log else 1.0)),
        "count": data.reference.size,
        "drift": significant(drift * percent),
        "drift_expanded": significant(2 * drift_u * percent),
        "unit_of_change": data.test.how.change_unit,
        "bridges": [
            [data.specimens[s], significant(d * percent), significant(2 * u * percent), pairs]
            for s, (d, u, pairs) in c.bridges.items()
        ],
        "repeat_sd": significant(c.repeat_sd * percent),
        "dof": c.dof if math.isfinite(c.dof) else None,
    }


def _bridge_notes(loaded: list[TestData]) -> list[str]:
    notes = []
    names = {
        s.pk: str(s)
        for s in ReferenceSpecimen.objects.filter(
            pk__in={pk for d in loaded for pk in d.specimens}
        ).select_related("type")
    }
    for data in loaded:
        for index in sorted(data.comparison.unbridged if data.comparison else ()):
            notes.append(
                f"{data.test.label}: {names[data.specimens[index]]} was never run beside"
                f" {names[data.specimens[data.base]]}, so runs near it cannot be compared. Run both"
                " one after the other to bridge them."
            )
    return notes


def _left_out_notes(loaded: list[TestData]) -> list[str]:
    notes = []
    for data in loaded:
        count = len(data.comparison.left_out) if data.comparison else 0
        if count:
            notes.append(
                f"{data.test.label}: {count} {'run has' if count == 1 else 'runs have'} no run of"
                " the reference in the same state of the rig, or only of a specimen that is not"
                " bridged. Run the reference beside them."
            )
    return notes
