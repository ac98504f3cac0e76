"""A run is made of the readings that were taken at a live bench, or the part is given up."""

from __future__ import annotations

import uuid
from datetime import timedelta

from django.core.exceptions import ValidationError
from django.db import transaction

from hauch.bench.changes import runs_changed
from hauch.bench.models import Live, Observation, Run
from hauch.bench.observations import round_s
from hauch.bench.runs import (
    NewRun,
    Room,
    Subject,
    finish_run,
    in_turn,
    make_run,
    next_replicate,
    seal_version,
)
from hauch.core.measure.channels import AMBIENT
from hauch.live.actions import LATE, SETTLES, close_down, held_for
from hauch.live.protocol import guard_closed_at, last_turn, status_of, steps_of, turning
from hauch.live.readings import asks, readings_of
from hauch.people.audit import record
from hauch.people.models import User
from hauch.stores.models import Picture


@transaction.atomic
def accept(
    user: User,
    live: Live,
    room: Room,
    note: str = "",
    form_key: uuid.UUID | None = None,
    *,
    far_off_count: bool = False,
) -> Run:
    """Make a run of the readings that were taken; the recording goes on for the next one.

    Parameters
    ----------
    far_off_count : somebody said that readings far off the others count all the same

    Raises
    ------
    PermissionDenied, ValidationError : no reading taken, the room is not known, or a reading lies far
        off the others and nobody said that it counts
    """
    key = form_key or uuid.uuid4()
    if (sent := Run.objects.filter(form_key=key).first()) is not None:
        return sent
    live = held_for(user, live)
    room.check()
    if not live.windows and not live.test.how.by_point:
        raise ValidationError("Take at least one reading first (Space).")
    if not far_off_count and (far_off := asks(live, readings_of(live))):
        raise ValidationError([*far_off, "Leave it out, or say that it counts, then accept again."])
    if live.test.how.by_point and not live.windows:
        live.windows = [swept(live)]
    subject = Subject(live.specimen, live.reference)
    subject.check(live.round)
    started = live.recording.started_at
    if live.windows:
        started += timedelta(seconds=live.windows[0][0])
    run = make_run(
        user,
        NewRun(live.test, subject, room, started, setting=live.setting, note=note, form_key=key),
        live.recording,
    )
    run.windows, run.beside, run.hours = live.windows, live.beside, _hours_since_last(live)
    run.save(update_fields=["windows", "beside", "hours"])
    record(user, "run.record", run, live.round, run=str(run.uid), live=str(live.uid))
    run = finish_run(run)
    Observation.objects.filter(recording=live.recording, run=None).update(run=run)
    live.windows, live.room = [], {name: getattr(room, name) for name in AMBIENT}
    live.save(update_fields=["windows", "room"])
    return run


def swept(live: Live) -> list[float]:
    """Where the steps of a curve are looked for: the sweep of the throttle, or what was stepped by
    hand since it was last turned.

    Raises
    ------
    ValidationError : nothing was swept yet
    """
    task, now = status_of(live).task, round_s(live.seconds() - LATE)
    if task is not None and task.kind == "sweep" and task.begun > guard_closed_at(live):
        if not task.done:
            raise ValidationError(
                "Let the sweep come to its end first: the curve is read from its steps."
            )
        return [task.begun, now]
    begin = last_turn(live) + SETTLES
    if not by_hand_swept(live):
        raise ValidationError(
            "Sweep the throttle first, or step the damper by hand: the curve is read from at least"
            " three steps."
        )
    return [round_s(begin), now]


SWEPT_BY_HAND = 30.0
"""So long the throttle stands at least while a damper is stepped by hand [s]: three steps of ten
seconds.
"""


def by_hand_swept(live: Live) -> bool:
    """Whether there was time to step a damper by hand since the throttle was last turned."""
    turns = turning(live) or "throttle" not in live.recording.columns
    begun = max(last_turn(live), guard_closed_at(live))
    return turns and live.seconds() - begun > SETTLES + SWEPT_BY_HAND


def _hours_since_last(live: Live) -> float:
    """Hours for which the part ran since the run before in this recording."""
    last = live.recording.runs.exclude(windows=[]).order_by("-pk").first()
    begun = steps_of(live).guard or 0.0
    since = max(last.windows[-1][1] if last is not None and last.windows else begun, begun)
    return max(live.seconds() - since, 0.0) / 3600


@transaction.atomic
def give_up(user: User, live: Live, reason: str, picture: Picture | None = None) -> Run:
    """Record that the part did not finish, with the reason, a picture and all that was recorded so
    far.
    """
    live = held_for(user, live)
    if live.reference_id:
        raise ValidationError(
            "A reference that does not finish is retired in Stores; it has no row in the standing."
        )
    if not reason.strip():
        raise ValidationError(
            {
                "reason": (
                    "Say in a few words why it did not finish, such as “two blades rub the frame"
                    " above 1,150 1/min”."
                )
            }
        )
    subject = Subject(live.specimen, None)
    subject.check(live.round)
    in_turn(live.test)
    run = Run.objects.create(
        test=live.test,
        rig=live.test.rig,
        setting=live.setting,
        specimen=live.specimen,
        replicate=next_replicate(live.test, live.setting, subject),
        started_at=live.recording.started_at,
        operator=user,
        state=Run.State.DNF,
        reason=reason.strip(),
        recording=live.recording,
        windows=live.windows,
        picture=picture,
        hours=_hours_since_last(live),
        **live.room,
    )
    seal_version(run)
    Observation.objects.filter(recording=live.recording, run=None).update(run=run)
    record(user, "run.dnf", run, live.round, reason=run.reason)
    close_down(user, live)
    runs_changed(live.round, [run])
    return run
