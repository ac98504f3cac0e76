"""An air cushion: open plenum or peripheral jet; lift, gap and power.

References
----------
P. J. Mantle, Air Cushion Craft Development, DTNSRDC-80/012 (1980), ch. 3; exponential theory of the
    peripheral jet: M. A. Stanton-Jones, in: Symposium on Ground Effect Phenomena, Princeton (1959): p_c
    / P_j = 1 - exp(-2 x), x = (t / h)(1 + cos theta), theta from the ground. What a real jet needs
    and passes over that: computed flow of three jets (docs/validation.md).
"""

from __future__ import annotations

import math
from dataclasses import dataclass

import scipy

from hauch.core.predict.model import AIR_DENSITY, CannotBe, refuse

GRAVITY = 9.80665
SEEP = 0.6
"""Discharge coefficient of the gap under a thin edge (contraction of a free jet, 0.61)."""
LEANING = 0.28
"""Share of the jet's pressure that a jet loses beyond the theory where it leans inwards, times the
sine: computed, 0.16 and 0.21 at 45 degrees, none straight down.
"""
PASSED = 0.88
"""Flow of a jet over that of the theory: computed, 0.84 to 0.95."""
DOUBT = 0.12
GAPS = (1e-6, 5.0)
"""Gaps between which one is looked for [m]."""


@dataclass(frozen=True, slots=True)
class Cushion:
    """A cushion: mass carried [kg], area [m2] and perimeter [m], efficiency of fan and motor."""

    mass: float
    area: float
    perimeter: float
    efficiency: float = 0.35

    @property
    def pressure(self) -> float:
        """Cushion pressure W / A [Pa]."""
        return self.mass * GRAVITY / self.area

    def problems(self) -> dict[str, str]:
        """A sentence for each thing that cannot be."""
        found = {}
        for key, name in (
            ("mass", "The mass carried"),
            ("area", "The cushion's area"),
            ("perimeter", "The perimeter"),
        ):
            if not getattr(self, key) > 0:
                found[key] = f"{name} must be above 0."
        if not 0 < self.efficiency < 1:
            found["efficiency"] = "The efficiency must lie between 0 and 100 %."
        if not found and self.perimeter < math.sqrt(4 * math.pi * self.area) * 0.999:
            found["perimeter"] = (
                f"A perimeter of {1000 * self.perimeter:g} mm cannot enclose {1e4 * self.area:g}"
                f" cm²: a circle needs {1000 * math.sqrt(4 * math.pi * self.area):.0f} mm."
            )
        return found


@dataclass(frozen=True, slots=True)
class Hover:
    """Hovering at a gap: cushion pressure and supply pressure [Pa], flow [m3/s], electrical power
    [W].
    """

    gap: float
    cushion: float
    supply: float
    flow: float
    power: float


def plenum_hover(c: Cushion, gap: float, density: float = AIR_DENSITY) -> Hover:
    """An open plenum at a gap [m]: Q = C h L sqrt(2 p / rho), P = p Q / eta."""
    refuse(c.problems() | ({} if gap > 0 else {"gap": "The gap must be above 0."}))
    flow = SEEP * gap * c.perimeter * math.sqrt(2 * c.pressure / density)
    return Hover(gap, c.pressure, c.pressure, flow, c.pressure * flow / c.efficiency)


def jet_share(x: float) -> float:
    """Cushion pressure over the jet's, 1 - exp(-2 x), by the exponential theory."""
    return 1 - math.exp(-2 * x)


def jet_hover(
    c: Cushion, gap: float, nozzle: float, inward: float, density: float = AIR_DENSITY
) -> Hover:
    """A peripheral jet at a gap.

    Parameters
    ----------
    gap : h [m]
    nozzle : width of the jet t [m]
    inward : angle of the jet from the vertical, inwards [rad]

    Notes
    -----
    x = (t / h)(1 + sin(inward)); p_c / P_j = 1 - exp(-2 x); Q = L h / (1 + sin) sqrt(2 P_j / rho)
    (1 - exp(-x)). The fan gives ``P_j / (1 - LEANING sin)`` for it, and `PASSED` of the flow passes.
    Thin jets (t below about h).
    """
    found = c.problems()
    if not gap > 0:
        found["gap"] = "The gap must be above 0."
    if not nozzle > 0:
        found["nozzle"] = "The nozzle's width must be above 0."
    if not 0 <= inward < math.pi / 2:
        found["inward"] = (
            f"An inward angle of {math.degrees(inward):.0f}° cannot be; it lies between 0° and 89°."
        )
    refuse(found)
    x = nozzle / gap * (1 + math.sin(inward))
    jet = c.pressure / jet_share(x)
    supply = jet / (1 - LEANING * math.sin(inward))
    flow = (
        PASSED
        * c.perimeter
        * gap
        / (1 + math.sin(inward))
        * math.sqrt(2 * jet / density)
        * (1 - math.exp(-x))
    )
    return Hover(gap, c.pressure, supply, flow, supply * flow / c.efficiency)


def gap_at_power(
    c: Cushion,
    power: float,
    nozzle: float | None = None,
    inward: float = 0.0,
    density: float = AIR_DENSITY,
) -> float:
    """Gap that an electrical power holds [m], for the plenum or, with a nozzle, for the peripheral
    jet.
    """
    refuse(c.problems() | ({} if power > 0 else {"power": "The power must be above 0."}))
    hover = (
        (lambda h: plenum_hover(c, h, density))
        if nozzle is None
        else (lambda h: jet_hover(c, h, nozzle, inward, density))
    )
    low, high = GAPS
    if hover(low).power > power:
        raise CannotBe(
            {
                "power": (
                    f"{power:g} W do not lift {c.mass:g} kg off the floor: at a gap of"
                    f" {1e6 * low:g} µm already {hover(low).power:.3g} W are needed."
                )
            }
        )
    if hover(high).power < power:
        raise CannotBe(
            {
                "power": (
                    f"{power:g} W would hold {c.mass:g} kg above {high:g} m, where there is no"
                    " cushion any more. Check mass, area and power."
                )
            }
        )
    return float(scipy.optimize.brentq(lambda h: hover(h).power - power, low, high))
