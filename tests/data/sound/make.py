"""Makes loudness.json: loudness of arbitrary spectra by another implementation of ISO 532-1, method for
stationary sounds and method for time-varying ones, so that ours is not held against itself.

    python3 -m venv /tmp/other && /tmp/other/bin/pip install mosqito==1.2.1 matplotlib
    /tmp/other/bin/python tests/data/sound/make.py
"""

import json
from pathlib import Path

import numpy as np
from mosqito.sq_metrics.loudness.loudness_zwst._calc_slopes import _calc_slopes
from mosqito.sq_metrics.loudness.loudness_zwst._main_loudness import _main_loudness
from mosqito.sq_metrics.loudness.loudness_zwtv.loudness_zwtv import loudness_zwtv
from mosqito.sq_metrics.sharpness.sharpness_din.sharpness_din_from_loudness import (
    sharpness_din_from_loudness,
)

random = np.random.default_rng(532)
levels = np.round(random.uniform(0, 85, (28, 60)) + random.uniform(-20, 10, (1, 60)), 1)
out = {"levels": levels.T.tolist()}
for field in ("free", "diffuse"):
    total, specific = _calc_slopes(_main_loudness(levels.copy(), field))
    out[field] = [round(float(n), 4) for n in total]
    out[f"{field}_sharpness"] = [
        round(float(sharpness_din_from_loudness(n, s)), 4)
        for n, s in zip(total, specific.T, strict=True)
    ]
RATE = 48_000


def tone(frequency, level, seconds):
    at = np.arange(int(seconds * RATE)) / RATE
    return np.sqrt(2) * 2e-5 * 10 ** (level / 20) * np.sin(2 * np.pi * frequency * at)


def pulse(milliseconds):
    """1 kHz, 70 dB, from 0.2 s on."""
    on = np.zeros(RATE)
    on[int(0.2 * RATE) : int((0.2 + milliseconds / 1000) * RATE)] = 1
    return tone(1000, 70, 1.0) * on


signals = {f"pulse of {ms} ms": pulse(ms) for ms in (10, 50, 500)}
signals["swelling"] = tone(250, 0, 1.5) * 10 ** (np.linspace(30, 80, int(1.5 * RATE)) / 20)
signals["beating"] = tone(1000, 60, 2.0) * (1 + tone(4, 0, 2.0) / 2e-5 / np.sqrt(2))
out["over_time"] = {}
for name, signal in signals.items():
    course = loudness_zwtv(signal, RATE)[0]
    out["over_time"][name] = [
        round(float(v), 4) for v in (course.max(), np.percentile(course, 95), course.mean())
    ]
Path(__file__).with_name("loudness.json").write_text(json.dumps(out) + "\n")
