"""Time courses of weighted levels and of one-third-octave bands, in one pass over a recording.

The recording is cut into overlapping pieces, each is transformed once, and every band is brought
back from its own few lines at a rate that suits its width. The filters are the magnitudes of
Butterworth band filters, so that they keep to class 1 at every sampling rate up to the band whose
upper edge is below half of it.

References
----------
IEC 61260-1:2014, 5.2 to 5.5 (mid-band frequencies to base ten, band edges), 5.10 and table 1
    (limits of class 1).
"""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass
from functools import lru_cache

import numpy as np
import scipy
from numpy.typing import NDArray

from hauch.core.sound.weighting import WEIGHTINGS, power_gain

Array = NDArray[np.float64]

STEP = 0.02
"""About so long is one value of a time course [s]; exactly a whole number of samples."""

REFERENCE_PRESSURE = 2e-5
"""0 dB [Pa] (ISO 1683)."""

ORDER = 6
"""Order of the Butterworth prototype: for noise of a flat spectrum the band is 1.2 % (0.05 dB) wider
than between its edges.
"""

FIRST, LAST = -16, 13
"""Numbers of the bands at most looked at: 25 Hz to 20 kHz."""

DOWN = 1e-9
"""Lines of a band whose power falls below this share are left away."""

PIECE, GUARD = 200, 30
"""Steps of a piece, and those at either end that belong to its neighbours: 0.6 s, in which the
narrowest band has died away.
"""

NOMINAL = (
    *(25, 31.5, 40, 50, 63, 80, 100, 125, 160, 200, 250, 315, 400, 500, 630),
    *(800, 1000, 1250, 1600, 2000, 2500, 3150, 4000, 5000, 6300, 8000, 10000),
    *(12500, 16000, 20000),
)
"""Nominal mid-band frequencies from `FIRST` on [Hz] (IEC 61260-1, table E.1)."""


def band_numbers(rate: float) -> range:
    """Numbers x of the bands that a sampling rate [1/s] can tell; their mid-band frequency is
    1000 Hz times 10^(x/10).
    """
    last = int(np.floor(10 * np.log10(0.98 * rate / 2 / 1000) - 0.5))
    return range(FIRST, min(last, LAST) + 1)


def mid_band(number: int | NDArray[np.int64]) -> Array:
    """Exact mid-band frequency [Hz]."""
    return np.asarray(1000 * 10 ** (np.asarray(number) / 10))


def band_power_gain(number: int, frequency: Array) -> Array:
    """Share of the power of a tone that a band lets through.

    Parameters
    ----------
    number : of the band
    frequency : [Hz], any shape
    """
    middle = float(mid_band(number))
    width = 10**0.05 - 10**-0.05
    f = np.maximum(np.asarray(frequency, float), 1e-9) / middle
    return np.asarray(1 / (1 + ((f - 1 / f) / width) ** (2 * ORDER)))


@dataclass(frozen=True, slots=True)
class Courses:
    """Mean squares of consecutive steps, in the square of the samples' unit.

    Parameters
    ----------
    step : [s]
    weighted : by weighting, shape (steps,)
    bands : numbers of the bands
    band : shape (bands, steps)
    """

    step: float
    weighted: dict[str, Array]
    bands: range
    band: Array

    def between(self, start: float, end: float) -> Courses:
        """The steps of a stretch [s]."""
        kept = slice(round(start / self.step), max(round(end / self.step), 1))
        return Courses(
            self.step,
            {name: values[kept] for name, values in self.weighted.items()},
            self.bands,
            self.band[:, kept],
        )

    @property
    def times(self) -> Array:
        """Middle of each step [s]."""
        return np.asarray((np.arange(self.band.shape[1]) + 0.5) * self.step, float)


def step_samples(rate: float) -> int:
    """Samples of one step."""
    return max(round(STEP * rate), 1)


def courses(samples: NDArray[np.floating], rate: float) -> Courses:
    """Weighted and band-filtered mean squares over time.

    Parameters
    ----------
    samples : shape (n,), any unit, without NaN; their mean is taken off
    rate : samples a second, at least 1000

    Raises
    ------
    ValueError : for less than one step, or a rate that tells no band

    Notes
    -----
    What is left of the last step is not counted. The recording is mirrored at its ends, so that a
    band's level does not fall towards them.
    """
    q = step_samples(rate)
    steps = len(samples) // q
    numbers = band_numbers(rate)
    if steps < 1 or len(numbers) < 1:
        raise ValueError(
            f"{len(samples)} samples at {rate:g} a second are too few for a level over time"
        )
    n = PIECE * q
    weights, filters = _filters(rate)
    fade = _fade(q)
    weighted = {name: np.empty(steps) for name in WEIGHTINGS}
    band = np.empty((len(numbers), steps))
    for first, piece in _pieces(samples, q, steps):
        kept = slice(GUARD, GUARD + min(PIECE - 2 * GUARD, steps - first))
        into = slice(first, first + kept.stop - kept.start)
        weighted["Z"][into] = _mean_squares(piece, PIECE)[kept]
        lines = scipy.fft.rfft(piece * fade)
        for name, weight in weights.items():
            weighted[name][into] = _mean_squares(scipy.fft.irfft(lines * weight, n), PIECE)[kept]
        for row, one in zip(band, filters, strict=True):
            row[into] = one.power(lines, n)[kept]
    return Courses(q / rate, weighted, numbers, band)


@lru_cache(maxsize=4)
def _filters(rate: float) -> tuple[dict[str, NDArray[np.float32]], list[_Band]]:
    """Weightings and bands on the lines of a piece; recordings of one rate share them."""
    frequency = scipy.fft.rfftfreq(PIECE * step_samples(rate), 1 / rate)
    weights = {
        name: np.sqrt(power_gain(name, frequency)).astype(np.float32)
        for name in WEIGHTINGS
        if name != "Z"
    }
    return weights, [_Band.make(number, frequency) for number in band_numbers(rate)]


def _pieces(
    samples: NDArray[np.floating], q: int, steps: int
) -> Iterator[tuple[int, NDArray[np.float32]]]:
    """Overlapping pieces with the number of the first step that counts in them."""
    guard, inner, total = GUARD * q, (PIECE - 2 * GUARD) * q, len(samples)
    middle = np.float32(np.mean(samples, dtype=float))
    for first in range(0, steps, PIECE - 2 * GUARD):
        start = first * q - guard
        end = start + inner + 2 * guard
        if start >= 0 and end <= total:
            yield first, np.asarray(samples[start:end], np.float32) - middle
            continue
        at = np.arange(start, end)
        period = max(2 * (total - 1), 1)  # mirrored at both ends as often as it takes
        at = np.abs(at) % period
        at = np.where(at >= total, period - at, at)
        yield first, np.asarray(samples[at], np.float32) - middle


def _fade(q: int) -> NDArray[np.float32]:
    """Ends of a piece run to zero within a third of the guard, so that they do not click."""
    out = np.ones(PIECE * q)
    rise = 0.5 - 0.5 * np.cos(np.pi * (np.arange(GUARD * q // 3) + 0.5) / (GUARD * q // 3))
    out[: rise.size] = rise
    out[-rise.size :] = rise[::-1]
    return out.astype(np.float32)


def _mean_squares(values: NDArray[np.floating], steps: int) -> Array:
    rows = values.reshape(steps, -1)
    return np.asarray(np.einsum("ij,ij->i", rows, rows) / rows.shape[1], float)


@dataclass(frozen=True, slots=True)
class _Band:
    """Lines of one band, from ``first`` on, and how many values its piece is brought back to."""

    first: int
    gain: NDArray[np.float32]
    size: int

    @classmethod
    def make(cls, number: int, frequency: Array) -> _Band:
        share = band_power_gain(number, frequency)
        lines = np.flatnonzero(share > DOWN)
        kept = slice(int(lines[0]), int(lines[-1]) + 1)
        length = kept.stop - kept.start
        size = PIECE * int(scipy.fft.next_fast_len(int(np.ceil(length / PIECE))))
        return cls(kept.start, np.sqrt(share[kept]).astype(np.float32), size)

    def power(self, lines: NDArray[np.complex64], n: int) -> Array:
        """Mean squares of each step, from the analytic signal of the band."""
        own = lines[self.first : self.first + self.gain.size] * self.gain
        signal = scipy.fft.ifft(own, self.size)
        return _mean_squares(signal.view(np.float32), PIECE) * (4 * (self.size / n) ** 2)


def level(mean_square: NDArray[np.floating] | float) -> Array:
    """Level [dB] of a mean square [Pa2]; -inf for none."""
    with np.errstate(divide="ignore"):
        return np.asarray(10 * np.log10(np.asarray(mean_square, float) / REFERENCE_PRESSURE**2))


def fast(course: Array, step: float, time_constant: float = 0.125) -> Array:
    """Exponentially averaged mean squares, time weighting F where the constant is 0.125 s (IEC
    61672-1, 3.8). Begins at the mean of the first tenth of a second, as a meter that was on before.
    """
    keep = float(np.exp(-step / time_constant))
    start = float(np.mean(course[: max(round(0.1 / step), 1)]))
    out, _ = scipy.signal.lfilter([1 - keep], [1, -keep], course, zi=[keep * start])
    return np.asarray(out)


def exceeded(levels: Array, percent: float) -> float:
    """Level [dB] that is exceeded in a share of the time [%]: L90 is what is nearly always there."""
    return float(np.percentile(levels, 100 - percent))
