"""Runs of a test that count for the test that replaces it: the same readings, converted otherwise."""

from __future__ import annotations

import uuid

from django.db import transaction

from hauch.bench import progress
from hauch.bench.models import Result, Run
from hauch.bench.queries import runs
from hauch.bench.reduction import compute
from hauch.people.models import User
from hauch.people.permissions import require
from hauch.rounds.models import Test


@transaction.atomic
def carry_over(user: User, old: Test, new: Test) -> int:
    """Make runs of a test count for its successor from the same readings; gives how many.

    The readings are not copied: the new run points to the old one and is reduced by the new test's
    terms. Safe to run twice.
    """
    require(user, "rules.change", new.round)
    done = set(
        Run.objects.filter(test=new, carried_from__isnull=False).values_list(
            "carried_from_id", flat=True
        )
    )
    count = 0
    for run in (
        Run.objects.filter(test=old, setting=old.setting)
        .exclude(pk__in=done)
        .select_related("carried_from")
    ):
        key = uuid.uuid5(run.uid, f"carried/{new.pk}")
        made = Run.objects.create(
            uid=key,
            form_key=key,
            test=new,
            rig_id=run.rig_id,
            setting=new.setting,
            specimen_id=run.specimen_id,
            reference_id=run.reference_id,
            replicate=run.replicate,
            started_at=run.started_at,
            operator_id=run.operator_id,
            state=run.state,
            reason=run.reason,
            note=run.note,
            temperature=run.temperature,
            pressure=run.pressure,
            humidity=run.humidity,
            recording_id=run.recording_id,
            windows=run.windows,
            beside=run.beside,
            picture_id=run.picture_id,
            carried_from=run.carried_from or run,
        )
        if made.state == Run.State.VALID:
            Result.objects.create(run=made, **compute(runs().with_raw().get(pk=made.pk)))
        count += 1
    progress.rebuild(new.round)
    return count
