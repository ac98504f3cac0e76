"""A kept network that gives lift and drag of a section from its shape, angle and Reynolds number.

The weights in `weights.npz` are those of NeuralFoil 0.3.3, size "medium", by Peter Sharpe, under
the MIT license (beside this file); of its last layer only the rows for lift and drag were taken.
The forward pass is written out here, since the package brings a whole design toolbox along.

References
----------
P. D. Sharpe, R. J. Hansman, "NeuralFoil: an airfoil aerodynamics analysis tool using
    physics-informed machine learning", arXiv:2503.16323 (2025), 3.
B. M. Kulfan, "Universal parametric geometry representation method", J. Aircraft 45 (2008) 142
    (the 8 coefficients of each side).
"""

from __future__ import annotations

from functools import lru_cache
from importlib.resources import files
from io import BytesIO

import numpy as np
from numpy.typing import NDArray

Array = NDArray[np.float64]

SIDE = 8
"""Coefficients of each side."""
LAYERS = 5


@lru_cache(maxsize=1)
def _layers() -> list[tuple[Array, Array]]:
    """Weights and biases, layer by layer."""
    stored = np.load(BytesIO(files(__package__).joinpath("weights.npz").read_bytes()))
    return [
        (stored[f"weight{n}"].astype(float), stored[f"bias{n}"].astype(float)[:, None])
        for n in range(LAYERS)
    ]


def _passed(x: Array) -> Array:
    """Through the network: inputs (25, n) -> raw lift and drag (2, n)."""
    layers = _layers()
    for weight, bias in layers[:-1]:
        x = weight @ x + bias
        x = x / (1 + np.exp(-x))
    weight, bias = layers[-1]
    return np.asarray(weight @ x + bias)


def lift_and_drag(
    upper: Array, lower: Array, tail: float, angle: Array, reynolds: Array, n_crit: float
) -> tuple[Array, Array]:
    """Lift and drag coefficients of sections with free transition.

    Parameters
    ----------
    upper, lower : coefficients of the sides, shape (8, n)
    tail : thickness of the trailing edge as a share of the chord
    angle : of attack [degree], shape (n,)
    reynolds : on the chord, above 0, shape (n,)
    n_crit : amplification at which the boundary layer turns over

    Notes
    -----
    Asked twice, as it is and mirrored in the chord, and averaged, so that a mirrored section has
    the mirrored lift; it was trained so.
    """
    a = np.radians(angle)
    one = np.ones_like(a)
    flow = [np.cos(a), 1 - np.cos(a) ** 2, (np.log(reynolds) - 12.5) / 3.5]
    rest = [*flow, one * (n_crit - 9) / 4.5, one, one]
    edge = [0 * one, one * tail * 50]
    asked = np.vstack([upper, lower, *edge, np.sin(2 * a), *rest])
    mirrored = np.vstack([-lower, -upper, *edge, -np.sin(2 * a), *rest])
    straight, turned = _passed(asked), _passed(mirrored)
    lift = (straight[0] - turned[0]) / 2
    drag = (straight[1] + turned[1]) / 2
    return lift / 2, np.exp((drag - 2) * 2)
