"""Balancing in one plane with a trial mass, and what unbalance may be left.

References
----------
Permissible unbalance: ISO 21940-11:2016, 6 (G = e omega).
Influence coefficients: ISO 21940-13:2012, 6; worked by vectors, as A. B. Parker and others print
    it: a reading V0, a trial mass T at its radius and
angle gives V1, the influence is a = (V1 - V0) / T, and the correction that brings the reading to
    nothing is C = -V0 / a.
"""

from __future__ import annotations

import cmath
import math
from dataclasses import dataclass

GRADE = 0.0063
"""Balance quality grade asked of a fan's rotor [m/s]: G 6.3 (ISO 14694:2003, table 4, category
BV-3).
"""
SEEN = 0.10
"""Least change of the reading by the trial mass, as a share of the reading, from which an influence
can be told.
"""


@dataclass(frozen=True)
class Correction:
    """What to add: unbalance [kg m] and its direction [rad]; the first unbalance [kg m]; and a
    sentence where the trial said too little.
    """

    unbalance: float
    angle: float
    first: float
    doubt: str = ""

    def mass_at(self, radius: float) -> float:
        """Mass to add at a radius [kg]; as much taken off on the other side does the same."""
        return self.unbalance / radius


def correction(
    first: float,
    first_angle: float,
    trial: float,
    trial_radius: float,
    trial_angle: float,
    second: float,
    second_angle: float,
) -> Correction:
    """The correction of a rotor in one plane.

    Parameters
    ----------
    first, first_angle : reading as it is [any unit], its angle [rad]
    trial, trial_radius, trial_angle : trial mass [kg], its radius [m] and angle [rad]
    second, second_angle : reading with the trial mass, in the same unit [rad]

    Raises
    ------
    ValueError : readings or masses that cannot be, or a trial that changed nothing
    """
    if not (first >= 0 and second >= 0):
        raise ValueError("A reading cannot be negative.")
    if not (trial > 0 and trial_radius > 0):
        raise ValueError("The trial mass and its radius must be above 0.")
    before, after = cmath.rect(first, first_angle), cmath.rect(second, second_angle)
    change = after - before
    if abs(change) < 1e-9 * max(first, second, 1e-30):
        raise ValueError(
            "The trial mass changed nothing: take a larger one, or look whether the reading belongs"
            " to this rotor."
        )
    influence = change / cmath.rect(trial * trial_radius, trial_angle)
    wanted = -before / influence
    doubt = ""
    if abs(change) < SEEN * first:
        doubt = (
            f"The trial mass changed the reading by only {100 * abs(change) / first:.0f} %: take"
            " one that changes it by a quarter or more, and read again."
        )
    return Correction(
        abs(wanted), cmath.phase(wanted) % (2 * math.pi), abs(before / influence), doubt
    )


def permissible_unbalance(grade: float, mass: float, speed: float) -> float:
    """Permissible residual unbalance [kg m]: U = G m / omega (ISO 21940-11:2016, 6.3).

    Parameters
    ----------
    grade : balance quality grade G [m/s], 0.0063 for G 6.3
    mass : [kg]
    speed : [1/min]
    """
    return grade * mass / (2 * math.pi * speed / 60)
