"""Runs: recorded by hand, marked as did not finish, voided."""

from __future__ import annotations

import uuid
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field
from datetime import datetime

from django.core.exceptions import ValidationError
from django.db import transaction
from django.db.models import Max

from hauch.bench.changes import runs_changed
from hauch.bench.models import Reading, Recording, Result, Run
from hauch.bench.reduction import compute
from hauch.bench.traces import trace_of
from hauch.core.measure.channels import AMBIENT, CHANNELS, ReadingImpossible, check_reading
from hauch.core.measure.procedures import fed_by
from hauch.core.trace.source import Trace
from hauch.entries.models import Entry
from hauch.entries.predictions import seal
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
    def cap(self) -> float | None:
        """What it must not be spun above [1/min]; None where nothing is said."""
        part = self.specimen or self.reference
        return part.cap if part is not None else None

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
    store_readings(run, new.readings)
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
    cap = Subject(run.specimen, run.reference).cap
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


def store_readings(run: Run, readings: Mapping[str, Sequence[Typed]]) -> None:
    """Keep what was read, in order."""
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
    store_readings(run, readings or {})
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
