"""Judging a whole round: from the results of its runs to the rows of a standing. Values in, values
out.

References
----------
See `hauch.core.judge.reference` (comparison with the reference), `standing` and `schemes` (scores,
ranks), `difference` (the words for a difference).
"""

from __future__ import annotations

import math
from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from typing import Any, Literal

import numpy as np

from hauch.core.judge.cells import cell, limit_sentence, reference_row
from hauch.core.judge.field import Entered, Field, TestData, compared, level_of_reference
from hauch.core.judge.schemes import SINGLE, SUM, WEIGHTED, Limit, Outcome, judge_rules
from hauch.core.judge.standing import Term, rank, score
from hauch.core.quantity import effective_dof, expanded, significant

MATRIX_UP_TO = 40
"""Rounds of up to this many ranked entries keep the probability of every place."""


PERCENT_SCHEMES = frozenset({WEIGHTED, SINGLE})
"""Schemes whose score is linear in the figures: its doubt is their sum, and ranks are drawn from it."""


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
class Judged:
    """A judged round: rows of the standing in order, the reference by test key, sentences on what
    could not be compared, the reference's own score, the half-width of the 95 % interval about it
    that its repeats leave, and the differences that all of it is made of.
    """

    rows: list[dict[str, Any]]
    reference: dict[str, Any]
    notes: list[str]
    ground: float | None
    ground_expanded: float
    deltas: dict[str, Any]


def terms_of(
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
    """The ranking, or None while a test has no comparison, or one without a doubt."""
    comparisons = [d.comparison for d, _ in scored if d.comparison and d.comparison.has_doubt]
    held = [d.comparison for d, _ in limited if d.comparison and d.comparison.has_doubt]
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


MOST_NAMED = 3
"""So many tests are named in a row's reason; above the table all are."""


def judge(rules: Rules, field: Field) -> Judged:
    """Judge a round by its rules."""
    racing = [entry for entry in field.entries if entry.dnf is None]
    position = {entry.key: index for index, entry in enumerate(racing)}
    loaded = [compared(test, position, field.references) for test in field.tests]
    notes = (
        _missing_notes(loaded) + _bridge_notes(loaded, field.references) + _left_out_notes(loaded)
    )
    cells = {
        entry.key: {
            data.test.key: found
            for data in loaded
            if (found := cell(data, entry, position[entry.key]))
        }
        for entry in racing
    }
    scored, limited = terms_of(rules, loaded)
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
        of = f" for version {entry.version}" if (entry.version or 1) > 1 or entry.named else ""
        untold = [d.test.label.lower() for d in wanted if d.lacks_doubt]
        reason = f"Not complete: {', '.join(lacking) or 'no reference'} missing{of}."
        if not lacking and untold:
            named = list(dict.fromkeys(untold))
            which = ", ".join(named) if len(named) <= MOST_NAMED else f"{len(named)} tests"
            reason = f"Not ranked: {which} not repeated by anyone yet."
        rows.append({"entry_id": entry.key, "state": "incomplete", "reason": reason})
    out = [entry for entry in field.entries if entry.dnf is not None]
    for entry in sorted(out, key=lambda e: e.name.casefold()):
        rows.append(
            {"entry_id": entry.key, "state": "dnf", "reason": f"Did not finish: {entry.dnf}"}
        )
    versions = {entry.key: (entry.version, entry.named) for entry in field.entries}
    for place, row in enumerate(rows, start=1):
        row["place"] = place
        row["version"], row["named"] = versions[row["entry_id"]]
        row["tests"] = cells.get(row["entry_id"], {})
    ground = None if outcome is None or math.isnan(outcome.ground) else significant(outcome.ground)
    return Judged(
        rows,
        {data.test.key: reference_row(data) for data in loaded if data.comparison},
        notes,
        ground,
        0.0 if ground is None else significant(_doubt_of_ground(rules, scored)),
        _deltas(racing, loaded),
    )


def _deltas(racing: Sequence[Entered], loaded: Sequence[TestData]) -> dict[str, Any]:
    """Of each test with a comparison the reference's mean figure, and the difference of each entry in
    y, None where there is none.
    """
    return {
        "entries": [entry.key for entry in racing],
        "tests": {
            data.test.key: {
                "ground": level_of_reference(data),
                "delta": [
                    None if math.isnan(delta) else float(delta) for delta in data.comparison.delta
                ],
            }
            for data in loaded
            if data.comparison is not None
        },
    }


def _doubt_of_ground(rules: Rules, scored: Sequence[tuple[TestData, Term]]) -> float:
    """Half-width of the 95 % interval that the reference's own repeats leave about its score, in
    the score's unit.
    """
    total = sum(term.weight for _, term in scored)
    parts = []
    for data, term in scored:
        c = data.comparison
        if c is None or not c.has_doubt:
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
                    limit_sentence(data, limit, cells[entry.key][data.test.key])
                    for data, limit in broken
                ),
            }
        )
    return rows


def _missing_notes(loaded: Sequence[TestData]) -> list[str]:
    """A sentence each on tests without a reference and on tests that nobody repeated."""
    notes = []
    if alone := [data.test.label for data in loaded if data.comparison is None]:
        notes.append(
            f"{', '.join(alone)}: there is no run of the reference with a result yet, so nothing can be compared."
            " Run the reference."
        )
    if untold := [data.test.label for data in loaded if data.lacks_doubt]:
        notes.append(
            f"{', '.join(untold)}: nothing was repeated, and the rig's history tells no scatter of"
            " this procedure, so no difference can be told. Run the reference or an entry again."
        )
    return notes


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
