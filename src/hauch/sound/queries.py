"""Reading sound: who may hear what, and what a recording is held against."""

from __future__ import annotations

from dataclasses import dataclass

from django.db.models import Q, QuerySet

from hauch.core.sound.analysis import Analysis
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
    return RecordingSession.objects.filter(round=round).select_related("microphone", "by")


@dataclass(frozen=True, slots=True)
class Beside:
    """A recording that another is held against; ``unlike`` says how they were made differently, and
    ``allowed`` why a host has them compared all the same.
    """

    recording: SoundRecording
    analysis: Analysis
    unlike: str = ""
    allowed: str = ""

    @property
    def refused(self) -> bool:
        """Whether their levels are not compared."""
        return bool(self.unlike) and not self.allowed


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
    if Calibration.NONE in (one.calibration, other.calibration):
        differ.append("one session is not calibrated")
    return "; ".join(differ)


def reference_for(recording: SoundRecording) -> Beside | None:
    """The reference that a recording is held against: the nearest in time of its own session, else of
    one that was held in the same way, else of any, with the reason why levels do not compare.
    """
    if recording.kind != SoundRecording.Kind.PART or recording.reference_id is not None:
        return None
    analyses = list(
        SoundAnalysis.objects.current()
        .filter(
            recording__session__round=recording.session.round_id,
            recording__reference__isnull=False,
            recording__set_aside_at=None,
            recording__state=SoundRecording.State.DONE,
            spoilt="",
        )
        .select_related("recording__session", "recording__reference__type", "recording__source")
        .defer("figures")
        .order_by("-pk")[:200]
    )
    if not analyses:
        return None
    best = min(
        analyses,
        key=lambda a: (
            bool(unlike(recording.session, a.recording.session)),
            a.recording.session_id != recording.session_id,
            abs(a.recording.recorded_at - recording.recorded_at),
        ),
    )
    differs = unlike(recording.session, best.recording.session)
    calibrated = Calibration.NONE not in (
        recording.session.calibration,
        best.recording.session.calibration,
    )
    allowed_by_host = recording.session.why_comparable if calibrated else ""
    return Beside(best.recording, best.told, differs, allowed_by_host if differs else "")
