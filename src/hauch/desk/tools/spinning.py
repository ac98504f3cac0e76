"""The speed limit of what spins, as the Desk tells it for rotors and wheels."""

from __future__ import annotations

from hauch.core.predict.strength import Material, SpeedLimit
from hauch.desk.tools.base import Figure, Remark


def limit_figure(limit: SpeedLimit, material: Material) -> Figure:
    """The speed limit with its working."""
    return Figure(
        "limit", "Not to be spun above", "rotational_speed", limit.quantity(material.label)
    )


def limit_remarks(limit: SpeedLimit, speed: float) -> list[Remark]:
    """A word where the speed lies above the limit."""
    if speed <= limit.speed:
        return []
    return [
        Remark(
            "stop", f"It is not to be spun above {limit.speed:,.0f} 1/min as a print. {limit.why}"
        )
    ]
