"""Which figure goes with which power of air density and of speed: the one table of it.

References
----------
ISO 5801:2017, 15.3 (conversion rules for small changes of speed and density): Q ~ n, Δp ~ ρ n², P ~
    ρ n³. Loss of a part at equal flow: Δp ~ ρ Q² of turbulent flow, Idelchik, Handbook of Hydraulic
    Resistance, 1-1.
"""

from __future__ import annotations

from dataclasses import dataclass


@dataclass(frozen=True, slots=True)
class Law:
    """A figure goes with ρ to the power ``density`` and with n to the power ``speed``; ``said`` names
    it and what holds, ``source`` where it stands.
    """

    density: int
    speed: int
    said: str
    source: str = "ISO 5801:2017, 15.3"
    condition: str = ""

    def formula(self, symbol: str) -> str:
        """How the figure goes with speed, in symbols."""
        return f"{symbol} ~ n" + {1: "", 2: "²", 3: "³"}[self.speed]

    def scaled(self, value: float, speed_ratio: float = 1.0, density_ratio: float = 1.0) -> float:
        """The figure at another speed and in other air; ratios are wanted over measured."""
        return value * speed_ratio**self.speed * density_ratio**self.density


FLOW = Law(0, 1, "flow goes with speed; density does not change it")
AIR_SPEED = Law(0, 1, "speed of the air goes with speed of the rotor; density does not change it")
PRESSURE = Law(1, 2, "pressure goes with density and with speed squared")
FORCE = Law(1, 2, "thrust goes with density and with speed squared")
SHAFT_POWER = Law(1, 3, "power goes with density and with speed cubed")
ELECTRICAL_POWER = Law(
    1, 3, "power of the rotor goes with density and with speed cubed; losses of the drive are taken along"
)  # fmt: skip
LOSS = Law(
    1, 0, "loss goes with density", "Δp ~ ρ Q², Idelchik, 1-1", condition=" at equal flow"
)  # fmt: skip

TABLE = {
    "volume flow": FLOW,
    "air speed": AIR_SPEED,
    "fan pressure": PRESSURE,
    "thrust": FORCE,
    "shaft power": SHAFT_POWER,
    "electrical power": ELECTRICAL_POWER,
    "loss of a part": LOSS,
}
"""What is converted. Levels, temperatures, gaps, areas, shares, points and vibration are told as they
were read: no standard has a law for them that holds from one part to the next.
"""
