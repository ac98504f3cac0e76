"""Fewer points of a trace, for a screen."""

from __future__ import annotations

import math
from collections.abc import Collection

import numpy as np

from hauch.core.trace.marks import gaps
from hauch.core.trace.source import Seconds, Trace

MOST_POINTS = 700
"""Points that a screen shows of a trace."""


def drawn(
    trace: Trace, channels: Collection[str], most: int = MOST_POINTS
) -> dict[str, tuple[list[float], list[float | None]]]:
    """Times and values of some channels for a screen, those that have a sample; see `thinned`.

    A trace of more seconds than points is drawn by the least and most of each second.
    """
    extent = trace.extent
    if extent is None:
        return {}
    if extent[1] - extent[0] <= most:
        stretch = trace.window(channels=channels)
        return {
            key: thinned(stretch.times.tolist(), values.tolist(), most)
            for key, values in stretch.channels.items()
            if np.isfinite(values).any()
        }
    seconds = trace.seconds(channels=channels)
    times = np.repeat(seconds.times, 2)
    breaks = [2 * after for _, after in gaps(seconds.times)]
    shown = {}
    for key in seconds.mean:
        if seconds.has(key):
            ends = np.column_stack([seconds.least[key], seconds.most[key]]).ravel()
            shown[key] = thinned(
                np.insert(times, breaks, times[breaks]).tolist(),
                np.insert(ends, breaks, np.nan).tolist(),
                most,
            )
    return shown


def thinned(
    times: list[float], values: list[float], most: int = MOST_POINTS
) -> tuple[list[float], list[float | None]]:
    """Fewer points for a screen: of each stretch the lowest and the highest, so that no spike
    vanishes; None where lost.
    """
    if len(times) <= most:
        return times, [None if math.isnan(v) else v for v in values]
    stretch = math.ceil(2 * len(times) / most)
    picked: set[int] = set()
    for start in range(0, len(times), stretch):
        part = range(start, min(start + stretch, len(times)))
        there = [i for i in part if not math.isnan(values[i])]
        picked |= (
            {min(there, key=values.__getitem__), max(there, key=values.__getitem__)}
            if there
            else {start}
        )
    chosen = sorted(picked)
    return [times[i] for i in chosen], [
        None if math.isnan(values[i]) else values[i] for i in chosen
    ]


def binned(
    times: np.ndarray, values: np.ndarray, width: float
) -> tuple[np.ndarray, np.ndarray, np.ndarray, np.ndarray]:
    """Start, lowest, highest and mean of each stretch of a trace that holds a sample, each shape
    (bins,).

    Parameters
    ----------
    times : seconds, rising, shape (n,)
    values : shape (n,), NaN where there is no sample
    width : length of a stretch [s]
    """
    good = np.isfinite(values)
    known = np.asarray(values, dtype=float)[good]
    return _binned(times[good], np.ones(known.size), known, known, known, width)


def seconds_binned(
    seconds: Seconds, channel: str, width: float
) -> tuple[np.ndarray, np.ndarray, np.ndarray, np.ndarray]:
    """As `binned`, of a channel that is given by the second; ``width`` is at least one second."""
    good = seconds.count[channel] > 0
    count, mean, least, most = (
        figures[channel][good]
        for figures in (seconds.count, seconds.mean, seconds.least, seconds.most)
    )
    return _binned(seconds.times[good], count, mean, least, most, width)


def _binned(
    times: np.ndarray,
    count: np.ndarray,
    mean: np.ndarray,
    least: np.ndarray,
    most: np.ndarray,
    width: float,
) -> tuple[np.ndarray, np.ndarray, np.ndarray, np.ndarray]:
    if not times.size:
        return (np.zeros(0),) * 4
    at = np.floor(times / width).astype(np.int64)
    first = np.flatnonzero(np.concatenate(([True], np.diff(at) != 0)))
    return (
        at[first] * width,
        np.minimum.reduceat(least, first),
        np.maximum.reduceat(most, first),
        np.add.reduceat(count * mean, first) / np.add.reduceat(count, first),
    )
