"""Judging a whole round: from the results of its runs to the rows of a standing. Values in, values
out.

References
----------
See `hauch.core.judge.reference` (comparison with the reference), `standing` and `schemes` (scores,
ranks), `difference` (the words for a difference).
"""

from __future__ import annotations

import math
from collections import defaultdict
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field
from datetime import datetime
from typing import Any, Literal

import numpy as np

from hauch.core.judge.band import Scatter, of_mean
from hauch.core.judge.difference import judge_difference
from hauch.core.judge.reference import Comparison, Runs, compare
from hauch.core.judge.schemes import SINGLE, SUM, WEIGHTED, Limit, Outcome, judge_rules
from hauch.core.judge.standing import Term, rank, score
from hauch.core.measure.procedures import Procedure
from hauch.core.quantity import Contribution, effective_dof, expanded, significant
from hauch.core.quantity.show import show_plain

MATRIX_UP_TO = 40
"""Rounds of up to this many ranked entries keep the probability of every place."""

PERCENT_SCHEMES = frozenset({WEIGHTED, SINGLE})
"""Schemes whose score is linear in the figures: its doubt is their sum, and ranks are drawn from it."""


@dataclass(frozen=True, slots=True)
class MeasuredRun:
    """A run with a result: of an entry, or of a specimen of the reference.

    ``doubt`` is what each cause contributes.
    """

    key: int
    at: datetime
    entry: int | None
    reference: int | None
    value: float
    doubt: Sequence[Contribution]
    rig: int


@dataclass(frozen=True, slots=True)
class MeasuredTest:
    """A test with its runs in order of time. ``assigned`` are the specimens of the reference in the
    order in which they were in use.
    """

    key: str
    label: str
    how: Procedure
    runs: Sequence[MeasuredRun]
    assigned: Sequence[int] = ()


@dataclass(frozen=True, slots=True)
class Entered:
    """An entry that takes part: its name, the number of the version that does (None before its
    first run), and why it did not finish, where it did not.
    """

    key: int
    name: str
    version: int | None = None
    dnf: str | None = None


@dataclass(frozen=True, slots=True)
class Field:
    """All that a round has to judge. Entries stand in a fixed order, so that draws do not depend on
    the database; ``references`` names specimens of the reference: (serial, name).
    """

    entries: Sequence[Entered]
    tests: Sequence[MeasuredTest]
    references: Mapping[int, tuple[str, str]]


@dataclass(frozen=True, slots=True)
class Rules:
    """How a round is judged. ``terms`` gives of a test its weight and the most that may be lost in
    it; None where there is none.
    """

    scheme: str
    tie_rule: Literal["too_close", "equal_score"]
    level_as: str
    draws: int
    seed: int
    terms: Mapping[str, tuple[float | None, float | None]]


@dataclass(frozen=True)
class TestData:
    """The runs of one test as arrays, compared with the reference; ``specimens`` are those of the
    reference that were run, the base first.
    """

    __test__ = False  # no test case

    test: MeasuredTest
    entries: Runs
    reference: Runs
    specimens: list[int]
    values: dict[int, list[float]]
    comparison: Comparison | None
    problem: str = ""
    runs_of: dict[int, list[int]] = field(default_factory=dict)
    reference_runs: list[int] = field(default_factory=list)

    base = 0

    @property
    def base_runs(self) -> np.ndarray:
        """Which reference runs tell the reference's own figure: those of the base specimen, or all
        where it was not run; shape (m,) bool.
        """
        of_base = self.reference.subject == self.base
        return of_base if of_base.any() else np.ones_like(of_base)


@dataclass(frozen=True)
class Judged:
    """A judged round: rows of the standing in order, the reference by test key, sentences on what
    could not be compared, the reference's own score, and the half-width of the 95 % interval about
    it that its repeats leave.
    """

    rows: list[dict[str, Any]]
    reference: dict[str, Any]
    notes: list[str]
    ground: float | None
    ground_expanded: float


def compared(
    test: MeasuredTest, position: Mapping[int, int], references: Mapping[int, tuple[str, str]]
) -> TestData:
    """A test's runs as arrays, and what they come to beside the reference.

    Parameters
    ----------
    position : entry -> index in the order in which entries are judged; runs of others are left out
    """
    log = test.how.log
    of_entries = [run for run in test.runs if run.entry in position]
    of_reference = [run for run in test.runs if run.reference is not None]
    specimens = sorted(
        {run.reference for run in of_reference if run.reference is not None},
        key=lambda pk: (
            test.assigned.index(pk) if pk in test.assigned else len(test.assigned),
            references[pk][0],
        ),
    )
    keys = sorted({one.key for run in test.runs for one in run.doubt if one.scope == "common"})
    column = {key: index for index, key in enumerate(keys)}

    def as_runs(chosen: list[MeasuredRun], subject: list[int]) -> Runs:
        size = len(chosen)
        y, time, own = np.zeros(size), np.zeros(size), np.zeros(size)
        common = np.zeros((size, len(keys)))
        rigs = np.array([run.rig for run in chosen], dtype=int)
        for index, run in enumerate(chosen):
            scale = 1 / run.value if log else 1.0
            y[index] = math.log(run.value) if log else run.value
            time[index] = (run.at - test.runs[0].at).total_seconds()
            for one in run.doubt:
                if one.scope == "common":
                    common[index, column[one.key]] += one.u * scale
                elif one.kind == "B":  # scatter within a run is part of that between repeats
                    own[index] = math.hypot(own[index], one.u * scale)
        return Runs(np.array(subject, dtype=int), y, time, own, common, rigs)

    entries = as_runs(of_entries, [position[run.entry or 0] for run in of_entries])
    reference = as_runs(of_reference, [specimens.index(run.reference or 0) for run in of_reference])
    values: dict[int, list[float]] = defaultdict(list)
    runs_of: dict[int, list[int]] = defaultdict(list)
    for run in of_entries:
        values[run.entry or 0].append(run.value)
        runs_of[run.entry or 0].append(run.key)
    comparison, problem = None, ""
    if reference.size == 0:
        problem = (
            f"{test.label}: there is no run of the reference yet, so nothing can be compared. Run"
            " the reference."
        )
    else:
        comparison = compare(
            entries, reference, len(position), 0, fallback_sd=_within_runs(test.runs, log)
        )
    return TestData(
        test,
        entries,
        reference,
        specimens,
        values,
        comparison,
        problem,
        runs_of,
        [run.key for run in of_reference],
    )


def _within_runs(runs: Sequence[MeasuredRun], log: bool) -> float:
    """Scatter inside the runs, in y: the only knowledge of repeatability where nothing was
    repeated.
    """
    squares = [
        sum(
            (one.u / (run.value if log else 1.0)) ** 2
            for one in run.doubt
            if one.kind == "A" and one.scope == "own"
        )
        for run in runs
    ]
    return math.sqrt(sum(squares) / len(squares)) if squares else 0.0


def mean_value(log: bool, values: list[float]) -> float:
    """Mean of repeats: levels by plain mean of the levels, as they are compared."""
    return float(np.exp(np.mean(np.log(values)))) if log else float(np.mean(values))


def level_of_reference(data: TestData) -> float:
    """Mean figure of the reference in the test."""
    values = np.exp(data.reference.y) if data.test.how.log else data.reference.y
    return float(values.mean())


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


def _terms_of(
    rules: Rules, loaded: Sequence[TestData]
) -> tuple[list[tuple[TestData, Term]], list[tuple[TestData, Limit]]]:
    """What the rules score, and what they limit."""
    scored, limited = [], []
    for data in loaded:
        how = data.test.how
        weight, most_loss = rules.terms.get(data.test.key, (None, None))
        if weight is not None:
            ground = level_of_reference(data) if data.reference.size else math.nan
            level_as = rules.level_as if how.kind == "level" else "level"
            term = Term(data.test.label, weight, how.direction, how.log, ground, level_as)  # type: ignore[arg-type]
            scored.append((data, term))
        if most_loss is not None:
            limited.append((data, Limit(data.test.label, most_loss, how.direction, how.log)))
    return scored, limited


def _outcome_of(
    rules: Rules, scored: list[tuple[TestData, Term]], limited: list[tuple[TestData, Limit]]
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
            scores.expanded,
            100.0,
            sure,
            np.zeros((complete.size, 0), bool),
            standing,
        )
    limits = [limit for _, limit in limited]
    return judge_rules(
        rules.scheme, terms, comparisons, limits, held, rules.tie_rule, rules.draws, rules.seed
    )  # type: ignore[arg-type]


def judge(rules: Rules, field: Field) -> Judged:
    """Judge a round by its rules."""
    racing = [entry for entry in field.entries if entry.dnf is None]
    position = {entry.key: index for index, entry in enumerate(racing)}
    loaded = [compared(test, position, field.references) for test in field.tests]
    notes = (
        [data.problem for data in loaded if data.problem]
        + _bridge_notes(loaded, field.references)
        + _left_out_notes(loaded)
    )
    cells = {
        entry.key: {
            data.test.key: found
            for data in loaded
            if (found := cell(data, entry, position[entry.key]))
        }
        for entry in racing
    }
    scored, limited = _terms_of(rules, loaded)
    outcome = _outcome_of(rules, scored, limited)
    rows = _ranked_rows(racing, outcome, limited, cells) if outcome is not None else []
    ranked = {row["entry_id"] for row in rows}
    wanted = [data for data, _ in [*scored, *limited]]
    for entry in sorted(
        (e for e in racing if e.key not in ranked), key=lambda e: e.name.casefold()
    ):
        lacking = list(
            dict.fromkeys(
                d.test.label.lower() for d in wanted if d.test.key not in cells[entry.key]
            )
        )
        of = f" for version {entry.version}" if (entry.version or 1) > 1 else ""
        rows.append(
            {
                "entry_id": entry.key,
                "state": "incomplete",
                "reason": f"Not complete: {', '.join(lacking) or 'no reference'} missing{of}.",
            }
        )
    out = [entry for entry in field.entries if entry.dnf is not None]
    for entry in sorted(out, key=lambda e: e.name.casefold()):
        rows.append(
            {"entry_id": entry.key, "state": "dnf", "reason": f"Did not finish: {entry.dnf}"}
        )
    versions = {entry.key: entry.version for entry in field.entries}
    for place, row in enumerate(rows, start=1):
        row["place"] = place
        row["version"] = versions[row["entry_id"]]
        row["tests"] = cells.get(row["entry_id"], {})
    ground = None if outcome is None or math.isnan(outcome.ground) else significant(outcome.ground)
    return Judged(
        rows,
        {data.test.key: _reference_row(data) for data in loaded if data.comparison},
        notes,
        ground,
        0.0 if ground is None else significant(_doubt_of_ground(rules, scored)),
    )


def _doubt_of_ground(rules: Rules, scored: Sequence[tuple[TestData, Term]]) -> float:
    """Half-width of the 95 % interval that the reference's own repeats leave about its score, in
    the score's unit.
    """
    total = sum(term.weight for _, term in scored)
    parts = []
    for data, term in scored:
        c = data.comparison
        if c is None:
            continue
        u = c.repeat_sd / math.sqrt(data.base_runs.sum())
        if rules.scheme == SUM:
            u *= term.weight * (term.reference_level if term.log else 1.0)
        else:
            u *= term.weight / total * float(term.percent_slope(np.zeros(1))[0])
        parts.append((u, c.dof))
    return expanded(math.sqrt(sum(u * u for u, _ in parts)), effective_dof(parts))


def _ranked_rows(
    racing: Sequence[Entered],
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
                "entry_id": entry.key,
                "state": "ranked",
                "rank": int(standing.rank[i]),
                "score": None if outcome.score is None else significant(float(outcome.score[i])),
                "u": None if outcome.u is None else significant(float(outcome.u[i])),
                "expanded": None
                if outcome.expanded is None
                else significant(float(outcome.expanded[i])),
                "first": float(standing.first[i]),
                "low": int(standing.low[i]),
                "high": int(standing.high[i]),
                "probabilities": standing.probability[i].tolist() if small else [],
                "kept": float(outcome.kept[i]) if limited else None,
                "outside": bool(broken),
                "reason": " ".join(
                    _limit_sentence(data, limit, cells[entry.key][data.test.key])
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


def _bridge_notes(
    loaded: Sequence[TestData], references: Mapping[int, tuple[str, str]]
) -> list[str]:
    return [
        f"{data.test.label}: {references[data.specimens[index]][1]} was never run beside"
        f" {references[data.specimens[data.base]][1]}, so runs near it cannot be compared. Run both"
        " one after the other to bridge them."
        for data in loaded
        for index in sorted(data.comparison.unbridged if data.comparison else ())
    ]


def _left_out_notes(loaded: Sequence[TestData]) -> list[str]:
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
