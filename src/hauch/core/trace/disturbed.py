"""Where the course of a body that warms was disturbed: its probe was knocked or slipped, a door was
opened, the fan stood for a moment.

A body left to itself bends less and less: what bends more than shortly before was disturbed. A knock
after which the trace goes on where it was heading is left out; after anything else the trace begins
anew.
"""

from __future__ import annotations

import math
from dataclasses import dataclass

import numpy as np
import scipy

from hauch.core.trace.marks import last_digit, stretches

SCALES = (1, 3, 6)
"""Lengths of the means whose second difference tells a bend [samples]: a jump, a knock, a change of
slope.
"""

SIGMAS = 8.0
"""A bend of so many robust standard deviations is no scatter."""

SHARPER = 2.5
"""A disturbance bends the trace so many times more than it bent shortly before."""

BEFORE = 8
"""How far back that is looked at, in lengths of the mean."""

TOGETHER = 20
"""Bends nearer to each other than this are one disturbance [samples]."""

BESIDE = 40
"""Samples on either side of a disturbance whose course is compared."""

LEAST = 20
"""Samples that a course needs to be told."""

ON_COURSE = 4.0
"""A trace goes on as before where both courses meet within so many standard doubts."""


@dataclass(frozen=True, slots=True)
class Course:
    """Since when a trace follows one course [s], and which samples do not belong to it, boolean,
    shape (n,).
    """

    since: float
    out: np.ndarray

    @property
    def good(self) -> np.ndarray:
        """Samples of the course, boolean, shape (n,)."""
        return ~self.out


def course(times: np.ndarray, values: np.ndarray) -> Course:
    """The course that a trace follows at its end.

    Parameters
    ----------
    times, values : seconds and trace, evenly spaced, shape (n,); NaN are left out
    """
    at, y = np.asarray(times, float), np.asarray(values, float)
    out = ~(np.isfinite(at) & np.isfinite(y))
    if y.size - out.sum() < 2 * LEAST:
        return Course(-math.inf, out)
    y = np.where(out, np.interp(at, at[~out], y[~out]), y)
    begin = 0
    for first, last in _bends(y):
        if y.size - last <= LEAST:  # what comes of it is not known yet
            out[first:] = True
            break
        if _goes_on(at, y, max(begin, first - BESIDE), first, last):
            out[first : last + 1] = True
        else:
            begin = last + 1
    out[:begin] = True
    return Course(float(at[begin]) if begin else -math.inf, out)


def _bends(y: np.ndarray) -> list[tuple[int, int]]:
    """First and last sample of each disturbance."""
    flags = np.zeros(y.size, bool)
    digit = last_digit(y)
    for w in SCALES:
        if y.size < (BEFORE + 4) * w:
            continue
        means = np.convolve(y, np.ones(w) / w, "valid")
        bend = means[2 * w :] - 2 * means[w:-w] + means[: -2 * w]  # of samples i to i + 3 w - 1
        usual = scipy.ndimage.median_filter(bend, size=min(31, bend.size), mode="nearest")
        scatter = max(1.4826 * float(np.median(np.abs(bend - usual))), digit / math.sqrt(w), 1e-9)
        size = np.abs(bend)
        # How much it bent shortly before: the median of what lies 2 w to 8 w back.
        back = scipy.ndimage.median_filter(
            np.pad(size, (BEFORE * w, 0), mode="edge"), size=(BEFORE - 2) * w, mode="nearest"
        )[(BEFORE - 5) * w : (BEFORE - 5) * w + size.size]
        bent = (np.abs(bend - usual) > SIGMAS * scatter) & (size > SHARPER * back)
        bent[: BEFORE * w] = False
        for first, last in stretches(bent):
            flags[first + w : min(last + 2 * w, y.size)] = True
    found: list[tuple[int, int]] = []
    for first, last in stretches(flags):
        if found and first - found[-1][1] <= TOGETHER:
            found[-1] = (found[-1][0], last)
        else:
            found.append((first, last))
    return found


def _goes_on(at: np.ndarray, y: np.ndarray, begin: int, first: int, last: int) -> bool:
    """Whether the course before a disturbance meets the one after it in the middle."""
    middle = (at[first] + at[last]) / 2
    levels = []
    for part in (slice(begin, first), slice(last + 1, last + 1 + BESIDE)):
        t, v = at[part] - middle, y[part]
        if v.size < LEAST:
            return False
        columns = np.vander(t / max(np.abs(t).max(), 1e-9), 3)
        found, left, *_ = np.linalg.lstsq(columns, v, rcond=None)
        noise = float(left[0]) / (v.size - 3) if left.size else 0.0
        doubt = noise * float(np.linalg.inv(columns.T @ columns)[2, 2])
        levels.append((float(found[2]), doubt))
    (old, u_old), (new, u_new) = levels
    return abs(new - old) <= ON_COURSE * math.sqrt(u_old + u_new)
