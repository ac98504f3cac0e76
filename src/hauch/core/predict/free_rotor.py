"""A rotor without a duct: blade-element momentum with tip and hub loss.

References
----------
W. J. M. Rankine, R. E. Froude (actuator disc); H. Glauert, in: Aerodynamic Theory IV (1935),
    division L. Residual in the inflow
angle: S. A. Ning, "A simple solution method for the blade element momentum equations with
    guaranteed convergence", Wind Energy 17
(2014) 1327. L. Prandtl's loss factor: appendix to A. Betz, Göttinger Nachrichten (1919) 193.
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from hauch.core.predict.blading import STATIONS, Blading
from hauch.core.predict.model import AIR_DENSITY, AIR_VISCOSITY, refuse
from hauch.core.predict.section import polars, section_forces

Array = NDArray[np.float64]
STEPS = 40


@dataclass(frozen=True)
class FreeRotor:
    """What a free rotor does: thrust [N], torque [N m], shaft power [W], flow through its disc
    [m3/s] and its ideal limit.

    ``merit`` is the power that the thrust needs at least (momentum theory) over the shaft power.
    """

    thrust: float
    torque: float
    power: float
    flow: float
    merit: float
    stalled: float
    radius: Array
    angle: Array
    induced: Array


def prandtl_loss(blades: int, radius: Array, tip: float, hub: float, angle: Array) -> Array:
    """Loss factor for tip and hub: F = 2/pi acos(exp(-B/2 (R - r) / (r |sin phi|))), times the same
    for the hub.

    Parameters
    ----------
    radius : [m]
    tip, hub : radii [m]
    angle : inflow [rad]
    """
    sine = np.maximum(np.abs(np.sin(angle)), 1e-6)

    def factor(gap, at):
        return 2 / np.pi * np.arccos(np.clip(np.exp(-blades / 2 * gap / (at * sine)), 0, 1))

    return np.maximum(factor(tip - radius, radius) * factor(radius - hub, hub), 1e-4)


def free_rotor(
    row: Blading,
    speed: float,
    advance: float = 0.0,
    density: float = AIR_DENSITY,
    stations: int = STATIONS,
) -> FreeRotor:
    """One row of blades in free air.

    Parameters
    ----------
    row : the blading
    speed : [1/min]
    advance : speed of the air that comes towards it [m/s], 0 for a table fan
    density : [kg/m3]

    Raises
    ------
    CannotBe : geometry that cannot be

    Notes
    -----
    Valid for light to moderate loading without recirculation; a hub above half of the diameter,
    walls nearby or a ring around the tips are outside of it.
    """
    refuse(
        row.problems()
        | ({"speed": f"The speed is {speed:g} 1/min; it must be above 0."} if not speed > 0 else {})
    )
    at = row.stations(stations)
    omega = 2 * np.pi * speed / 60
    wheel = omega * at.radius
    table = polars(
        row.family, at.thickness / at.chord, at.camber, density * wheel * at.chord / AIR_VISCOSITY
    )

    def parts(angle: Array) -> tuple[Array, Array, Array]:
        cl, cd = table.at(np.degrees(at.pitch - angle))
        loss = prandtl_loss(row.blades, at.radius, row.tip / 2, row.hub / 2, angle)
        share = at.solidity / (4 * loss * np.maximum(np.sin(angle), 1e-9))
        return (
            share * (cl * np.cos(angle) - cd * np.sin(angle)),
            share * (cl * np.sin(angle) + cd * np.cos(angle)),
            cl,
        )

    def surplus(angle: Array) -> Array:
        axial, around, _ = parts(angle)
        return (np.sin(angle) - axial) * wheel - advance * (np.cos(angle) + around)

    low, high = np.full(stations, 1e-4), np.full(stations, np.pi / 2)
    for _ in range(STEPS):
        middle = 0.5 * (low + high)
        below = surplus(middle) < 0
        low, high = np.where(below, middle, low), np.where(below, high, middle)
    angle = 0.5 * (low + high)
    _, around, _ = parts(angle)
    velocity = wheel / np.maximum(np.cos(angle) + around, 1e-6)
    attack = np.degrees(at.pitch - angle)
    cl, cd = section_forces(
        row.family,
        at.thickness / at.chord,
        at.camber,
        attack,
        density * velocity * at.chord / AIR_VISCOSITY,
    )
    loss = prandtl_loss(row.blades, at.radius, row.tip / 2, row.hub / 2, angle)
    force = 0.5 * density * velocity**2 * at.chord * row.blades * at.width
    thrust_parts = force * (cl * np.cos(angle) - cd * np.sin(angle))
    induced = np.maximum(velocity * np.sin(angle) - advance, 0)
    thrust = float(thrust_parts.sum())
    torque = float((force * (cl * np.sin(angle) + cd * np.cos(angle)) * at.radius).sum())
    flow = float(((advance + loss * induced) * 2 * np.pi * at.radius * at.width).sum())
    power = torque * omega
    area = np.pi / 4 * (row.tip**2 - row.hub**2)
    least = least_power(thrust, area, advance, density)
    return FreeRotor(
        thrust,
        torque,
        power,
        flow,
        least / power if power > 0 else float("nan"),
        float((attack > table.stall).mean()),
        at.radius,
        attack,
        induced,
    )


def least_power(
    thrust: float, area: float, advance: float = 0.0, density: float = AIR_DENSITY
) -> float:
    """Power that a thrust needs at least [W]: P = T (V + v), v = -V/2 + sqrt(V2/4 + T / (2 rho A))
    (actuator disc).

    Parameters
    ----------
    thrust : [N]
    area : of the disc [m2]
    advance : [m/s]
    """
    if thrust <= 0:
        return 0.0
    induced = -advance / 2 + (advance**2 / 4 + thrust / (2 * density * area)) ** 0.5
    return thrust * (advance + induced)
