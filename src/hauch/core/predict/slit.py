"""A slit or nozzle on compressed air: choked or not, mass flow, free air, thrust, drain of a tank.

References
----------
Isentropic nozzle flow: A. H. Shapiro, Compressible Fluid Flow I (1953), ch. 4; ISO 9300:2022 for
    the choked case. Free air:
ISO 1217:2009 (reference 20 degC, 100 kPa). Check value: slit 0.04 mm x 300 mm, 3 bar(g), 20 degC,
    Cd 0.8 -> 9.09 g/s. Friction along the land: Fanno flow, Shapiro, ch. 6; parallel plates 24 / Re,
    Blasius above Re 2,300.
"""

from __future__ import annotations

import math
from dataclasses import dataclass

import scipy

from hauch.core.predict.model import refuse

GAMMA = 1.4
GAS_CONSTANT = 287.05
"""Of dry air [J/(kg K)]: 8.314 46 / 0.028 966."""
AMBIENT = 101_325.0
FREE_AIR = (100_000.0, 293.15)
"""Pressure [Pa] and temperature [K] that delivered free air is told for (ISO 1217)."""
CRITICAL = (2 / (GAMMA + 1)) ** (GAMMA / (GAMMA - 1))
"""Ratio of outer to supply pressure below which the flow is choked: 0.528."""
VISCOSITY = 1.82e-5
"""Of air at 20 degC [Pa s]."""
TURBULENT = 2300.0
"""Reynolds number of two gaps above which the flow between plates is turbulent."""
MOST_GAUGE = 10e5
HAND_LIMIT = 2.0e5
"""Nozzle pressure above which air that is blown by hand injures [Pa gauge]; usual workshop rules
say 2 bar, some countries less.
"""


@dataclass(frozen=True, slots=True)
class Slit:
    """A slit: gap, length [m], pressure above the room [Pa], temperature [K], discharge
    coefficient, and length of its land along the flow [m], 0 where the coefficient counts it.
    """

    gap: float
    length: float
    gauge: float
    temperature: float = 293.15
    discharge: float = 0.8
    ambient: float = AMBIENT
    land: float = 0.0

    @property
    def area(self) -> float:
        return self.gap * self.length

    def problems(self) -> dict[str, str]:
        """A sentence for each thing that cannot be."""
        found = {}
        if not self.gap > 0:
            found["gap"] = f"The gap is {1000 * self.gap:g} mm; it must be above 0."
        elif self.gap > self.length:
            found["gap"] = (
                f"The gap ({1000 * self.gap:g} mm) is larger than the slit is long"
                f" ({1000 * self.length:g} mm)."
            )
        if not self.length > 0:
            found["length"] = f"The slit is {1000 * self.length:g} mm long; it must be above 0."
        if not 0 <= self.gauge <= MOST_GAUGE:
            found["gauge"] = (
                f"A pressure of {self.gauge / 1e5:g} bar above the room cannot be used here; it"
                f" lies between 0 and {MOST_GAUGE / 1e5:g} bar."
            )
        if self.land < 0:
            found["land"] = f"A land of {1000 * self.land:g} mm cannot be."
        if not 0.4 <= self.discharge <= 1:
            found["discharge"] = (
                f"A discharge coefficient of {self.discharge:g} cannot be; it lies between 0.4"
                " and 1."
            )
        return found


@dataclass(frozen=True, slots=True)
class Blown:
    """What a slit blows: mass flow [kg/s], whether choked, speed at the slit [m/s], thrust [N],
    free air [m3/s], temperature of the jet [K].
    """

    mass_flow: float
    choked: bool
    speed: float
    thrust: float
    free_air: float
    temperature: float


def blow(slit: Slit) -> Blown:
    """What leaves a slit.

    Notes
    -----
    Unchoked: m = Cd A p0 sqrt(2 g / ((g-1) R T0) (r^(2/g) - r^((g+1)/g))), r = p_room / p0. Choked
    (r below 0.528): m = Cd A p0 sqrt(g / (R T0)) (2/(g+1))^((g+1)/(2(g-1))). Thrust: m v + (p_slit
    - p_room) A Cd. A land multiplies Cd by `land_share`.

    Raises
    ------
    CannotBe : a slit or pressure that cannot be
    """
    refuse(slit.problems())
    supply = slit.ambient + slit.gauge
    ratio = slit.ambient / supply
    choked = ratio <= CRITICAL
    g, r, t0 = GAMMA, GAS_CONSTANT, slit.temperature
    inner = max(ratio, CRITICAL)
    flux = supply * math.sqrt(
        2 * g / ((g - 1) * r * t0) * max(inner ** (2 / g) - inner ** ((g + 1) / g), 0.0)
    )
    coefficient = slit.discharge * land_share(slit, flux)
    mass = coefficient * slit.area * flux
    temperature = t0 * inner ** ((g - 1) / g)
    speed = math.sqrt(max(2 * g / (g - 1) * r * (t0 - temperature), 0.0))
    thrust = mass * speed + (supply * inner - slit.ambient) * slit.area * coefficient
    return Blown(mass, choked, speed, thrust, mass * r * FREE_AIR[1] / FREE_AIR[0], temperature)


def _fanno(mach: float) -> float:
    """4 f L / D from a Mach number to the speed of sound."""
    g, m2 = GAMMA, mach**2
    return (1 - m2) / (g * m2) + (g + 1) / (2 * g) * math.log((g + 1) * m2 / (2 + (g - 1) * m2))


def land_share(slit: Slit, flux: float) -> float:
    """Mass flow with the friction of the land over that without.

    Parameters
    ----------
    flux : mass flow without friction and contraction [kg/(m2 s)]

    Notes
    -----
    Adiabatic flow between plates (hydraulic diameter two gaps): the Mach number at the land's
    beginning from which friction leads to the speed of sound at its end, or to the room's pressure.
    """
    if not (slit.land > 0 and flux > 0):
        return 1.0
    reynolds = 2 * slit.gap * slit.discharge * flux / VISCOSITY
    friction = 24 / reynolds if reynolds < TURBULENT else 0.0791 / reynolds**0.25
    along = 4 * friction * slit.land / (2 * slit.gap)
    supply, g = slit.ambient + slit.gauge, GAMMA

    def static(mach: float) -> float:
        return (1 + (g - 1) / 2 * mach**2) ** (-g / (g - 1))

    def over_sonic(mach: float) -> float:
        return math.sqrt((g + 1) / (2 + (g - 1) * mach**2)) / mach

    def passing(mach: float) -> float:
        return mach * (1 + (g - 1) / 2 * mach**2) ** (-(g + 1) / (2 * (g - 1)))

    def begins(ends: float) -> float:
        """Mach number at the beginning for one at the end."""
        return float(scipy.optimize.brentq(lambda m: _fanno(m) - _fanno(ends) - along, 1e-5, ends))

    def leaves(ends: float) -> float:
        """Pressure at the end less the room's [Pa]."""
        first = begins(ends)
        return supply * static(first) * over_sonic(ends) / over_sonic(first) - slit.ambient

    ends = 1.0 if leaves(1.0) >= 0 else float(scipy.optimize.brentq(leaves, 1e-3, 1.0))
    free = min(1.0, math.sqrt(2 / (g - 1) * ((supply / slit.ambient) ** ((g - 1) / g) - 1)))
    return passing(begins(ends)) / passing(free)


def drain_time(slit: Slit, volume: float, start_gauge: float, end_gauge: float) -> float:
    """Time for which a tank feeds the slit through a regulator [s]: (p1 - p2) V / (R T m), tank at
    the room's temperature.

    Parameters
    ----------
    volume : of the tank [m3]
    start_gauge, end_gauge : pressures of the tank above the room [Pa]; the regulator needs at least
        the slit's
    """
    found = {}
    if not volume > 0:
        found["tank"] = "The tank's volume must be above 0."
    end_gauge = max(end_gauge, slit.gauge)
    if start_gauge < end_gauge:
        found["tank_pressure"] = (
            f"The tank ({start_gauge / 1e5:g} bar) holds less than the slit's pressure"
            f" ({slit.gauge / 1e5:g} bar)."
        )
    refuse(found)
    mass = blow(slit).mass_flow
    return (
        (start_gauge - end_gauge) * volume / (GAS_CONSTANT * slit.temperature * mass)
        if mass > 0
        else math.inf
    )
