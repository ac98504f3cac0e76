"""When entries of a field are set apart at all: one rule for all pairs at once.

References
----------
Studentized range for all pairs: J. W. Tukey, The Problem of Multiple Comparisons (1953); unequal
    doubts: C. Y. Kramer, Biometrics 12 (1956) 307; that it stays on the safe side then: A. J. Hayter,
    Ann. Statist. 12 (1984) 61. Its distribution: H. L. Harter, Ann. Math. Statist. 31 (1960) 1122.
Degrees of freedom of a gap that has several sources: JCGM 100:2008, eq. G.2b.
"""

from __future__ import annotations

import math
from functools import lru_cache

import numpy as np
import scipy

FALSE_CALLS = 0.05
"""Probability that a field of equal entries is set apart anywhere."""
_NORMAL, _NORMAL_WEIGHT = np.polynomial.legendre.leggauss(160)
_SHARE, _SHARE_WEIGHT = np.polynomial.legendre.leggauss(96)


def apart_factor(entries: int, dof: float) -> float:
    """Gap between two of so many entries, over its standard uncertainty, from which they are set
    apart: q / sqrt 2, q the 95 % quantile of the studentized range.

    Parameters
    ----------
    entries : of the field, whoever leads it
    dof : degrees of freedom of the gap's standard uncertainty

    Notes
    -----
    For two entries it is Student's t, two-sided, since nobody said before who would lead. A leader
    is chosen after the runs were seen, and each more entry is one more that may lead by chance.
    """
    if entries < 2:
        return 0.0
    return _factor(entries, math.inf if dof > MANY else max(1.0, float(f"{dof:.2g}")))


MANY = 1e4
"""Degrees of freedom from which a standard uncertainty is taken as known."""


@lru_cache(maxsize=4096)
def _factor(entries: int, dof: float) -> float:
    if entries == 2:
        t = scipy.special.ndtri(1 - FALSE_CALLS / 2) if math.isinf(dof) else None
        return float(scipy.special.stdtrit(dof, 1 - FALSE_CALLS / 2) if t is None else t)

    def missed(q: float) -> float:
        return _range_below(q, entries, dof) - (1 - FALSE_CALLS)

    high = 8.0
    while missed(high) < 0:
        high *= 2
    return float(scipy.optimize.brentq(missed, 0.5, high, xtol=1e-6)) / math.sqrt(2)


def _range_below(q: float, entries: int, dof: float) -> float:
    """Probability that the studentized range stays below q."""
    share = (_SHARE + 1) / 2
    scale = (
        np.ones(1)
        if math.isinf(dof)
        else np.sqrt(2 * scipy.special.gammaincinv(dof / 2, share) / dof)
    )
    z = 8.5 * _NORMAL
    width = q * scale[:, None]
    inside = scipy.special.ndtr(z + width) - scipy.special.ndtr(z)
    density = np.exp(-z * z / 2) / math.sqrt(2 * math.pi)
    each = entries * 8.5 * (density * inside ** (entries - 1)) @ _NORMAL_WEIGHT
    return float(each[0] if math.isinf(dof) else each @ _SHARE_WEIGHT / 2)
