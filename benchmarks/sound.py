"""Sound: what is found in recordings of known content, and what ten minutes of it cost against a bare
pass of SciPy's band filters.
"""

from __future__ import annotations

import resource
import time
from collections.abc import Iterator
from concurrent.futures import ThreadPoolExecutor

import numpy as np
import scipy
from django.db import connection
from django.test import Client
from django.urls import reverse

from benchmarks.harness import Row, row, seconds
from hauch.core.sound.analysis import Given, analyse
from hauch.core.sound.bands import band_numbers, mid_band
from hauch.core.sound.spectrum import spectrum
from hauch.core.sound.told import Analysis
from hauch.core.sound.tones import Tone, tones
from hauch.sound.blind import open_listening
from hauch.sound.models import Answer, Calibration, Listening, SoundRecording
from tests.builder import Built, build
from tests.core.sound.made import RATE, noise, pascals, sine
from tests.core.sound.test_analysis import BLADES, FULL, sample
from tests.sounds import confirm, hand_in, session_of

LEVELS = (("fan", FULL, 51.685), ("whistle", FULL, 58.309), ("stereo", 4.4827549, 51.685))


def run() -> Iterator[Row]:
    told = {name: sample(name, full) for name, full, _ in LEVELS}
    off = [abs(told[name].weighted["A"].mean - level) for name, _, level in LEVELS]
    yield row("sound: levels of the samples off by", max(off), "dB", 0.2)
    near = {f: _nearest(told["whistle"], f) for f in (*BLADES, 2900.0)}
    level = BLADES | {2900.0: 56.0}
    yield row(
        "sound: frequencies of their tones off by",
        100 * max(abs(tone.frequency / f - 1) for f, tone in near.items()),
        "%",
        0.5,
    )
    yield row(
        "sound: levels of their tones off by",
        max(abs(tone.level - level[f]) for f, tone in near.items()),
        "dB",
        1.0,
    )
    found = sum(len(tones(spectrum(noise(5.0, seed), RATE))) for seed in range(300))
    yield row("sound: tones in 300 recordings of noise", found, "", 1)
    faults = sum(len(analyse(noise(10.0, seed), RATE, Given(1.0))[0].faults) for seed in range(60))
    yield row("sound: faults in 60 good recordings", faults, "", 1)
    yield from _ten_minutes()
    built = build()
    session = session_of(built, calibration=Calibration.NONE, tone_level=None)
    rows = [
        confirm(built, hand_in(built, session, name), built.specimens[entry], speed=1850.0)
        for name, entry in (("whistle.flac", "Amsel"), ("fan.flac", "Binse"))
    ]
    yield row("sound: page from what is stored", 1000 * _page(built, rows[0]), "ms", 100.0)
    yield row("sound: 1000 blind answers of 50 listeners", _blind(built, rows), "s", 50.0)


def _nearest(told: Analysis, frequency: float) -> Tone:
    return min((t.tone for t in told.tones), key=lambda tone: abs(tone.frequency - frequency))


def _ten_minutes() -> Iterator[Row]:
    white = np.random.default_rng(1).standard_normal(600 * RATE).astype(np.float32) * 0.02
    white += sine(1240, pascals(60), 600).astype(np.float32)
    began = time.perf_counter()
    for number in band_numbers(RATE):
        edges = float(mid_band(number)) * np.array([10**-0.05, 10**0.05])
        filters = scipy.signal.butter(3, edges, "bandpass", fs=RATE, output="sos")
        scipy.signal.sosfilt(filters, white)
    bare = time.perf_counter() - began
    yield row("sound: bare pass of the band filters over 10 min", bare, "s")
    began = time.perf_counter()
    analyse(white, RATE, Given(1.0))
    yield row("sound: whole analysis of it, ratio", (time.perf_counter() - began) / bare, "x", 2.0)
    peak = resource.getrusage(resource.RUSAGE_SELF).ru_maxrss / 1e6
    yield row("sound: memory at most, all of the process", peak, "GB", 1.0)


def _blind(built: Built, rows: list[SoundRecording]) -> float:
    """Seconds in which 50 listeners, four at a time, give 20 answers each, trial by trial."""
    made = open_listening(
        built.operator, built.round, Listening.Kind.ABX, Listening.Equal.LEVEL, rows, trials=20
    )
    at = reverse("sound:take_part", args=[made.secret])

    def listen(number: int) -> None:
        client = Client(SERVER_NAME="localhost")
        client.post(at, {"name": f"listener {number}"})
        for trial in range(1, 21):
            if client.post(at, {"trial": trial, "said": "AB"[trial % 2]}).status_code != 302:
                raise RuntimeError("an answer was not taken")
        connection.close()

    began = time.perf_counter()
    with ThreadPoolExecutor(4) as pool:
        list(pool.map(listen, range(50)))
    if Answer.objects.filter(listener__listening=made).count() != 1000:
        raise RuntimeError("answers are lost")
    return time.perf_counter() - began


def _page(built: Built, recording: SoundRecording) -> float:
    client = Client(SERVER_NAME="localhost")
    client.force_login(built.operator, backend="django.contrib.auth.backends.ModelBackend")
    if client.get(recording.get_absolute_url()).status_code != 200:
        raise RuntimeError("the page of a recording did not open")
    return seconds(lambda: client.get(recording.get_absolute_url()), 9)
