"""Leaving a stretch or a reading out of a run's figure with a reason, and letting it count again."""

from __future__ import annotations

import math

from django.core.exceptions import ValidationError
from django.db import transaction
from django.utils import timezone

from hauch.bench.changes import runs_changed
from hauch.bench.models import Exclusion, Result, Run
from hauch.bench.queries import runs as run_rows
from hauch.bench.reduction import compute
from hauch.core.measure.channels import CHANNELS
from hauch.people.audit import record
from hauch.people.models import User
from hauch.people.permissions import require


@transaction.atomic
def exclude(
    user: User,
    run: Run,
    reason: str,
    channel: str = "",
    stretch: tuple[float, float] | None = None,
    reading_pk: int | None = None,
) -> Exclusion:
    """Leave a stretch of a channel, or a typed reading, out of a run's figure, with the reason; raw
    data stays.

    Raises
    ------
    PermissionDenied, ValidationError : no reason, no such stretch or reading
    """
    run = (
        Run.objects.select_for_update(of=("self",))
        .select_related("test__round", "recording", "specimen__version")
        .get(pk=run.pk)
    )
    require(user, "run.void", run.test.round)
    if not reason.strip():
        raise ValidationError("Say in a few words why it is left out; the audit shows it.")
    if run.carried_from_id:
        raise ValidationError(
            f"This run is made of the readings of run {run.carried_from_id}. Leave it out there,"
            " and it is left out here too."
        )
    reading = run.readings.filter(pk=reading_pk).first() if reading_pk else None
    if reading_pk and reading is None:
        raise ValidationError("That reading is not of this run.")
    if reading is None:
        if (
            run.recording is None
            or stretch is None
            or (channel != "time" and channel not in CHANNELS)
        ):
            raise ValidationError("Choose a channel, and from when to when it is left out.")
        if not all(math.isfinite(s) for s in stretch) or stretch[1] < stretch[0]:
            raise ValidationError("The stretch ends before it begins.")
    low, high = stretch if stretch and reading is None else (None, None)
    made = Exclusion.objects.create(
        run=run,
        channel=reading.channel if reading else channel,
        from_s=low,
        to_s=high,
        reading=reading,
        reason=reason.strip()[:300],
        by=user,
    )
    record(
        user,
        "run.exclude",
        run,
        run.test.round,
        reason=made.reason,
        channel=made.channel,
        stretch=[low, high],
        reading=reading.typed if reading else "",
    )
    _again(run)
    return made


@transaction.atomic
def restore(user: User, exclusion: Exclusion) -> None:
    """Take an exclusion back; that it was there stays written."""
    exclusion = (
        Exclusion.objects.select_for_update(of=("self",))
        .select_related("run__test__round", "run__specimen__version")
        .get(pk=exclusion.pk)
    )
    run = exclusion.run
    require(user, "run.void", run.test.round)
    if not exclusion.stands:
        raise ValidationError("It counts again already.")
    exclusion.undone_at, exclusion.undone_by = timezone.now(), user
    exclusion.save(update_fields=["undone_at", "undone_by"])
    record(user, "run.restore", run, run.test.round, reason=exclusion.reason)
    _again(run)


def _again(run: Run) -> None:
    """Compute a run's result again, and those of runs that were made of its readings."""
    again = []
    for pk in [run.pk, *run.carried_to.values_list("pk", flat=True)]:
        one = run_rows().with_raw().get(pk=pk)
        if one.state == Run.State.VALID:
            Result.objects.update_or_create(run=one, defaults=compute(one))
        again.append(one)
    runs_changed(run.test.round, again)
