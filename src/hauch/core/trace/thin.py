"""Fewer points of a trace, for a screen."""

from __future__ import annotations

import math

import numpy as np


def thinned(
    times: list[float], values: list[float], most: int = 700
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
    at, known = (
        np.floor(times[good] / width).astype(np.int64),
        np.asarray(values, dtype=float)[good],
    )
    if not at.size:
        return (np.zeros(0),) * 4
    first = np.flatnonzero(np.concatenate(([True], np.diff(at) != 0)))
    counts = np.diff(np.append(first, at.size))
    return (
        at[first] * width,
        np.minimum.reduceat(known, first),
        np.maximum.reduceat(known, first),
        np.add.reduceat(known, first) / counts,
    )
