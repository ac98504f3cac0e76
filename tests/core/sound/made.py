"""Sounds for tests, made with NumPy and SciPy alone."""

import numpy as np
import scipy

RATE = 48_000


def noise(seconds=10.0, seed=1, level=0.02, rate=RATE):
    """Noise that falls by 6 dB an octave from 900 Hz on, as a fan's."""
    white = np.random.default_rng(seed).standard_normal(int(seconds * rate))
    b, a = scipy.signal.butter(1, 900, fs=rate)
    return (scipy.signal.lfilter(b, a, white) * level).astype(np.float32)


def time(seconds=10.0, rate=RATE):
    return np.arange(int(seconds * rate)) / rate


def sine(frequency, rms=1.0, seconds=10.0, rate=RATE):
    return np.sqrt(2) * rms * np.sin(2 * np.pi * frequency * time(seconds, rate))


def pascals(level):
    """Root mean square of a level [Pa]."""
    return 2e-5 * 10 ** (level / 20)
