"""Clipped sound: a recording that ran into the end of its scale, so that its level reads low and
its tones are false.

References
----------
Overload of a measuring chain: IEC 61672-1:2013, 5.11 (an overload must be indicated; what was
    measured then does not count).
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

FLAT = 3
"""So many equal samples in a row at an extreme may be a cut top."""

NEAR = 0.9
"""Share of the largest samples of its sign from which on a sample is near an extreme."""

CLICKS = 1e-4
"""Share of the largest samples that may be clicks, which go beyond what cuts the rest."""

ONE_SIDED = 0.3
"""Share of the largest sample that a limit of the other sign has at least: an amplifier off its
middle cuts one side earlier.
"""

EDGE = 6.0
"""A cut top falls off by more than this many steps of the last digit at once; a round top of a slow
wave falls off by one or two.
"""


BEYOND = 4
"""A limit is reached by so many times the samples that lie beyond it, which are clicks."""


@dataclass(frozen=True, slots=True)
class Clipping:
    """``stretches`` of samples at the end of the scale, how many ``samples`` they hold, and their
    ``share`` of all.
    """

    stretches: list[tuple[int, int]]
    samples: int
    share: float

    @property
    def clipped(self) -> bool:
        """Whether the recording must not be used."""
        return self.samples > 0


def clipping(samples: np.ndarray) -> Clipping:
    """Stretches at the end of the scale.

    Parameters
    ----------
    samples : shape (n,), any scale; NaN count as no sample

    Notes
    -----
    The scale's end need not be 1.0: a microphone amplifier cuts earlier. Looked for are flat tops:
    `FLAT` or more equal samples near an extreme, with an edge beside them. One such top may be
    chance, two of one height are a limit where hardly anything lies beyond it; then every sample
    that reaches it is cut, tops of one or two samples too.
    """
    x = np.asarray(samples)
    if not np.isfinite(x).all():
        x = x[np.isfinite(x)]
    top = float(np.max(np.abs(x))) if x.size else 0.0
    if not top > 0:
        return Clipping([], 0, 0.0)
    steps = np.diff(np.unique(x[:20_000]))
    digit = float(steps[steps > 1e-9 * top].min()) if np.any(steps > 1e-9 * top) else top
    found: dict[float, list[tuple[int, int]]] = {}
    for sign in (1, -1):
        near = np.flatnonzero(sign * x >= NEAR * max(_end(sign * x), ONE_SIDED * top))
        for start, last in _flat(x, near):
            level = float(x[start])
            falls = [
                abs(level) - abs(float(x[i])) for i in (start - 1, last + 1) if 0 <= i < x.size
            ]
            if falls and max(falls) > EDGE * digit:
                found.setdefault(level, []).append((start, last))
    limits = [
        level
        for level, stretches in found.items()
        if len(stretches) > 1 and _piles_up(np.sign(level) * x, abs(level), digit)
    ]
    over, under = (
        min((abs(level) for level in limits if level * sign > 0), default=np.inf)
        for sign in (1, -1)
    )
    cut = (x >= over - digit / 2) | (-x >= under - digit / 2)
    edges = np.flatnonzero(np.diff(np.concatenate(([False], cut, [False]))))
    stretches = list(zip(edges[::2].tolist(), (edges[1::2] - 1).tolist(), strict=True))
    count = int(cut.sum())
    return Clipping(stretches, count, count / x.size)


def _flat(x: np.ndarray, near: np.ndarray) -> list[tuple[int, int]]:
    """First and last of `FLAT` or more equal samples in a row, among those near an extreme."""
    if near.size == 0:
        return []
    new = np.concatenate(([True], (np.diff(near) > 1) | (np.diff(x[near]) != 0)))
    starts = np.flatnonzero(new)
    lengths = np.diff(np.append(starts, near.size))
    long = lengths >= FLAT
    first = near[starts[long]]
    return list(zip(first.tolist(), (first + lengths[long] - 1).tolist(), strict=True))


def _end(x: np.ndarray) -> float:
    """The largest sample but for clicks."""
    last = x.size - 1 - int(CLICKS * x.size)
    return float(np.partition(x, last)[last])


def _piles_up(x: np.ndarray, level: float, digit: float) -> bool:
    """Whether a height holds more samples than lie beyond it by far: coarse digits make equal
    neighbours anywhere on a top, a limit gathers what would have gone on.
    """
    return bool(
        BEYOND * np.count_nonzero(x > level + digit / 2)
        <= np.count_nonzero(np.abs(x - level) <= digit / 2)
    )
