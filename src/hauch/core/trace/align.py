"""Two loggers on one clock: by how much the second one is early or late.

References
----------
Delay by the peak of the normalised cross-correlation with a parabola through it: J. S. Bendat, A.
    G. Piersol, Random Data, 4th
edition, 2010, 5.1.4; C. H. Knapp, G. C. Carter, IEEE Trans. ASSP 24 (1976) 320.
"""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass

import numpy as np

LEAST_CORRELATION = 0.6
"""Below this the two traces do not tell the same story, and no shift is believed."""


SMOOTH = 1.0
"""Over so many seconds a trace is averaged before its changes are compared."""

MOST_POINTS = 400_000
"""A longer recording is compared on a coarser grid."""


class NotAligned(ValueError):
    """The two recordings cannot be brought onto one clock from their traces; says why."""


@dataclass(frozen=True, slots=True)
class Shift:
    """``seconds`` to add to the second logger's times, how well the traces then agree (0 to 1), and
    by which channels.
    """

    seconds: float
    correlation: float
    first_channel: str
    second_channel: str


PAIRS = (
    ("speed", "speed"),
    ("air_speed", "air_speed"),
    ("static_pressure", "static_pressure"),
    ("power", "power"),
    ("sound_level", "sound_level"),
    ("speed", "sound_level"),
    ("speed", "air_speed"),
    ("speed", "power"),
    ("power", "sound_level"),
    ("throttle", "speed"),
    ("air_speed", "static_pressure"),
)
"""Channels that move together, the same ones first; tried in both directions."""


def align(
    times: np.ndarray,
    channels: Mapping[str, np.ndarray],
    other_times: np.ndarray,
    others: Mapping[str, np.ndarray],
    most: float = 120.0,
) -> Shift:
    """By how much the second recording must be moved so that its changes fall on those of the
    first.

    Parameters
    ----------
    times, channels : first recording: seconds from its start, shape (n,), and channel key ->
        values, NaN where there is no sample
    other_times, others : second recording on its own clock
    most : largest shift that is looked for [s]

    Raises
    ------
    NotAligned : no channels that move together, nothing that moves, or traces that do not agree
    """
    tried = [
        pair
        for a, b in PAIRS
        for pair in ((a, b), (b, a))
        if pair[0] in channels and pair[1] in others
    ]
    if not tried:
        raise NotAligned(
            "The two files share no channel that moves together. Choose one shift by hand, or log"
            " the speed with both."
        )
    best: Shift | None = None
    for a, b in dict.fromkeys(tried):
        found = _delay(
            times, np.asarray(channels[a], float), other_times, np.asarray(others[b], float), most
        )
        if found is not None and (best is None or found[1] > best.correlation + 0.05):
            best = Shift(found[0], found[1], a, b)
    if best is None:
        raise NotAligned(
            "Nothing moves in the traces that the two files share. Switch the part on and off once"
            " at the start, so that both see it."
        )
    if best.correlation < LEAST_CORRELATION:
        raise NotAligned(
            f"The traces agree only to {best.correlation:.2f} at best. They may not be of the same"
            " run; choose the shift by hand if they are."
        )
    return best


def _delay(
    t1: np.ndarray, x1: np.ndarray, t2: np.ndarray, x2: np.ndarray, most: float
) -> tuple[float, float] | None:
    """Shift and correlation of two traces; None where one does not move."""
    step = max(
        min(float(np.median(np.diff(t1))), float(np.median(np.diff(t2)))),
        (t1[-1] - t1[0]) / MOST_POINTS,
    )
    if min(t1[-1] - t1[0], t2[-1] - t2[0]) < 20 * step:
        return None
    grid1 = t1[0] + step * np.arange(int((t1[-1] - t1[0]) / step) + 1)
    grid2 = t2[0] + step * np.arange(int((t2[-1] - t2[0]) / step) + 1)
    a, b = _moves(t1, x1, grid1), _moves(t2, x2, grid2)
    if a is None or b is None:
        return None
    size = 1 << (a.size + b.size).bit_length()
    dot = np.fft.irfft(np.fft.rfft(a, size) * np.conj(np.fft.rfft(b, size)), size)
    lags = np.concatenate((np.arange(size // 2), np.arange(-size // 2, 0)))
    shifts = lags * step + grid1[0] - grid2[0]
    overlap = np.minimum(a.size, b.size + lags) - np.maximum(0, lags)
    usable = (np.abs(shifts) <= most) & (overlap >= 20)
    energy_a, energy_b = (
        np.concatenate(([0], np.cumsum(a**2))),
        np.concatenate(([0], np.cumsum(b**2))),
    )
    first, last = np.clip(lags, 0, a.size), np.clip(b.size + lags, 0, a.size)
    from_b, to_b = np.clip(-lags, 0, b.size), np.clip(a.size - lags, 0, b.size)
    scale = np.sqrt(
        np.maximum((energy_a[last] - energy_a[first]) * (energy_b[to_b] - energy_b[from_b]), 0)
    )
    # The best shift explains most of what moved in both; how well it does is told where they
    # overlap.
    i = int(np.argmax(np.where(usable, dot, -1.0)))
    if dot[i] <= 0 or scale[i] <= 0:
        return None
    agreement = float(dot[i] / max(scale[i], 0.3 * float(np.sqrt(energy_a[-1] * energy_b[-1]))))
    before, peak, after = (float(dot[(i + k) % size]) for k in (-1, 0, 1))
    bend = before - 2 * peak + after
    fine = 0.5 * (before - after) / bend if bend < 0 else 0.0
    return float(shifts[i] + step * min(max(fine, -0.5), 0.5)), min(agreement, 1.0)


def _moves(times: np.ndarray, values: np.ndarray, grid: np.ndarray) -> np.ndarray | None:
    """How fast a trace changes, on an even grid; None where it stands still."""
    good = np.isfinite(values)
    if good.sum() < 20:
        return None
    even = np.interp(grid, times[good], values[good])
    width = max(round(SMOOTH / (grid[1] - grid[0])), 2)
    if even.size < 6 * width:
        return None
    means = np.convolve(even, np.ones(width) / width, mode="valid")
    change = np.zeros(even.size)
    change[width - 1 : width - 1 + means.size - width] = means[width:] - means[:-width]
    spread = 1.4826 * float(np.median(np.abs(change)))
    return change if float(np.abs(change).max()) > 8 * max(spread, 1e-12) else None


def at_times(times: np.ndarray, other_times: np.ndarray, values: np.ndarray) -> np.ndarray:
    """A trace of a second logger at the times of the first, shape (n,): straight between its
    samples, NaN where it has none near.

    Parameters
    ----------
    times : seconds of the first logger, shape (n,)
    other_times, values : the second one's, already on the first clock, shape (m,), NaN where there
        is no sample
    """
    out = np.full(times.size, np.nan)
    good = np.isfinite(values)
    if good.sum() < 2:
        return out
    at, known = other_times[good], np.asarray(values, float)[good]
    reach = 2.5 * max(float(np.median(np.diff(other_times))), 1e-9)
    right = np.clip(np.searchsorted(at, times), 1, at.size - 1)
    near = (times >= at[0] - 1e-9) & (times <= at[-1] + 1e-9) & (at[right] - at[right - 1] <= reach)
    out[near] = np.interp(times[near], at, known)
    return out
