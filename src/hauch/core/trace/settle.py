"""Where a trace is steady, and where a warming body will end.

References
----------
First-order response T(t) = Tinf - (Tinf - T0) exp(-t/tau) of a lumped body: any heat transfer text, for example
F. P. Incropera et al., Fundamentals of Heat and Mass Transfer, 5.1 (valid for Biot numbers below 0.1).
Independent samples in correlated noise: G. E. P. Box, G. M. Jenkins, Time Series Analysis, 2.1.5.
"""

from __future__ import annotations

import math
from dataclasses import dataclass

import numpy as np
from scipy.optimize import least_squares

from hauch.core.quantity import coverage_factor


@dataclass(frozen=True, slots=True)
class Settling:
    """End value of a settling trace.

    ``end``, ``u``, ``dof`` [unit of the trace], ``tau`` [s], ``slope`` now [unit/s], ``settled`` by the rule, and
    ``seconds_to_go`` until it is (0 when settled, infinite when no end is in sight).
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

    1 + 2 sum of the autocorrelation up to its first crossing of zero (at most a quarter of the samples).
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


def fit_settling(times: np.ndarray, values: np.ndarray, resolution: float, window: float = 60.0) -> Settling:
    """Fit the end value of a first-order response.

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
    Settled when the expanded doubt of the end value and the change over one window are both below the resolution.
    The doubt comes from the fit's residuals, widened by their own correlation. Time constants beyond the length of
    the trace are not believed: the doubt then covers the whole remaining span.
    """
    if not resolution > 0:
        raise ValueError(f"the resolution must be above 0, got {resolution}")
    good = np.isfinite(values) & np.isfinite(times)
    t, y = np.asarray(times, float)[good], np.asarray(values, float)[good]
    if t.size < 20:
        raise ValueError(f"settling needs at least 20 samples, got {t.size}")
    block = max(1, t.size // 600)
    kept = t.size // block * block
    t, y = t[:kept].reshape(-1, block).mean(axis=1), y[:kept].reshape(-1, block).mean(axis=1)
    t = t - t[0]
    span = float(t[-1])

    def linear(tau: float) -> tuple[np.ndarray, np.ndarray]:
        basis = np.column_stack([np.ones_like(t), np.exp(-t / tau)])
        return basis, np.linalg.lstsq(basis, y, rcond=None)[0]

    grid = np.geomspace(span / 200, span, 40)
    costs = [float(np.sum((y - basis @ c) ** 2)) for basis, c in map(linear, grid)]
    tau = float(grid[int(np.argmin(costs))])
    end, amplitude = linear(tau)[1]
    fit = least_squares(
        lambda p: p[0] + p[1] * np.exp(-t / p[2]) - y,
        [end, amplitude, tau],
        bounds=([-np.inf, -np.inf, span / 1000], [np.inf, np.inf, 3 * span]),
        x_scale=[1.0, 1.0, max(tau, 1e-9)],
    )
    end, amplitude, tau = (float(v) for v in fit.x)
    residual = -fit.fun
    factor = correlation_factor(residual)
    dof = max(t.size / factor - 3, 1.0)
    variance = float(residual @ residual) / dof
    covariance = np.linalg.pinv(fit.jac.T @ fit.jac) * variance
    u = math.sqrt(max(float(covariance[0, 0]), 0.0))
    remaining = amplitude * math.exp(-span / tau)
    noise = math.sqrt(variance)
    if abs(amplitude) < 3 * noise:
        # Nothing warms up any more: a level trace, whose mean is its end.
        end, u, remaining, tau = float(y.mean()), float(y.std(ddof=1)) * math.sqrt(factor / t.size), 0.0, span / 5
    elif tau > span:
        u = max(u, abs(remaining))
    slope = -remaining / tau
    change = abs(remaining) * (1 - math.exp(-window / tau))
    settled = coverage_factor(dof) * u < resolution and change < resolution
    wait = tau * math.log(max(change / resolution, 1.0)) if tau <= span else math.inf
    if not settled and wait == 0:
        # The doubt falls about as the square root of the time that is still added.
        wait = span * ((coverage_factor(dof) * u / resolution) ** 2 - 1)
    return Settling(end, u, dof, tau, slope, settled, 0.0 if settled else max(wait, 1.0))
