"""What can be done at the bench: record a run by hand or from a file, mark it did not finish, void
it, recompute.
"""

from __future__ import annotations

import math
import uuid
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field
from datetime import datetime

from django.core.exceptions import ValidationError
from django.db import transaction
from django.db.models import Count, Max
from django.utils import timezone

from hauch.bench.changes import round_changed, runs_changed
from hauch.bench.models import LogMapping, Reading, Recording, Result, Run, SourceFile
from hauch.bench.queries import runs as run_rows
from hauch.bench.reduction import compute
from hauch.bench.traces import store, trace_of
from hauch.core.measure.channels import AMBIENT, CHANNELS, ReadingImpossible, check_reading
from hauch.core.measure.procedures import channels_of, fed_by
from hauch.core.trace.align import NotAligned, align
from hauch.core.trace.source import Held, Trace
from hauch.entries.actions import seal
from hauch.entries.models import Entry
from hauch.formats.logger_csv import Column, Log
from hauch.people.audit import record
from hauch.people.models import User
from hauch.people.permissions import require
from hauch.rounds.models import Round, Setting, Test
from hauch.stores.models import Picture, ReferenceSpecimen
from hauch.workshop.models import Specimen


@dataclass(frozen=True, slots=True)
class Room:
    """Room readings of a run [degC, Pa, %]."""

    temperature: float | None
    pressure: float | None
    humidity: float | None

    def check(self) -> None:
        """Raise ValidationError that names each missing or impossible room reading."""
        problems = {}
        for name, channel in AMBIENT.items():
            value = getattr(self, name)
            if value is None:
                problems[name] = (
                    f"{channel.label} is missing. Without it the result cannot be brought to"
                    " standard air."
                )
                continue
            try:
                check_reading(channel, value)
            except ReadingImpossible as problem:
                problems[name] = str(problem)
        if problems:
            raise ValidationError(problems)


@dataclass(frozen=True, slots=True)
class Typed:
    """One reading as typed: SI value, the text and its unit, and the traverse point (0 where none)."""

    value: float
    typed: str
    unit: str
    position: int = 0


@dataclass(frozen=True)
class Subject:
    """What is run: a specimen of an entry, or a reference specimen."""

    specimen: Specimen | None = None
    reference: ReferenceSpecimen | None = None

    @property
    def fields(self) -> dict[str, object]:
        """As fields of a run."""
        return {"specimen": self.specimen, "reference": self.reference}

    def check(self, round: Round) -> None:
        """Raise ValidationError when it may not be run in this round."""
        if (self.specimen is None) == (self.reference is None):
            raise ValidationError("Choose what is run: a specimen or the reference.")
        if self.reference is not None and not self.reference.may_run:
            raise ValidationError(
                f"{self.reference} is marked {self.reference.get_state_display()}. Choose the"
                " reference specimen in use."
            )
        if self.specimen is not None:
            entry = self.specimen.version.entry
            if entry.round_id != round.pk:
                raise ValidationError(f"{entry} is not in this round.")
            if entry.state == Entry.State.WITHDRAWN:
                raise ValidationError(
                    f"{entry} was withdrawn, so it cannot be run. Choose another entry, or take the"
                    " withdrawal back first."
                )
            if self.specimen.state == Specimen.State.BROKEN:
                raise ValidationError(
                    f"Specimen {self.specimen} of {entry} is marked broken. Choose another"
                    " specimen."
                )
            if self.specimen.state != Specimen.State.READY:
                raise ValidationError(
                    f"Specimen {self.specimen} of {entry} is {self.specimen.get_state_display()}."
                    " It comes onto a bench through the safety gate of the workshop."
                )


@dataclass(frozen=True)
class NewRun:
    """A run to be recorded."""

    test: Test
    subject: Subject
    room: Room
    started_at: datetime
    readings: Mapping[str, Sequence[Typed]] = field(default_factory=dict)
    setting: Setting | None = None
    note: str = ""
    form_key: uuid.UUID = field(default_factory=uuid.uuid4)
    uid: uuid.UUID = field(default_factory=uuid.uuid4)


def already_sent(form_key: uuid.UUID) -> Run | None:
    """The run that this form recorded already, if it was sent twice."""
    return Run.objects.filter(form_key=form_key).select_related("test__round").first()


@transaction.atomic
def record_run(user: User, new: NewRun) -> Run:
    """Record a run from readings typed by hand, with its result.

    Raises
    ------
    PermissionDenied, ValidationError : with a sentence for each field; nothing is saved then
    """
    round = new.test.round
    require(user, "run.record", round)
    test = in_turn(new.test)
    if (sent := already_sent(new.form_key)) is not None:
        return sent
    new.subject.check(round)
    new.room.check()
    _check_readings(new.test, new.readings)
    run = make_run(user, new, None, locked=test)
    _store_readings(run, new.readings)
    _note_cap(run, new.readings)
    record(user, "run.record", run, round, run=str(run.uid))
    return finish_run(run)


def _check_readings(test: Test, readings: Mapping[str, Sequence[Typed]]) -> None:
    problems: dict[str, list[str]] = {}
    for key, typed in readings.items():
        for reading in typed:
            try:
                check_reading(CHANNELS[key], reading.value)
            except ReadingImpossible as problem:
                problems.setdefault(key, []).append(str(problem))
    at_hand = {key for key, typed in readings.items() if typed}
    if not problems and not fed_by(test.how, at_hand):
        groups = " or ".join(
            " and ".join(CHANNELS[c].label.lower() for c in group) for group in test.how.needs
        )
        problems["__all__"] = [f"No result without readings of {groups}. Take at least one."]
    if problems:
        raise ValidationError(problems)


def next_replicate(test: Test, setting: Setting, subject: Subject) -> int:
    """Number of the next repeat of a subject in a test at a setting."""
    return (
        Run.objects.filter(test=test, setting=setting, **subject.fields).aggregate(
            top=Max("replicate")
        )["top"]
        or 0
    ) + 1


def in_turn(test: Test) -> Test:
    """The test as it is now, locked: its runs are recorded one at a time, so that repeats count up
    and a form sent twice is seen.
    """
    return (
        Test.objects.select_for_update(of=("self",))
        .select_related("round", "rig", "setting")
        .get(pk=test.pk)
    )


def make_run(
    user: User,
    new: NewRun,
    recording: Recording | None,
    trace: Trace | None = None,
    locked: Test | None = None,
) -> Run:
    """A new run with the next free repeat; its result is still to be computed.

    Parameters
    ----------
    trace : of the recording, where it is at hand
    locked : the test as `in_turn` gave it, where it was asked already
    """
    test = locked or in_turn(new.test)
    setting = new.setting or test.setting
    rig = (
        new.test.rig if new.test.rig_id == test.rig_id else test.rig
    )  # the one whose meters are known already, unless the test was moved
    run = Run(
        uid=new.uid,
        test=new.test,
        rig=rig,
        setting=setting,
        hours=_hours(test, trace or (trace_of(recording) if recording else None)),
        note=new.note,
        **new.subject.fields,
        replicate=next_replicate(test, setting, new.subject),
        started_at=new.started_at,
        operator=user,
        temperature=new.room.temperature,
        pressure=new.room.pressure,
        humidity=new.room.humidity,
        recording=recording,
        form_key=new.form_key,
    )
    run.save(force_insert=True)
    seal_version(run)
    return run


def _note_cap(run: Run, readings: Mapping[str, Sequence[Typed]]) -> None:
    """Say on the run that its part was spun above what the safety gate allows; what was read stays."""
    cap = run.specimen.cap if run.specimen else None
    fastest = max((r.value for r in readings.get("speed", ())), default=0.0)
    if cap is not None and fastest > cap:
        said = (
            f"Spun at {fastest:,.0f} 1/min, above the {cap:,.0f} 1/min of its safety gate. Look the"
            " part over before it runs again."
        )
        run.note = f"{run.note}\n{said}".strip()
        run.save(update_fields=["note"])


def seal_version(run: Run) -> None:
    """Predictions of a version are fixed from its first run on."""
    if run.specimen is not None:
        seal(run.specimen.version_id, run.started_at)


READING_MINUTES = 3.0
"""About how long a part runs while readings are taken by hand."""


def _hours(test: Test, trace: Trace | None) -> float:
    """Hours for which the part ran: as recorded, else the soak and the time in which readings are
    taken.
    """
    if trace is not None:
        low, high = trace.extent or (0.0, 0.0)
        return (high - low) / 3600
    return ((test.soak_minutes or 0.0) + READING_MINUTES) / 60


def _store_readings(run: Run, readings: Mapping[str, Sequence[Typed]]) -> None:
    Reading.objects.bulk_create(
        Reading(
            run=run,
            channel=key,
            position=r.position,
            seq=seq,
            value=r.value,
            typed=r.typed,
            unit=r.unit,
        )
        for key, typed in readings.items()
        for seq, r in enumerate(typed)
    )


def finish_run(run: Run, trace: Trace | None = None) -> Run:
    """Compute the result of a new run and count it.

    Parameters
    ----------
    trace : of its recording, where it is at hand
    """
    run.result = Result.objects.create(run=run, **compute(run, trace))
    runs_changed(run.test.round, [run])
    return run


@transaction.atomic
def record_dnf(
    user: User,
    test: Test,
    subject: Subject,
    reason: str,
    started_at: datetime,
    *,
    uid: uuid.UUID | None = None,
    readings: Mapping[str, Sequence[Typed]] | None = None,
    picture: Picture | None = None,
    form_key: uuid.UUID | None = None,
) -> Run:
    """Record that a specimen did not finish, with the reason, a picture and what was read so far.
    It keeps its row, last.

    Raises
    ------
    PermissionDenied, ValidationError : no reason given, or the subject may not be run
    """
    require(user, "run.record", test.round)
    test = in_turn(test)
    if form_key is not None and (sent := already_sent(form_key)) is not None:
        return sent
    subject.check(test.round)
    if not reason.strip():
        raise ValidationError(
            {
                "reason": (
                    "Say in a few words why it did not finish, such as “two blades rub the frame"
                    " above 1,150 1/min”."
                )
            }
        )
    run = Run.objects.create(
        uid=uid or uuid.uuid4(),
        test=test,
        rig=test.rig,
        setting=test.setting,
        **subject.fields,
        replicate=next_replicate(test, test.setting, subject),
        started_at=started_at,
        operator=user,
        state=Run.State.DNF,
        reason=reason.strip(),
        picture=picture,
        form_key=form_key or uuid.uuid4(),
    )
    _store_readings(run, readings or {})
    seal_version(run)
    record(user, "run.dnf", run, test.round, reason=run.reason)
    runs_changed(test.round, [run])
    return run


@transaction.atomic
def void_run(user: User, run: Run, reason: str) -> Run:
    """Take a run out of the standing, with the reason; its readings stay. Runs made of the same
    readings go with it.
    """
    require(user, "run.void", run.test.round)
    if not reason.strip():
        raise ValidationError({"reason": "Say in a few words why the run does not count."})
    run = Run.objects.select_for_update(of=("self",)).select_related("test__round").get(pk=run.pk)
    if run.state == Run.State.VOID:
        raise ValidationError(f"Run {run.pk} is void already: {run.reason}")
    # Runs that were made of the same readings for other rules go with it.
    carried = run.carried_to.exclude(state=Run.State.VOID)
    gone = [run, *carried.select_related("test__round", "specimen__version")]
    for one in gone:
        one.state, one.reason = Run.State.VOID, reason.strip()
        one.save(update_fields=["state", "reason"])
        record(user, "run.void", one, one.test.round, reason=one.reason)
    runs_changed(run.test.round, gone)
    return run


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
        _store_readings(run, extra)
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


@dataclass(frozen=True, slots=True)
class Recomputed:
    """What a recomputation found: how many results, and the runs whose figures changed."""

    count: int
    changed: list[int]


def recompute(runs, *, write: bool = True) -> Recomputed:
    """Compute results again from the raw readings and compare them digit for digit.

    Parameters
    ----------
    runs : QuerySet of valid runs
    write : store what changed; False only reports
    """
    changed, count, rounds = [], 0, {}
    for run in runs.with_raw().iterator(chunk_size=200):
        fields = compute(run)
        old = getattr(run, "result", None)
        count += 1
        if old is not None and all(
            getattr(old, name) == value for name, value in fields.items() if name != "core_version"
        ):
            if write and old.core_version != fields["core_version"]:
                Result.objects.filter(pk=old.pk).update(
                    core_version=fields["core_version"], computed_at=timezone.now()
                )
            continue
        changed.append(run.pk)
        if write:
            Result.objects.update_or_create(run=run, defaults=fields)
            rounds[run.test.round_id] = run.test.round
    for round in rounds.values():
        round_changed(round)
    return Recomputed(count, changed)


def runs_by_test(round: Round) -> dict[int, int]:
    """How many runs each test of a round has, of entries and of the reference."""
    rows = Run.objects.filter(test__round=round).values_list("test_id").annotate(count=Count("pk"))
    return dict(rows)
