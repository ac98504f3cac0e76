"""Faults in a trace: dropouts, spikes, a stall. Found and marked, never removed from the data.

References
----------
Spread by the median absolute deviation, 1.4826 MAD for normal scatter: P. J. Huber, Robust Statistics, 1981, 5.1.
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from scipy.ndimage import median_filter

SPIKE_SIGMAS = 8.0
"""A sample this many robust standard deviations off its neighbours is a spike: by chance below 1 in 1e14 for normal scatter."""

STALL_SHARE = 0.1
"""A speed below this share of its earlier running value is a stall."""


@dataclass(frozen=True, slots=True)
class Mark:
    """A marked stretch of one channel: ``kind`` is dropout, spike or stall; indices count samples from 0."""

    channel: str
    kind: str
    first: int
    last: int
    from_s: float
    to_s: float

    @property
    def samples(self) -> int:
        """How many samples the mark covers."""
        return self.last - self.first + 1


def stretches(flags: np.ndarray) -> list[tuple[int, int]]:
    """First and last index of each run of True in a boolean array, shape (n,)."""
    edges = np.flatnonzero(np.diff(np.concatenate(([0], flags.astype(np.int8), [0]))))
    return [(int(first), int(after) - 1) for first, after in edges.reshape(-1, 2)]


def spikes(values: np.ndarray, resolution: float = 0.0) -> np.ndarray:
    """Flags of samples far off their neighbours, shape (n,).

    Parameters
    ----------
    values : shape (n,), NaN where there is no sample
    resolution : step of the meter's last digit; a smaller spread than a third of it is not believed

    Notes
    -----
    Distance to the running median of 11 samples against `SPIKE_SIGMAS` times its robust spread. On a slope the median is
    the sample itself, so the spread is at least that of the second differences (sqrt(6) times the scatter), which know no
    slope. A step or a slow change is no spike; a fault longer than five samples is none either.
    """
    values = np.asarray(values, dtype=float)
    flags = np.zeros(values.size, dtype=bool)
    there = np.flatnonzero(np.isfinite(values))
    if there.size < 11:
        return flags
    off = values[there] - median_filter(values[there], size=11, mode="nearest")
    spread = max(_spread(off), _spread(np.diff(values[there], 2)) / 6**0.5)
    flags[there[np.abs(off) > SPIKE_SIGMAS * max(spread, resolution / 3, 1e-12)]] = True
    return flags


def _spread(values: np.ndarray) -> float:
    """Robust standard deviation by the median absolute deviation."""
    return float(1.4826 * np.median(np.abs(values - np.median(values))))


def stall_index(speed: np.ndarray) -> int | None:
    """Index of the first sample of a stall: the speed falls below `STALL_SHARE` of its high and stays there.

    Parameters
    ----------
    speed : rotational speed, shape (n,), NaN where there is no sample

    Returns
    -------
    None when the part runs to the end; 0 when it never started
    """
    speed = np.asarray(speed, dtype=float)
    there = np.flatnonzero(np.isfinite(speed))
    if there.size == 0:
        return None
    running = np.percentile(speed[there], 95)
    if running <= 0:
        return 0
    fast = there[speed[there] >= STALL_SHARE * running]
    after = there[there > fast[-1]]
    return int(after[0]) if after.size >= 5 else None


def find_marks(times: np.ndarray, channels: dict[str, np.ndarray], resolutions: dict[str, float] | None = None) -> list[Mark]:
    """All marks of a recording, in order of time.

    Parameters
    ----------
    times : seconds from the start, shape (n,)
    channels : channel key -> values, shape (n,), NaN where there is no sample
    resolutions : channel key -> step of the meter's last digit
    """
    resolutions = resolutions or {}
    marks: list[Mark] = []
    for key, values in channels.items():
        for kind, flags in (("dropout", ~np.isfinite(values)), ("spike", spikes(values, resolutions.get(key, 0.0)))):
            marks += [Mark(key, kind, a, b, float(times[a]), float(times[b])) for a, b in stretches(flags)]
    stalled = stall_index(channels["speed"]) if "speed" in channels else None
    if stalled is not None:
        # Samples around the stop are no spikes: the whole bench changed at once.
        near = float(times[stalled])
        marks = [m for m in marks if not (m.kind == "spike" and abs(m.from_s - near) < 10)]
        marks.append(Mark("speed", "stall", stalled, len(times) - 1, near, float(times[-1])))
    return sorted(marks, key=lambda mark: (mark.first, mark.channel, mark.kind))
