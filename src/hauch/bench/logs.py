"""Logs: a file becomes a recording and its runs, a second logger joins a recording."""

from __future__ import annotations

import math
import uuid
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field
from datetime import datetime

from django.core.exceptions import ValidationError
from django.db import transaction

from hauch.bench.models import LogMapping, Recording, Run, SourceFile
from hauch.bench.queries import runs as run_rows
from hauch.bench.results import recompute
from hauch.bench.runs import (
    NewRun,
    Room,
    Subject,
    Typed,
    finish_run,
    in_turn,
    make_run,
    store_readings,
)
from hauch.bench.traces import store, trace_of
from hauch.core.measure.channels import CHANNELS, ReadingImpossible, check_reading
from hauch.core.measure.procedures import channels_of, fed_by
from hauch.core.trace.align import NotAligned, align
from hauch.core.trace.source import Held
from hauch.formats.logger_csv import Log
from hauch.formats.logger_table import Column
from hauch.people.audit import record
from hauch.people.models import User
from hauch.people.permissions import require
from hauch.rounds.models import Round, Test


@dataclass(frozen=True)
class NewRecording:
    """A log to be imported: what was read from the file, and what it belongs to."""

    round: Round
    source: SourceFile | None
    log: Log
    tests: Sequence[Test]
    subject: Subject
    room: Room
    started_at: datetime
    columns: Sequence[Column] = ()
    extra: Mapping[str, Sequence[Typed]] = field(default_factory=dict)
    note: str = ""
    uid: uuid.UUID = field(default_factory=uuid.uuid4)


def imported_before(round: Round, sha256: str) -> Recording | None:
    """The recording that was imported from a file of the same content, if any."""
    return (
        Recording.objects.filter(round=round, source__sha256=sha256)
        .prefetch_related("runs__test")
        .first()
    )


def check_fed(tests: Sequence[Test], at_hand: set[str]) -> None:
    """Raise ValidationError where a log and what was typed beside it do not feed a chosen test."""
    if not tests:
        raise ValidationError({"tests": "Choose at least one test that this file feeds."})
    for test in tests:
        if not fed_by(test.how, at_hand):
            lacking = " or ".join(
                " and ".join(CHANNELS[c].label.lower() for c in group if c not in at_hand)
                for group in test.how.needs
            )
            raise ValidationError({"tests": f"{test.label} also needs {lacking}."})


@transaction.atomic
def import_log(user: User, new: NewRecording) -> list[Run]:
    """Store a recording and one run for each test that it feeds, with results; all or nothing.

    Raises
    ------
    PermissionDenied, ValidationError : with a sentence; nothing is saved then
    """
    require(user, "run.record", new.round)
    new.subject.check(new.round)
    new.room.check()
    check_fed(new.tests, {*new.log.channels, *(k for k, typed in new.extra.items() if typed)})
    if (
        new.source is not None
        and (before := imported_before(new.round, new.source.sha256)) is not None
    ):
        raise ValidationError(
            f"This file was imported before, on {before.created_at:%d %b %Y at %H:%M}; it is not"
            " taken twice."
        )
    # All of them first, in one order: a run by hand in one of them waits for us, and neither waits
    # for the other.
    locked = {test.pk: in_turn(test) for test in sorted(new.tests, key=lambda test: test.pk)}
    columns = [[c.channel, c.unit] for c in new.columns]
    recording = Recording.objects.create(
        uid=new.uid, round=new.round, source=new.source, started_at=new.started_at, columns=columns
    )
    trace = Held(new.log.times, new.log.channels)
    store(recording, trace)
    runs = []
    for test in new.tests:
        extra = {
            key: typed for key, typed in new.extra.items() if key in channels_of(test.how) and typed
        }
        _check_readings_of_extra(extra)
        key = uuid.uuid5(new.uid, test.key)
        run = make_run(
            user,
            NewRun(
                test, new.subject, new.room, new.started_at, note=new.note, form_key=key, uid=key
            ),
            recording,
            trace,
            locked[test.pk],
        )
        store_readings(run, extra)
        record(
            user,
            "run.import",
            run,
            new.round,
            run=str(run.uid),
            file=new.source.name if new.source else "",
        )
        runs.append(finish_run(run, trace))
    return runs


def _check_readings_of_extra(extra: Mapping[str, Sequence[Typed]]) -> None:
    for key, typed in extra.items():
        for reading in typed:
            try:
                check_reading(CHANNELS[key], reading.value)
            except ReadingImpossible as problem:
                raise ValidationError({key: str(problem)}) from problem


@transaction.atomic
def add_second(
    user: User,
    first: Recording,
    source: SourceFile,
    log: Log,
    columns: Sequence[Column],
    by: str,
    seconds: float = 0.0,
) -> Recording:
    """Add the file of a second logger that ran beside a recording, and compute the runs of it
    again.

    Parameters
    ----------
    by : ``traces`` moves it so that its changes fall on those of the first, ``clocks`` trusts both
        clocks, ``hand`` adds ``seconds``

    Raises
    ------
    PermissionDenied, ValidationError : it cannot be brought onto the first one's clock; nothing is
        saved then
    """
    require(user, "run.record", first.round)
    if imported_before(first.round, source.sha256) is not None:
        raise ValidationError("This file was imported before; it is not taken twice.")
    own = trace_of(first).own_window()
    times, channels = own.times, own.channels
    fresh = [key for key in log.channels if key not in channels]
    if not fresh:
        raise ValidationError("All channels of this file are in the first recording already.")
    clocks = (log.start - first.started_at).total_seconds() if log.start else 0.0
    if by == "traces":
        try:
            found = align(times, channels, log.times, log.channels)
        except NotAligned as problem:
            raise ValidationError(str(problem)) from problem
        shift = found.seconds
        note = (
            f"by the traces: {CHANNELS[found.first_channel].label.lower()} and"
            f" {CHANNELS[found.second_channel].label.lower()} agree to {found.correlation:.2f}"
        )
    elif by == "clocks":
        if log.start is None:
            raise ValidationError(
                "The file has no dates, so its clock says nothing. Move it by its traces or by"
                " hand."
            )
        shift, note = clocks, "by the clocks of both loggers"
    else:
        shift, note = seconds, "by hand"
    if (
        not math.isfinite(shift)
        or shift + float(log.times[-1]) < float(times[0])
        or shift + float(log.times[0]) > float(times[-1])
    ):
        raise ValidationError(
            f"Moved by {shift:.1f} s the file does not overlap with the first recording. Check the"
            " shift."
        )
    second = Recording.objects.create(
        round=first.round,
        source=source,
        started_at=log.start or first.started_at,
        columns=[[c.channel, c.unit] for c in columns],
        beside=first,
        shift=round(shift, 4),
        shift_note=note,
    )
    store(second, Held(log.times, log.channels))
    record(
        user,
        "recording.second",
        second,
        first.round,
        file=source.name,
        shift=second.shift,
        how=note,
    )
    recompute(run_rows().filter(recording=first, state=Run.State.VALID))
    return second


@transaction.atomic
def remember_mapping(
    user: User, fingerprint: str, columns: Sequence[Column], day_first: bool
) -> LogMapping:
    """Keep the confirmed meaning of a logger's columns for its next file."""
    mapping, _ = LogMapping.objects.update_or_create(
        fingerprint=fingerprint,
        defaults={
            "columns": [[c.channel, c.unit] for c in columns],
            "day_first": day_first,
            "confirmed_by": user,
        },
    )
    return mapping
