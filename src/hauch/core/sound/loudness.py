"""Loudness of stationary sounds and their sharpness, from one-third-octave levels.

References
----------
ISO 532-1:2017, clause 5 (method for stationary sounds) and Annex A, tables A.3 to A.9. DIN
    45692:2009, equations 1 and 2 (sharpness). Loudness level: ISO 532-1, clause 5.3.
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import ArrayLike, NDArray

from hauch.core.sound.bands import Array

BANDS = 28
"""One-third-octave bands from 25 Hz to 12.5 kHz."""

MOST_LOW_LEVEL = 120.0
"""The method holds up to this level in bands up to 250 Hz [dB]."""

STEP = 0.1
"""Steps of the critical-band rate [Bark]."""

RATE = np.round(np.arange(1, 241) * STEP, 1)
"""Critical-band rate of each value of a loudness pattern [Bark]."""

_RANGES = np.array([45, 55, 65, 71, 80, 90, 100, 120.0])
_LOWERED = np.array(
    [
        (-32, -24, -16, -10, -5, 0, -7, -3, 0, -2, 0),
        (-29, -22, -15, -10, -4, 0, -7, -2, 0, -2, 0),
        (-27, -19, -14, -9, -4, 0, -6, -2, 0, -2, 0),
        (-25, -17, -12, -9, -3, 0, -5, -2, 0, -2, 0),
        (-23, -16, -11, -7, -3, 0, -4, -1, 0, -1, 0),
        (-20, -14, -10, -6, -3, 0, -4, -1, 0, -1, 0),
        (-18, -12, -9, -6, -2, 0, -3, -1, 0, -1, 0),
        (-15, -10, -8, -4, -2, 0, -3, -1, 0, -1, 0),
    ],
    float,
)
"""Ranges of levels, and what they take off the bands up to 250 Hz [dB] (table A.3)."""

_THRESHOLD = np.array([30, 18, 12, 8, 7, 6, 5, 4, *[3] * 12], float)
"""Level of each critical band at the threshold [dB] (table A.6)."""

_EAR = np.array([*[0] * 10, -0.5, -1.6, -3.2, -5.4, -5.6, -4, -1.5, 2, 5, 12])
"""What the ear lets through less [dB] (table A.4)."""

_DIFFUSE = np.array(
    [0, 0, 0.5, 0.9, 1.2, 1.6, 2.3, 2.8, 3, 2, 0, -1.4, -2, -1.9, -1, 0.5, 3, 4, 4.3, 4]
)
"""Level in a diffuse field over that in a free one [dB] (table A.5)."""

_WIDTH = np.array(
    [
        *(-0.25, -0.6, -0.8, -0.8, -0.5, 0, 0.5, 1.1, 1.5, 1.7),
        *(1.8, 1.8, 1.7, 1.6, 1.4, 1.2, 0.8, 0.5, 0, -0.5),
    ]
)
"""Band level over critical-band level [dB] (table A.7)."""

_UPPER = np.array(
    [
        *(0.9, 1.8, 2.8, 3.5, 4.4, 5.4, 6.6, 7.9, 9.2, 10.6, 12.3),
        *(13.8, 15.2, 16.7, 18.1, 19.3, 20.6, 21.8, 22.7, 23.6, 24.0),
    ]
)
"""Upper limits of the critical bands [Bark] (table A.8)."""

_STEPS = np.array(
    [
        *(21.5, 18, 15.1, 11.5, 9, 6.1, 4.4, 3.1, 2.13),
        *(1.36, 0.82, 0.42, 0.30, 0.22, 0.15, 0.10, 0.035, 0),
    ]
)
_SLOPES = np.array(
    [
        (13, 8.2, 6.3, 5.5, 5.5, 5.5, 5.5, 5.5),
        (9, 7.5, 6, 5.1, 4.5, 4.5, 4.5, 4.5),
        (7.8, 6.7, 5.6, 4.9, 4.4, 3.9, 3.9, 3.9),
        (6.2, 5.4, 4.6, 4.0, 3.5, 3.2, 3.2, 3.2),
        (4.5, 3.8, 3.6, 3.2, 2.9, 2.7, 2.7, 2.7),
        (3.7, 3.0, 2.8, 2.35, 2.2, 2.2, 2.2, 2.2),
        (2.9, 2.3, 2.1, 1.9, 1.8, 1.7, 1.7, 1.7),
        (2.4, 1.7, 1.5, 1.35, 1.3, 1.3, 1.3, 1.3),
        (1.95, 1.45, 1.3, 1.15, 1.1, 1.1, 1.1, 1.1),
        (1.5, 1.2, 0.94, 0.86, 0.82, 0.82, 0.82, 0.82),
        (0.72, 0.67, 0.64, 0.63, 0.62, 0.62, 0.62, 0.62),
        (0.59, 0.53, 0.51, 0.50, 0.42, 0.42, 0.42, 0.42),
        (0.40, 0.33, 0.26, 0.24, 0.24, 0.22, 0.22, 0.22),
        (0.27, 0.21, 0.20, 0.18, 0.17, 0.17, 0.17, 0.17),
        (0.16, 0.15, 0.14, 0.12, 0.11, 0.11, 0.11, 0.11),
        (0.12, 0.11, 0.10, 0.08, 0.08, 0.08, 0.08, 0.08),
        (0.09, 0.08, 0.07, 0.06, 0.06, 0.06, 0.06, 0.05),
        (0.06, 0.05, 0.03, 0.02, 0.02, 0.02, 0.02, 0.02),
    ]
)
"""Specific loudness at which the slope towards higher bands changes [sone/Bark], and the slope from
there on in each of the first eight bands [sone/Bark2] (table A.9).
"""


class TooLoud(ValueError):
    """A level beyond what the method holds for."""


@dataclass(frozen=True, slots=True)
class Loudness:
    """Loudness of one or several spectra.

    Parameters
    ----------
    total : [sone], shape (spectra,)
    specific : [sone/Bark] at `RATE`, shape (240, spectra)
    """

    total: Array
    specific: Array

    @property
    def sharpness(self) -> Array:
        """Sharpness [acum] (DIN 45692); NaN where there is no loudness."""
        return sharpness(self.specific)


def loudness(levels: ArrayLike, diffuse: bool = False) -> Loudness:
    """Loudness of stationary sound.

    Parameters
    ----------
    levels : of the one-third-octave bands from 25 Hz to 12.5 kHz [dB], shape (28,) or (28,
        spectra); -inf for a band without sound
    diffuse : whether the sound comes from all sides; else from the front in a free field

    Raises
    ------
    ValueError : not 28 bands, or NaN
    TooLoud : more than 120 dB in a band up to 250 Hz

    Notes
    -----
    The standard rounds to three digits; here nothing is rounded.
    """
    values = np.asarray(levels, float)
    if values.shape[:1] != (BANDS,):
        raise ValueError(f"loudness needs {BANDS} bands from 25 Hz to 12.5 kHz, got {values.shape}")
    values = np.maximum(values.reshape(BANDS, -1), -60.0)
    if np.isnan(values).any():
        raise ValueError("a band level is not a number")
    return _pattern(core_loudness(values, diffuse))


def core_loudness(levels: Array, diffuse: bool) -> Array:
    """Loudness of each critical band without its slopes [sone/Bark], shape (21, spectra); the last
    row is zero, for the slopes above the last band.

    Raises
    ------
    TooLoud : more than 120 dB in a band up to 250 Hz
    """
    low = levels[:11]
    if low.max() > MOST_LOW_LEVEL:
        raise TooLoud(
            f"{low.max():.0f} dB in a band up to 250 Hz: the method holds up to"
            f" {MOST_LOW_LEVEL:.0f} dB"
        )
    reached = (low[None] <= (_RANGES[:, None] - _LOWERED)[:, :, None]).argmax(axis=0)
    power = 10 ** ((low + _LOWERED[reached, np.arange(11)[:, None]]) / 10)
    critical = levels[8:].copy()
    for row, part in enumerate((power[:6], power[6:9], power[9:11])):
        critical[row] = 10 * np.log10(part.sum(axis=0))
    critical -= _EAR[:, None]
    if diffuse:
        critical += _DIFFUSE[:, None]
    quiet = _THRESHOLD[:, None]
    heard = critical > quiet
    excess = np.where(heard, critical - _WIDTH[:, None] - quiet, -np.inf)
    core = 0.0635 * 10 ** (0.025 * quiet) * ((0.75 + 0.25 * 10 ** (0.1 * excess)) ** 0.25 - 1)
    core = np.maximum(core, 0.0)
    core[0] *= np.minimum(0.4 + 0.32 * core[0] ** 0.2, 1.0)
    return np.vstack([core, np.zeros(core.shape[1])])


def _pattern(core: Array) -> Loudness:
    """The whole and its pattern over the critical-band rate."""
    specific = np.zeros((RATE.size, core.shape[1]))
    return Loudness(with_slopes(core, specific), np.maximum(specific, 0.0))


def with_slopes(core: Array, specific: Array | None = None) -> Array:
    """Attach the slopes towards higher bands and add all up.

    Parameters
    ----------
    core : of each critical band [sone/Bark], shape (21, spectra)
    specific : takes the pattern [sone/Bark] at `RATE`, shape (240, spectra); None where only the
        whole is wanted

    Returns
    -------
    loudness [sone], shape (spectra,)
    """
    spectra = core.shape[1]
    total, n1, z1 = np.zeros(spectra), np.zeros(spectra), np.zeros(spectra)
    for band, upper in enumerate(_UPPER):
        column = min(max(band - 1, 0), 7)
        own = core[band]
        within = np.flatnonzero((upper + 1e-9 >= RATE) & ((_UPPER[band - 1] if band else 0) < RATE))
        while np.any(open_ := z1 < upper - 1e-12):
            rises = n1 <= own
            step = np.minimum(np.searchsorted(-_STEPS, -n1, side="right"), len(_STEPS) - 1)
            slope = _SLOPES[step, column]
            down = np.maximum(_STEPS[step], own)
            z2 = np.where(rises, upper, np.minimum(z1 + (n1 - down) / slope, upper))
            n2 = np.where(
                rises, own, np.where(z2 < upper, down, np.maximum(n1 - (z2 - z1) * slope, own))
            )
            z2, n2 = np.where(open_, z2, z1), np.where(open_, n2, n1)
            total += (z2 - z1) * np.where(rises, own, (n1 + n2) / 2)
            if specific is not None:
                for k in within:
                    here = open_ & (RATE[k] > z1 + 1e-9) & (RATE[k] <= z2 + 1e-9)
                    value = np.where(rises, own, n1 - (RATE[k] - z1) * slope)
                    specific[k] = np.where(here, value, specific[k])
            n1, z1 = n2, z2
    return total


def sharpness(specific: NDArray[np.float64]) -> Array:
    """Sharpness [acum] of loudness patterns, shape (240,) or (240, spectra); NaN without loudness.

    Notes
    -----
    S = 0.11 integral of N' g(z) z dz over N, g = 1 up to 15.8 Bark and 0.15 exp(0.42 (z - 15.8)) +
    0.85 above (DIN 45692, eq. 1 and 2): 1 acum for a critical band of noise at 1 kHz and 60 dB.
    """
    weight = np.where(RATE <= 15.8, 1.0, 0.15 * np.exp(0.42 * (RATE - 15.8)) + 0.85)
    pattern = np.asarray(specific, float)
    whole = pattern.sum(axis=0)
    with np.errstate(divide="ignore", invalid="ignore"):
        return np.asarray(
            0.11 * np.tensordot(weight * RATE, pattern, axes=1) / np.where(whole > 0, whole, np.nan)
        )


def loudness_level(sone: ArrayLike) -> Array:
    """Loudness level [phon]: 40 + 10 lb N from 1 sone on, 40 (N + 0.0005)^0.35 below (ISO 532-1,
    eq. 3 and 4).
    """
    n = np.asarray(sone, float)
    with np.errstate(divide="ignore", invalid="ignore"):
        return np.asarray(
            np.where(
                n >= 1,
                40 + 10 * np.log2(np.maximum(n, 1e-9)),
                np.maximum(40 * (n + 0.0005) ** 0.35, 3),
            )
        )
