"""Predictions held against measurements: bias, scatter, and the factor that a rig's measurements
give back to a model.

References
----------
JCGM 100:2008, 4.2 (means and their uncertainty), G.3 (small numbers: Student). Ratios are treated
    by their logarithms, so that half and
double weigh alike.
"""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass

from hauch.core.quantity import expanded

FIRST_SPREAD = 0.15
"""Scatter taken for a model on a rig while one pair alone is known [share]; our assumption, from
the doubts that the models state.
"""


@dataclass(frozen=True, slots=True)
class Pair:
    """A prediction and what was measured, same unit, with the standard uncertainty of the
    measurement; ``log`` where ratios count.
    """

    predicted: float
    measured: float
    u_measured: float = 0.0
    log: bool = True

    @property
    def error(self) -> float:
        """Prediction over measurement less one, in percent; or the difference where ``log`` is
        False.
        """
        return (
            100 * (self.predicted / self.measured - 1)
            if self.log
            else self.predicted - self.measured
        )


@dataclass(frozen=True, slots=True)
class Record:
    """Errors of several predictions: mean (bias), scatter (standard deviation, NaN for one),
    half-width of the bias' 95 % interval.
    """

    count: int
    bias: float
    scatter: float
    half: float


def record_of(pairs: Sequence[Pair]) -> Record:
    """Bias and scatter of predictions [%, or the unit where differences count].

    Raises
    ------
    ValueError : no pair, or ratios and differences mixed
    """
    if not pairs:
        raise ValueError("a record needs one prediction at least")
    if len({p.log for p in pairs}) > 1:
        raise ValueError("ratios and differences cannot be mixed in one record")
    errors = [p.error for p in pairs]
    n = len(errors)
    bias = sum(errors) / n
    if n == 1:
        return Record(1, bias, math.nan, math.nan)
    scatter = math.sqrt(sum((e - bias) ** 2 for e in errors) / (n - 1))
    return Record(n, bias, scatter, expanded(scatter / math.sqrt(n), n - 1))


@dataclass(frozen=True, slots=True)
class Factor:
    """What a model's figure is to be multiplied with on a rig, and the standard uncertainty of a
    next figure so corrected (shares), from ``count`` pairs.
    """

    value: float
    u: float
    count: int
    dof: float


def rig_factor(pairs: Sequence[Pair]) -> Factor:
    """Factor measured over predicted, for one model on one rig.

    Notes
    -----
    Geometric mean of the ratios. The doubt of a next figure is the scatter of the ratios times
    sqrt(1 + 1/n), and the mean doubt of the measurements beside it; one pair alone takes
    `FIRST_SPREAD` as its scatter.

    Raises
    ------
    ValueError : no pair, figures not above 0
    """
    if not pairs:
        raise ValueError("a factor needs one measured value at least")
    if any(p.predicted <= 0 or p.measured <= 0 for p in pairs):
        raise ValueError("a factor needs figures above 0")
    logs = [math.log(p.measured / p.predicted) for p in pairs]
    n = len(logs)
    mean = sum(logs) / n
    spread = math.sqrt(sum((x - mean) ** 2 for x in logs) / (n - 1)) if n > 1 else FIRST_SPREAD
    meters = math.sqrt(sum((p.u_measured / p.measured) ** 2 for p in pairs) / n)
    return Factor(
        math.exp(mean),
        math.hypot(spread * math.sqrt(1 + 1 / n), meters),
        n,
        n - 1 if n > 1 else math.inf,
    )
