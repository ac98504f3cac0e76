"""A fan as the bench sees it: curve, power, sound and heat, scaled by the fan laws.

This module shares no code with the reductions or the predictions that it is used to check.

References
----------
Fan laws: ISO 5801:2017, 15.3. Sound of fans with speed, 50 lg n: R. D. Madison, Fan Engineering,
    5th edition, 1949.
"""

from __future__ import annotations

import math
from dataclasses import dataclass, replace

import scipy

NORMAL_DENSITY = 1.2


def block_conductance(flow: float) -> float:
    """Heat that the loft's hot block gives to the air for each kelvin of rise [W/K], at a flow over
    it [m3/s].

    h A grows with flow^0.7 (turbulent flow over a plate, Nu ~ Re^0.8, with part of the surface in
    the wake); still air takes 0.6 W/K.
    """
    return max(2.99 * (max(flow, 0.0) / 0.0427) ** 0.7, 0.6)


@dataclass(frozen=True, slots=True)
class Fan:
    """A fan at its normal speed in air of 1.2 kg/m3.

    Parameters
    ----------
    name : of the part
    speed : normal speed [1/min] under full throttle
    free_flow : volume flow without resistance [m3/s]
    shut_off : pressure without flow [Pa]
    dip : share by which stall lowers the pressure around 45 % of the free flow
    shaft_efficiency : best efficiency of rotor and motor together
    idle_power : electrical power that the motor takes for itself [W]
    level : A-weighted level at 1 m [dB(A)] at the working point
    """

    name: str
    speed: float
    free_flow: float
    shut_off: float
    dip: float = 0.04
    shaft_efficiency: float = 0.5
    idle_power: float = 0.9
    level: float = 49.6

    def pressure(self, flow: float, speed: float, density: float) -> float:
        """Static pressure [Pa] at a flow [m3/s], speed [1/min] and density [kg/m3]."""
        phi = flow / (self.free_flow * speed / self.speed)
        shape = 1 - 0.25 * phi - 0.75 * phi**3 - self.dip * math.exp(-(((phi - 0.45) / 0.09) ** 2))
        return self.shut_off * (speed / self.speed) ** 2 * (density / NORMAL_DENSITY) * shape

    def working_flow(self, resistance: float, speed: float, density: float) -> float:
        """Flow [m3/s] through a system whose pressure loss is resistance * density / 1.2 * flow^2
        [Pa s2/m6].
        """
        top = self.free_flow * speed / self.speed * 1.2
        return float(
            scipy.optimize.brentq(
                lambda q: (
                    self.pressure(q, speed, density) - resistance * density / NORMAL_DENSITY * q * q
                ),
                1e-9,
                top,
            )
        )

    def power(self, flow: float, speed: float, density: float) -> float:
        """Electrical power [W]: air power over an efficiency that falls off its best point, and the
        motor's own.
        """
        phi = flow / (self.free_flow * speed / self.speed)
        efficiency = self.shaft_efficiency * max(1 - 1.4 * (phi - 0.62) ** 2, 0.2)
        air = (
            max(
                self.pressure(flow, speed, density),
                0.02 * self.shut_off * (speed / self.speed) ** 2,
            )
            * flow
        )
        return air / efficiency + self.idle_power * (speed / self.speed) ** 1.5

    def level_at(self, speed: float) -> float:
        """A-weighted level at 1 m [dB(A)] at another speed [1/min]."""
        return self.level + 50 * math.log10(speed / self.speed)

    def changed(
        self,
        name: str,
        flow: float = 1.0,
        pressure: float = 1.0,
        level: float = 0.0,
        power: float = 1.0,
    ) -> Fan:
        """A variant: factors on flow, pressure and power, and a shift of the level [dB]."""
        return replace(
            self,
            name=name,
            free_flow=self.free_flow * flow,
            shut_off=self.shut_off * pressure,
            level=self.level + level,
            shaft_efficiency=self.shaft_efficiency * flow * pressure / power,
        )


Loft140 = Fan("Loft-140", speed=1900.0, free_flow=0.068, shut_off=66.0)
"""The made-up reference fan: 140 mm square, about 1,900 1/min."""
