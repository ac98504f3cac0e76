"""Tones: found over the noise around them, how far they stand out, whether the ear hears them.

References
----------
ECMA-418-1:2022, clause 11 (tone-to-noise ratio: critical band, proximity of tones, criterion) and
    clause 12 (prominence ratio: contiguous bands, criterion). ISO 1996-2:2007, Annex C (audibility
    of tones, tonal adjustment).
"""

from __future__ import annotations

import math
from dataclasses import dataclass, replace
from enum import StrEnum

import numpy as np
from numpy.typing import NDArray

from hauch.core.sound.bands import level
from hauch.core.sound.hearing import critical_band_edges, threshold
from hauch.core.sound.lines import Lines, find_lines, frequency_of, noise_density, power_of
from hauch.core.sound.spectrum import Spectrum

LOWEST, HIGHEST = 20.0, 16_000.0
"""Tones are looked for between these [Hz]."""

FAINTEST = 70.0
"""A tone so far below the whole sound is what a filter or a codec left of it [dB]."""

RATED = (89.1, 11_220.0)
"""Frequencies between which ECMA-418-1 rates tones [Hz]."""

MOST_ADJUSTMENT = 6.0
"""The most that is added for tones [dB] (ISO 1996-2, C.2.4)."""

MOST = 60
"""So many tones at most are kept, those that stand out most."""


class Heard(StrEnum):
    """What the ear makes of a tone."""

    AUDIBLE = "audible"
    MASKED = "masked by the noise around it"
    TOO_LOW = "below the threshold of hearing"


@dataclass(frozen=True, slots=True)
class Tone:
    """A tone of a spectrum.

    Parameters
    ----------
    frequency : [Hz]
    level : without the noise under it [dB]
    width : of the lines that belong to it [Hz]
    to_noise : tone-to-noise ratio [dB]; above the noise in its critical band
    prominence : prominence ratio [dB]: its critical band above the two beside it; None where a band
        lies outside of the spectrum
    prominent : whether it is a prominent discrete tone by either ratio (ECMA-418-1)
    audibility : level above the masking threshold [dB] (ISO 1996-2, Annex C)
    heard : what the ear makes of it
    """

    frequency: float
    level: float
    width: float
    to_noise: float
    prominence: float | None
    prominent: bool
    audibility: float
    heard: Heard


def tones(spectrum: Spectrum, calibrated: bool = True) -> list[Tone]:
    """Tones of a mean spectrum, by frequency.

    Parameters
    ----------
    spectrum : density [Pa2/Hz]
    calibrated : whether levels are true, so that the threshold of hearing can be held against them

    Notes
    -----
    A tone is a peak over the running median of its surroundings that noise alone reaches once in
    `1 / FALSE_PEAKS` spectra (from the degrees of freedom), and that is narrower than `WIDEST` of
    its critical band. Its power is what its lines have over the noise.
    """
    noise = noise_density(spectrum, LOWEST)
    found = find_lines(spectrum, noise, LOWEST)
    powers = np.array([power_of(spectrum, noise, lines) for lines in found])
    density = spectrum.density.copy()
    for lines in found:
        density[lines.first : lines.last + 1] = noise[lines.first : lines.last + 1]
    without = replace(spectrum, density=density)
    whole = float(level(spectrum.power(LOWEST, spectrum.frequency[-1]))) - FAINTEST
    made = [
        _rated(spectrum, without, found, powers, i, calibrated)
        for i in range(len(found))
        if powers[i] > 0
    ]
    made = [tone for tone in made if tone.frequency <= HIGHEST and tone.level > whole]
    strongest = sorted(made, key=lambda tone: -tone.audibility)[:MOST]
    return sorted(strongest, key=lambda tone: tone.frequency)


def _rated(
    spectrum: Spectrum,
    without: Spectrum,
    found: list[Lines],
    powers: NDArray[np.float64],
    own: int,
    calibrated: bool,
) -> Tone:
    """One of the tones that were found, rated against the spectrum without them."""
    lines = found[own]
    frequency = frequency_of(spectrum, without.density, lines)
    tone = float(powers[own])
    low, high = critical_band_edges(frequency)
    others = [
        i
        for i, one in enumerate(found)
        if low <= one.top * spectrum.spacing <= high and powers[i] > 0
    ]
    in_band = max(without.power(low, high), 1e-300)
    close = [i for i in others if _close(frequency, found[i].top * spectrum.spacing, i == own)]
    to_noise = 10 * math.log10(float(powers[close].sum()) / in_band)
    prominence = _prominence(spectrum, frequency, low, high)
    audibility = _audibility(without, frequency, tone)
    return Tone(
        frequency=frequency,
        level=float(level(tone)),
        width=(lines.last - lines.first + 1) * spectrum.spacing,
        to_noise=to_noise,
        prominence=prominence,
        prominent=_prominent(frequency, to_noise, prominence),
        audibility=audibility,
        heard=_heard(frequency, tone, audibility, calibrated),
    )


def _close(frequency: float, other: float, same: bool) -> bool:
    """Whether two tones of a critical band are heard as one (ECMA-418-1, 11.4)."""
    apart = 21 * 10 ** (1.2 * abs(math.log10(frequency / 212)) ** 1.8)
    return same or abs(other - frequency) < apart


LOWER = (
    (171.4, (20.0, 0.0, 0.0)),
    (1600.0, (-149.5, 1.001, -6.90e-5)),
    (1e9, (6.8, 0.806, -8.20e-6)),
)
UPPER = ((1600.0, (149.5, 1.035, 7.70e-5)), (1e9, (3.3, 1.215, 2.16e-5)))
"""Outer edges of the bands beside a tone's critical band: up to a frequency [Hz], the polynomial of
the frequency (ECMA-418-1, tables 4 and 5).
"""


def _outer(table: tuple[tuple[float, tuple[float, float, float]], ...], frequency: float) -> float:
    c0, c1, c2 = next(row for most, row in table if frequency <= most)
    return c0 + c1 * frequency + c2 * frequency**2


def _prominence(spectrum: Spectrum, frequency: float, low: float, high: float) -> float | None:
    """Prominence ratio [dB]."""
    below, above = _outer(LOWER, frequency), _outer(UPPER, frequency)
    if above > spectrum.frequency[-1] or low <= below:
        return None
    lower = spectrum.power(below, low)
    if frequency <= 171.4:
        lower *= 100 / (low - below)
    beside = (lower + spectrum.power(high, above)) / 2
    return 10 * math.log10(spectrum.power(low, high) / max(beside, 1e-300))


def _prominent(frequency: float, to_noise: float, prominence: float | None) -> bool:
    """Criteria of ECMA-418-1, 11.6 and 12.6."""
    if not RATED[0] <= frequency <= RATED[1]:
        return False
    below = max(math.log10(1000 / frequency), 0.0)
    return to_noise >= 8 + 8.33 * below or (prominence is not None and prominence >= 9 + 10 * below)


def audibility_band(frequency: float) -> float:
    """Width of the critical band of ISO 1996-2, C.2.3 [Hz]: 100 Hz up to 500 Hz, a fifth above."""
    return max(100.0, 0.2 * frequency)


def _audibility(without: Spectrum, frequency: float, tone: float) -> float:
    """Level above the masking threshold [dB]: L_tone - L_noise + 2 + lg(1 + (f / 502)^2.5)."""
    width = audibility_band(frequency)
    low = max(frequency - width / 2, 0.0)
    in_band = max(without.power(low, low + width), 1e-300)
    return 10 * math.log10(tone / in_band) + 2 + math.log10(1 + (frequency / 502) ** 2.5)


def _heard(frequency: float, tone: float, audibility: float, calibrated: bool) -> Heard:
    if calibrated and float(level(tone)) < float(threshold(frequency)):
        return Heard.TOO_LOW
    return Heard.AUDIBLE if audibility > 0 else Heard.MASKED


def tonal_adjustment(found: list[Tone]) -> float:
    """Adjustment for audible tones [dB] (ISO 1996-2:2007, C.2.4): that of the most audible one, none
    up to 4 dB above the masking threshold, 6 dB from 10 dB on.

    Notes
    -----
    Tones of one critical band are put together, as they are heard together; those below the
    threshold of hearing do not count.
    """
    most = -math.inf
    for tone in (t for t in found if t.heard is not Heard.TOO_LOW):
        half = audibility_band(tone.frequency) / 2
        near = [
            t
            for t in found
            if abs(t.frequency - tone.frequency) <= half and t.heard is not Heard.TOO_LOW
        ]
        together = 10 * math.log10(sum(10 ** ((t.level - tone.level) / 10) for t in near))
        most = max(most, tone.audibility + together)
    return float(np.clip(most - 4, 0, MOST_ADJUSTMENT))
