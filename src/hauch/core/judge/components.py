"""What a figure's scatter is made of: run to run, the same part from day to day, the rig's day that all of
it share, print to print.

References
----------
Restricted maximum likelihood: H. D. Patterson, R. Thompson, Biometrika 58 (1971) 545; S. R. Searle, G.
    Casella, C. E. McCulloch, Variance Components (1992), ch. 6 (likelihood, information), 11.4.
Degrees of freedom of a component: F. E. Satterthwaite, Biometrics Bull. 2 (1946) 110.
Nested designs of test methods: ISO 5725-3:1994, annex C.
"""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np
import scipy

RUN, PART_DAY, DAY, PRINT = "run", "part_day", "day", "print"

FLOOR = 1e-8
"""Variances are sought down to this share of the whole; what ends there is none."""

NONE = 1e-4
"""A component below this share of the whole variance is not told from none."""

LEAST_LEVELS = 3
"""A component needs so many levels beside those that the means take."""


@dataclass(frozen=True)
class Runs:
    """Runs of one procedure on one rig, n of them.

    Parameters
    ----------
    y : ln(figure) or level, shape (n,)
    group : what has a mean of its own: version or reference type, at one setting of one test (n,)
    part : the physical part (n,)
    day : day of the run (n,)
    """

    y: np.ndarray
    group: np.ndarray
    part: np.ndarray
    day: np.ndarray


@dataclass(frozen=True, slots=True)
class Component:
    """A part of the scatter.

    Parameters
    ----------
    name : run, part_day, day or print
    sd : standard deviation in y; 0 where it is not told from none
    dof : its degrees of freedom
    low, high : 95 % interval of the standard deviation
    levels : how many different ones there were
    """

    name: str
    sd: float
    dof: float
    low: float
    high: float
    levels: int


def components(runs: Runs) -> list[Component]:
    """The parts of the scatter, run to run first; those that the runs can tell apart.

    Raises
    ------
    ValueError : fewer than two repeats of anything

    Notes
    -----
    Means of groups are taken out (restricted likelihood), so that what parts are meant to differ by
    is no scatter. The same print on another day, and all parts of a day, are told apart only where
    days had several parts, and parts several days; where each print ran on one day, what days do to
    it is in what prints differ by.
    """
    basis = _free(runs.group)
    if basis.shape[1] < 2:
        raise ValueError("nothing was repeated, so no scatter can be told")
    y = basis.T @ runs.y
    names, factors, levels = [RUN], [np.eye(basis.shape[1])], [runs.y.size]
    for name, key in (
        (PRINT, runs.part),
        (PART_DAY, _pairs(runs.part, runs.day)),
        (DAY, runs.day),
    ):
        z = basis.T @ _indicator(key)
        rank = int(np.linalg.matrix_rank(z, tol=1e-8))
        if rank < LEAST_LEVELS or rank >= basis.shape[1]:
            continue
        tried = [*factors, z @ z.T]
        if not _told_apart(tried):
            continue
        names.append(name)
        factors = tried
        levels.append(int(np.unique(key).size))
    values = _restricted(y, factors)
    information = _information(factors, values)
    spread = np.linalg.pinv(information)
    whole = float(np.sum(values))
    return [
        _component(name, float(v), float(spread[i, i]), whole, n)
        for i, (name, v, n) in enumerate(zip(names, values, levels, strict=True))
    ]


def _component(name: str, variance: float, of_it: float, whole: float, levels: int) -> Component:
    if variance < NONE * whole:
        # What could hide: two standard errors of a variance that was not found.
        return Component(name, 0.0, 0.0, 0.0, math.sqrt(2 * math.sqrt(max(of_it, 0.0))), levels)
    dof = max(2 * variance**2 / max(of_it, 1e-300), 0.5)
    low, high = (math.sqrt(variance * dof / scipy.stats.chi2.ppf(p, dof)) for p in (0.975, 0.025))
    return Component(name, math.sqrt(variance), dof, low, high, levels)


def _free(group: np.ndarray) -> np.ndarray:
    """Orthonormal basis of what is left when each group's mean is taken out, shape (n, n - groups)."""
    means = _indicator(group)
    full, _ = np.linalg.qr(means, mode="complete")
    return np.asarray(full[:, means.shape[1] :])


def _indicator(key: np.ndarray) -> np.ndarray:
    _, index = np.unique(key, return_inverse=True)
    out = np.zeros((index.size, int(index.max(initial=-1)) + 1))
    out[np.arange(index.size), index] = 1.0
    return out


def _pairs(first: np.ndarray, second: np.ndarray) -> np.ndarray:
    return np.unique(np.stack([first, second]), axis=1, return_inverse=True)[1].reshape(-1)


def _told_apart(factors: Sequence[np.ndarray]) -> bool:
    """Whether no factor is a sum of the others."""
    flat = np.stack([f.ravel() / np.linalg.norm(f) for f in factors])
    return bool(np.linalg.cond(flat @ flat.T) < 1e6)


def _restricted(y: np.ndarray, factors: Sequence[np.ndarray]) -> np.ndarray:
    """Variances of the largest restricted likelihood."""
    whole = float(y @ y) / y.size or 1.0
    low = math.log(FLOOR)

    def missed(logs: np.ndarray) -> tuple[float, np.ndarray]:
        values = whole * np.exp(logs)
        covariance = sum(v * f for v, f in zip(values, factors, strict=True))
        root = scipy.linalg.cho_factor(covariance, lower=True)
        inverse = scipy.linalg.cho_solve(root, np.eye(y.size))
        solved = inverse @ y
        value = float(np.sum(np.log(np.diag(root[0])))) + 0.5 * float(y @ solved)
        slope = [
            0.5 * v * (float(np.sum(inverse * f)) - float(solved @ f @ solved))
            for v, f in zip(values, factors, strict=True)
        ]
        return value, np.array(slope)

    start = np.full(len(factors), math.log(1 / len(factors)))
    bounds = [(math.log(1e-6), 5.0), *[(low, 5.0)] * (len(factors) - 1)]
    found = scipy.optimize.minimize(missed, start, jac=True, method="L-BFGS-B", bounds=bounds)
    return np.asarray(whole * np.exp(found.x))


def _information(factors: Sequence[np.ndarray], values: np.ndarray) -> np.ndarray:
    """Expected information of the variances: half of tr(V^-1 A V^-1 B)."""
    covariance = sum(v * f for v, f in zip(values, factors, strict=True))
    solved = [np.linalg.solve(covariance, f) for f in factors]
    return np.array([[0.5 * float(np.sum(a * b.T)) for b in solved] for a in solved])
