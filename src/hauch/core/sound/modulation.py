"""Sound whose strength rises and falls at a steady rate: a flutter of two jets, a wobble at once per
turn.

References
----------
Envelope as the magnitude of the analytic signal of a band: J. S. Bendat, A. G. Piersol, Random Data,
    4th edition (2010), 13.1. Depth at which a modulation is just heard, -26 dB for noise at low
    rates: N. F. Viemeister, J. Acoust. Soc. Am. 66 (1979) 1364.
"""

from __future__ import annotations

import math
from dataclasses import dataclass

import numpy as np
import scipy
from numpy.typing import NDArray

from hauch.core.sound.lines import find_lines, frequency_of, noise_density, power_of
from hauch.core.sound.spectrum import spectrum

BANDS = (500, 1000, 2000, 4000)
"""Octave bands in which it is looked for [Hz]."""

LOWEST, HIGHEST = 0.7, 400.0
"""Rates that are looked for [1/s]."""

WINDOW = 4.0
"""Windows of the envelope's spectrum [s]."""

JUST_HEARD = 0.05
"""Depth from which on a modulation of noise is heard."""

MOST_SECONDS = 60.0
"""Of a longer stretch the middle is looked at [s]."""

SAME = 0.02
"""Rates of two bands are one when they differ by less than this share."""


@dataclass(frozen=True, slots=True)
class Modulation:
    """A rise and fall at a steady rate.

    Parameters
    ----------
    rate : [1/s]
    depth : of the amplitude, 1 where it falls to nothing
    band : octave band in which it is deepest [Hz]
    name : what it comes from, where that is known
    """

    rate: float
    depth: float
    band: int
    name: str = ""


def modulations(samples: NDArray[np.floating], rate: float) -> list[Modulation]:
    """Steady modulations that are heard, the deepest first.

    Parameters
    ----------
    samples : shape (n,), any unit, without NaN
    rate : samples a second

    Notes
    -----
    Noise alone has an envelope that wanders without a rate; only lines over that count. Two tones in
    one band beat at their difference, and are told as such a modulation.
    """
    n = min(len(samples), int(MOST_SECONDS * rate))
    begin = (len(samples) - n) // 2
    size = int(scipy.fft.next_fast_len(n, real=True))
    own = np.asarray(samples[begin : begin + n], np.float32)
    lines = scipy.fft.rfft(own - own.mean(dtype=float), size)
    found: list[Modulation] = []
    for band in BANDS:
        if band * math.sqrt(2) < 0.98 * rate / 2:
            found += _in_band(lines, rate, size, n, band)
    found.sort(key=lambda one: -one.depth)
    out: list[Modulation] = []
    for one in found:
        if all(abs(one.rate - other.rate) > SAME * other.rate for other in out):
            out.append(one)
    return out


def _in_band(
    lines: NDArray[np.complex64], rate: float, size: int, n: int, band: int
) -> list[Modulation]:
    spacing = rate / size
    low, high = int(band / math.sqrt(2) / spacing), int(band * math.sqrt(2) / spacing)
    own = lines[low:high] * scipy.signal.windows.tukey(high - low, 0.2)
    brought = int(scipy.fft.next_fast_len(2 * own.size))  # an envelope is twice as wide
    envelope = np.abs(scipy.fft.ifft(own, brought))[: int(n / size * brought)]
    mean = float(envelope.mean())
    seconds = n / rate
    if not mean > 0 or seconds < 4:
        return []
    shape = spectrum(envelope / mean - 1, envelope.size / seconds, WINDOW)
    noise = noise_density(shape, LOWEST)
    out = []
    for one in find_lines(shape, noise, LOWEST):
        depth = math.sqrt(max(2 * power_of(shape, noise, one), 0.0))
        at = frequency_of(shape, noise, one)
        if depth >= JUST_HEARD and at <= HIGHEST:
            out.append(Modulation(at, min(depth, 1.0), band))
    return out
