"""Sound and other waveforms as WAV files."""

from __future__ import annotations

import io

import numpy as np
import soundfile

MOST_BYTES = 400_000_000
"""Of files that are handed in together: an hour at 48 kHz, 16 bit."""


def wav_bytes(samples: np.ndarray, rate: float) -> bytes:
    """A WAV file of 32-bit floats in the unit of the samples (Pa, m/s2), shape (n,), so that no
    level is lost.
    """
    out = io.BytesIO()
    soundfile.write(
        out, np.asarray(samples, dtype=np.float32), round(rate), format="WAV", subtype="FLOAT"
    )
    return out.getvalue()


def flac_bytes(samples: np.ndarray, rate: float) -> bytes:
    """A FLAC file of 16 bits for listening, shape (n,), full scale 1."""
    out = io.BytesIO()
    soundfile.write(out, np.clip(samples, -1, 1), round(rate), format="FLAC", subtype="PCM_16")
    return out.getvalue()


def read_wav(data: bytes) -> tuple[np.ndarray, float]:
    """Samples, shape (n,), and samples a second of a WAV file; the first channel where there are
    several.

    Raises
    ------
    ValueError : not a sound file that can be read
    """
    try:
        samples, rate = soundfile.read(io.BytesIO(data), dtype="float64", always_2d=True)
    except soundfile.LibsndfileError as problem:
        raise ValueError(f"the file is no sound that can be read: {problem}") from problem
    return samples[:, 0], float(rate)
