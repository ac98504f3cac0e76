"""Logs: a file becomes a recording and its runs, a second logger joins a recording."""

from __future__ import annotations

import math
import uuid
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field, replace
from datetime import datetime

from django.core.exceptions import ValidationError
from django.db import transaction
from django.db.models import Exists, OuterRef, Q
from django.utils import timezone

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
from hauch.core.trace.source import Held, Trace
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
    """The recording that was imported from a file of the same content and still counts, if any. One
    of which all runs were voided does not: the file may come in again, read otherwise.
    """
    standing = Recording.objects.filter(
        round=round, source__sha256=sha256, set_aside_at__isnull=True
    )
    counts = Exists(Run.objects.filter(recording=OuterRef("pk")).exclude(state=Run.State.VOID))
    return (
        standing.filter(counts | Q(beside__isnull=False))
        .select_related("beside", "source")
        .prefetch_related("runs__test")
        .first()
    )


def _make_way(user: User, round: Round, source: SourceFile) -> None:
    """Set aside what was imported from the file before, where all its runs were voided.

    Raises
    ------
    ValidationError : it still counts
    """
    SourceFile.objects.select_for_update(no_key=True).get(pk=source.pk)  # one import at a time
    if (before := imported_before(round, source.sha256)) is not None:
        raise ValidationError(
            f"This file was imported before, on {timezone.localtime(before.created_at):%d %b %Y at %H:%M}; it is not"
            " taken twice. It can feed further tests."
        )
    for old in Recording.objects.filter(round=round, source=source, set_aside_at__isnull=True):
        _set_aside(user, old)


def _set_aside(user: User, recording: Recording) -> None:
    recording.set_aside_at, recording.set_aside_by = timezone.now(), user
    recording.save(update_fields=["set_aside_at", "set_aside_by"])
    source = recording.source
    record(
        user,
        "recording.set_aside",
        recording,
        recording.round,
        file=source.name if source else "",
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
    if new.source is not None:
        _make_way(user, new.round, new.source)
    # All of them first, in one order: a run by hand in one of them waits for us, and neither waits
    # for the other.
    locked = {test.pk: in_turn(test) for test in sorted(new.tests, key=lambda test: test.pk)}
    columns = [[c.channel, c.unit] for c in new.columns]
    recording = Recording.objects.create(
        uid=new.uid, round=new.round, source=new.source, started_at=new.started_at, columns=columns
    )
    trace = Held(new.log.times, new.log.channels)
    store(recording, trace)
    return [
        _run_of(
            user,
            NewRun(test, new.subject, new.room, new.started_at, note=new.note),
            recording,
            trace,
            locked[test.pk],
            new.extra,
        )
        for test in new.tests
    ]


def _run_of(
    user: User,
    new: NewRun,
    recording: Recording,
    trace: Trace,
    locked: Test,
    typed_beside: Mapping[str, Sequence[Typed]],
) -> Run:
    """A run of a recording's file in a test, with its result."""
    test = new.test
    extra = {
        key: typed for key, typed in typed_beside.items() if key in channels_of(test.how) and typed
    }
    _check_readings_of_extra(extra)
    before = Run.objects.filter(recording=recording, test=test).count()
    key = uuid.uuid5(recording.uid, f"{test.key}:{before}" if before else test.key)
    run = make_run(user, replace(new, form_key=key, uid=key), recording, trace, locked)
    store_readings(run, extra)
    source = recording.source
    file = source.name if source else ""
    record(user, "run.import", run, recording.round, run=str(run.uid), file=file)
    return finish_run(run, trace)


def may_feed(recording: Recording, tests: Sequence[Test]) -> list[Test]:
    """Tests of which no run of the recording counts yet."""
    fed = set(recording.runs.exclude(state=Run.State.VOID).values_list("test_id", flat=True))
    return [test for test in tests if test.pk not in fed]


@transaction.atomic
def feed(
    user: User,
    recording: Recording,
    tests: Sequence[Test],
    typed_beside: Mapping[str, Sequence[Typed]] | None = None,
) -> list[Run]:
    """Runs in further tests from a file that is in already, or again in one whose run was voided: of
    the same part, in the same room.

    Raises
    ------
    PermissionDenied, ValidationError : with a sentence; nothing is saved then
    """
    require(user, "run.record", recording.round)
    recording = Recording.objects.select_for_update(of=("self",)).get(pk=recording.pk)
    if recording.set_aside_at is not None or recording.beside_id is not None:
        raise ValidationError("No runs are made of this file: it was taken out, or ran beside.")
    last = recording.runs.order_by("state", "-pk").first()
    if recording.source is None or last is None:
        raise ValidationError("Only a file that was imported can feed further tests.")
    open_ones = {test.pk for test in may_feed(recording, tests)}
    for test in tests:
        if test.pk not in open_ones:
            raise ValidationError(f"{test.label} has a run from this file already.")
    extra = typed_beside or {}
    stored = trace_of(recording)
    at_hand = {channel for channel, _ in recording.columns if channel}
    at_hand |= {c for one in recording.loggers_beside for c, _ in one.columns if c}
    check_fed(tests, at_hand | {key for key, typed in extra.items() if typed})
    subject = Subject(last.specimen, last.reference)
    subject.check(recording.round)
    room = Room(last.temperature, last.pressure, last.humidity)
    locked = [in_turn(test) for test in sorted(tests, key=lambda test: test.pk)]
    return [
        _run_of(
            user,
            NewRun(test, subject, room, recording.started_at),
            recording,
            stored,
            test,
            extra,
        )
        for test in locked
    ]


@transaction.atomic
def take_out(user: User, second: Recording) -> Recording:
    """Take the file of a second logger out again; the runs beside which it stood are computed
    without it, and the file may come in anew.

    Raises
    ------
    PermissionDenied, ValidationError : it is no second file, or was taken out before
    """
    require(user, "run.record", second.round)
    second = Recording.objects.select_for_update(of=("self",)).get(pk=second.pk)
    first = second.beside
    if first is None:
        raise ValidationError(
            "Only the file of a second logger is taken out. Void the run instead."
        )
    if second.set_aside_at is None:
        _set_aside(user, second)
        recompute(run_rows().filter(recording=first, state=Run.State.VALID))
    return first


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
    _make_way(user, first.round, source)
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
