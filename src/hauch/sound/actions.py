"""What may be done with sound recordings: hand in, confirm, calibrate, choose a stretch, take out."""

from __future__ import annotations

import tempfile
from collections.abc import Iterator, Mapping, Sequence
from contextlib import contextmanager
from dataclasses import dataclass
from datetime import datetime, timedelta
from pathlib import Path
from typing import Any

from django.core.exceptions import ValidationError
from django.core.files.uploadedfile import TemporaryUploadedFile, UploadedFile
from django.db import IntegrityError, transaction
from django.utils import timezone

from hauch.bench.files import keep_file
from hauch.bench.models import Run, Waveform
from hauch.bench.runs import Subject
from hauch.entries.models import Entry
from hauch.formats.apart import Broke, Died, Refused, apart
from hauch.formats.sound_in import SoundInfo
from hauch.people.audit import record
from hauch.people.models import User
from hauch.people.permissions import require
from hauch.rounds.models import Round
from hauch.sound.analysing import ask
from hauch.sound.matching import guess, run_near
from hauch.sound.models import Calibration, Mounting, RecordingSession, SoundRecording
from hauch.sound.reading import GLANCE, look

MOST_FILES = 200
"""So many files are handed in together."""

LEAST_STRETCH = 1.0
"""A stretch is at least so long [s]."""


def open_session(user: User, round: Round, fields: Mapping[str, Any]) -> RecordingSession:
    """Begin a session: recordings made in one go and in one way."""
    require(user, "run.record", round)
    session = RecordingSession(round=round, by=user, **fields)
    session.full_clean(exclude=["uid"])
    with transaction.atomic():
        session.save()
        record(user, "sound.open", session, round)
    return session


@transaction.atomic
def change_session(user: User, session: RecordingSession, fields: Mapping[str, Any]) -> int:
    """Change how a session was held or calibrated; what its levels hang on is computed anew. How many
    recordings that are.

    Raises
    ------
    PermissionDenied, ValidationError : nothing is changed then
    """
    require(user, "run.record", session.round)
    was = {name: getattr(session, name) for name in fields}
    for name, value in fields.items():
        setattr(session, name, value)
    session.full_clean(exclude=["uid"])
    changed = [name for name, value in was.items() if getattr(session, name) != value]
    if not changed:
        return 0
    session.save()
    record(user, "sound.change", session, session.round, changed=changed)
    figures = {"calibration", "tone_level", "meter_level", "read_beside", "mains"}
    if not figures.intersection(changed):
        return 0
    return ask(session.recordings.standing().exclude(state=SoundRecording.State.NEW))


def look_at(path: str) -> SoundInfo:
    """What a file says of itself, read in a child process.

    Raises
    ------
    ValidationError : it is no sound, in a sentence
    """
    try:
        made, _ = apart(look, path, tell=lambda stage: True, limits=GLANCE)
    except Refused as problem:
        raise ValidationError(str(problem)) from problem
    except (Died, Broke, OSError) as problem:
        raise ValidationError(
            "It cannot be read, and the reader did not survive it. Save it again as WAV."
        ) from problem
    return SoundInfo(**made)


@contextmanager
def _on_disk(content: UploadedFile, name: str) -> Iterator[str]:
    """Where what came in lies while it is looked at; a small one is written there."""
    if isinstance(content, TemporaryUploadedFile):
        yield content.temporary_file_path()
        return
    with tempfile.NamedTemporaryFile(suffix=Path(name).suffix[:8]) as file:
        for block in content.chunks():
            file.write(block)
        file.flush()
        yield file.name


@dataclass(frozen=True, slots=True)
class HandedIn:
    """A file that came in: its name, its content, and when it was last changed on the device."""

    name: str
    content: UploadedFile
    changed_at: datetime | None = None


def hand_in(user: User, session: RecordingSession, one: HandedIn) -> SoundRecording:
    """Keep a sound file in a session, guess what it is of, and let a person confirm it.

    Raises
    ------
    PermissionDenied, ValidationError : no sound, or in this session already; nothing of it is kept
        then
    """
    require(user, "run.record", session.round)
    name = Path(one.name.replace("\\", "/")).name[:200] or "recording"
    with _on_disk(one.content, name) as path:
        info = look_at(path)
    if info.seconds <= 0:
        raise ValidationError("There is no sound in it: it lasts 0 s.")
    source = keep_file(user, name, one.content)
    began = _began(info, one.changed_at)
    taken = guess(session.round, name, began)
    row = SoundRecording(
        session=session,
        source=source,
        name=name,
        channels=info.channels,
        seconds=info.seconds,
        rate=info.rate,
        coding=info.kind[:40],
        lossy=info.lossy,
        recorded_at=began,
        kind=taken.kind,
        specimen=taken.specimen,
        reference=taken.reference,
        run=taken.run,
        by=user,
    )
    try:
        with transaction.atomic():
            row.save()
            record(user, "sound.hand_in", row, session.round, session=session.pk)
    except IntegrityError as problem:
        raise ValidationError("It is in this session already.") from problem
    return row


def _began(info: SoundInfo, changed_at: datetime | None) -> datetime:
    """When a recording began: as its file has it, else its length before it was last written."""
    now = timezone.now()
    if info.made_at is not None:
        made = datetime.fromisoformat(info.made_at)
        made = made if timezone.is_aware(made) else timezone.make_aware(made)
        return min(made, now)
    return min(changed_at or now, now) - timedelta(seconds=min(info.seconds, 86_400))


def waveforms_of(run: Run) -> list[Waveform]:
    """Sound that the meter of a run recorded over its line and that is not handed in yet: within
    what was read of the part, and of the room without it.
    """
    if run.recording is None:
        return []
    spans = [*run.windows, *run.beside.values()]
    return [
        wave
        for wave in run.recording.waveforms.filter(
            channel="sound_level", sounds__isnull=True
        ).select_related("source")
        if not spans or any(low <= wave.at_s <= high + wave.seconds for low, high in spans)
    ]


@transaction.atomic
def from_meter(user: User, run: Run) -> list[SoundRecording]:
    """Hand in what the meter of a run recorded, in a session whose files are in pascals, and have it
    analysed.

    Raises
    ------
    PermissionDenied, ValidationError : there is nothing new
    """
    round = run.test.round
    require(user, "run.record", round)
    Round.objects.select_for_update(of=("self",)).get(pk=round.pk)
    waves = waveforms_of(run)
    if not waves:
        raise ValidationError("The meter recorded nothing in this run that is not in yet.")
    session = _meters_session(user, run)
    background = run.beside.get("background")
    made = []
    for wave in waves:
        room = background is not None and background[0] <= wave.at_s <= background[1] + wave.seconds
        kind = SoundRecording.Kind.BACKGROUND if room else SoundRecording.Kind.PART
        made.append(
            SoundRecording.objects.create(
                session=session,
                source=wave.source,
                waveform=wave,
                name=wave.source.name,
                seconds=wave.seconds,
                rate=wave.rate,
                coding="WAV, 32 bit float",
                recorded_at=run.started_at + timedelta(seconds=wave.at_s),
                kind=kind,
                run=None if room else run,
                specimen=None if room else run.specimen,
                reference=None if room else run.reference,
                by=user,
            )
        )
    record(user, "sound.from_meter", run, round, recordings=len(made))
    ask(SoundRecording.objects.filter(pk__in=[one.pk for one in made]))
    return made


def _meters_session(user: User, run: Run) -> RecordingSession:
    """The session of a rig's meter on the day of a run."""
    meter = next((m.instrument for m in run.rig.meters.all() if m.channel == "sound_level"), None)
    fields = {
        "round": run.test.round,
        "calibration": Calibration.WAVEFORM,
        "microphone": meter,
        "distance": run.rig.pairs.get("distance", (None, 0.0))[0],
        "mounting": Mounting.LOADED,
    }
    day = timezone.localtime(run.started_at).date()
    known = RecordingSession.objects.filter(**fields, held_at__date=day).first()
    return known or RecordingSession.objects.create(**fields, held_at=run.started_at, by=user)


@dataclass(frozen=True, slots=True)
class Confirmed:
    """What a person says of a recording."""

    kind: str
    channel: int = 0
    subject: Subject | None = None
    run: Run | None = None
    speed: float | None = None
    blades: int | None = None


@transaction.atomic
def confirm(user: User, said: Sequence[tuple[SoundRecording, Confirmed]]) -> int:
    """Say what recordings are of, and have them analysed; how many.

    Raises
    ------
    PermissionDenied, ValidationError : with a sentence for each; nothing is confirmed then
    """
    problems: list[str] = []
    for row, one in said:
        require(user, "run.record", row.session.round)
        try:
            _confirm(row, one)
        except ValidationError as problem:
            problems += [f"{row.name}: {sentence}" for sentence in problem.messages]
    if problems:
        raise ValidationError(problems)
    for row, one in said:
        record(user, "sound.confirm", row, row.session.round, kind=one.kind, of=row.of)
    return ask(SoundRecording.objects.filter(pk__in=[row.pk for row, _ in said]))


def _only_guessed(row: SoundRecording, run: Run) -> bool:
    """Whether a run stands in a new recording's row because of the file's time alone: it gives way
    to a part that a person names.
    """
    if row.state != SoundRecording.State.NEW or row.run_id != run.pk:
        return False
    return guess(row.session.round, row.name, row.recorded_at).by == "time"


def _confirm(row: SoundRecording, one: Confirmed) -> None:
    round = row.session.round
    if one.kind not in SoundRecording.Kind.values:
        raise ValidationError("Say what it is: a part, the room, or the calibrator's tone.")
    if not 0 <= one.channel < row.channels:
        raise ValidationError(f"It has {row.channels} channels; choose one of them.")
    subject = one.subject if one.kind == SoundRecording.Kind.PART else None
    run = one.run if one.kind == SoundRecording.Kind.PART else None
    if one.kind == SoundRecording.Kind.PART:
        if run is not None:
            if run.test.round_id != round.pk:
                raise ValidationError(f"Run {run.pk} is of another round.")
            heard = Subject(run.specimen, run.reference)
            if subject is not None and subject != heard and _only_guessed(row, run):
                run, heard = run_near(round, row.recorded_at, subject), subject
            if subject is not None and subject != heard and run is not None:
                raise ValidationError(
                    f"Run {run.pk} is of {run.subject}, and that is not what is named as heard. Change"
                    " one of them."
                )
            subject = heard
        if subject is None:
            raise ValidationError("Say what part is heard, or in which run.")
        _may_have_run(subject, round, run)
    Turns(one.blades, one.speed).check()
    row.kind, row.channel, row.run = one.kind, one.channel, run
    row.specimen = subject.specimen if subject else None
    row.reference = subject.reference if subject else None
    row.speed, row.blades = one.speed, one.blades
    try:
        with transaction.atomic():
            row.save()
    except IntegrityError as problem:
        raise ValidationError(
            f"Channel {one.channel + 1} of this file is in the session already."
        ) from problem


SPEEDS, BLADES, POLES, SWITCHING = (1, 120_000), (1, 200), (2, 200), (1, 1_000_000)
"""What a rotor turns at [1/min], its blades, a motor's poles, a controller's switching [Hz]."""


@dataclass(frozen=True, slots=True)
class Turns:
    """What turned and switched while a recording was made; None where it is not known, or is known
    from the run and the check of the part.
    """

    blades: int | None = None
    speed: float | None = None
    second_blades: int | None = None
    second_speed: float | None = None
    poles: int | None = None
    switching: float | None = None

    def check(self) -> None:
        """Raise ValidationError for what cannot be."""
        problems = []
        for name, value, (low, high), unit in (
            ("The speed", self.speed, SPEEDS, " 1/min"),
            ("The second rotor's speed", self.second_speed, SPEEDS, " 1/min"),
            ("The number of blades", self.blades, BLADES, ""),
            ("The second rotor's number of blades", self.second_blades, BLADES, ""),
            ("The number of poles", self.poles, POLES, ""),
            ("The switching frequency", self.switching, SWITCHING, " Hz"),
        ):
            if value is not None and not low <= value <= high:
                problems.append(f"{name} must be between {low:,} and {high:,}{unit}.")
        if self.poles is not None and self.poles % 2:
            problems.append("A motor has an even number of poles.")
        if self.second_blades is not None and self.second_speed is None:
            problems.append("Give the second rotor's speed too.")
        if problems:
            raise ValidationError(problems)


@transaction.atomic
def say_turns(user: User, row: SoundRecording, turns: Turns) -> None:
    """Say what turned and switched in a recording, and have its tones named anew.

    Raises
    ------
    PermissionDenied, ValidationError : nothing is changed then
    """
    require(user, "run.record", row.session.round)
    if row.kind != SoundRecording.Kind.PART or row.state == SoundRecording.State.NEW:
        raise ValidationError("Confirm first that it is of a part.")
    turns.check()
    for name in TURNS:
        setattr(row, name, getattr(turns, name))
    row.save(update_fields=TURNS)
    record(user, "sound.turns", row, row.session.round, **{n: getattr(turns, n) for n in TURNS})
    ask(SoundRecording.objects.filter(pk=row.pk))


TURNS = ("blades", "speed", "second_blades", "second_speed", "poles", "switching")


def _may_have_run(subject: Subject, round: Round, run: Run | None) -> None:
    """A part that is heard has been through the gate."""
    if run is not None:
        return  # what was run was asked for then
    if subject.specimen is not None:
        if subject.specimen.version.entry.state == Entry.State.WITHDRAWN:
            raise ValidationError(f"{subject.specimen.version.entry} was withdrawn.")
        subject.check(round)


@transaction.atomic
def choose_stretch(
    user: User, row: SoundRecording, chosen: tuple[float, float] | None, why: str
) -> None:
    """Use another stretch of a recording, with the reason; None goes back to the one that was found.

    Raises
    ------
    PermissionDenied, ValidationError : outside of the recording, too short, or no reason
    """
    require(user, "run.record", row.session.round)
    if row.state == SoundRecording.State.NEW:
        raise ValidationError("Confirm first what it is of.")
    if chosen is None:
        row.from_s = row.to_s = None
        row.why_chosen = ""
    else:
        start, end = chosen
        if not 0 <= start < end <= row.seconds + 0.01:
            raise ValidationError(
                f"The stretch must lie within 0 and {row.seconds:.1f} s and end after it begins."
            )
        if end - start < LEAST_STRETCH:
            raise ValidationError(f"A stretch is at least {LEAST_STRETCH:g} s long.")
        if not why.strip():
            raise ValidationError("Say in a few words why this stretch is used.")
        row.from_s, row.to_s, row.why_chosen = start, end, why.strip()[:300]
    row.save(update_fields=["from_s", "to_s", "why_chosen"])
    record(
        user, "sound.stretch", row, row.session.round, chosen=chosen and list(chosen), why=why[:300]
    )
    ask(SoundRecording.objects.filter(pk=row.pk))


@transaction.atomic
def analyse_again(user: User, row: SoundRecording) -> None:
    """Have a recording analysed once more."""
    require(user, "run.record", row.session.round)
    if row.state == SoundRecording.State.NEW:
        raise ValidationError("Confirm first what it is of.")
    ask(SoundRecording.objects.filter(pk=row.pk))


@transaction.atomic
def stop(user: User, row: SoundRecording) -> None:
    """End an analysis that waits or runs."""
    require(user, "run.record", row.session.round)
    SoundRecording.objects.at_work().filter(pk=row.pk).update(
        state=SoundRecording.State.FAILED, problem="It was stopped by hand."
    )
    record(user, "sound.stop", row, row.session.round)


@transaction.atomic
def set_aside(user: User, row: SoundRecording) -> None:
    """Take a recording out: nothing is told of it any more; its file stays. What hung on it as
    background or calibration is computed anew.
    """
    require(user, "run.record", row.session.round)
    if row.set_aside_at is not None:
        return
    row.set_aside_at, row.set_aside_by = timezone.now(), user
    row.save(update_fields=["set_aside_at", "set_aside_by"])
    record(user, "sound.set_aside", row, row.session.round)
    if row.kind != SoundRecording.Kind.PART or row.session.read_beside_id == row.pk:
        ask(row.session.recordings.standing().exclude(state=SoundRecording.State.NEW))


@transaction.atomic
def allow(user: User, session: RecordingSession, why: str) -> None:
    """Have a session compared with others that were held in another way; the reason stands beside
    every such comparison. An empty one takes it back.

    Raises
    ------
    PermissionDenied : only a host may
    """
    require(user, "rules.change", session.round)
    session.why_comparable = " ".join(why.split())[:300]
    session.save(update_fields=["why_comparable"])
    record(user, "sound.allow", session, session.round, why=session.why_comparable)
