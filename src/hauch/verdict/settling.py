"""What would settle the first place of a round: worked out by the worker, shown, and put on the bench."""

from __future__ import annotations

import logging
from typing import Any

from django.core.exceptions import ValidationError
from django.db import transaction
from django.utils import timezone
from procrastinate.contrib.django import app

from hauch.bench.durations import run_minutes
from hauch.bench.models import AskedRepeats
from hauch.bench.plan import BRACKET_EVERY, plan_of
from hauch.core.judge.field import compared
from hauch.core.judge.round import terms_of
from hauch.core.judge.settle import Question, settle
from hauch.entries.models import Entry
from hauch.people.audit import record
from hauch.people.models import User
from hauch.people.permissions import require
from hauch.rounds.models import Round, RuleVersion
from hauch.rounds.queries import round_tests
from hauch.verdict.compute import field_of, rules_of, sources_of
from hauch.verdict.models import Settling, Standing

log = logging.getLogger(__name__)

CHOICES = (0.8, 0.9, 0.95, 0.99)
"""Probabilities of the first place that may be asked for."""


WITH_REFERENCE = 1 + 1 / BRACKET_EVERY
"""Runs of a repeat, with its share of the reference run that comes after so many. What those runs
make surer is not counted.
"""


def worked_out(rules: RuleVersion, asked: float) -> dict[str, Any]:
    """What would settle a round under a version of its rules, as plain values.

    Raises
    ------
    ValueError : rules under which more runs settle nothing, in a sentence
    """
    tests = {test.key: test for test in round_tests(rules.round, rules)}
    field, wanted = field_of(rules.round, sources_of(list(tests.values()))), rules_of(rules)
    racing = [entry for entry in field.entries if entry.dnf is None]
    position = {entry.key: index for index, entry in enumerate(racing)}
    loaded = [compared(test, position, field.references) for test in field.tests]
    scored, limited = terms_of(wanted, loaded)
    data = [one for one, _ in (*scored, *limited)]
    if not scored or any(one.comparison is None for one in data):
        return {"leader": None}
    last = [tests[one.test.key] for one in data]
    durations = [run_minutes(test) for test in last]
    minutes = [duration.minutes * WITH_REFERENCE for duration in durations]
    found = settle(
        Question(
            wanted.scheme,
            [term for _, term in scored],
            [one.comparison for one, _ in scored if one.comparison],
            [limit for _, limit in limited],
            [one.comparison for one, _ in limited if one.comparison],
            minutes,
        ),
        asked,
        wanted.seed,
    )
    return {
        "leader": None if found.leader is None else racing[found.leader].key,
        "first": found.first,
        "then": found.then,
        "works": found.works,
        "minutes": found.minutes,
        "reached": found.reached,
        "by_rule": sorted({last[s.test].label for s in found.steps if durations[s.test].by_rule}),
        "steps": [
            {
                "entry": racing[step.entry].key,
                "test": last[step.test].key,
                "repeats": step.repeats,
                "minutes": step.repeats * minutes[step.test],
            }
            for step in sorted(found.steps, key=lambda s: (s.test, -s.repeats))
        ],
    }


@transaction.atomic
def ask(user: User, standing: Standing, asked: float) -> Settling:
    """Have it worked out; the worker does.

    Raises
    ------
    PermissionDenied, ValidationError : no probability that may be asked for
    """
    require(user, "verdict.view_early", standing.rules.round)
    if asked not in CHOICES:
        raise ValidationError("Choose one of the probabilities.")
    made, _ = Settling.objects.update_or_create(
        standing=standing,
        defaults={
            "asked": asked,
            "state": Settling.State.WAITING,
            "result": {},
            "problem": "",
            "at": timezone.now(),
        },
    )
    app.configure_task("verdict.settle", lock=f"settling-{made.pk}").defer(settling_id=made.pk)
    return made


def work_out(pk: int) -> None:
    """What the worker does; safe to run twice."""
    row = (
        Settling.objects.select_related("standing__rules__round")
        .filter(pk=pk, state=Settling.State.WAITING)
        .first()
    )
    if row is None:
        return
    judged = row.standing.judged
    try:
        done = {"result": worked_out(row.standing.rules, row.asked), "state": Settling.State.DONE}
    except ValueError as problem:
        done = {"problem": str(problem)[:300], "state": Settling.State.FAILED}
    except Exception:  # whatever the figures of strangers come to, the page says so
        log.exception("what would settle %s could not be worked out", row.standing)
        done = {
            "problem": "It could not be worked out. Tell who keeps the installation.",
            "state": Settling.State.FAILED,
        }
    Settling.objects.filter(pk=pk, asked=row.asked, state=Settling.State.WAITING).update(
        judged=judged, **done
    )


@transaction.atomic
def put_on_bench(user: User, settling: Settling) -> int:
    """Ask at the bench for the repeats that would settle it; how many.

    Raises
    ------
    PermissionDenied, ValidationError : there are none, or they are of other runs than those that
        are in now
    """
    round = settling.standing.rules.round
    require(user, "rules.change", round)
    if round.state != Round.State.BENCH:
        raise ValidationError("The round is not on the bench.")
    if settling.state != Settling.State.DONE or not settling.current:
        raise ValidationError("Runs have come in since. Have it worked out again.")
    steps = settling.result.get("steps", [])
    if not steps:
        raise ValidationError("There are no repeats to put on the bench.")
    rows = _wanted(settling)
    if len(rows) < len(steps):
        raise ValidationError("The rules have changed since. Have it worked out again.")
    AskedRepeats.objects.filter(test__round=round).delete()  # of what was worked out before
    for row in rows:
        row.by = user
    AskedRepeats.objects.bulk_create(rows)
    asked = sum(step["repeats"] for step in steps)
    record(user, "settling.bench", settling.standing, round, repeats=asked)
    return asked


def _wanted(settling: Settling) -> list[AskedRepeats]:
    """What would be asked for at the bench, not saved; without steps of what is there no more."""
    round, steps = settling.standing.rules.round, settling.result.get("steps", [])
    tests = {test.key: test for test in round_tests(round)}
    entries = Entry.objects.in_bulk([step["entry"] for step in steps])
    counts = plan_of(round).counts
    return [
        AskedRepeats(
            test=tests[step["test"]],
            entry=entries[step["entry"]],
            repeats=counts.get((tests[step["test"]].pk, step["entry"]), 0) + step["repeats"],
        )
        for step in steps
        if step["test"] in tests and step["entry"] in entries
    ]


def is_on_bench(settling: Settling) -> bool:
    """Whether just these repeats are asked for at the bench."""
    asked = AskedRepeats.objects.filter(test__round=settling.standing.rules.round)
    return {(row.test_id, row.entry_id, row.repeats) for row in _wanted(settling)} == set(
        asked.values_list("test", "entry", "repeats")
    )


@transaction.atomic
def take_off_bench(user: User, round: Round) -> int:
    """Ask for no more than the rules do; how many entries and tests that is."""
    require(user, "rules.change", round)
    count, _ = AskedRepeats.objects.filter(test__round=round).delete()
    if count:
        record(user, "settling.off", round, round, asked=count)
    return count
