"""Background work of the bench."""

from __future__ import annotations

from collections.abc import Sequence
from contextlib import suppress
from typing import Any

from django.db import transaction
from procrastinate.contrib.django import app
from procrastinate.exceptions import AlreadyEnqueued

from hauch.bench.importing import run_import
from hauch.bench.models import Recording, Run
from hauch.bench.queries import RunQuerySet, runs
from hauch.bench.results import recompute
from hauch.bench.signals import results_changed
from hauch.bench.successors import carry_over
from hauch.bench.traces import compact, ended_in_pieces, held_by_recorder
from hauch.core import CORE_VERSION
from hauch.people.models import User
from hauch.rounds.models import Round, Test
from hauch.stores.models import Instrument, Rig

CARRIED_AT_ONCE = 1500
"""Tests of up to this many runs are carried over in the request that changed the rules; larger ones
by the worker.
"""


@app.task(name="bench.import_log")
def import_later(import_id: int) -> None:
    """Import a large file; a worker that dies leaves it to the next one."""
    run_import(import_id)


def defer_import(import_id: int) -> None:
    """Leave an import to the worker, inside the transaction that asks for it."""
    import_later.configure(lock=f"import-{import_id}").defer(import_id=import_id)


@app.task(name="bench.compact")
def compact_recording(recording_id: int) -> None:
    """Make chunks of a live recording that has ended, when no recorder holds it any more; safe to
    run twice. What a recorder still holds is left to the sweep.
    """
    recording = Recording.objects.filter(pk=recording_id).first()  # taken away meanwhile: nothing
    if recording is not None and not held_by_recorder(recording):
        compact(recording)


def defer_compact(recording_id: int) -> None:
    """Leave a recording that ends to the worker, when its recorder has stored its last rows."""
    compact_recording.configure(
        lock=f"compact-{recording_id}", schedule_in={"seconds": COMPACT_AFTER}
    ).defer(recording_id=recording_id)


COMPACT_AFTER = 15
"""A recorder that lives has stored its last rows so long after the end [s]."""


@app.periodic(cron="7 * * * *")
@app.task(name="bench.sweep", queueing_lock="bench-sweep")
def sweep(timestamp: int) -> None:
    """Make chunks of recordings whose job came too early or is gone."""
    for recording in ended_in_pieces():
        if not held_by_recorder(recording):
            compact(recording)


@app.task(name="bench.carry_over")
def carry_over_later(user_id: int, old_id: int, new_id: int) -> None:
    """Make the runs of a large test count for its successor; safe to run twice."""
    old, new = Test.objects.get(pk=old_id), Test.objects.select_related("round").get(pk=new_id)
    carry_over(User.objects.get(pk=user_id), old, new)
    results_changed.send(Test, round=new.round)


@app.task(name="bench.recompute_rig")
def recompute_rig(rig_id: int) -> None:
    """Compute the runs of a rig in one of its states again; safe to run twice."""
    recompute(runs_of_rig(rig_id))


def runs_of_rig(rig_id: int) -> RunQuerySet:
    """Runs of a rig in one of its states that may have a figure."""
    return runs().filter(rig=rig_id, state=Run.State.VALID)


def follow_rig(sender: Any, rig: Rig, **_: Any) -> None:
    """Runs of a rig of which a meter or a constant is told only now are computed again, many by the
    worker; those to which it is nothing stay as they are.
    """
    if runs_of_rig(rig.pk).count() <= RECOMPUTED_AT_ONCE:
        recompute_rig(rig.pk)
    else:
        recompute_rig.defer(rig_id=rig.pk)


def follow_meter(sender: Any, instrument: Instrument, **_: Any) -> None:
    """Runs on the rigs that a meter reads on, in all their states, are computed again."""
    for rig in Rig.objects.filter(meters__instrument=instrument, runs__isnull=False).distinct():
        follow_rig(Rig, rig)


RECOMPUTED_AT_ONCE = 100
"""So many runs are computed again in the request that told what of their rig was not known."""


def follow_tests(sender: Any, user: User, pairs: Sequence[tuple[Test, Test]], **_: Any) -> None:
    """Carry runs over to the tests that replace theirs, a large test by the worker; inside the
    transaction that replaced them.
    """
    for old, new in pairs:
        if Run.objects.filter(test=old).count() <= CARRIED_AT_ONCE:
            carry_over(user, old, new)
        else:
            carry_over_later.defer(user_id=user.pk, old_id=old.pk, new_id=new.pk)


OLDER_AT_ONCE = 200
"""So many results of an earlier core are computed again by one job."""


def older() -> RunQuerySet:
    """Runs whose result is of another version of the core."""
    return runs().filter(state=Run.State.VALID).exclude(result__core_version=CORE_VERSION)


@app.task(name="bench.recompute_older")
def recompute_older(after: int = 0) -> None:
    """Compute results of an earlier core again, some at a time, and judge all rounds at the end;
    safe to run twice.
    """
    keys = list(
        older().filter(pk__gt=after).order_by("pk").values_list("pk", flat=True)[:OLDER_AT_ONCE]
    )
    if keys:
        recompute(runs().filter(pk__in=keys))
        recompute_older.configure(lock="recompute-older").defer(after=keys[-1])
        return
    for round in Round.objects.filter(tests__runs__isnull=False).distinct():
        results_changed.send(Run, round=round)


def defer_older() -> int:
    """Leave results of an earlier core to the worker; how many there are."""
    count = older().count()
    if count:
        with suppress(AlreadyEnqueued), transaction.atomic():
            recompute_older.configure(
                lock="recompute-older", queueing_lock="recompute-older"
            ).defer()
    return count
