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
"""Share of the largest sample from which on a sample is near an extreme; both ends of a scale may
differ a little.
"""

EDGE = 6.0
"""A cut top falls off by more than this many steps of the last digit at once; a round top of a slow
wave falls off by one or two.
"""


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
    chance, two of one height are a limit.
    """
    x = np.asarray(samples, dtype=float)
    x = x[np.isfinite(x)]
    top = float(np.max(np.abs(x))) if x.size else 0.0
    if not top > 0:
        return Clipping([], 0, 0.0)
    steps = np.diff(np.unique(x[:20_000]))
    digit = float(steps[steps > 1e-9 * top].min()) if np.any(steps > 1e-9 * top) else top
    starts = np.flatnonzero(np.concatenate(([True], np.diff(x) != 0)))
    lengths = np.diff(np.append(starts, x.size))
    found: dict[float, list[tuple[int, int]]] = {}
    for start, length in zip(
        starts[lengths >= FLAT].tolist(), lengths[lengths >= FLAT].tolist(), strict=True
    ):
        level, last = float(x[start]), start + length - 1
        falls = [abs(level) - abs(float(x[i])) for i in (start - 1, last + 1) if 0 <= i < x.size]
        if abs(level) >= NEAR * top and falls and max(falls) > EDGE * digit:
            found.setdefault(level, []).append((start, last))
    cut = sorted(
        stretch for stretches in found.values() if len(stretches) > 1 for stretch in stretches
    )
    count = sum(b - a + 1 for a, b in cut)
    return Clipping(cut, count, count / x.size)
