"""How long a step takes: from a rule before there is a record, and from the record the more there is
of it.

Logarithms of durations are taken for normal, with mean and variance unknown. The rule is the prior
(normal, scaled inverse chi-square), so that one or two logged steps move it and twenty replace it.

References
----------
A. Gelman et al., "Bayesian data analysis", 3rd ed. (2014), sec. 3.3: conjugate prior of a normal mean
    and variance, and the t distribution of the next observation (eq. 3.6 to 3.9).
"""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np
from scipy.stats import t as student

INSIDE = 0.8
"""Share of later steps that lie within the interval that is told."""

RULE_OFF = 0.5
"""Standard deviation of the logarithm by which a rule is off from one workshop to the other: it is
right within a factor of 1.9 in four of five.
"""
USUAL_SPREAD, SPREAD_KNOWN = 0.25, 4.0
"""Standard deviation of the logarithm among steps of one kind before it is known, and as how many
logged ones that counts.
"""
NORMAL = 1e3
"""Degrees of freedom by which t is as good as normal."""
FAR = 3.5
"""What lies so many robust standard deviations from the median is no step of the kind: somebody went
to eat, or forgot to log it.
"""
MOST_SCALE = 0.6
"""A scale above this is of too short a record, and would make a mean of tails."""
LEAST_TO_JUDGE = 5
"""So many are needed before one is called far."""


@dataclass(frozen=True, slots=True)
class Duration:
    """Minutes that a step takes: in the middle, and between which four of five lie.

    ``count`` is how many logged steps tell it; 0: by rule. ``centre``, ``scale`` and ``dof`` are of
    the t distribution of the logarithm of the next one's minutes.
    """

    minutes: float
    low: float
    high: float
    count: int
    centre: float
    scale: float
    dof: float

    @property
    def expected(self) -> float:
        """Minutes to plan with: the mean, of which a row of steps is the sum; the middle would be short."""
        return math.exp(self.centre + min(self.scale, MOST_SCALE) ** 2 / 2)

    @property
    def by_rule(self) -> bool:
        """Whether nothing was logged yet."""
        return self.count == 0

    def times(self, factor: float) -> Duration:
        """The same for so many times the size."""
        if not factor > 0:
            raise ValueError(f"factor = {factor} must be above 0")
        return Duration(
            self.minutes * factor,
            self.low * factor,
            self.high * factor,
            self.count,
            self.centre + math.log(factor),
            self.scale,
            self.dof,
        )

    def draw(self, chance: np.random.Generator, size: int) -> np.ndarray:
        """Minutes of steps to come, ``size`` draws."""
        return np.exp(self.centre + self.scale * chance.standard_t(self.dof, size))


def plausible(logged: Sequence[float]) -> np.ndarray:
    """Logged minutes without those that are far from the rest; what is not above 0 goes too."""
    values = np.asarray([v for v in logged if math.isfinite(v) and v > 0], dtype=float)
    if values.size < LEAST_TO_JUDGE:
        return values
    y = np.log(values)
    middle = np.median(y)
    robust = 1.4826 * np.median(np.abs(y - middle))
    return values[np.abs(y - middle) <= FAR * max(robust, 0.05)]


def duration(rule: float, logged: Sequence[float] = ()) -> Duration:
    """How long the next step takes.

    Parameters
    ----------
    rule : minutes by rule [min], above 0
    logged : minutes of steps of the kind [min]

    Raises
    ------
    ValueError : a rule that is not above 0

    Notes
    -----
    Without a record the rule's own doubt and the usual spread stand beside each other. With prior
    mean ln(rule) worth ``(USUAL_SPREAD / RULE_OFF)**2`` observations and prior variance
    ``USUAL_SPREAD**2`` worth `SPREAD_KNOWN`, the next logarithm is t distributed.
    """
    if not (math.isfinite(rule) and rule > 0):
        raise ValueError(f"rule = {rule} must be above 0")
    y = np.log(plausible(logged))
    n, prior = y.size, (USUAL_SPREAD / RULE_OFF) ** 2
    if n:
        mean, off = float(y.mean()), float(y.mean()) - math.log(rule)
        weight, dof = prior + n, SPREAD_KNOWN + n
        centre = (prior * math.log(rule) + n * mean) / weight
        squares = SPREAD_KNOWN * USUAL_SPREAD**2 + float(((y - mean) ** 2).sum())
        scale = math.sqrt((squares + prior * n / weight * off**2) / dof * (1 + 1 / weight))
    else:
        centre, scale, dof = math.log(rule), math.hypot(RULE_OFF, USUAL_SPREAD), NORMAL
    half = scale * float(student.ppf((1 + INSIDE) / 2, dof))
    return Duration(
        math.exp(centre), math.exp(centre - half), math.exp(centre + half), n, centre, scale, dof
    )


def failure_rate(failed: int, done: int) -> float:
    """Probability that the next print fails, from those that did.

    Notes
    -----
    The mean of a beta distribution that begins as Beta(0.5, 4.5): one in ten, worth five prints
    (Gelman et al., 2.4).
    """
    if failed < 0 or done < failed:
        raise ValueError(f"failed = {failed} of done = {done} cannot be")
    return (failed + 0.5) / (done + 5.0)
