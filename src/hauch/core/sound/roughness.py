"""Roughness and fluctuation strength: how harsh sound is that rises and falls fast, how restless one
that does so slowly.

References
----------
P. Daniel, R. Weber, Acustica 83 (1997) 113 (roughness: excitation by Terhardt's slopes in 47
    overlapping channels, weighted modulation depth, correlation of neighbours; 1 asper for 1 kHz, 60
    dB, modulated fully at 70 Hz). A. Osses, R. García, A. Kohlrausch, Proc. 22nd ICA (2016) 367
    (fluctuation strength by the same way, exponent 1.7). H. Fastl, E. Zwicker, Psychoacoustics, 3rd
    edition (2007), 10.1 and 11.1 (dependence on the rate, best at 4 Hz and near 70 Hz; 1 vacil for 1
    kHz, 60 dB, modulated fully at 4 Hz).
"""

from __future__ import annotations

from collections.abc import Callable

import numpy as np
import scipy
from numpy.typing import NDArray

from hauch.core.sound.bands import Array, level
from hauch.core.sound.hearing import critical_band_rate, threshold

CHANNELS = 47
"""Channels of a critical band each, half a Bark apart."""

RATES = np.arange(1, CHANNELS + 1) / 2
"""Middle of each channel [Bark]."""

LOWER_SLOPE = -27.0
"""Slope of the excitation towards lower channels [dB/Bark]."""

ROUGH_FRAME, SLOW_FRAME = 0.2, 2.0
"""Frames in which the one and the other is told [s]."""

SLOW_RATE = 500.0
"""So often a second an envelope is looked at for slow fluctuation."""

MOST_FRAMES, MOST_SLOW_FRAMES = 8, 2
"""So many frames, spread evenly, are looked at: steady running is alike everywhere."""

HIGHEST = 16_000.0

_WEIGHT_Z = np.arange(25.0)
_WEIGHT_G = np.array(
    [
        *(0.15, 0.26, 0.38, 0.47, 0.54, 0.65, 0.76, 0.83, 0.90, 0.98, 0.98, 0.90, 0.80),
        *(0.70, 0.62, 0.54, 0.49, 0.43, 0.39, 0.35, 0.30, 0.30, 0.30, 0.30, 0.30),
    ]
)
"""Weight of a channel on roughness at each Bark (Daniel and Weber 1997, figure 3, after Aures)."""

_EAR_Z = np.array(
    [0, 10, 12, 13, 14, 15, 16, 16.5, 17, 18, 18.5, 19, 20, 21, 21.5, 22, 22.5, 23, 23.5, 24, 25]
)
_EAR = np.array(
    [
        0,
        0,
        1.15,
        2.31,
        3.85,
        5.62,
        6.92,
        7.38,
        6.92,
        4.23,
        2.31,
        0,
        -1.43,
        -2.59,
        -3.57,
        -5.19,
        -7.41,
        -11.3,
        -20,
        -40,
        -130,
    ]
)
"""What the outer and middle ear let through more [dB] (Fastl and Zwicker 2007, figure 8.18)."""

_RATE_WEIGHTS: tuple[tuple[int, Array, Array], ...] = tuple(
    (first, np.array(x, float), np.array(y, float))
    for first, x, y in (
        (
            0,
            (0, 17, 23, 25, 32, 37, 48, 67, 90, 114, 171, 206, 247, 294, 358),
            (0, 0.8, 0.95, 0.975, 1, 0.975, 0.9, 0.8, 0.7, 0.6, 0.4, 0.3, 0.2, 0.1, 0),
        ),
        (
            4,
            (0, 32, 43, 56, 69, 92, 120, 142, 165, 231, 277, 331, 397, 502),
            (0, 0.8, 0.95, 1, 0.975, 0.9, 0.8, 0.7, 0.6, 0.4, 0.3, 0.2, 0.1, 0),
        ),
        (
            15,
            (
                0,
                23.5,
                34,
                47,
                56,
                63,
                79,
                100,
                115,
                135,
                159,
                172,
                194,
                215,
                244,
                290,
                348,
                415,
                500,
                645,
            ),
            (
                0,
                0.4,
                0.6,
                0.8,
                0.9,
                0.95,
                1,
                0.975,
                0.95,
                0.9,
                0.85,
                0.8,
                0.7,
                0.6,
                0.5,
                0.4,
                0.3,
                0.2,
                0.1,
                0,
            ),
        ),
        (
            20,
            (
                0,
                19,
                44,
                52.5,
                58,
                75,
                101.5,
                114.5,
                132.5,
                143.5,
                165.5,
                197.5,
                241,
                290,
                348,
                415,
                500,
                645,
            ),
            (0, 0.4, 0.8, 0.9, 0.95, 1, 0.95, 0.9, 0.85, 0.8, 0.7, 0.6, 0.5, 0.4, 0.3, 0.2, 0.1, 0),
        ),
        (
            41,
            (0, 15, 41, 49, 53, 64, 71, 88, 94, 106, 115, 137, 180, 238, 290, 348, 415, 500, 645),
            (
                0,
                0.4,
                0.8,
                0.9,
                0.965,
                0.99,
                1,
                0.95,
                0.9,
                0.85,
                0.8,
                0.7,
                0.6,
                0.5,
                0.4,
                0.3,
                0.2,
                0.1,
                0,
            ),
        ),
    )
)
"""From which channel on, rates [1/s], and how much a modulation at that rate counts (Daniel and Weber
1997, figure 2)."""


def roughness(pressure: NDArray[np.floating], rate: float) -> float:
    """Roughness [asper], the mean over the frames.

    Parameters
    ----------
    pressure : shape (n,) [Pa]
    rate : samples a second

    Raises
    ------
    ValueError : for less than one frame of 0.2 s
    """
    return _mean(pressure, rate, ROUGH_FRAME, _rough)


def fluctuation_strength(pressure: NDArray[np.floating], rate: float) -> float:
    """Fluctuation strength [vacil], the mean over the frames.

    Raises
    ------
    ValueError : for less than one frame of 2 s
    """
    return _mean(pressure, rate, SLOW_FRAME, _fluctuating)


def _mean(
    pressure: NDArray[np.floating],
    rate: float,
    seconds: float,
    told: Callable[[NDArray[np.floating], float], float],
) -> float:
    n = int(scipy.fft.next_fast_len(int(seconds * rate), real=True))
    n = n if n <= len(pressure) else int(seconds * rate)
    if len(pressure) < n:
        raise ValueError(f"{len(pressure) / rate:.2g} s are less than a frame of {seconds:g} s")
    count = min(len(pressure) // n, MOST_FRAMES if seconds < 1 else MOST_SLOW_FRAMES)
    starts = np.linspace(0, len(pressure) - n, count).astype(int)
    return float(np.mean([told(pressure[i : i + n], rate) for i in starts]))


def _envelopes(frame: NDArray[np.floating], rate: float) -> NDArray[np.float32]:
    """Envelope of the excitation of each channel, shape (channels, n)."""
    n = len(frame)
    window = scipy.signal.get_window("blackman", n)
    lines = scipy.fft.rfft((frame - np.mean(frame)) * window) * (np.sqrt(2) / window.sum())
    frequency = np.asarray(np.fft.rfftfreq(n, 1 / rate), float)
    bark = critical_band_rate(frequency)
    lines = lines * 10 ** (np.interp(bark, _EAR_Z, _EAR) / 20)
    db = level(np.maximum(np.abs(lines) ** 2, 1e-30))
    heard = np.flatnonzero(
        (frequency >= 20) & (frequency <= HIGHEST) & (db > threshold(np.maximum(frequency, 20)))
    )
    excitation = np.zeros((CHANNELS, n), np.complex64)
    if heard.size:
        share = _spread(bark[heard], frequency[heard], db[heard])
        excitation[:, heard] = share * lines[heard]
    return np.abs(scipy.fft.ifft(excitation, axis=1)).astype(np.float32)


def _spread(bark: Array, frequency: Array, db: Array) -> NDArray[np.float32]:
    """How much of each line is in each channel, shape (channels, lines): all of it in the two that it
    lies between, else what Terhardt's slopes leave of it, none below the threshold there.
    """
    low = np.floor(2 * bark).astype(int) - 1
    high = np.ceil(2 * bark).astype(int) - 1
    upper = np.minimum(-24 - 230 / frequency + 0.2 * db, 0)
    channel = np.arange(CHANNELS)[:, None]
    # Outside of its own channels a line counts by its level at the nearer edge of the channel.
    edge = np.where(
        channel < low,
        RATES[np.minimum(channel + 1, CHANNELS - 1)],
        RATES[np.maximum(channel - 1, 0)],
    )
    left = np.where(channel < low, LOWER_SLOPE * (bark - edge), upper * (edge - bark))
    quiet = threshold(_frequency_of(edge))
    share = np.where(db + left > quiet, 10 ** (left / 20), 0.0)
    return np.where((channel == low) | (channel == high), 1.0, share).astype(np.float32)


_BARKS = np.linspace(0, 24.6, 500)
_HERTZ = np.interp(
    _BARKS, critical_band_rate(np.linspace(0, 20_000, 20_001)), np.linspace(0, 20_000, 20_001)
)


def _frequency_of(bark: Array) -> Array:
    return np.asarray(np.maximum(np.interp(bark, _BARKS, _HERTZ), 20.0))


def _swings(
    envelopes: NDArray[np.float32], weights: Array
) -> tuple[NDArray[np.float64], NDArray[np.float32]]:
    """Weighted depth of the modulation in each channel, and its course."""
    mean = envelopes.mean(axis=1)
    lines = scipy.fft.rfft(envelopes - mean[:, None], axis=1)
    swing = scipy.fft.irfft(lines * weights, envelopes.shape[1], axis=1)
    rms = np.sqrt(np.mean(swing**2, axis=1))
    depth = np.where(mean > 0, rms / np.maximum(mean, 1e-30), 0.0)
    return np.minimum(depth, 1.0), swing


def _alike(swing: NDArray[np.float32]) -> Array:
    """Correlation of each channel with the one a Bark above, shape (channels - 2,)."""
    a, b = swing[:-2], swing[2:]
    scale = np.sqrt(np.sum(a**2, axis=1) * np.sum(b**2, axis=1))
    return np.asarray(np.sum(a * b, axis=1) / np.maximum(scale, 1e-30), float)


def _neighbours(alike: Array) -> Array:
    """Product of the correlations with the channels a Bark below and above; of one at the ends."""
    below = np.concatenate(([1.0, 1.0], alike))
    above = np.concatenate((alike, [1.0, 1.0]))
    return below * above


def _rough(frame: NDArray[np.floating], rate: float) -> float:
    n = len(frame)
    rates = np.fft.rfftfreq(n, 1 / rate)
    weights = np.zeros((CHANNELS, rates.size))
    for first, x, y in _RATE_WEIGHTS:
        weights[first:] = np.interp(rates, x, y, right=0.0)
    weights[:, :2] = 0.0
    depth, swing = _swings(_envelopes(frame, rate), weights)
    own = np.interp(RATES, _WEIGHT_Z, _WEIGHT_G) * (depth * _neighbours(_alike(swing))) ** 2
    return float(ROUGH_SCALE * own.sum())


ROUGH_SCALE = 0.25
"""Makes the reference sound 1 asper (Daniel and Weber 1997)."""

SLOW_SCALE, SLOW_POWER = 0.1525, 1.7
"""Make the reference sound 1 vacil, with the dependence on the rate of Fastl and Zwicker, and how the
depth counts (Osses and others 2016).
"""


def _fluctuating(frame: NDArray[np.floating], rate: float) -> float:
    envelopes = _envelopes(frame, rate)
    each = max(int(rate // SLOW_RATE), 1)
    count = envelopes.shape[1] // each
    envelopes = envelopes[:, : count * each].reshape(CHANNELS, count, each).mean(axis=2)
    rates = np.maximum(np.fft.rfftfreq(count, each / rate), 1e-6)
    weights = np.where(rates < 100, 2 / (rates / 4 + 4 / rates), 0.0)[None, :]
    weights[:, 0] = 0.0
    depth, swing = _swings(envelopes, weights)
    own = (depth * np.abs(_neighbours(_alike(swing)))) ** SLOW_POWER
    return float(SLOW_SCALE * own.sum())
