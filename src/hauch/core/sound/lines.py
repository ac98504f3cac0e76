"""Lines of a spectrum that stand out of the noise around them.

References
----------
Sums of periodograms of noise are chi-squared distributed: D. B. Percival, A. T. Walden, Spectral
    Analysis for Physical Applications (1993), 6.6.
"""

from __future__ import annotations

import math
from dataclasses import dataclass

import numpy as np
import scipy

from hauch.core.sound.bands import Array
from hauch.core.sound.hearing import critical_band
from hauch.core.sound.spectrum import Spectrum

FALSE_PEAKS = 1e-4
"""So many peaks of noise alone are taken for a tone in one spectrum, were its lines independent;
those of overlapping windows are not quite. In 900 recordings of noise none was (`./hauch benchmark
sound`).
"""

LEAST_EXCESS = 6.0
"""A line below this over the noise around it is no tone, however long it was averaged [dB]: no tone
so low is heard."""

VALLEY = 6.0
"""Two peaks are two tones when the line between them is so much lower than the lower one [dB]."""

WIDEST, WIDEST_SHARE, LEAST_LINES = 0.2, 0.05, 3
"""Width of a tone at half its power, at most: share of the critical band and share of the frequency,
but always so many lines; what is wider is a band of noise.
"""

NOISE_SPAN, LEAST_SPAN = 0.25, 60.0
"""Width over which the noise around a line is looked at: share of its frequency, at least [Hz]."""


def noise_density(spectrum: Spectrum, lowest: float) -> Array:
    """Density of the noise under each line: the running median of the logarithm over `NOISE_SPAN`
    of the frequency, put right for the median of noise being below its mean.

    Parameters
    ----------
    spectrum : what is looked at
    lowest : lines below this frequency do not count as surroundings [Hz]
    """
    log = np.log(np.maximum(spectrum.density, 1e-300))
    out = np.empty_like(log)
    start = min(int(lowest / spectrum.spacing), log.size - 1)
    low = 0
    while low < log.size:
        high = min(max(int(low * 1.19), low + 32), log.size)
        middle = (low + high) / 2 * spectrum.spacing
        half = int(max(NOISE_SPAN * middle, LEAST_SPAN) / spectrum.spacing / 2) + 1
        begin, end = max(low - half, start), max(min(high + half, log.size), start + 1)
        smooth = scipy.ndimage.median_filter(log[begin:end], size=2 * half + 1, mode="nearest")
        out[low:high] = smooth[np.clip(np.arange(low, high) - begin, 0, smooth.size - 1)]
        low = high
    return np.asarray(np.exp(out) / (1 - 2 / (9 * spectrum.freedom)) ** 3)


@dataclass(frozen=True, slots=True)
class Lines:
    """The lines ``first`` to ``last`` of a tone whose highest one is ``top``."""

    first: int
    top: int
    last: int


def find_lines(spectrum: Spectrum, noise: Array, lowest: float) -> list[Lines]:
    """Lines of each tone, by frequency.

    Parameters
    ----------
    spectrum : what is looked at
    noise : density of the noise under each line, of `noise_density`
    lowest : frequency from which on tones are looked for [Hz]
    """
    ratio = 10 * np.log10(np.maximum(spectrum.density / noise, 1e-12))
    chance = scipy.stats.chi2.isf(FALSE_PEAKS / ratio.size, spectrum.freedom) / spectrum.freedom
    tops, _ = scipy.signal.find_peaks(
        ratio, height=max(LEAST_EXCESS, 10 * math.log10(chance)), prominence=VALLEY
    )
    tops = tops[tops * spectrum.spacing >= lowest]
    out = []
    for i, top in enumerate(tops.tolist()):
        low_end = tops[i - 1] if i else 0
        high_end = tops[i + 1] if i + 1 < len(tops) else ratio.size - 1
        first = _edge(ratio, top, int(low_end), -1)
        last = _edge(ratio, top, int(high_end), +1)
        middle = top * spectrum.spacing
        half_power = np.flatnonzero(ratio[first : last + 1] > ratio[top] - 3)
        widest = min(WIDEST * float(critical_band(middle)), WIDEST_SHARE * middle)
        if half_power[-1] - half_power[0] <= max(widest / spectrum.spacing, LEAST_LINES):
            out.append(Lines(first, top, last))
    return out


def _edge(ratio: Array, top: int, end: int, way: int) -> int:
    """The last line that belongs to a tone: where it has come down to the noise (two lines in a row
    within 1 dB), or the valley before the next tone; at least the two lines of the window's lobe.
    """
    at = top
    lowest = top
    while at != end and 0 < at < ratio.size - 1:
        at += way
        if ratio[at] < ratio[lowest]:
            lowest = at
        if abs(at - top) >= 2 and ratio[at] < 1.0 and ratio[at - way] < 3.0:
            return at
    return at if at != end or end in (0, ratio.size - 1) else lowest


def power_of(spectrum: Spectrum, noise: Array, lines: Lines) -> float:
    """Mean square of a tone, without the noise under it."""
    own = slice(lines.first, lines.last + 1)
    return float(np.sum(spectrum.density[own] - noise[own]) * spectrum.spacing)


def frequency_of(spectrum: Spectrum, noise: Array, lines: Lines) -> float:
    """Centre of the tone's power [Hz]; of its strongest lines, so that noise does not pull it."""
    own = np.arange(lines.first, lines.last + 1)
    power = np.maximum(spectrum.density[own] - noise[own], 0)
    power = np.where(power > 0.1 * power.max(), power, 0)
    return float(np.dot(own, power) / power.sum() * spectrum.spacing)
