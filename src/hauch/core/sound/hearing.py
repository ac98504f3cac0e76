"""What the ear tells apart: critical bands, the threshold of hearing, the critical-band rate.

References
----------
E. Zwicker, E. Terhardt, J. Acoust. Soc. Am. 68 (1980) 1523 (rate and width; ECMA-418-1, 10.4 uses
    this width). ISO 226:2003, table 1 (threshold of hearing in a free field).
"""

from __future__ import annotations

import numpy as np
from numpy.typing import ArrayLike

from hauch.core.sound.bands import NOMINAL, Array

_THRESHOLD = (
    *(68.7, 59.5, 51.1, 44.0, 37.5, 31.5, 26.5, 22.1, 17.9, 14.4, 11.4, 8.6, 6.2, 4.4, 3.0),
    *(2.2, 2.4, 3.5, 1.7, -1.3, -4.2, -6.0, -5.4, -1.5, 6.0, 12.6, 13.9, 12.3),
)
"""Threshold at the nominal frequencies from 25 Hz to 12.5 kHz [dB]."""


def threshold(frequency: ArrayLike) -> Array:
    """Level of a tone that half of young people just hear [dB]; between the standard's frequencies
    along the logarithm, at its ends as there.
    """
    known = NOMINAL[: len(_THRESHOLD)]
    return np.asarray(
        np.interp(np.log(np.maximum(np.asarray(frequency, float), 1e-3)), np.log(known), _THRESHOLD)
    )


def critical_band(frequency: ArrayLike) -> Array:
    """Width of the critical band around a frequency [Hz]: 100 Hz at 100 Hz, 162 Hz at 1 kHz."""
    khz = np.asarray(frequency, float) / 1000
    return np.asarray(25 + 75 * (1 + 1.4 * khz**2) ** 0.69)


def critical_band_rate(frequency: ArrayLike) -> Array:
    """Critical-band rate [Bark]: 8.5 at 1 kHz."""
    khz = np.asarray(frequency, float) / 1000
    return np.asarray(13 * np.arctan(0.76 * khz) + 3.5 * np.arctan((khz / 7.5) ** 2))


def critical_band_edges(frequency: float) -> tuple[float, float]:
    """Lower and upper edge of the critical band around a tone [Hz] (ECMA-418-1, 11.2): symmetric up
    to 500 Hz, geometric above.
    """
    width = float(critical_band(frequency))
    if frequency <= 500:
        return frequency - width / 2, frequency + width / 2
    low = -width / 2 + float(np.sqrt(width**2 + 4 * frequency**2)) / 2
    return low, low + width
