"""What drives the air through a passive part: a fan by two points of its curve, as the sources of
ring, duct and intake.
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass

import scipy

from hauch.core.predict.model import refuse


@dataclass(frozen=True, slots=True)
class FanSource:
    """A fan by its pressure without flow [Pa] and its flow without resistance [m3/s]."""

    shut_off: float
    free_flow: float

    def problems(self) -> dict[str, str]:
        """A sentence for each thing that cannot be."""
        found = {}
        if not self.shut_off > 0:
            found["shut_off"] = "The fan's pressure without flow must be above 0."
        if not self.free_flow > 0:
            found["free_flow"] = "The fan's flow without resistance must be above 0."
        return found

    def pressure(self, flow: float) -> float:
        """Pressure at a flow [Pa]: a parabola through shut-off and free flow, dp0 (1 - (Q/Q0)2)."""
        return self.shut_off * (1 - (flow / self.free_flow) ** 2)

    def meets(self, loss: Callable[[float], float]) -> float:
        """Flow at which the fan's pressure equals a loss that grows with flow [m3/s]."""
        refuse(self.problems())
        if loss(0.0) >= self.shut_off:
            return 0.0
        if loss(self.free_flow) <= 0:  # it draws more than the fan gives
            return self.free_flow
        return float(
            scipy.optimize.brentq(lambda q: self.pressure(q) - loss(q), 0.0, self.free_flow)
        )
