"""Reading sound: who may hear what, and what a recording is held against."""

from __future__ import annotations

import math
from dataclasses import dataclass
from datetime import timedelta
from urllib.parse import urlencode

import numpy as np
from django.db.models import Q, QuerySet
from django.urls import reverse

from hauch.core.sound.compare import Comparison, compare
from hauch.core.sound.doubt import CALIBRATOR_DOUBT, METER_DOUBT, Change, change
from hauch.core.sound.naming import Kind, Named, quarter_wave
from hauch.core.sound.told import Analysis
from hauch.people.models import User
from hauch.people.permissions import allowed
from hauch.rounds.models import Round
from hauch.sound.models import (
    Calibration,
    RecordingSession,
    SoundAnalysis,
    SoundRecording,
)

NAMES = (
    "session__round",
    "source",
    "specimen__version__entry",
    "reference__type",
    "run__test",
)


def visible_to(user: User, round: Round) -> QuerySet[SoundRecording]:
    """Recordings of a round that a person may hear: all for the bench, own entries and the reference
    for a designer, all once published.
    """
    found = SoundRecording.objects.standing().filter(session__round=round).select_related(*NAMES)
    if allowed(user, "entry.view_all", round):
        return found
    if allowed(user, "round.view", round):
        return found.filter(
            Q(reference__isnull=False) | Q(specimen__version__entry__designer=user)
        ).exclude(state=SoundRecording.State.NEW)
    return found.none()


def sessions_of(round: Round) -> QuerySet[RecordingSession]:
    """Sessions of a round, the newest first."""
    rows = RecordingSession.objects.filter(round=round).select_related("microphone", "by")
    return rows.order_by("-held_at", "-pk")


@dataclass(frozen=True, slots=True)
class Beside:
    """What a recording is held against.

    Parameters
    ----------
    recording : the nearest in time
    stored : its analysis, then those of all that its session has of the same part
    unlike : how they were made differently
    allowed : why a host has them compared all the same
    like : analyses of other parts that were recorded more than once in that session; they tell how
        well a recording is repeated
    apart : standard uncertainty between the calibrations of two sessions [dB]
    """

    recording: SoundRecording
    stored: tuple[SoundAnalysis, ...]
    unlike: str = ""
    allowed: str = ""
    like: tuple[tuple[Analysis, ...], ...] = ()
    apart: float = 0.0

    @property
    def analyses(self) -> list[Analysis]:
        """What they tell."""
        return [one.told for one in self.stored]

    @property
    def refused(self) -> bool:
        """Whether their levels are not compared."""
        return bool(self.unlike) and not self.allowed

    def held(self, told: Analysis) -> Comparison | None:
        """A recording against it; None where that is refused."""
        return None if self.refused else compare(told, self.analyses, self.like, self.apart)


def unlike(one: RecordingSession, other: RecordingSession) -> str:
    """Why levels of two sessions may not be compared; empty where they may."""
    if one.pk == other.pk:
        return ""
    differ = []
    if one.mounting != other.mounting:
        differ.append(
            f"one part ran {one.get_mounting_display()}, the other {other.get_mounting_display()}"
        )
    if one.distance is None or other.distance is None:
        differ.append("a distance is not written down")
    elif abs(one.distance - other.distance) > 0.02 * one.distance:
        differ.append(f"one distance is {one.distance:g} m, the other {other.distance:g} m")
    if (one.spacing or 0) != (other.spacing or 0):
        differ.append("the space before and behind the part differs")
    if one.room.strip().casefold() != other.room.strip().casefold():
        differ.append("the rooms differ")
    if one.heard_with != other.heard_with:
        differ.append("the microphones differ")
    if Calibration.NONE in (one.calibration, other.calibration):
        differ.append("one session is not calibrated")
    return "; ".join(differ)


def recorded_unlike(one: SoundRecording, other: SoundRecording) -> str:
    """Why levels of two recordings may not be compared: their sessions, and what was set in their
    runs; empty where they may.
    """
    differ = [text] if (text := unlike(one.session, other.session)) else []
    if not _set_alike(one, other):
        differ.append("they ran with different settings")
    return "; ".join(differ)


def _set_alike(one: SoundRecording, other: SoundRecording) -> bool:
    settings = {r.run.setting_id for r in (one, other) if r.run is not None}
    return len(settings) < 2


SAME_SPEED = 0.02
"""Recordings of one part are repeats where the speeds that were typed for them differ by less than
this share."""


def _repeats(one: SoundRecording, other: SoundRecording) -> bool:
    """Whether the one was made as the other: of the same part, set alike, at the same speed."""
    if (one.specimen_id, one.reference_id) != (other.specimen_id, other.reference_id):
        return False
    speeds = [r.speed for r in (one, other) if r.speed]
    same = len(speeds) < 2 or abs(speeds[0] - speeds[1]) <= SAME_SPEED * speeds[0]
    return same and _set_alike(one, other)


def _parts_of(sessions: QuerySet[RecordingSession]) -> QuerySet[SoundAnalysis]:
    """Analyses of parts whose levels may stand, without their figures."""
    return (
        SoundAnalysis.objects.current()
        .filter(
            recording__session__in=sessions,
            recording__kind=SoundRecording.Kind.PART,
            recording__set_aside_at=None,
            recording__state=SoundRecording.State.DONE,
            spoilt="",
        )
        .select_related("recording__session", "recording__run", "recording__source")
        .defer("figures")
    )


def groups_of(session: RecordingSession) -> list[list[SoundAnalysis]]:
    """Recordings of a session by what they repeat, in order of time; at most `MOST_HELD`."""
    groups: list[list[SoundAnalysis]] = []
    found = _parts_of(RecordingSession.objects.filter(pk=session.pk)).select_related(
        "recording__specimen__version__entry", "recording__reference__type"
    )
    for one in found.order_by("recording__recorded_at", "pk")[:MOST_HELD]:
        own = next((g for g in groups if _repeats(g[0].recording, one.recording)), None)
        if own is None:
            groups.append([one])
        else:
            own.append(one)
    return groups


@dataclass(frozen=True, slots=True)
class Part:
    """A part of a session: its recordings, their mean level [dB], and that against the reference; the
    reference itself, and what has none, has no change.
    """

    recordings: list[SoundAnalysis]
    level: float
    change: Change | None = None

    @property
    def first(self) -> SoundRecording:
        """The first of them."""
        return self.recordings[0].recording


def side_by_side(session: RecordingSession) -> list[Part]:
    """The parts of a session by how loud they are, each against the session's reference; empty for
    fewer than two parts.
    """
    groups = groups_of(session)
    if len(groups) < 2:
        return []
    levels = [[one.level for one in group] for group in groups]
    references = [g for g in groups if g[0].recording.reference_id is not None]
    parts = []
    for group, own in zip(groups, levels, strict=True):
        held = next((g for g in references if _set_alike(g[0].recording, group[0].recording)), None)
        found = None
        if held is not None and group not in references:
            found = change(
                [one.sure for one in group],
                [one.sure for one in held],
                min(one.level_freedom for one in (*group, *held)),
                like=[v for v, g in zip(levels, groups, strict=True) if g not in (group, held)],
            )
        parts.append(Part(group, float(np.mean(own)), found))
    return sorted(parts, key=lambda part: part.level)


MOST_HELD = 200
"""So many recordings of a session, or references of a round, are looked at."""

MOST_LIKE, MOST_REPEATS = 6, 6
"""So many other parts tell how well a recording is repeated, by so many recordings of each at most."""


def reference_for(recording: SoundRecording) -> Beside | None:
    """The reference that a recording is held against: the nearest in time of its own session, else of
    one that was held in the same way, else of any, with the reason why levels do not compare.
    """
    if recording.kind != SoundRecording.Kind.PART or recording.reference_id is not None:
        return None
    sessions = RecordingSession.objects.filter(round=recording.session.round_id)
    rows = list(
        _parts_of(sessions)
        .filter(recording__reference__isnull=False)
        .select_related("recording__reference__type")
        .order_by("-pk")[:MOST_HELD]
    )
    if not rows:
        return None

    def nearness(row: SoundAnalysis) -> tuple[bool, bool, timedelta]:
        other = row.recording
        return (
            bool(recorded_unlike(recording, other)),
            other.session_id != recording.session_id,
            abs(other.recorded_at - recording.recorded_at),
        )

    best = min(rows, key=nearness)
    differs = recorded_unlike(recording, best.recording)
    one, other = recording.session, best.recording.session
    calibrated = Calibration.NONE not in (one.calibration, other.calibration)
    allowed_by_host = one.why_comparable if calibrated else ""
    same = [
        row.pk
        for row in sorted(rows, key=nearness)
        if row.recording.session_id == other.pk and _repeats(best.recording, row.recording)
    ][:MOST_REPEATS]
    like = [
        [row.pk for row in group[:MOST_REPEATS]]
        for group in groups_of(other)
        if len(group) > 1 and not _repeats(group[0].recording, best.recording)
    ][:MOST_LIKE]
    stored = SoundAnalysis.objects.in_bulk([*same, *(pk for group in like for pk in group)])
    return Beside(
        best.recording,
        tuple(stored[pk] for pk in same),
        differs,
        allowed_by_host if differs else "",
        tuple(tuple(stored[pk].told for pk in group) for group in like),
        apart(one, other),
    )


def apart(one: RecordingSession, other: RecordingSession) -> float:
    """Standard uncertainty between the calibrations of two sessions [dB]; 0 within one."""
    if one.pk == other.pk:
        return 0.0
    doubts = [
        CALIBRATOR_DOUBT if session.calibration == Calibration.TONE else METER_DOUBT
        for session in (one, other)
    ]
    return math.hypot(*doubts)


SILENCED = (Kind.WHISTLE, Kind.HUM, Kind.BLADES, Kind.TWO_ROTORS)
"""Tones that a silencer in the duct meets."""


def silencer_for(one: Named) -> tuple[float, str]:
    """Length of a silencer that meets a tone [m], and the Desk's address with it filled in; empty
    where none meets it, or where the room has it.
    """
    length = quarter_wave(one.tone.frequency)
    if one.kind not in SILENCED or one.in_background:
        return length, ""
    asked = urlencode({"whistle": f"{one.tone.frequency:.1f}", "length": f"{length:.4f}"})
    return length, f"{reverse('desk:tool', args=['silencer'])}?{asked}"
