"""Tables of sound: sessions and recordings, blind listening."""

from hauch.sound.models.blind import Answer, Listener, Listening, Place, Played
from hauch.sound.models.recordings import (
    Calibration,
    Mounting,
    RecordingQuerySet,
    RecordingSession,
    SoundAnalysis,
    SoundRecording,
)

__all__ = [
    "Answer",
    "Calibration",
    "Listener",
    "Listening",
    "Mounting",
    "Place",
    "Played",
    "RecordingQuerySet",
    "RecordingSession",
    "SoundAnalysis",
    "SoundRecording",
]
