"""Clipped sound: a recording that ran into the end of its scale, so that its level reads low and its tones are false.

References
----------
Overload of a measuring chain: IEC 61672-1:2013, 5.11 (an overload must be indicated; what was measured then does not count).
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

FLAT = 3
"""So many samples in a row at one extreme are a cut top; a sine that just reaches the scale has fewer."""

NEAR = 0.999
"""Share of the largest sample from which on a sample is at the extreme."""


@dataclass(frozen=True, slots=True)
class Clipping:
    """``stretches`` of samples at the end of the scale, how many ``samples`` they hold, and their ``share`` of all."""

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
    The scale's end need not be 1.0: a microphone amplifier cuts earlier. Looked for are flat tops, `FLAT` samples or more
    in a row within a thousandth of the largest (or the smallest) one.
    """
    x = np.asarray(samples, dtype=float)
    top = float(np.nanmax(np.abs(x))) if x.size else 0.0
    if not top > 0:
        return Clipping([], 0, 0.0)
    found: list[tuple[int, int]] = []
    for flags in (x >= NEAR * top, x <= -NEAR * top):
        edges = np.flatnonzero(np.diff(np.concatenate(([0], flags.astype(np.int8), [0])))).reshape(-1, 2)
        found += [(int(a), int(b) - 1) for a, b in edges if b - a >= FLAT]
    # One flat top may be chance in a slow wave; two of them are a limit.
    if len(found) < 2:
        return Clipping([], 0, 0.0)
    count = sum(b - a + 1 for a, b in found)
    return Clipping(sorted(found), count, count / x.size)
