"""What a rig takes from the part that blows into it.

References
----------
Friction: `fluids.friction` (Churchill 1977). Straightener as a bundle of tubes with entrance and
    exit loss: I. E. Idelchik, ch. 8. The stream's own head is lost at
the open end.
"""

from __future__ import annotations

import math

from fluids.friction import friction_factor

from hauch.core.predict.model import AIR_DENSITY, AIR_VISCOSITY

CELL_ENDS = 0.4
"""Loss of entrance and exit of a thin-walled straightener on its own speed."""
SMOOTH = 1e-5


def tunnel_resistance(
    bore: float,
    length: float,
    straightener: float,
    cell: float,
    flow: float = 0.05,
    density: float = AIR_DENSITY,
) -> float:
    """Loss of total pressure of a straight tunnel over flow squared [Pa s2/m6]; friction is taken
    at ``flow``.

    Parameters
    ----------
    bore, length : of the tube [m]
    straightener, cell : length and cell width of the straightener [m]; 0 for none

    Raises
    ------
    ValueError : a bore or length that cannot be
    """
    if not (bore > 0 and length >= 0):
        raise ValueError(
            f"bore must be above 0 and length not negative, got {bore:g} m and {length:g} m"
        )
    area = math.pi / 4 * bore**2
    speed = flow / area
    k = (
        friction_factor(Re=density * speed * bore / AIR_VISCOSITY, eD=SMOOTH / bore) * length / bore
        + 1.0
    )
    if straightener > 0 and cell > 0:
        k += (
            friction_factor(Re=density * speed * cell / AIR_VISCOSITY, eD=SMOOTH / cell)
            * straightener
            / cell
            + CELL_ENDS
        )
    return k * density / 2 / area**2
