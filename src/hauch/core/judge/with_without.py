"""What something costs that is put on and taken off again: runs of one part at two settings, in turn.

References
----------
Least squares with blocks and a drift within each: D. C. Montgomery, Design and Analysis of
    Experiments, on blocking and covariates. JCGM 100:2008, H.3 (variances of fitted coefficients), G.4
    (effective degrees of freedom).
"""

from __future__ import annotations

import math
from dataclasses import dataclass

import numpy as np

from hauch.core.judge.band import Scatter
from hauch.core.quantity import effective_dof, expanded

BLOCK_GAP = 4 * 3600.0
"""Runs further apart than this [s] are of different blocks: the bench may have changed in between."""


@dataclass(frozen=True, slots=True)
class Cost:
    """What a setting changes against the other, in y (the logarithm of a figure, or a level).

    Parameters
    ----------
    change : from the one to the other
    half : half-width of its 95 % interval; None where nothing tells how a run scatters
    u, dof : its standard uncertainty and degrees of freedom; NaN and 0 where half is None
    drift_free : whether straight drift falls out: in a block one setting was run before and after the
        other
    runs : at the one, and at the other, in blocks that have both
    """

    change: float
    half: float | None
    u: float
    dof: float
    drift_free: bool
    runs: tuple[int, int]


def cost(
    times: np.ndarray, y: np.ndarray, other: np.ndarray, own: np.ndarray, known: Scatter | None
) -> Cost | None:
    """Fit what the other setting changes; None where no block has both.

    Parameters
    ----------
    times : of the runs [s], shape (n,)
    y : ln(figure) or level, shape (n,)
    other : whether a run is at the other setting, shape (n,) bool
    own : standard uncertainty of each run besides scatter, in y, shape (n,)
    known : scatter of one run that the rig showed; these runs may be among those that tell it, so that
        it is taken instead of what is left over here, where it has more degrees of freedom, and never
        pooled with it
    """
    order = np.argsort(times, kind="stable")
    times, y, other, own = times[order], y[order], other[order], own[order]
    block = np.concatenate(([0], np.cumsum(np.diff(times) > BLOCK_GAP)))
    blocks, drifts, free, kept = [], [], [], np.zeros(times.size, bool)
    for number in np.unique(block):
        here = block == number
        if not (other[here].any() and (~other[here]).any()):
            continue
        kept |= here
        blocks.append(here.astype(float))
        free.append(_framed(other[here]))
        if free[-1]:
            middle = times[here].mean()
            span = max(float(np.ptp(times[here])), 1.0)
            drifts.append(np.where(here, (times - middle) / span, 0.0))
    if not blocks:
        return None
    design = np.column_stack([other.astype(float), *blocks, *drifts])[kept]
    seen, spread = y[kept], own[kept]
    weights = np.linalg.pinv(design)
    fitted = weights @ seen
    rest = seen - design @ fitted
    runs = int((~other[kept]).sum()), int(other[kept].sum())
    scatter = _scatter(rest, seen.size - int(np.linalg.matrix_rank(design)), known)
    if scatter is None:
        return Cost(float(fitted[0]), None, math.nan, 0.0, all(free), runs)
    of_scatter = scatter.sd * math.sqrt(float(weights[0] @ weights[0]))
    of_own = math.sqrt(float(np.sum((weights[0] * spread) ** 2)))
    u = math.hypot(of_scatter, of_own)
    freedom = effective_dof([(of_scatter, scatter.dof), (of_own, math.inf)])
    return Cost(float(fitted[0]), expanded(u, freedom), u, freedom, all(free), runs)


def _framed(other: np.ndarray) -> bool:
    """Whether one setting was run before and after the other."""
    turns = int(np.count_nonzero(np.diff(other.astype(int))))
    return turns >= 2


def _scatter(rest: np.ndarray, dof: int, known: Scatter | None) -> Scatter | None:
    if known is not None and known.dof > dof:
        return known
    return Scatter(math.sqrt(float(rest @ rest) / dof), float(dof)) if dof > 0 else None
