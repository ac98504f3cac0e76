"""Guesses before the first run: opened by the host, made by one link, sealed, and held against the result
beside what designers and the Desk foretold.
"""

from __future__ import annotations

import secrets
from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from typing import Any

import numpy as np
from django.core.exceptions import ValidationError
from django.db import IntegrityError, transaction
from django.utils import timezone

from hauch.bench.models import Run
from hauch.core.judge.guesses import Scored, crowd, scored
from hauch.core.quantity.typed import typed_figure
from hauch.core.quantity.units import KINDS
from hauch.entries.models import Entry, Prediction
from hauch.people.audit import record
from hauch.people.models import User
from hauch.people.permissions import require
from hauch.rounds.models import Round, Test
from hauch.rounds.queries import current_rules, round_tests
from hauch.verdict.models import Guess, Guessing, StandingRow
from hauch.verdict.queries import standing_of

MOST_GUESSES = 2000
MOST_ENTRIES = 60
"""More entries than this nobody puts in order."""

CROWD, DESIGNERS, DESK = "All guesses together", "The designers", "The Desk"


def sealed(round: Round) -> bool:
    """Whether an entry was run already, so that nobody may guess any more."""
    return (
        Run.objects.filter(test__round=round, specimen__isnull=False)
        .exclude(state=Run.State.VOID)
        .exists()
    )


def open_guessing(user: User, round: Round, test: Test | None) -> Guessing:
    """Open guesses for whoever has the link; the names of the entries are seen by it.

    Raises
    ------
    PermissionDenied, ValidationError : opened already, an entry was run, or too few entries
    """
    require(user, "people.invite", round)
    if sealed(round):
        raise ValidationError("An entry was run already: there is nothing to guess any more.")
    count = entries_of(round).count()
    if not 2 <= count <= MOST_ENTRIES:
        raise ValidationError(
            f"Guesses need 2 to {MOST_ENTRIES} entries; {count} {'is' if count == 1 else 'are'} in."
        )
    try:
        with transaction.atomic():
            made = Guessing.objects.create(
                round=round, test=test, secret=secrets.token_urlsafe(24), opened_by=user
            )
            record(user, "guessing.open", made, round, test=test.key if test else "")
    except IntegrityError as problem:
        raise ValidationError("Guesses are open already.") from problem
    return made


def entries_of(round: Round) -> Any:
    """Entries that are guessed."""
    return round.entries.filter(state=Entry.State.IN).order_by("name", "pk")


def read_given(
    guessing: Guessing, typed: Mapping[str, str], entries: Sequence[Entry], units: str
) -> dict[int, float]:
    """What was typed, g-ENTRY: a place, or a value in the person's unit.

    Raises
    ------
    ValidationError : a sentence for each that cannot be read
    """
    given: dict[int, float] = {}
    problems = []
    for entry in entries:
        text = str(typed.get(f"g-{entry.pk}", "")).strip()[:40]
        if not text:
            continue
        try:
            if guessing.test is None:
                given[entry.pk] = _place(text, len(entries))
            else:
                kind = guessing.test.how.kind
                given[entry.pk] = typed_figure(text, kind, KINDS[kind].shown[units])[0]
        except ValueError as problem:
            problems.append(f"{entry.name}: {problem}")
    if problems:
        raise ValidationError(problems)
    return given


def _place(text: str, count: int) -> float:
    if not text.isdecimal() or not 1 <= int(text) <= count:
        raise ValueError(f"places go from 1 to {count}.")
    return float(int(text))


def guess(
    guessing: Guessing, name: str, given: Mapping[int, float], mine: Guess | None = None
) -> Guess:
    """Keep a guess; whoever made one may change it until the first run.

    Raises
    ------
    ValidationError : sealed, no name or one that is taken, too little guessed, or too many guess
    """
    name = " ".join(name.split())[:60]
    if not name and mine is None:
        raise ValidationError("Say who guesses: a name or initials.")
    if len(given) < 2:
        raise ValidationError("Guess at least two entries.")
    if sealed(guessing.round):
        raise ValidationError("The first entry was run: all guesses are sealed.")
    kept = {str(entry): value for entry, value in given.items()}
    if mine is not None:
        mine.given, mine.at = kept, timezone.now()
        mine.save(update_fields=["given", "at"])
        return mine
    if guessing.guesses.count() >= MOST_GUESSES:
        raise ValidationError(f"At most {MOST_GUESSES:,} guess.")
    try:
        with transaction.atomic():
            return Guess.objects.create(guessing=guessing, name=name, given=kept)
    except IntegrityError as problem:
        raise ValidationError(
            f"Somebody guesses as “{name}” already. Take another name."
        ) from problem


@dataclass(frozen=True)
class Outcome:
    """Guesses against the result: all scored, the best first; those of everybody together, of the
    designers and of the Desk by name; and by entry what each said beside the result: the order of
    places where the order was guessed.
    """

    scored: list[Scored]
    sources: list[Scored]
    rows: list[dict[str, Any]]
    said: dict[str, dict[int, float]]
    middle: dict[int, tuple[float, float]]


def outcome(guessing: Guessing) -> Outcome | None:
    """How good the guesses were; None while fewer than two entries have a result."""
    round = guessing.round
    rules = current_rules(round)
    standing = standing_of(rules) if rules else None
    if rules is None or standing is None:
        return None
    rows = list(standing.rows.exclude(state=StandingRow.State.DNF).select_related("entry"))
    test = guessing.test
    places = {row.entry_id: float(row.place) for row in rows if row.rank is not None}
    if test is None:
        truth, values, direction, log = places, False, -1, True
    else:
        truth = {
            row.entry_id: row.tests[test.key]["value"] for row in rows if row.tests.get(test.key)
        }
        values, direction, log = True, test.how.direction, test.how.log
    if len(truth) < 2:
        return None
    guesses = [
        (one.name, {int(k): float(v) for k, v in one.given.items()})
        for one in guessing.guesses.all()
    ]
    together = crowd([given for _, given in guesses], values=values)
    foretold = _foretold(round, test)
    sources = [(CROWD, together, values), *foretold]

    def held(name: str, given: Mapping[int, float], of_values: bool, sign: int) -> Scored | None:
        if of_values and not values:  # predicted values of a test, by the order of the standing
            return scored(name, given, truth, values=False, direction=sign, order=places)
        return scored(name, given, truth, values=of_values, direction=sign, log=log)

    sign = (test or _decides(round)).how.direction if foretold else direction
    told = [s for name, given in guesses if (s := held(name, given, values, direction))]
    known = [
        s
        for name, given, of_values in sources
        if (s := held(name, given, of_values, sign if of_values else direction))
    ]
    return Outcome(
        sorted(told, key=lambda s: -(s.tau if s.tau is not None else -2.0)),
        known,
        [
            {
                "entry": row.entry,
                "truth": truth[row.entry_id],
                "crowd": together.get(row.entry_id),
            }
            for row in rows
            if row.entry_id in truth
        ],
        {
            name: given if values or not of_values else _as_places(given, places, sign)
            for name, given, of_values in sources
        },
        _middle_half([given for _, given in guesses]),
    )


def _as_places(
    given: Mapping[int, float], places: Mapping[int, float], sign: int
) -> dict[int, float]:
    """Foretold values as places among the entries that have one."""
    ranked = sorted((e for e in given if e in places), key=lambda e: -sign * given[e])
    return {entry: float(place) for place, entry in enumerate(ranked, 1)}


def _middle_half(guesses: list[dict[int, float]]) -> dict[int, tuple[float, float]]:
    """Between what the middle half of all guesses of an entry lies."""
    given: dict[int, list[float]] = {}
    for one in guesses:
        for entry, value in one.items():
            given.setdefault(entry, []).append(value)
    return {
        entry: (float(low), float(high))
        for entry, found in given.items()
        for low, high in [np.percentile(found, [25, 75])]
    }


def _decides(round: Round) -> Test:
    """The test with the largest weight."""
    rules = current_rules(round)
    terms = list(rules.terms.select_related("test")) if rules else []
    weighted = [term for term in terms if term.weight is not None]
    if not weighted:
        return round_tests(round)[0]
    return max(weighted, key=lambda term: term.weight or 0.0).test


def _foretold(round: Round, test: Test | None) -> list[tuple[str, dict[int, float], bool]]:
    """What designers and the Desk foretold of the test, or of the one that decides most."""
    wanted = test or _decides(round)
    out = []
    for name, source in ((DESIGNERS, "designer"), (DESK, "model")):
        found = {
            entry: float(value)
            for entry, value in Prediction.objects.filter(
                version__entry__round=round, procedure=wanted.procedure, source=source
            )
            .order_by("made_at")
            .values_list("version__entry", "value")
        }
        if len(found) > 1:
            out.append((name, found, True))
    return out
