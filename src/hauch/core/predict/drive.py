"""Motor, gear and rotor together: the speed that is reached, or why it will not start.

References
----------
Straight torque-speed line of a permanent-magnet DC motor: any textbook on electrical machines, e.g.
    A. E. Fitzgerald et al.,
Electric Machinery, 7th edition, ch. 7. Rotor torque with the square of speed: fan laws, ISO
    5801:2017, 15.3.
"""

from __future__ import annotations

from dataclasses import dataclass

import scipy

from hauch.core.predict.model import refuse


@dataclass(frozen=True, slots=True)
class Motor:
    """A motor by its line: torque from ``stall_torque`` [N m] at rest to none at ``idle_speed``
    [1/min], for one voltage.
    """

    stall_torque: float
    idle_speed: float

    def torque(self, speed: float) -> float:
        """Torque at a speed [N m]."""
        return self.stall_torque * (1 - speed / self.idle_speed)


@dataclass(frozen=True, slots=True)
class Gear:
    """A gear between motor and rotor: motor turns for one turn of the rotor, share that gets
    through, torque to break it loose [N m, at the rotor].
    """

    ratio: float = 1.0
    efficiency: float = 1.0
    friction: float = 0.0


@dataclass(frozen=True, slots=True)
class Reached:
    """Where motor and rotor agree: rotor speed [1/min], torque at the rotor [N m]; ``starts`` is
    False where friction holds it.
    """

    speed: float
    torque: float
    starts: bool
    reason: str = ""


def reached_speed(motor: Motor, gear: Gear, torque_at: float, at_speed: float) -> Reached:
    """The speed at which the motor's torque through the gear equals the rotor's.

    Parameters
    ----------
    torque_at : torque of the rotor [N m] at ``at_speed`` [1/min]; it goes with the square of speed
    """
    found = {}
    if not (motor.stall_torque > 0 and motor.idle_speed > 0):
        found["stall_torque"] = (
            "The motor's torque at rest and its speed without load must be above 0."
        )
    if not (gear.ratio > 0 and 0 < gear.efficiency <= 1):
        found["gear_ratio"] = (
            "The gear ratio must be above 0 and its efficiency between 0 and 100 %."
        )
    refuse(found)
    available = motor.stall_torque * gear.ratio * gear.efficiency
    if available <= gear.friction:
        return Reached(
            0.0,
            0.0,
            False,
            f"It will not start: {1000 * available:.3g} N mm reach the rotor at rest,"
            f" {1000 * gear.friction:.3g} N mm are needed to break it loose.",
        )

    def surplus(n):
        return (
            motor.torque(n * gear.ratio) * gear.ratio * gear.efficiency
            - gear.friction
            - torque_at * (n / at_speed) ** 2
        )

    speed = float(scipy.optimize.brentq(surplus, 0.0, motor.idle_speed / gear.ratio))
    return Reached(speed, torque_at * (speed / at_speed) ** 2, True)
