"""Sound pressure levels: energy means, background, distance.

References
----------
ISO 3744:2010, 8.2.2 (energy mean), 8.2.3 (background correction K1); ISO 3746:2010, 8.3.2.
"""

from __future__ import annotations

import math

import numpy as np

LEAST_DIFFERENCE = 3.0
"""Below this difference to the background [dB] a level is only an upper limit (ISO 3746:2010, 4.2)."""


ROUNDING = 1e-6
"""What decimals of readings leave of a difference that is exact on paper [dB]."""


class BackgroundTooLoud(ValueError):
    """The background is so loud that the level is an upper limit and no result."""


def energy_mean(levels: np.ndarray, axis: int = -1) -> float | np.ndarray:
    """Mean level by energy [dB] of levels [dB] (ISO 3744 eq. 6).

    NaN in gives NaN out. Raises ValueError for no levels at all.
    """
    levels = np.asarray(levels, dtype=float)
    if levels.size == 0:
        raise ValueError("no level to average")
    top = np.max(levels, axis=axis, keepdims=True)  # taken out so that no power overflows
    mean = 10 * np.log10(np.mean(10 ** ((levels - top) / 10), axis=axis)) + np.squeeze(
        top, axis=axis
    )
    return float(mean) if np.ndim(mean) == 0 else mean


def energy_sum(levels: np.ndarray, axis: int = -1) -> float | np.ndarray:
    """Level of several sources together [dB]: two equal ones are 3.01 dB louder than one."""
    levels = np.asarray(levels, dtype=float)
    return energy_mean(levels, axis) + 10 * math.log10(levels.shape[axis])


def without_background(level: float, background: float) -> float:
    """Level of the source alone [dB] from the level with it and without it [dB(A)] (ISO 3744 eq.
    16).

    Raises
    ------
    BackgroundTooLoud : when they differ by less than `LEAST_DIFFERENCE`; the message names the
        upper limit

    Notes
    -----
    ISO 3744 (grade 2) asks for 6 dB; between 3 and 6 dB the result holds with grade 3 doubt (ISO
    3746).
    """
    if math.isnan(level) or math.isnan(background):
        return math.nan
    difference = level - background
    if difference < LEAST_DIFFERENCE - ROUNDING:
        limit = level - 3.02 if difference > 0 else level
        raise BackgroundTooLoud(
            f"The background ({background:.1f} dB(A)) is only {difference:.1f} dB below the reading"
            f" ({level:.1f} dB(A)). Below 3 dB the level is only an upper limit: at most"
            f" {limit:.1f} dB(A). Read again in a quieter room."
        )
    return level_of_difference(level, background)


def level_of_difference(level: float, background: float) -> float:
    """The same without asking how far they differ, as a derivative needs it beside the least
    difference; the level must be above the background.
    """
    return level + 10 * math.log10(1 - 10 ** (-(level - background) / 10))


def at_distance(level: float, measured_at: float, wanted_at: float) -> float:
    """Level [dB] moved from one distance [m] to another, for a small source in the open (20 lg of
    the ratio).

    Raises ValueError for a distance that is not above zero.
    """
    for name, distance in (("measured", measured_at), ("wanted", wanted_at)):
        if not distance > 0:
            raise ValueError(f"the {name} distance must be above 0 m, got {distance} m")
    return level - 20 * math.log10(wanted_at / measured_at)
