"""What is published of a round: plain values that stand by themselves, and the page's view of them."""

from __future__ import annotations

from collections import Counter
from dataclasses import dataclass
from datetime import datetime
from typing import Any

from hauch.core import CORE_VERSION
from hauch.people.models import User
from hauch.rounds.models import Round, RuleTerm, RuleVersion, Test
from hauch.rounds.queries import current_rules, round_tests
from hauch.verdict import queries
from hauch.verdict.models import Publication, Standing, StandingRow

ROW_FIELDS = (
    "place",
    "state",
    "rank",
    "score",
    "u",
    "first",
    "low",
    "high",
    "kept",
    "outside",
    "reason",
    "version",
    "named",
)
CELL_FIELDS = ("value", "expanded", "comparable", "change", "change_expanded", "word")


def keep_publication(round: Round, by: User | None, at: datetime) -> Publication | None:
    """Store the standing under the rules in force as it is now; None where there is none."""
    rules = current_rules(round)
    standing = queries.standing_of(rules) if rules is not None else None
    if rules is None or standing is None or standing.computed_at is None:
        return None
    rules.round = round
    return Publication.objects.create(
        round=round,
        by=by,
        at=at,
        content=content_of(round, rules, standing),
        core_version=CORE_VERSION,
    )


def content_of(round: Round, rules: RuleVersion, standing: Standing) -> dict[str, Any]:
    """All that the page of a published standing shows, as plain values in SI units."""
    tests, rows = round_tests(round, rules), list(standing.rows.select_related("entry"))
    terms = list(rules.terms.select_related("test"))
    band = standing.ground_expanded
    first = [row for row in rows[:3] if row.state == StandingRow.State.RANKED]
    opening, headings = queries.opening(rules, first), queries.headings(tests)
    return {
        "round": {
            "title": round.title,
            "place": round.place,
            "number": round.number,
            "question": round.question,
            "slug": round.slug,
        },
        "rules": {
            "number": rules.number,
            "scheme": rules.get_scheme_display(),
            "score_unit": rules.score_unit,
            "less_is_better": rules.less_is_better,
            "draws": rules.draws,
            "seed": rules.seed,
            "terms": [_term(term) for term in terms],
        },
        "tests": [
            {
                "label": t.label,
                "short": headings[t.key],
                "kind": t.how.kind,
                "unit_of_change": t.how.change_unit,
            }
            for t in tests
        ],
        "opening": (
            opening
            | {"rules": {"score_unit": rules.score_unit}}
            | {who: _row(opening[who], tests) for who in ("leader", "second") if who in opening}
        ),
        "rows": [_row(row, tests) for row in rows],
        "reference": [standing.reference.get(t.key) for t in tests],
        "reference_name": queries.reference_name(tests),
        "reference_at": queries.place_of_reference(rules, rows, standing.ground),
        "scale": queries.scale_of(rows, standing.ground, band),
        "band": band,
        "notes": standing.notes,
    }


def _term(term: RuleTerm) -> dict[str, Any]:
    return {
        "label": term.test.label,
        "short": term.test.how.short,
        "weight": term.weight,
        "most_loss": term.most_loss,
        "unit": term.test.how.change_unit,
    }


def _row(row: StandingRow, tests: list[Test]) -> dict[str, Any]:
    cells = [row.tests.get(test.key) for test in tests]
    entry = {"name": row.entry.name, "mark": row.entry.mark, "designer": row.entry.designer_name}
    return {name: getattr(row, name) for name in ROW_FIELDS} | {
        "entry": entry,
        "doubt": row.expanded or 0.0,
        "cells": [{name: cell[name] for name in CELL_FIELDS} if cell else None for cell in cells],
    }


@dataclass(frozen=True, slots=True)
class Named:
    """An entry as a published page names it."""

    name: str
    mark: int
    designer: str


def shown(publication: Publication) -> dict[str, Any]:
    """The content as its template reads it; rows that share their rank say so."""
    content = publication.content
    held = Counter(row["rank"] for row in content["rows"] if row["rank"] is not None)
    opening = content["opening"] | {
        who: _named(content["opening"][who])
        for who in ("leader", "second")
        if who in content["opening"]
    }
    return content | {
        "rows": [_named(row) | {"shared": held[row["rank"]] > 1} for row in content["rows"]],
        "opening": opening,
    }


def _named(row: dict[str, Any]) -> dict[str, Any]:
    return row | {"entry": Named(**row["entry"])}
