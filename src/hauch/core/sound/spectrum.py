"""Narrow-band spectrum and spectrogram.

References
----------
P. D. Welch, IEEE Trans. Audio Electroacoust. 15 (1967) 70: averaged periodograms of overlapping
    windows. D. B. Percival, A. T. Walden, Spectral Analysis for Physical Applications (1993),
    6.10: degrees of freedom (eq. 292b).
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
import scipy
from numpy.typing import NDArray

from hauch.core.sound.bands import REFERENCE_PRESSURE, Array

WINDOW = 1.0
"""Length of a window [s]: lines 1 Hz apart, as tones of 100 Hz need (ECMA-418-1, 10.2: at most 1 %
of the frequency)."""

SHORT = 4
"""A stretch is cut into at least so many windows that do not overlap, whose lines lie further apart
for it."""

LEAST_WINDOW = 0.05
"""Shorter windows tell no line [s]."""


@dataclass(frozen=True, slots=True)
class Spectrum:
    """Power spectral density of a stretch.

    Parameters
    ----------
    spacing : of the lines, from 0 Hz on [Hz]
    density : shape (lines,), in the square of the samples' unit per hertz
    windows : how many were averaged, Hann, half overlapping
    freedom : degrees of freedom of each line
    """

    spacing: float
    density: Array
    windows: int
    freedom: float

    @property
    def frequency(self) -> Array:
        """Of each line [Hz]."""
        return np.asarray(np.arange(self.density.size) * self.spacing, float)

    @property
    def resolution(self) -> float:
        """Effective width of a line [Hz]: 1.5 times the spacing for a Hann window."""
        return 1.5 * self.spacing

    def power(self, low: float, high: float) -> float:
        """Mean square between two frequencies [Hz], lines at the edges in part."""
        edges = np.clip(
            (np.arange(self.density.size + 1) - 0.5) * self.spacing, max(low, 0.0), max(high, 0.0)
        )
        return float(np.dot(self.density, np.diff(edges)))


def spectrum(samples: NDArray[np.floating], rate: float, window: float = WINDOW) -> Spectrum:
    """Mean spectrum of a stretch; its mean is taken off.

    Parameters
    ----------
    samples : shape (n,), any unit, without NaN
    rate : samples a second
    window : length of a window [s], shorter where the stretch has not `SHORT` of them

    Raises
    ------
    ValueError : for less than 0.2 s
    """
    seconds = len(samples) / rate
    window = min(window, seconds / SHORT)
    if window < LEAST_WINDOW:
        raise ValueError(f"{seconds:.2g} s of sound are too short for a spectrum (0.2 s at least)")
    n = int(scipy.fft.next_fast_len(round(window * rate)))
    n -= n % 2
    hop = n // 2
    count = max((len(samples) - n) // hop + 1, 1)
    shape = scipy.signal.get_window("hann", n).astype(np.float32)
    middle = np.float32(np.mean(samples, dtype=float))
    total = np.zeros(n // 2 + 1)
    for i in range(count):
        piece = np.zeros(n, np.float32)
        own = samples[i * hop : i * hop + n]
        piece[: len(own)] = own - middle
        lines = scipy.fft.rfft(piece * shape)
        total += lines.real**2 + lines.imag**2
    density = total * (2 / (count * rate * float(np.sum(shape.astype(float) ** 2))))
    density[0] /= 2
    density[-1] /= 2
    # Half-overlapping Hann windows share 1/36 of their variance with each neighbour.
    freedom = 2 * count / (1 + (2 / 36) * (count - 1) / count)
    return Spectrum(rate / n, density, count, freedom)


ROWS = 256
"""Rows of a spectrogram, evenly spaced in the logarithm of the frequency."""

LOWEST, HIGHEST = 20.0, 20_000.0
"""Frequencies of its first and last row [Hz]."""

GRID_WINDOW = 4096 / 48_000
"""Its windows [s]; half overlapping in a short recording."""

MOST_COLUMNS = 30_000
"""A longer recording keeps the loudest of neighbouring windows in each row."""

FLOOR, DIGIT = -40.0, 0.5
"""Level of the value 0 and of one step [dB]."""


@dataclass(frozen=True, slots=True)
class Grid:
    """A spectrogram of levels as a tone of that level would read.

    Parameters
    ----------
    step : of the columns [s]
    cells : shape (columns, rows), 0 to 255: `FLOOR` and steps of `DIGIT` above it [dB]
    """

    step: float
    cells: NDArray[np.uint8]

    def thinned(self, start: float, end: float, columns: int) -> tuple[Grid, float, float]:
        """The loudest of the cells that share a column when a stretch [s] is drawn in at most so
        many columns; with the stretch that it shows, cut at whole columns.
        """
        total = len(self.cells)
        first = int(np.clip(np.floor(start / self.step), 0, max(total - 1, 0)))
        last = int(np.clip(np.ceil(end / self.step), first + 1, total))
        kept = self.cells[first:last]
        each = -(-len(kept) // max(columns, 1))
        if each > 1:
            kept = np.maximum.reduceat(kept, np.arange(0, len(kept), each), axis=0)
        step = each * self.step
        return Grid(step, kept), first * self.step, min(last, total) * self.step


def row_frequency() -> Array:
    """Middle of each row [Hz]."""
    return np.asarray(np.geomspace(LOWEST, HIGHEST, ROWS))


def grid(samples: NDArray[np.floating], rate: float, unit: float = 1.0) -> Grid:
    """Spectrogram of a recording.

    Parameters
    ----------
    samples : shape (n,), any unit, without NaN
    rate : samples a second
    unit : pascals of one unit; 1 for a recording that is not calibrated
    """
    n = 2 * int(scipy.fft.next_fast_len(max(round(GRID_WINDOW * rate / 2), 32)))
    hop = n // 2
    count = max(-(-(len(samples) - n) // hop) + 1, 1)
    each = -(-count // MOST_COLUMNS)
    shape = scipy.signal.get_window("hann", n).astype(np.float32)
    scale = 2 * (unit / float(np.sum(shape))) ** 2 / REFERENCE_PRESSURE**2
    rows = _Rows.make(rate / n, n // 2 + 1)
    cells = np.zeros((-(-count // each), ROWS), np.uint8)
    batch = 64
    for begin in range(0, count, batch):
        piece = np.zeros((min(batch, count - begin), n), np.float32)
        for i in range(len(piece)):
            own = samples[(begin + i) * hop : (begin + i) * hop + n]
            piece[i, : len(own)] = own
        lines = scipy.fft.rfft(piece * shape, axis=1)
        level = 10 * np.log10(scale * rows.of(lines.real**2 + lines.imag**2) + 1e-30)
        steps = np.clip((level - FLOOR) / DIGIT, 0, 255).astype(np.uint8)
        np.maximum.at(cells, (begin + np.arange(len(piece))) // each, steps)
    return Grid(each * hop / rate, cells)


@dataclass(frozen=True, slots=True)
class _Rows:
    """Which lines a row holds: the loudest of several, or between two where rows are closer."""

    first: NDArray[np.intp]
    wide: NDArray[np.bool_]
    low: NDArray[np.intp]
    share: NDArray[np.float32]
    within: NDArray[np.bool_]

    @classmethod
    def make(cls, spacing: float, lines: int) -> _Rows:
        ratio = (HIGHEST / LOWEST) ** (0.5 / (ROWS - 1))
        middle = row_frequency()
        first = np.ceil(middle / ratio / spacing).astype(np.intp)
        after = np.ceil(middle * ratio / spacing).astype(np.intp)
        at = middle / spacing
        low = np.clip(np.floor(at).astype(np.intp), 0, lines - 2)
        return cls(
            np.clip(first, 0, lines - 1),
            after - first >= 2,
            low,
            np.clip(at - low, 0, 1).astype(np.float32),
            at < lines - 1,
        )

    def of(self, power: NDArray[np.float32]) -> NDArray[np.float32]:
        between = power[:, self.low] * (1 - self.share) + power[:, self.low + 1] * self.share
        most = np.maximum.reduceat(power, self.first, axis=1)
        return np.where(self.wide, most, between) * self.within
