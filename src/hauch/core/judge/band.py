"""The reference as a band: where it lies, and how well that is known. Whatever draws the reference
behind something else asks here.

References
----------
JCGM 100:2008, 4.2.3 and G.3 (mean of repeats and its interval).
ISO 16269-8:2004, 5 (interval that a further observation keeps within: s √(1 + 1/n)).
"""

from __future__ import annotations

import math
from collections.abc import Callable, Sequence
from dataclasses import dataclass

import numpy as np

from hauch.core.quantity import expanded


@dataclass(frozen=True, slots=True)
class Scatter:
    """Standard deviation of one repeat and its degrees of freedom (above 0)."""

    sd: float
    dof: float


@dataclass(frozen=True, slots=True)
class Band:
    """Value of the reference and the half-width of its 95 % interval, same unit; ``half`` is None
    where nothing tells the scatter, so that nothing is drawn surer than it is.
    """

    value: float
    half: float | None


def of_mean(values: Sequence[float], scatter: Scatter | None = None) -> Band | None:
    """The reference's mean, and how well its repeats tell it: t s / √n; None without a value.

    Parameters
    ----------
    values : repeats of the reference
    scatter : of one repeat, where more is known than these repeats tell (pooled over a test)
    """
    return _band(values, scatter, lambda n: 1 / n)


def of_next(values: Sequence[float], scatter: Scatter | None = None) -> Band | None:
    """The reference's mean, and where one more run of it would lie: t s √(1 + 1/n); None without a
    value. Parameters as of `of_mean`.
    """
    return _band(values, scatter, lambda n: 1 + 1 / n)


def _band(
    values: Sequence[float], scatter: Scatter | None, share: Callable[[int], float]
) -> Band | None:
    if not len(values):
        return None
    mean, count = float(np.mean(values)), len(values)
    if scatter is None and count > 1:
        scatter = Scatter(float(np.std(values, ddof=1)), count - 1)
    if scatter is None:
        return Band(mean, None)
    return Band(mean, expanded(scatter.sd * math.sqrt(share(count)), scatter.dof))
