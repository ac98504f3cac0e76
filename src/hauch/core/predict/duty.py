"""Where the curve of a fan meets what it works on: the duty, and how well it is known.

References
----------
ISO 5801:2017, 3 (fan pressure, system line). JCGM 100:2008, 5.1.2: a doubt of the pressure becomes
    one of the flow through the slope of both lines where they cross.
"""

from __future__ import annotations

import math
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from hauch.core.predict.rotor import RotorCurve

Array = NDArray[np.float64]

OF_TOP = 0.1
"""Part of the standard uncertainty of a pressure that does not vanish with it, as a share of the
curve's highest (docs/validation.md).
"""


@dataclass(frozen=True, slots=True)
class System:
    """What a fan works on: p = resistance Q^exponent [Pa, m3/s], in total or in static pressure."""

    resistance: float
    exponent: float
    column: str
    name: str

    def static_taken(self, curve: RotorCurve) -> Array:
        """The system's line in static pressure over the curve's flows [Pa]."""
        taken = self.resistance * curve.flow**self.exponent
        return taken - (curve.total - curve.static) if self.column == "total" else taken


@dataclass(frozen=True, slots=True)
class Duty:
    """A curve and its system. ``flow`` [m3/s] is NaN where they do not meet."""

    curve: RotorCurve
    system: System
    flow: float

    @classmethod
    def of(cls, curve: RotorCurve, system: System) -> Duty:
        """The duty: the largest flow at which both agree, the stable one."""
        return cls(curve, system, curve.meets(system.resistance, system.exponent, system.column))

    @property
    def found(self) -> bool:
        """Whether they meet."""
        return math.isfinite(self.flow)

    @property
    def at(self) -> float:
        """Flow at which figures are read [m3/s]: the duty, else that of best efficiency."""
        return self.flow if self.found else float(self.curve.flow[self.curve.best])

    def read(self, column: str) -> float:
        """A column of the curve there."""
        return self.curve.at(self.at, column)

    @property
    def shaft_power(self) -> float:
        """Power at the shaft there [W]."""
        return self.read("torque") * 2 * math.pi * self.curve.speed / 60

    def pressure_doubt(self, relative: float, column: str = "static") -> float:
        """Standard uncertainty of a pressure there [Pa]: a share of it, and `OF_TOP` of the highest."""
        return math.hypot(relative * self.read(column), OF_TOP * float(np.max(self.curve.static)))

    def flow_doubt(self, relative: float) -> float:
        """Standard uncertainty of the flow (share) from that of the pressure (share)."""
        curve, system, at = self.curve, self.system, self.at
        step = 0.01 * curve.flow[-1]
        rise = curve.at(at + step, system.column) - curve.at(at - step, system.column)
        line = system.resistance * system.exponent * at ** (system.exponent - 1)
        slope = abs(rise / (2 * step)) + line
        return float(self.pressure_doubt(relative, system.column) / slope / at)
