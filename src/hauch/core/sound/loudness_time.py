"""Loudness of sound that changes, over time, and what of it is exceeded in 5 % of the time.

References
----------
ISO 532-1:2017, clause 6 (method for time-varying sounds): 6.3 (levels every 0.5 ms), 6.4 (decay of
    the core loudness), 6.5 (weighting of the whole over time), 6.6 (N5).
"""

from __future__ import annotations

from dataclasses import dataclass
from fractions import Fraction

import numpy as np
import scipy
from numpy.typing import NDArray

from hauch.core.sound.bands import REFERENCE_PRESSURE, Array
from hauch.core.sound.loudness import BANDS, core_loudness, with_slopes
from hauch.core.sound.loudness_filters import RATE, sections

STEP = 5e-4
"""Levels are told so often [s]; loudness every fourth."""

EACH = 4

SILENCE = 1e-12
"""Is added to every mean square, so that silence has a level [Pa2]."""

SHORT, LONG, VARIABLE = 0.005, 0.015, 0.075
"""Time constants of the decay [s]: after a short sound, after a long one, and how fast the one turns
into the other.
"""

PARTS = 4
"""Parts of a step that the decay is worked out in. The standard has 24; N5 of the shortest pulses
changes by 0.2 % for it.
"""

BETWEEN = 24
"""Parts of a step, between which the whole runs straight."""

QUICK, SLOW = 0.0035, 0.07
"""Time constants of the weighting of the whole [s]; they count with 0.47 and 0.53."""

PIECE, MOST_PIECES = 10.0, 6
"""A longer sound is told from so many pieces [s], spread evenly."""

RUN_IN = 0.5
"""What comes before a piece, or at its beginning, is heard but not counted [s]."""

CHUNK, FORGOTTEN = 0.2, 0.4
"""Chunks whose decay is worked out side by side, and what comes before each, after which nothing is
left of what was earlier [s].
"""


@dataclass(frozen=True, slots=True)
class LoudnessCourse:
    """Loudness over time.

    Parameters
    ----------
    step : [s]
    total : [sone], shape (values,), the pieces one after the other
    """

    step: float
    total: Array

    def exceeded(self, percent: float = 5.0) -> float:
        """Loudness that is exceeded in a share of the time [sone]: N5 is what a sound that changes
        is judged by.
        """
        return float(np.percentile(self.total, 100 - percent))


def loudness_over_time(
    pressure: NDArray[np.floating], rate: float, run_in: float = RUN_IN
) -> LoudnessCourse:
    """Loudness every 2 ms, heard from the front in a free field.

    Parameters
    ----------
    pressure : shape (n,) [Pa]
    rate : samples a second
    run_in : not counted at the beginning of each piece [s]

    Raises
    ------
    ValueError : for a sound that is not longer than the run-in
    TooLoud : more than 120 dB in a band up to 250 Hz at any time

    Notes
    -----
    Of a sound of more than a minute, six pieces of 10 s are told, spread evenly over it.
    """
    if not len(pressure) > run_in * rate:
        raise ValueError(f"{len(pressure) / rate:.2g} s are no longer than the run-in")
    told = [
        _piece(pressure[start:end], rate)[round(run_in / STEP) :: EACH]
        for start, end in _pieces(len(pressure), rate, run_in)
    ]
    return LoudnessCourse(STEP * EACH, np.concatenate(told))


def _pieces(n: int, rate: float, run_in: float) -> list[tuple[int, int]]:
    """Samples of each piece, its run-in with it."""
    length = int((PIECE + run_in) * rate)
    if n <= MOST_PIECES * length:
        return [(0, n)]
    return [(int(s), int(s) + length) for s in np.linspace(0, n - length, MOST_PIECES)]


def _piece(pressure: NDArray[np.floating], rate: float) -> Array:
    """Loudness every 0.5 ms [sone]."""
    core = core_loudness(levels_over_time(pressure, rate), diffuse=False)
    return _weighted(with_slopes(decayed(core)))


def levels_over_time(pressure: NDArray[np.floating], rate: float) -> Array:
    """Levels of the 28 bands every 0.5 ms [dB], shape (28, steps) (6.3)."""
    samples = np.asarray(pressure, float)
    if rate != RATE:
        ratio = Fraction(RATE / rate).limit_denominator(1000)
        samples = scipy.signal.resample_poly(samples, ratio.numerator, ratio.denominator)
    each = round(RATE * STEP)
    out = np.empty((BANDS, -(-len(samples) // each)))
    for band in range(BANDS):
        power = scipy.signal.sosfilt(sections(band), samples) ** 2
        keep = np.exp(-1 / (RATE * _smoothing(band)))
        one = (1 - keep, 0.0, 0.0, 1.0, -keep, 0.0)
        out[band] = scipy.signal.sosfilt(np.array([one] * 3), power)[::each]
    return np.asarray(10 * np.log10((np.maximum(out, 0.0) + SILENCE) / REFERENCE_PRESSURE**2))


def _smoothing(band: int) -> float:
    """Time constant of a band's squared signal [s]: two thirds of a period, up to 1 kHz."""
    return 2 / (3 * min(1000 * 10 ** ((band - 16) / 10), 1000.0))


def decayed(core: Array, parts: int = PARTS) -> Array:
    """Core loudness that falls no faster than the ear forgets, after a long sound more slowly than
    after a short one (6.4).

    Parameters
    ----------
    core : every 0.5 ms [sone/Bark], shape (bands, steps)
    parts : of a step that are worked out
    """
    bands, steps = core.shape
    chunk, before = round(CHUNK / STEP), round(FORGOTTEN / STEP)
    count = -(-steps // chunk)
    padded = np.zeros((bands, before + count * chunk + 1))
    padded[:, before : before + steps] = core
    windows = np.lib.stride_tricks.sliding_window_view(padded, before + chunk + 1, axis=1)
    chunks = np.ascontiguousarray(windows[:, ::chunk].transpose(2, 0, 1).reshape(-1, bands * count))
    out = _decay(chunks, parts)[before:]
    return np.asarray(
        out.reshape(chunk, bands, count).transpose(1, 2, 0).reshape(bands, -1)[:, :steps]
    )


def _decay(core: Array, parts: int) -> Array:
    """Values at the beginning of each step, shape (steps, n), for a step more of input."""
    b = _constants(STEP / parts)
    held, slow = np.zeros(core.shape[1]), np.zeros(core.shape[1])
    out = np.empty((len(core) - 1, core.shape[1]))
    for i in range(len(core) - 1):
        rise = (core[i + 1] - core[i]) / parts
        for part in range(parts):
            now = core[i] + part * rise
            held, slow = _after(now, held, slow, b)
            if part == 0:
                out[i] = held
    return out


def _after(now: Array, held: Array, slow: Array, b: tuple[float, ...]) -> tuple[Array, Array]:
    """What is held, and its slow part, one part of a step later."""
    falls, quick = now < held, held > slow
    fallen = np.where(quick, held * b[2] - slow * b[3], held * b[4])
    then = np.where(falls, np.maximum(fallen, now), now)
    behind = np.where(quick, np.minimum(held * b[0] - slow * b[1], then), then)
    follows = (slow - now) * b[5] + now
    alike = (now - held < 1e-5) & (now <= slow)
    return then, np.where(falls, behind, np.where(alike, now, follows))


def _constants(part: float) -> tuple[float, ...]:
    """Of a network of two capacitors over a part of a step [s] (table 5)."""
    p, q = (VARIABLE + LONG) / (VARIABLE * SHORT), 1 / (SHORT * VARIABLE)
    first, second = (-p / 2 + sign * np.sqrt(p * p / 4 - q) for sign in (1, -1))
    e1, e2 = np.exp(first * part), np.exp(second * part)
    t1, t2 = VARIABLE * first + 1, VARIABLE * second + 1
    over = VARIABLE * (first - second)
    return (
        float((e1 - e2) / over),
        float((t2 * e1 - t1 * e2) / over),
        float((t1 * e1 - t2 * e2) / over),
        float(t1 * t2 * (e1 - e2) / over),
        float(np.exp(-part / LONG)),
        float(np.exp(-part / VARIABLE)),
    )


def _weighted(total: Array) -> Array:
    """The whole weighted over time, as a short sound is not heard at its full loudness (6.5)."""
    return np.asarray(0.47 * _low_pass(total, QUICK) + 0.53 * _low_pass(total, SLOW), float)


def _low_pass(values: Array, time_constant: float) -> Array:
    """First order, with values that run straight between steps."""
    keep = np.exp(-STEP / BETWEEN / time_constant)
    steps = len(values)
    between = np.interp(np.arange(BETWEEN * (steps - 1) + 1) / BETWEEN, np.arange(steps), values)
    return np.asarray(scipy.signal.lfilter([1 - keep], [1, -keep], between)[::BETWEEN])
