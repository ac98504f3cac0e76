"""Recordings of rounds 1 and 2, made by the virtual bench from what its parts are: blade tones from
their blades and speed, noise from their level; the stock inlet whistles, a spiral mouth flutters.
"""

from __future__ import annotations

from dataclasses import dataclass
from datetime import timedelta

import numpy as np

from hauch.bench.files import keep_file
from hauch.bench.models import Run, SourceFile
from hauch.core.rig import Bench, Fan, Loft140
from hauch.core.rig.sound import Recorder, Voice
from hauch.demo.fans import CABINET, INLETS, L_02, WORN, blower
from hauch.demo.stores import people
from hauch.formats.sound import flac_bytes
from hauch.people.models import User
from hauch.rounds.models import Round
from hauch.sound.analysing import ask
from hauch.sound.models import Calibration, Mounting, RecordingSession, SoundRecording

CALIBRATOR = 94.0

ROTORS: dict[str, Voice] = {
    "Loft-140 L-02": Voice(),
    "Distel": Voice(blades=9, tones=(13.0, 19.0, 23.0), peak=420.0),
    "Schwalbe": Voice(blades=5, tones=(7.0, 12.0, 17.0), peak=300.0),
    "Kamm": Voice(tones=(11.0, 17.0, 21.0)),
    "Weidenkorb": Voice(tones=(10.0, 16.0, 20.0)),
    "Zaunkönig": Voice(tones=(9.0, 15.0, 19.0), uneven=0.7),
    "Mohn": Voice(tones=(8.5, 14.0, 18.0)),
    "Löffel": Voice(tones=(7.5, 13.0, 18.0), peak=280.0),
    "Pusteblume": Voice(blades=15, tones=(12.0, 18.0, 24.0), peak=450.0),
}
"""Rotors of the first round."""

MOUTHS: dict[str, Voice] = {
    "Roof inlet I-01": Voice(whistle=(1240.0, 7.0), tones=(11.0, 17.0, 21.0)),
    "Muschel": Voice(flutter=(140.0, 0.35), tones=(12.0, 18.0, 22.0)),
    "Farn": Voice(tones=(11.0, 17.0, 21.0)),
    "Moosbett": Voice(tones=(14.0, 20.0, 25.0), peak=260.0),
    "Trichterling": Voice(whistle=(1236.0, 8.0), tones=(10.0, 16.0, 20.0)),
}
"""Inlets of the second round before the roof blower, of whose seven blades all are heard. Farn's
slots have no edge that whistles.
"""


REPEATED = {"Loft-140 L-02": 2, "Distel": 1, "Roof inlet I-01": 2, "Muschel": 1}
"""Parts that were recorded in so many earlier runs too."""

MOUNTING = 0.2
"""Scatter of a level from mounting to mounting [dB]."""


@dataclass(frozen=True)
class _Session:
    """A session that is being loaded."""

    row: RecordingSession
    recorder: Recorder
    by: User

    def keep(self, name: str, samples: np.ndarray) -> SourceFile:
        return keep_file(self.by, name, flac_bytes(samples, self.recorder.microphone.rate))

    def add(
        self, name: str, samples: np.ndarray, kind: str, minutes: float, run: Run | None = None
    ) -> SoundRecording:
        """One recording, as if it had been handed in and confirmed."""
        rate = self.recorder.microphone.rate
        return SoundRecording.objects.create(
            session=self.row,
            source=self.keep(name, samples),
            name=name,
            seconds=len(samples) / rate,
            rate=rate,
            coding="FLAC, 16 bit",
            recorded_at=run.started_at
            if run is not None
            else self.row.held_at + timedelta(minutes=minutes),
            kind=kind,
            run=run,
            specimen=run.specimen if run is not None else None,
            reference=run.reference if run is not None else None,
            by=self.by,
            created_at=self.row.held_at,
        )


def load_sound() -> None:
    """Recordings of the first two rounds; the worker analyses them."""
    who = people()
    fans: dict[str, Fan] = {"Loft-140 L-02": L_02, "Loft-140 L-01": Loft140}
    fans |= {name: Loft140.changed(name, *factors) for name, factors in CABINET.items()}
    inlets = {name: blower(WORN * air, level) for name, (air, level) in INLETS.items()}
    inlets["Roof inlet I-01"] = blower(WORN, 0.0)
    for number, voices, known in ((1, ROTORS, fans), (2, MOUTHS, inlets)):
        _round(Round.objects.get(number=number), voices, known, who["odo"])


def _round(round: Round, voices: dict[str, Voice], known: dict[str, Fan], odo: User) -> None:
    recorder = Recorder(Bench(seed=140 + (round.number or 0)))
    runs = list(
        Run.objects.filter(test__round=round, test__key="noise", state=Run.State.VALID)
        .select_related("specimen__version__entry", "reference__type")
        .order_by("started_at", "pk")
    )
    of_part = {name: [run for run in runs if run.subject == name] for name in voices}
    last = [found[-1] for found in of_part.values() if found]
    earlier = [
        run for name, count in REPEATED.items() for run in of_part.get(name, [])[:-1][:count]
    ]
    held = sorted([*last, *earlier], key=lambda run: run.started_at)
    row = RecordingSession.objects.create(
        round=round,
        held_at=held[0].started_at - timedelta(minutes=10),
        by=odo,
        mounting=Mounting.LOADED,
        distance=1.0,
        room="loft, behind the stairs",
        device="hand-held recorder, gain 3",
        calibration=Calibration.TONE,
        tone_level=CALIBRATOR,
    )
    session = _Session(row, recorder, odo)
    session.add("calibrator.flac", recorder.tone(CALIBRATOR), SoundRecording.Kind.TONE, 0)
    session.add("room.flac", recorder.room(row.room), SoundRecording.Kind.BACKGROUND, 2)
    for run in held:
        voice, fan = voices[run.subject], known[run.subject]
        name, level = run.subject, fan.level
        if run in earlier:  # mounted otherwise
            name = f"{name} {run.replicate}"
            level += recorder.bench.random(f"mounting/{name}").normal(0.0, MOUNTING)
        made = session.add(
            f"{name}.flac",
            recorder.part(voice, level, name),
            SoundRecording.Kind.PART,
            0,
            run,
        )
        made.blades, made.speed = voice.blades, voice.speed
        made.save(update_fields=["blades", "speed"])
    ask(row.recordings.all())
