"""What can be done at a bench that is being recorded. Each action says its wish to the recorder
through the database.
"""

from __future__ import annotations

import json
import math

from django.core.exceptions import ValidationError
from django.db import connection, transaction
from django.db.models import F
from django.db.models.functions import Now
from django.utils import timezone

from hauch.bench import steady
from hauch.bench.jobs import defer_compact
from hauch.bench.models import Live, Observation, Recording
from hauch.bench.observations import observe, round_s
from hauch.bench.runs import Subject
from hauch.bench.traces import after
from hauch.core.measure.channels import CHANNELS
from hauch.core.measure.seek import Search, Stepper
from hauch.core.trace.beside import BACKGROUND, TARE
from hauch.live.meters import hold_meters
from hauch.live.protocol import (
    MOST_WAITING,
    RECORDED,
    WANTED,
    Cut,
    Hold,
    Mounted,
    Steps,
    Sweep,
    Throttle,
    Wave,
    Wish,
    last_turn,
    plain,
    status_of,
    steps_of,
    turning,
    wanted_of,
    with_wish,
)
from hauch.live.readiness import needs_tare, why_no_hand, why_no_reading
from hauch.people.audit import record
from hauch.people.models import User
from hauch.people.permissions import require
from hauch.rounds.models import Setting, Test
from hauch.stores.models import Picture, Rig

RATE = 50.0
"""Ticks a second of a live recording."""

READING_SECONDS = 4.0
"""How much of the trace a reading takes, ending now."""

BESIDE_SECONDS = 5.0
"""How much of the trace is read without the part."""

SETTLES = 4.0
"""A reading begins at least this long after the throttle was turned [s]."""

LATE = 0.6
"""By how much what is stored may be behind the clock [s]."""


WITHOUT = {"background_level", "tare_torque"}
"""Channels that are stretches of another one, read without the part."""


def live_channels(rig: Rig) -> list[str]:
    """Channels of a rig that are read over a line, in the order of the channels."""
    read = set(rig.meters.exclude(instrument__resource="").values_list("channel", flat=True))
    return [key for key in CHANNELS if key in read - WITHOUT]


def on_rig(rig: Rig) -> Live | None:
    """What is being recorded on a rig, if anything."""
    return (
        Live.objects.filter(test__rig=rig, ended_at__isnull=True)
        .select_related("round", "specimen__version__entry", "reference__type")
        .first()
    )


@transaction.atomic
def begin(user: User, test: Test, subject: Subject, setting: Setting | None = None) -> Live:
    """Begin to record a part on the test's rig.

    Raises
    ------
    PermissionDenied, ValidationError : no meter of the rig is read over a line, the rig or one of
        its meters is taken, or the part may not be run
    """
    require(user, "run.record", test.round)
    subject.check(test.round)
    rig = Rig.objects.select_for_update().get(pk=test.rig_id)
    if (there := on_rig(rig)) is not None:
        if (there.test_id, there.specimen_id, there.reference_id) == (
            test.pk,
            subject.specimen and subject.specimen.pk,
            subject.reference and subject.reference.pk,
        ):
            return there
        raise ValidationError(
            f"{rig} is taken: {there.subject} is on it, in {there.test.label}. End that recording"
            " first."
        )
    channels = live_channels(rig)
    if not channels:
        raise ValidationError(
            f"No meter of {rig} is read over a line. Enter its resource name in Stores, or take the"
            " readings by hand."
        )
    hold_meters(rig)
    now, began = timezone.now(), steady.counted()
    origin = now.replace(microsecond=now.microsecond // 20_000 * 20_000)
    began -= (now - origin).total_seconds()
    recording = Recording.objects.create(
        round=test.round, started_at=origin, columns=channels, rate=RATE
    )
    live = Live.objects.create(
        round=test.round,
        test=test,
        setting=setting or test.setting,
        specimen=subject.specimen,
        reference=subject.reference,
        recording=recording,
        operator=user,
        started_at=now,
        boot=steady.boot(),
        boot_at=began,
    )
    record(user, "live.begin", live, test.round, test=test.key)
    _wish(live, Mounted(""))
    return live


def _wish(live: Live, wish: Wish) -> None:
    """Write down what is wanted, after what was wanted before, and wake the recorder.

    Raises
    ------
    ValidationError : too many wishes wait for a recorder that is away; none is ever dropped
    """
    more = with_wish(wanted_of(live), wish, round_s(live.seconds()), status_of(live).seen)
    if more is None:
        raise ValidationError(
            f"{MOST_WAITING} wishes wait for the recorder already, and it does not answer. Only"
            " closing the throttle is still passed on. Look whether ./hauch recorder runs."
        )
    live.wanted = plain(more)
    live.save(update_fields=["wanted"])
    with connection.cursor() as cursor:
        cursor.execute("select pg_notify(%s, %s)", [WANTED, str(live.pk)])


def held_for(user: User, live: Live) -> Live:
    """The row for a change, by somebody who may.

    Raises
    ------
    PermissionDenied, ValidationError : it has ended
    """
    live = (
        Live.objects.select_for_update(of=("self",))
        .select_related(
            "round", "test__rig", "recording", "specimen__version__entry", "reference__type"
        )
        .get(pk=live.pk)
    )
    require(user, "run.record", live.round)
    if live.ended_at is not None:
        raise ValidationError("This recording has ended. Begin another one.")
    _changed(live)
    return live


def _changed(live: Live) -> None:
    """Somebody is there and does something: all who watch are told, once it is done."""
    Live.objects.filter(pk=live.pk).update(changes=F("changes") + 1, watched_at=Now())
    with connection.cursor() as cursor:
        cursor.execute(
            "select pg_notify(%s, %s)", [RECORDED, json.dumps({"live": live.pk, "changed": True})]
        )


GUARDED = ("mount", "guard")
"""Steps without which no throttle opens."""


@transaction.atomic
def confirm(user: User, live: Live, step: str) -> Live:
    """Confirm a step of the procedure: mounted, guard closed."""
    live = held_for(user, live)
    if step not in GUARDED:
        raise ValidationError(f"There is no step “{step}” to confirm.")
    _going(live)
    done = steps_of(live)
    if step == "guard" and done.mount is None and not needs_tare(live):
        raise ValidationError("Mount the part first.")
    now = round(live.seconds(), 2)
    if step == "mount":
        _no_hand_before(live)
        done = Steps(mount=now)  # the guard was opened for this
    else:
        done = Steps(mount=done.mount, guard=now)
    live.done = plain(done)
    live.save(update_fields=["done"])
    record(user, f"live.{step}", live, live.round)
    if step == "mount":
        _wish(live, Mounted(live.subject))
    return live


def _going(live: Live) -> None:
    """Raise ValidationError where a bench was given up, with the reason: nobody carries out a wish."""
    if stopped := status_of(live).stopped:
        raise ValidationError(stopped)


def _no_hand_before(live: Live) -> None:
    """Raise ValidationError with the reason where no hand may go in yet."""
    if why := why_no_hand(live):
        raise ValidationError(why)


def _guarded(live: Live) -> None:
    _going(live)
    Subject(live.specimen, live.reference).check(live.round)  # it may have left the bench meanwhile
    done = steps_of(live)
    if done.mount is None and not needs_tare(live):
        raise ValidationError("Mount the part and confirm it first.")
    if done.guard is None:
        raise ValidationError(
            "Close the guard and confirm it first: nobody stands in the plane of the rotor."
        )


def _turnable(live: Live) -> None:
    if "throttle" not in live.recording.columns:
        raise ValidationError(
            "The throttle of this rig is on no line, so it cannot be turned by rule. Turn it by"
            " hand."
        )


@transaction.atomic
def set_throttle(user: User, live: Live, percent: float) -> Live:
    """Turn the throttle [0 to 100 %]."""
    live = held_for(user, live)
    if not (math.isfinite(percent) and 0 <= percent <= 100):
        raise ValidationError(f"A throttle turns from 0 to 100 %, not to {percent:g} %.")
    if percent > 0:
        _guarded(live)
    _wish(live, Throttle(percent))
    return live


@transaction.atomic
def cut(user: User, live: Live) -> Live:
    """Close the throttle at once and end what turns it."""
    live = held_for(user, live)
    _wish(live, Cut())
    record(user, "live.cut", live, live.round)
    return live


@transaction.atomic
def cut_where(**part: int) -> None:
    """Close the throttle wherever a specimen, or a reference, is on a bench: it may not turn any more.

    Parameters
    ----------
    part : ``specimen`` or ``reference``, its key
    """
    rows = Live.objects.select_for_update(of=("self",)).filter(ended_at=None, **part)
    for live in rows.select_related("recording"):
        _wish(live, Cut())


@transaction.atomic
def hold(
    user: User, live: Live, channel: str, target: float, tolerance: float | None = None
) -> Live:
    """Turn the throttle until a figure holds: equal power, equal noise, a speed [SI unit of the
    channel].
    """
    live = held_for(user, live)
    _guarded(live)
    _turnable(live)
    known = CHANNELS.get(channel)
    if known is None or not (
        set(live.recording.columns) >= {channel}
        or (channel == "power" and {"voltage", "current"} <= set(live.recording.columns))
    ):
        raise ValidationError("That figure is not read on this rig.")
    if not (math.isfinite(target) and known.low < target <= known.high):
        raise ValidationError(f"{known.label}: {target:g} {known.unit} cannot be held.")
    near = tolerance or (0.3 if known.kind == "level" else 0.01 * target)
    Search(target, near, known.label, known.unit)  # its own checks
    _wish(live, Hold(channel, target, near))
    return live


@transaction.atomic
def sweep(user: User, live: Live, levels: list[float], dwell: float) -> Live:
    """Step the throttle through levels [%], each held for some seconds."""
    live = held_for(user, live)
    _guarded(live)
    _turnable(live)
    try:
        Stepper(levels, dwell)
    except ValueError as problem:
        raise ValidationError(f"No sweep: {problem}.") from problem
    if dwell * len(levels) > 7200:
        raise ValidationError(
            "A sweep of more than two hours is not started. Take fewer steps or hold them shorter."
        )
    _wish(live, Sweep(levels, dwell))
    return live


def _heard(live: Live) -> None:
    """Raise ValidationError where nothing is being recorded."""
    _going(live)
    heard = (timezone.now() - live.heard_at).total_seconds() if live.heard_at else math.inf
    if heard > 5:
        raise ValidationError(
            "The recorder is silent, so nothing is being recorded. Start ./hauch recorder where the"
            " meters are, or wait until it is back."
        )


def _until_now(live: Live, seconds: float) -> list[float]:
    """A stretch of the recording that ends with the newest row.

    Raises
    ------
    ValidationError : nothing is being recorded, or the throttle was turned within it
    """
    _heard(live)
    end = max(live.seconds() - LATE / 2, 0.0)
    turned = last_turn(live)
    if turning(live) and not status_of(live).calm:
        raise ValidationError(
            "The part is still moving to its new speed. Wait until it runs steadily."
        )
    start = max(end - seconds, 0.0)
    if end - start < seconds - 0.01:
        raise ValidationError(
            f"Only {end:.0f} s are recorded; a reading takes {seconds:.0f} s. Wait a moment."
        )
    if start < turned + SETTLES:
        raise ValidationError(
            f"The throttle was turned {max(end - turned, 0):.0f} s ago. A reading begins"
            f" {SETTLES:.0f} s after that; wait {turned + SETTLES + seconds - end:.0f} s."
        )
    return [round(start, 2), round(end, 2)]


def _recorded(live: Live) -> float:
    """How long it is, once it has ended [s]."""
    return after(live.recording) / float(live.recording.rate or RATE)


@transaction.atomic
def note(
    user: User, live: Live, text: str, tags: list[str], picture: Picture | None = None
) -> Observation:
    """Write down what was seen at this moment, with tags and a picture. What was typed while the
    recording ended is kept too.
    """
    seen = observe(
        user,
        live.round,
        recording=live.recording,
        at_s=min(live.seconds(), _recorded(live)) if live.ended_at else live.seconds(),
        text=text,
        tags=tags,
        picture=picture,
    )
    _changed(live)
    return seen


@transaction.atomic
def take(user: User, live: Live) -> Live:
    """Take a reading: the last seconds of all channels."""
    live = held_for(user, live)
    _heard(live)
    _guarded(live)
    if why := why_no_reading(live):
        raise ValidationError(why)
    window = _until_now(live, READING_SECONDS)
    if live.windows and window[0] < live.windows[-1][1]:
        raise ValidationError(
            f"The last reading ended {window[1] - live.windows[-1][1]:.0f} s ago; one takes"
            f" {READING_SECONDS:.0f} s of its own. Wait a moment."
        )
    live.windows = [*live.windows, window]
    live.save(update_fields=["windows"])
    if {"sound_level", "vibration"} & set(live.recording.columns):
        _wish(live, Wave(READING_SECONDS))
    return live


@transaction.atomic
def undo(user: User, live: Live) -> Live:
    """Take the last reading back; the trace stays."""
    live = held_for(user, live)
    if not live.windows:
        raise ValidationError("There is no reading to take back.")
    live.windows = live.windows[:-1]
    live.save(update_fields=["windows"])
    return live


@transaction.atomic
def drop(user: User, live: Live, number: int) -> Live:
    """Leave a reading out, by its number from 1; the trace stays."""
    live = held_for(user, live)
    if not 1 <= number <= len(live.windows):
        raise ValidationError("There is no such reading any more.")
    live.windows = [*live.windows[: number - 1], *live.windows[number:]]
    live.save(update_fields=["windows"])
    return live


@transaction.atomic
def read_beside(user: User, live: Live, kind: str) -> Live:
    """Read the background with the part at rest, or the torque without the part."""
    live = held_for(user, live)
    if kind not in {BACKGROUND, TARE}:
        raise ValidationError("That cannot be read beside a run.")
    if kind == BACKGROUND and turning(live):
        raise ValidationError(
            "Close the throttle first: the background is the room while the part stands still."
        )
    task = status_of(live).task
    if kind == TARE and task is not None and task.kind == "sweep" and task.done:
        # The whole sweep of the bare drive.
        stretch = [task.begun, round_s(live.seconds() - LATE)]
    else:
        stretch = _until_now(live, BESIDE_SECONDS)
    live.beside = live.beside | {kind: stretch}
    live.save(update_fields=["beside"])
    return live


@transaction.atomic
def set_setting(user: User, live: Live, setting: Setting) -> Live:
    """Go on with another setting of the same part; readings that were taken belong to the setting
    before, so they must be accepted first. A hand goes in for it: the part stands still before, and
    is mounted and guarded anew.
    """
    live = held_for(user, live)
    if live.windows:
        raise ValidationError(
            f"{len(live.windows)} readings at “{live.setting}” are not accepted yet. Accept them or"
            " take them back first."
        )
    if setting.round_id != live.round_id:
        raise ValidationError("That setting is not of this round.")
    if setting.pk == live.setting_id:
        return live
    _no_hand_before(live)
    live.setting, live.done = setting, plain(Steps())
    live.save(update_fields=["setting", "done"])
    record(user, "live.setting", live, live.round, setting=setting.label)
    return live


@transaction.atomic
def end(user: User, live: Live) -> Live:
    """End the recording; the throttle is closed."""
    live = held_for(user, live)
    close_down(user, live)
    record(user, "live.end", live, live.round)
    return live


def close_down(user: User, live: Live) -> None:
    """The recording is over, and the throttle closed."""
    live.ended_at, live.ended_by = timezone.now(), user
    live.save(update_fields=["ended_at", "ended_by"])
    _wish(live, Cut())
    defer_compact(live.recording_id)
