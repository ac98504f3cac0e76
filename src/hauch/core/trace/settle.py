"""Where a trace is steady, and where a warming body will end.

References
----------
First-order response T(t) = Tinf - (Tinf - T0) exp(-t/tau) of a lumped body: any heat transfer text,
    for example
F. P. Incropera et al., Fundamentals of Heat and Mass Transfer, 5.1 (valid for Biot numbers below
    0.1).
Independent samples in correlated noise: G. E. P. Box, G. M. Jenkins, Time Series Analysis, 2.1.5.
"""

from __future__ import annotations

import math
from dataclasses import dataclass

import numpy as np
import scipy

from hauch.core.quantity import expanded


@dataclass(frozen=True, slots=True)
class Settling:
    """End value of a settling trace.

    ``end``, ``u``, ``dof`` [unit of the trace], ``tau`` [s], ``slope`` now [unit/s], ``settled`` by
    the rule, and ``seconds_to_go`` until it is (0 when settled, infinite when no end is in sight).
    """

    end: float
    u: float
    dof: float
    tau: float
    slope: float
    settled: bool
    seconds_to_go: float


def correlation_factor(values: np.ndarray) -> float:
    """How many samples of a trace count as one independent sample, at least 1.

    1 + 2 sum of the autocorrelation up to its first crossing of zero (at most a quarter of the
    samples).
    """
    x = np.asarray(values, dtype=float)
    x = x[np.isfinite(x)]
    if x.size < 8:
        return 1.0
    x = x - x.mean()
    power = float(x @ x)
    if power <= 0:
        return 1.0
    size = 1 << (2 * x.size - 1).bit_length()
    spectrum = np.abs(np.fft.rfft(x, size)) ** 2
    rho = np.fft.irfft(spectrum, size)[1 : x.size // 4] / power
    below = np.flatnonzero(rho <= 0)
    rho = rho[: below[0]] if below.size else rho
    return max(1.0, 1.0 + 2.0 * float(rho.sum()))


BLOCKS = 200
"""A trace is averaged into up to this many blocks before it is fitted: enough for two time
constants, quick enough to do every second.
"""

MOST_STEPS = 40
"""Steps of a fit; where two time constants cannot be told apart it would walk on without end."""

SURELY_BETTER = 12.0
"""A second time constant is believed when it lowers the sum of squares by this many variances of an
independent sample (two parameters, P < 0.003).
"""

WIDER = 2.0
"""The residuals' own correlation is estimated too small, as part of it is fitted away; found by
simulated soaks (benchmark ``settle``).
"""


@dataclass(frozen=True, slots=True)
class _Response:
    """A fitted response: end, amplitudes, time constants, residuals, their correlation, effective
    degrees of freedom and the end's doubt.
    """

    end: float
    amplitudes: tuple[float, ...]
    taus: tuple[float, ...]
    residual: np.ndarray
    factor: float
    dof: float
    u: float

    def remaining(self, after: float) -> float:
        """How far from its end it is at a time [s] after the first block."""
        return sum(
            a * math.exp(-after / tau) for a, tau in zip(self.amplitudes, self.taus, strict=True)
        )


def _amplitudes(t: np.ndarray, y: np.ndarray, taus: tuple[float, ...]) -> tuple[np.ndarray, float]:
    """End and amplitudes for given time constants (they are linear), and the sum of squares left."""
    basis = np.column_stack([np.ones_like(t), *(np.exp(-t / tau) for tau in taus)])
    found = np.linalg.lstsq(basis, y, rcond=None)[0]
    return found, float(np.sum((y - basis @ found) ** 2))


def _respond(t: np.ndarray, y: np.ndarray, guesses: list[tuple[float, ...]]) -> _Response:
    """The best response among the guessed time constants, refined."""
    span = float(t[-1])
    taus = min(guesses, key=lambda taus: _amplitudes(t, y, taus)[1])
    start, count = _amplitudes(t, y, taus)[0], len(taus)

    def off(p: np.ndarray) -> np.ndarray:
        return p[0] + np.exp(-t[:, None] / p[1 + count :]) @ p[1 : 1 + count] - y

    def slopes(p: np.ndarray) -> np.ndarray:
        decay = np.exp(-t[:, None] / p[1 + count :])
        return np.column_stack(
            [np.ones_like(t), decay, p[1 : 1 + count] * decay * t[:, None] / p[1 + count :] ** 2]
        )

    low, high = (
        [-np.inf] * (1 + count) + [span / 1000] * count,
        [np.inf] * (1 + count) + [3 * span] * count,
    )
    fit = scipy.optimize.least_squares(
        off,
        [*start, *taus],
        slopes,
        bounds=(low, high),
        x_scale=[1.0] * (1 + count) + [max(tau, 1e-9) for tau in taus],
        max_nfev=MOST_STEPS,
    )
    factor = WIDER * correlation_factor(fit.fun)
    dof = max(t.size / factor - fit.x.size, 1.0)
    covariance = np.linalg.pinv(fit.jac.T @ fit.jac) * float(fit.fun @ fit.fun) / dof
    u = math.sqrt(max(float(covariance[0, 0]), 0.0))
    return _Response(
        float(fit.x[0]),
        tuple(fit.x[1 : 1 + count]),
        tuple(fit.x[1 + count :]),
        -fit.fun,
        factor,
        dof,
        u,
    )


def fit_settling(
    times: np.ndarray, values: np.ndarray, resolution: float, window: float = 60.0
) -> Settling:
    """Fit the end value of a body that warms or cools.

    Parameters
    ----------
    times, values : seconds and trace, shape (n,); NaN are left out
    resolution : what the round asks for [unit of the trace]
    window : over which time the remaining change must stay below the resolution [s]

    Raises
    ------
    ValueError : fewer than 20 samples, or a resolution that is not above zero

    Notes
    -----
    Settled when the expanded doubt of the end value and the change over one window are both below
    the resolution. One time constant, or two where the trace asks for them (a light part in front
    of a heavy one). The doubt comes from the fit's residuals, widened by their own correlation, and
    holds most of what a second time constant would change where one was left out. Time constants
    beyond the length of the trace are not believed: the doubt then covers the whole remaining span.
    """
    if not resolution > 0:
        raise ValueError(f"the resolution must be above 0, got {resolution}")
    good = np.isfinite(values) & np.isfinite(times)
    t, y = np.asarray(times, float)[good], np.asarray(values, float)[good]
    if t.size < 20:
        raise ValueError(f"settling needs at least 20 samples, got {t.size}")
    block = max(1, t.size // BLOCKS)
    kept = t.size // block * block
    t, y = t[:kept].reshape(-1, block).mean(axis=1), y[:kept].reshape(-1, block).mean(axis=1)
    t = t - t[0]
    span = float(t[-1])
    one = _respond(t, y, [(tau,) for tau in np.geomspace(span / 200, span, 40)])
    noise = math.sqrt(float(one.residual @ one.residual) / one.dof)
    if abs(one.amplitudes[0]) < 3 * noise:
        # Nothing warms up any more: a level trace, whose mean is its end.
        u = float(y.std(ddof=1)) * math.sqrt(one.factor / t.size)
        return _judged(float(y.mean()), u, one.dof, span / 5, 0.0, resolution, window, span)
    slow = one.taus[0]
    two = _respond(
        t,
        y,
        [
            (min(slow * stretch, 2.9 * span), max(min(slow * share, 2.9 * span), span / 900))
            for stretch in (1.0, 1.15, 1.4, 1.8)
            for share in (0.03, 0.08, 0.2, 0.4)
        ],
    )
    gain = float(one.residual @ one.residual - two.residual @ two.residual) / (
        float(two.residual @ two.residual) / two.dof
    )
    apart = two.taus[0] > 1.3 * two.taus[1] and two.taus[0] <= span
    chosen, u = (
        (two, two.u)
        if apart and gain > SURELY_BETTER
        else (one, math.hypot(one.u, 0.8 * (two.end - one.end) if apart else 0.0))
    )
    tau, remaining = max(chosen.taus), chosen.remaining(span)
    if tau > span:
        u = max(u, abs(remaining))
    return _judged(chosen.end, u, chosen.dof, tau, remaining, resolution, window, span)


def _judged(
    end: float,
    u: float,
    dof: float,
    tau: float,
    remaining: float,
    resolution: float,
    window: float,
    span: float,
) -> Settling:
    """Settled or not by the rule, and how long still."""
    half = expanded(u, dof)
    tau, remaining = float(tau), float(remaining)
    change = abs(remaining) * (1 - math.exp(-window / tau))
    settled = bool(half < resolution and change < resolution)
    wait = tau * math.log(max(change / resolution, 1.0)) if tau <= span else math.inf
    if not settled and wait == 0:
        # The doubt falls about as the square root of the time that is still added.
        wait = span * ((half / resolution) ** 2 - 1)
    return Settling(
        float(end),
        float(u),
        float(dof),
        tau,
        -remaining / tau,
        settled,
        0.0 if settled else max(wait, 1.0),
    )
