"""The analysis of a recording: what is known of it, its way through the child process, and what is
stored. Calibration and background of a session come first, and what depends on them is done again.
"""

from __future__ import annotations

import logging
import math
from collections.abc import Callable

import msgspec
import numpy as np
from django.db import transaction
from django.db.models import Case, QuerySet, When
from django.utils import timezone
from procrastinate.contrib.django import app

from hauch.bench.files import file_place
from hauch.bench.models import Run
from hauch.bench.reduction import run_input
from hauch.core.measure.run import NoResult
from hauch.core.sound import VERSION
from hauch.core.sound.analysis import FULL_SCALE, Given
from hauch.core.sound.naming import Sources, Turning
from hauch.core.sound.told import Analysis
from hauch.entries.models import PartCheck
from hauch.formats.apart import Broke, Died, Made, Refused, Stopped, apart
from hauch.people.keep import keep
from hauch.sound.models import Calibration, RecordingSession, SoundAnalysis, SoundRecording
from hauch.sound.reading import LIMITS, listen
from hauch.workshop.models import Specimen

log = logging.getLogger(__name__)

LEAST_SHARE = 0.7
"""A calibrator's tone holds this share of its recording's power or more."""


class NotCalibrated(ValueError):
    """A session that says that it is calibrated, but is not yet; the sentence says what is missing."""


def pascals_of(session: RecordingSession) -> float | None:
    """Pascals of a full-scale sample in a session; None where it is not calibrated.

    Raises
    ------
    NotCalibrated : what it is calibrated with is not there or not analysed
    """
    if session.calibration == Calibration.TONE:
        return _by_tone(session)
    if session.calibration == Calibration.METER:
        return _by_meter(session)
    return 1.0 if session.calibration == Calibration.WAVEFORM else None


def _analyses(session: RecordingSession) -> QuerySet[SoundAnalysis]:
    return SoundAnalysis.objects.current().filter(
        recording__session=session,
        recording__set_aside_at=None,
        recording__state=SoundRecording.State.DONE,
    )


def _by_tone(session: RecordingSession) -> float:
    """The strongest tone of the calibrator's recording is at the level that the calibrator gives.

    The analysis of a tone is always without calibration, in decibels below full scale.
    """
    if session.tone_level is None:
        raise NotCalibrated("The level of the calibrator is not known. Enter it, 94 dB as a rule.")
    made = (
        _analyses(session)
        .filter(recording__kind=SoundRecording.Kind.TONE)
        .order_by("-recording__recorded_at")
        .first()
    )
    if made is None:
        raise NotCalibrated(
            "No recording of the calibrator's tone is in yet. Hand it in, recorded with the same gain,"
            " and say that it is the tone."
        )
    tones = [named.tone for named in made.told.tones]
    strongest = max(tones, key=lambda tone: tone.level, default=None)
    whole = made.told.weighted["Z"].mean
    if strongest is None or strongest.level < whole + 10 * math.log10(LEAST_SHARE):
        raise NotCalibrated(
            f"{made.recording.name} is said to be a calibrator's tone, but there is no such tone in"
            " it. Record it again with the calibrator on the microphone."
        )
    return FULL_SCALE * 10 ** ((session.tone_level - strongest.level) / 20)


def _by_meter(session: RecordingSession) -> float:
    """What the recording that the meter was read beside came to."""
    if session.meter_level is None or session.read_beside is None:
        raise NotCalibrated("Say which recording the meter was read beside, and what it read.")
    made = (
        SoundAnalysis.objects.current()
        .filter(
            recording=session.read_beside,
            recording__set_aside_at=None,
            pascals__isnull=False,
        )
        .first()
    )
    if made is None or made.pascals is None:
        raise NotCalibrated(f"{session.read_beside}, which the meter was read beside, comes first.")
    return made.pascals


def background_of(session: RecordingSession) -> Analysis | None:
    """The last recording of the room without the part, where it is analysed."""
    made = (
        _analyses(session)
        .filter(recording__kind=SoundRecording.Kind.BACKGROUND)
        .order_by("-recording__recorded_at")
        .first()
    )
    return made.told if made is not None else None


def speeds_of(run: Run) -> list[float]:
    """Mean speeds of the rotors that were read in a run [1/min]."""
    try:
        given, _ = run_input(run)
    except NoResult:
        return []
    out = []
    for channel in ("speed", "speed_2"):
        read = np.asarray(given.readings.get(channel, ()), float)
        read = read[np.isfinite(read)]
        if read.size and read.mean() > 0:
            out.append(float(read.mean()))
    return out


def blades_of(specimen: Specimen | None) -> int | None:
    """Blades of a print, as the check of its part counted them."""
    if specimen is None:
        return None
    data = (
        PartCheck.objects.filter(file__version=specimen.version, data__has_key="blades")
        .order_by("-pk")
        .values_list("data__blades__count", flat=True)
        .first()
    )
    return int(data) if data else None


def sources_of(recording: SoundRecording) -> Sources:
    """What turned and switched while it was recorded: as typed, else as read in its run."""
    mains = float(recording.session.mains)
    if recording.kind != SoundRecording.Kind.PART:
        return Sources(mains=mains)
    read = speeds_of(recording.run) if recording.run is not None else []
    speed = recording.speed or (read[0] if read else None)
    second = recording.second_speed or (read[1] if len(read) > 1 else None)
    blades = recording.blades or blades_of(recording.specimen)
    rotors = []
    if speed and blades:
        rotors.append(Turning(blades, speed, "rotor 1" if second else ""))
        if second:
            rotors.append(Turning(recording.second_blades or blades, second, "rotor 2"))
    return Sources(tuple(rotors), recording.poles, recording.switching, mains)


def given_of(recording: SoundRecording) -> Given:
    """What is known of a recording.

    Raises
    ------
    NotCalibrated : its session is to be calibrated, but is not yet
    """
    chosen = (
        (recording.from_s, recording.to_s)
        if recording.from_s is not None and recording.to_s is not None
        else None
    )
    if recording.kind == SoundRecording.Kind.TONE:
        return Given(sources=sources_of(recording), chosen=chosen)
    session = recording.session
    room = background_of(session) if recording.kind == SoundRecording.Kind.PART else None
    if _read_beside(recording):
        return Given(None, sources_of(recording), chosen, room, session.meter_level)
    return Given(pascals_of(session), sources_of(recording), chosen, room)


def _read_beside(recording: SoundRecording) -> bool:
    """Whether it is the recording that a meter was read beside."""
    session = recording.session
    return (
        session.calibration == Calibration.METER
        and session.read_beside_id == recording.pk
        and session.meter_level is not None
    )


def run_analysis(pk: int) -> None:
    """Analyse a recording and store what it tells; safe to run twice, since an analysis that was cut
    off begins anew. Nothing is stored of one that was stopped or taken out meanwhile.
    """
    row = (
        SoundRecording.objects.select_related(
            "session__round", "source", "run__test__rig", "specimen__version"
        )
        .filter(pk=pk)
        .first()
    )
    if row is None or not row.at_work or row.set_aside_at is not None:
        return
    _unless_stopped(row).update(
        state=SoundRecording.State.RUNNING, progress=0.0, attempts=row.attempts + 1
    )

    def tell(percent: int) -> bool:
        return _unless_stopped(row).update(progress=percent / 100) > 0

    try:
        given = given_of(row)
    except NotCalibrated as problem:
        fail(row, str(problem))
        return
    try:
        made = _heard(row, given, tell)
    except Stopped:
        return
    except Refused as problem:
        fail(row, str(problem))
        return
    store(row, made)


def _heard(row: SoundRecording, given: Given, tell: Callable[[int], bool]) -> Made:
    """Have the file analysed in a child; a crash is told as a refusal."""
    try:
        return apart(
            listen, str(file_place(row.source)), row.channel, given, tell=tell, limits=LIMITS
        )
    except Died as problem:
        log.warning("analysis of %s: %s", row, problem)
        raise Refused(
            f"It could not be analysed: {problem}. Save it again as WAV, or cut it shorter."
        ) from problem
    except (Broke, OSError) as problem:
        log.exception("analysis of %s failed", row)
        raise Refused(
            "It could not be analysed, and it is not the recording's fault. Tell who keeps the"
            " installation; the file is kept."
        ) from problem


def give_up(recording_id: int) -> None:
    """End an analysis whose worker died too often, with a sentence."""
    row = SoundRecording.objects.filter(pk=recording_id).first()
    if row is not None and row.at_work:
        fail(
            row,
            f"The analysis was cut off {row.attempts} times. Save the recording again as WAV, or cut"
            " it shorter, and hand it in again.",
        )


def fail(row: SoundRecording, problem: str) -> None:
    """Say why a recording is not analysed."""
    _unless_stopped(row).update(state=SoundRecording.State.FAILED, problem=problem)


def store(row: SoundRecording, made: Made) -> None:
    """Store what a recording tells, and have done again what depends on it."""
    told, blobs = made
    analysis = msgspec.convert(told["figures"], Analysis)
    pictures, copy = keep(blobs["pictures"])[1], keep(blobs["copy"])[1]
    with transaction.atomic():
        if not _unless_stopped(row).update(
            state=SoundRecording.State.DONE, progress=1.0, problem=""
        ):
            return
        SoundAnalysis.objects.update_or_create(
            recording=row,
            defaults={
                "figures": told["figures"],
                "pascals": analysis.pascals,
                "level": analysis.level,
                "level_doubt": analysis.sure.doubt,
                "level_freedom": analysis.freedom,
                "loudness": analysis.loudness,
                "sharpness": analysis.sharpness,
                "adjustment": analysis.adjustment,
                "spoilt": analysis.spoilt.fault if analysis.spoilt else "",
                "pictures": pictures,
                "copy": copy,
                **{key: told[key] for key in ("cut_off", "copy_from", "copy_scale")},
                "core_version": VERSION,
                "computed_at": timezone.now(),
            },
        )
        _follow(row)


def _follow(row: SoundRecording) -> None:
    """Analyse again what a new calibration or background is for."""
    session, kinds = row.session, SoundRecording.Kind
    others: list[str] = []
    if _read_beside(row) or (row.kind == kinds.TONE and session.calibration == Calibration.TONE):
        others = [kinds.BACKGROUND, kinds.PART]
    elif row.kind == kinds.BACKGROUND:
        others = [kinds.PART]
    if others:
        ask(
            session.recordings.standing()
            .filter(kind__in=others)
            .exclude(state=SoundRecording.State.NEW)
            .exclude(pk=row.pk)
        )


def ask(rows: QuerySet[SoundRecording]) -> int:
    """Leave the analysis of recordings to the worker, inside the transaction that asks for it; how
    many they are.
    """
    first = Case(When(kind=SoundRecording.Kind.PART, then=1), default=0)
    keys = list(rows.order_by(first, "pk").values_list("pk", flat=True))
    SoundRecording.objects.filter(pk__in=keys).update(
        state=SoundRecording.State.WAITING, progress=0.0, problem="", attempts=0
    )
    for key in keys:
        app.configure_task("sound.analyse", lock=f"sound-{key}").defer(recording_id=key)
    return len(keys)


def ask_older() -> int:
    """Leave what an earlier version analysed to the worker; how many that is. Calibrators and rooms
    come first, and take the others with them.
    """
    return ask(
        SoundRecording.objects.standing().filter(
            pk__in=SoundAnalysis.objects.exclude(core_version=VERSION).values("recording"),
            state=SoundRecording.State.DONE,
        )
    )


def _unless_stopped(row: SoundRecording) -> QuerySet[SoundRecording]:
    """The row, unless it was stopped or taken out meanwhile."""
    return SoundRecording.objects.at_work().filter(pk=row.pk, set_aside_at=None)
