"""Flow in a round tube from point speeds.

References
----------
ISO 3966:2020: 9.2 and annex (log-linear and log-Tchebycheff points, equal weights), 12.1 (speed
    from a pitot tube).
"""

from __future__ import annotations

import math

import numpy as np

LOG_LINEAR = {3: (0.3586, 0.7302, 0.9358), 5: (0.2776, 0.5658, 0.6950, 0.8470, 0.9622)}
"""Radii r/R of the points on each radius, log-linear method, round section."""

LOG_TCHEBYCHEFF = {
    3: (0.3754, 0.7252, 0.9358),
    4: (0.3314, 0.6124, 0.8000, 0.9524),
    5: (0.2866, 0.5700, 0.6892, 0.8472, 0.9622),
}
"""Radii r/R of the points on each radius, log-Tchebycheff method, round section."""


def pitot_speed(pressure, density, factor=1.0):
    """Air speed [m/s] from a pitot tube's differential pressure [Pa] and the air density [kg/m3].

    v = C sqrt(2 Δp / ρ), incompressible: valid below about 60 m/s, where the error is below 0.4 %.

    Raises ValueError for a negative pressure or a density that is not above zero.
    """
    if np.any(np.asarray(pressure) < 0):
        raise ValueError(
            f"the pitot pressure must not be negative, got {np.min(pressure):g} Pa: swap the two"
            " tubes"
        )
    if np.any(np.asarray(density) <= 0):
        raise ValueError(f"the air density must be above 0 kg/m3, got {np.min(density):g}")
    speed = factor * np.sqrt(2 * np.asarray(pressure) / density)
    return float(speed) if np.ndim(speed) == 0 else speed


def round_area(diameter):
    """Area [m2] of a round section from its diameter [m]. Raises ValueError for a diameter that is
    not above zero.
    """
    if np.any(np.asarray(diameter) <= 0):
        raise ValueError(f"the bore must be above 0 m, got {np.min(diameter):g} m")
    return math.pi / 4 * diameter**2


def traverse_mean(speeds, axis=-1):
    """Mean speed [m/s] of a traverse whose points lie by the log-linear or log-Tchebycheff method
    (equal weights).
    """
    speeds = np.asarray(speeds, dtype=float)
    if speeds.shape[axis] < 3:
        raise ValueError(f"a traverse needs at least 3 points, got {speeds.shape[axis]}")
    return np.mean(speeds, axis=axis)
