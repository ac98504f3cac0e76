"""How neighbouring blades change a blade's lift: the flat-plate cascade.

References
----------
F. S. Weinig, "Theory of two-dimensional flow through cascades", in: Aerodynamics of Turbines and
    Compressors, Princeton (1964).
Exact cases: unstaggered plates K = tanh(k)/k, plates in one line K = tan(k)/k, with k = pi c / (2
    s).
"""

from __future__ import annotations

from functools import lru_cache

import numpy as np
import scipy
from numpy.typing import NDArray

Array = NDArray[np.float64]

PANELS = 24
"""Vortices along a plate, each at a quarter of its piece, the flow made tangent at three quarters."""
MOST_SOLIDITY = 2.0
BOUNDS = (0.6, 1.2)
"""Factors outside are not used: the blades are curved and thick there, and the theory is not
theirs.
"""


def lattice_factor(solidity: float, stagger: float) -> float:
    """Lift of a plate in a cascade over that of a single plate in the same mean flow.

    Parameters
    ----------
    solidity : chord over spacing
    stagger : angle of the chord from the axis [rad]
    """
    pieces = (np.arange(PANELS) + 0.25) / PANELS * solidity
    points = (np.arange(PANELS) + 0.75) / PANELS * solidity
    turn = np.exp(1j * stagger)  # plate along this direction, the row of plates along i, spacing 1
    gap = (points[:, None] - pieces[None, :]) * turn
    velocity = (
        1 / (2j) / np.tanh(np.pi * gap)
    )  # u - iv of an infinite row of vortices of strength 1
    normal = (velocity * turn).imag * -1.0
    single = 1 / (2 * np.pi * (points[:, None] - pieces[None, :]))
    row = np.linalg.solve(normal, np.ones(PANELS)).sum()
    alone = np.linalg.solve(single, np.ones(PANELS)).sum()
    return float(row / alone)


@lru_cache(maxsize=1)
def _table() -> scipy.interpolate.RegularGridInterpolator:
    solidities, staggers = np.linspace(0.02, MOST_SOLIDITY, 34), np.radians(np.linspace(0, 88, 23))
    values = np.array(
        [[np.clip(lattice_factor(s, g), *BOUNDS) for g in staggers] for s in solidities]
    )
    return scipy.interpolate.RegularGridInterpolator(
        (solidities, staggers), values, bounds_error=False, fill_value=None
    )


def cascade_factor(solidity: Array, stagger: Array) -> Array:
    """`lattice_factor` from a table, kept within `BOUNDS`, for arrays."""
    points = np.column_stack(
        [np.clip(solidity, 0.02, MOST_SOLIDITY), np.clip(stagger, 0, np.radians(88))]
    )
    return np.clip(_table()(points), *BOUNDS)
