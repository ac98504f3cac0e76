"""How sure a level is that was read off a stretch of sound, and a difference of two.

References
----------
Batch means: B. Schmeiser, Oper. Res. 30 (1982) 556 (10 to 30 batches). JCGM 100:2008, 5.1.2
    (difference), G.3.2 and G.4.1 (interval, effective degrees of freedom). Tolerances: IEC
    60942:2017, table 2 (calibrators), IEC 61672-1:2013, table 3 (meters at 1 kHz).
"""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np

from hauch.core.quantity import effective_dof, expanded
from hauch.core.sound.bands import Array

BATCHES, LEAST_BATCHES, LEAST_BATCH = 20, 5, 0.25
"""A stretch is cut into so many batches, fewer where one would be shorter than this [s]: the slow swings
of the lowest bands are over by then.
"""

DECIBEL = 10 / math.log(10)
"""A relative change of a power of 1 in decibels, for a small one."""

CALIBRATOR_DOUBT = 0.4 / math.sqrt(3)
"""Standard uncertainty of a calibration by a class 1 calibrator [dB]: 0.25 dB of its level and 0.15 dB of
the laboratory, rectangular.
"""

METER_DOUBT = 1.0 / math.sqrt(3)
"""Standard uncertainty of what a class 2 meter reads [dB]."""


@dataclass(frozen=True, slots=True)
class Level:
    """A level [dB] with its standard uncertainty from the scatter within its stretch [dB]."""

    value: float
    doubt: float = 0.0


@dataclass(frozen=True, slots=True)
class Change:
    """A difference of two levels [dB].

    Parameters
    ----------
    value : ours above theirs
    doubt : half-width of its interval at 95 %
    repeated : whether the doubt holds how recordings of one part differ; else it is only that of the
        stretches, and says nothing of mounting the part again
    """

    value: float
    doubt: float
    repeated: bool = False

    @property
    def clear(self) -> bool:
        """Whether it can be told from nothing."""
        return abs(self.value) > self.doubt


def batches(seconds: float) -> int:
    """Batches that a stretch [s] is cut into."""
    return int(min(max(seconds / LEAST_BATCH, LEAST_BATCHES), BATCHES))


def doubts(courses: Array, step: float) -> Array:
    """Standard uncertainty of the mean of each time course of mean squares [dB], from the scatter of
    the means of its batches.

    Parameters
    ----------
    courses : shape (rows, steps)
    step : [s]

    Returns
    -------
    shape (rows,); 0 for a course without sound
    """
    steps = courses.shape[1]
    count = min(batches(steps * step), steps)
    if count < 2:
        return np.full(len(courses), np.inf)
    starts = np.linspace(0, steps, count + 1).astype(int)
    sizes = np.diff(starts)
    means = np.add.reduceat(courses, starts[:-1], axis=1) / sizes
    mean = courses.mean(axis=1)
    error = means.std(axis=1, ddof=1) / math.sqrt(count)
    return np.asarray(DECIBEL * np.where(mean > 0, error / np.maximum(mean, 1e-300), 0.0))


def without(own: Level, room: Level) -> float:
    """Standard uncertainty of a level without the background [dB]: the nearer the room, the larger.

    Both in one band, or both weighted; the level above the room.
    """
    share = 10 ** ((room.value - own.value) / 10)
    return math.hypot(own.doubt, share * room.doubt) / (1 - share)


def change(
    ours: Sequence[Level],
    theirs: Sequence[Level],
    freedom: float,
    apart: float = 0.0,
    like: Sequence[Sequence[float]] = (),
) -> Change:
    """Difference of the mean levels of two parts.

    Parameters
    ----------
    ours, theirs : one or several recordings of each
    freedom : of the doubt within a stretch
    apart : standard uncertainty that only one side has [dB], such as its calibration
    like : levels of further groups of recordings of one part each, made in the same way; their
        scatter counts

    Raises
    ------
    ValueError : no level of one of them

    Notes
    -----
    Recordings of one part that differ by more than their stretches tell, tell how well a recording is
    repeated: their pooled scatter is used wherever there are two of one part.
    """
    if not ours or not theirs:
        raise ValueError("a difference needs a level of both")
    groups = [[one.value for one in group] for group in (ours, theirs)]
    value = float(np.mean(groups[0]) - np.mean(groups[1]))
    within = [
        (float(np.mean([one.doubt**2 for one in group])) / len(group)) for group in (ours, theirs)
    ]
    pooled = [np.asarray(group) for group in (*groups, *like) if len(group) > 1]
    own = sum(group.size - 1 for group in pooled)
    if own:
        scatter = sum(float(((group - group.mean()) ** 2).sum()) for group in pooled) / own
        spread = scatter * (1 / len(ours) + 1 / len(theirs))
        if spread >= sum(within):
            return Change(value, _half([(spread, own)], apart), True)
    return Change(value, _half([(part, freedom) for part in within], apart), bool(own))


def _half(parts: Sequence[tuple[float, float]], apart: float) -> float:
    """Half-width at 95 % of variances with their degrees of freedom, and a doubt that is known."""
    known = [*((math.sqrt(variance), freedom) for variance, freedom in parts), (apart, math.inf)]
    return expanded(math.hypot(*(u for u, _ in known)), effective_dof(known))
