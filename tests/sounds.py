"""A sound session of the small round, for tests."""

from __future__ import annotations

import copy
import io
import pickle
from datetime import timedelta
from pathlib import Path
from unittest import mock

import numpy as np
import soundfile
from django.core.files.uploadedfile import SimpleUploadedFile

from hauch.bench.runs import Subject
from hauch.sound import actions
from hauch.sound.analysing import run_analysis
from hauch.sound.models import Calibration, Mounting, RecordingSession, SoundRecording
from hauch.sound.reading import listen
from tests.builder import START

SAMPLES = Path(__file__).parent / "data/sound"
USUAL = {
    "mounting": Mounting.LOADED,
    "distance": 1.0,
    "room": "loft",
    "calibration": Calibration.TONE,
    "tone_level": 94.0,
    "mains": 50,
}


def inline(work, *arguments, tell, limits=None):
    """Work of a child, done here: most tests are of what becomes of it."""
    key = pickle.dumps((work.__name__, arguments)) if work is listen else None
    if key is None:
        return work(tell, *arguments)
    if key not in _done:  # files lie under their content's hash
        _done[key] = work(tell, *arguments)
    return copy.deepcopy(_done[key])


_done: dict[bytes, object] = {}


def analyse(pk):
    """What the worker does with one recording."""
    with mock.patch("hauch.sound.analysing.apart", inline):
        run_analysis(pk)


def upload(name, data=None):
    """A file as a browser sends it; one of the samples where no bytes are given."""
    if data is None:
        data = (SAMPLES / name).read_bytes()
    return SimpleUploadedFile(name, data)


def wav(samples, rate=48_000):
    out = io.BytesIO()
    soundfile.write(out, np.asarray(samples), rate, format="WAV", subtype="PCM_16")
    return out.getvalue()


def session_of(built, **fields) -> RecordingSession:
    return actions.open_session(built.operator, built.round, USUAL | fields)


def hand_in(built, session, name, data=None, minutes=60.0) -> SoundRecording:
    moment = START + timedelta(minutes=minutes)
    with mock.patch("hauch.sound.actions.apart", inline):
        return actions.hand_in(
            built.operator, session, actions.HandedIn(name, upload(name, data), moment)
        )


def confirm(built, row, part=None, kind=SoundRecording.Kind.PART, **more) -> SoundRecording:
    """Say what it is of, and have it analysed here."""
    subject = None
    if part is not None:
        name = "specimen" if part in built.specimens.values() else "reference"
        subject = Subject(**{name: part})
    actions.confirm(built.operator, [(row, actions.Confirmed(kind, subject=subject, **more))])
    analyse(row.pk)
    row.refresh_from_db()
    return row


def calibrated(built, **fields) -> RecordingSession:
    """A session with its calibrator's tone and the room."""
    session = session_of(built, **fields)
    confirm(built, hand_in(built, session, "calibrator.flac"), kind=SoundRecording.Kind.TONE)
    confirm(built, hand_in(built, session, "background.flac"), kind=SoundRecording.Kind.BACKGROUND)
    return session


def analyse_waiting():
    """What the worker would do."""
    for _ in range(4):
        waiting = list(SoundRecording.objects.at_work().values_list("pk", flat=True))
        if not waiting:
            return
        for pk in waiting:
            analyse(pk)
