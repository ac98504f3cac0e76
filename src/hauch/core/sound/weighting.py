"""Frequency weightings A, C and Z.

References
----------
IEC 61672-1:2013, Annex E, equations E.1 to E.6 (poles of the C and A weightings), table 3 (design
    goals and limits of class 1).
"""

from __future__ import annotations

import numpy as np
from numpy.typing import ArrayLike, NDArray

F1, F2, F3, F4 = 20.598997, 107.65265, 737.86223, 12194.217
"""Poles of the weightings [Hz] (IEC 61672-1, E.2 to E.4)."""

WEIGHTINGS = ("A", "C", "Z")


def power_gain(weighting: str, frequency: ArrayLike) -> NDArray[np.float64]:
    """Factor on the power of a tone, 1 at 1 kHz.

    Parameters
    ----------
    weighting : A, C or Z (none)
    frequency : [Hz], any shape

    Raises
    ------
    ValueError : for another weighting
    """
    f2 = np.square(np.asarray(frequency, float))
    if weighting == "Z":
        return np.ones_like(f2)
    if weighting not in WEIGHTINGS:
        raise ValueError(f"no weighting {weighting!r}; there are A, C and Z")
    return _amplitude(weighting, f2) ** 2 / float(_amplitude(weighting, np.asarray(1e6))) ** 2


def _amplitude(weighting: str, f2: NDArray[np.float64]) -> NDArray[np.float64]:
    """Magnitude but for a constant, from the square of the frequency [Hz2]."""
    c = f2 / ((f2 + F1**2) * (f2 + F4**2))
    if weighting == "C":
        return np.asarray(c)
    return np.asarray(c * f2 / np.sqrt((f2 + F2**2) * (f2 + F3**2)))


def gain(weighting: str, frequency: ArrayLike) -> NDArray[np.float64]:
    """The same in decibels: A is -19.1 dB at 100 Hz; -inf at 0 Hz."""
    with np.errstate(divide="ignore"):
        return np.asarray(10 * np.log10(power_gain(weighting, frequency)))
