"""Units that are taken for one another: a meter shows feet a minute and is read as metres a second."""

from __future__ import annotations

from dataclasses import dataclass
from functools import lru_cache
from itertools import permutations

from hauch.core.quantity.units import from_si, to_si

COMMON: dict[str, tuple[str, ...]] = {
    "air_speed": ("m/s", "km/h", "ft/min", "mph", "kn", "ft/s"),
    "pressure": ("Pa", "mmH2O", "inH2O", "hPa", "kPa", "psi"),
    "volume_flow": ("m³/s", "m³/h", "l/s", "l/min", "cfm"),
    "temperature": ("°C", "°F", "K"),
    "voltage": ("V", "mV"),
    "current": ("A", "mA"),
    "power": ("W", "mW", "kW"),
    "rotational_speed": ("1/min", "1/s"),
    "mass": ("kg", "g", "oz", "lb"),
    "torque": ("N m", "N mm", "ozf in", "N cm"),
    "force": ("N", "mN", "ozf", "lbf"),
    "vibration": ("m/s", "mm/s", "in/s"),
}
"""Units that meters of a kind can be switched to, the usual ones first."""

LEAST_FACTOR = 1.9
"""Units nearer to each other than this are not told apart from a probe that was moved."""

USUAL = 3
"""So many of a kind's units are those that meters mostly show; a slip is from or to one of them."""


@dataclass(frozen=True, slots=True)
class Mixup:
    """A figure in the unit ``shown`` that is taken as one in the unit ``taken``; in the SI unit of
    its kind it then reads ``slope`` times what it is, and ``offset`` more.
    """

    shown: str
    taken: str
    slope: float
    offset: float = 0.0

    def misread(self, value: float) -> float:
        """What is read of a figure [SI unit of its kind]."""
        return self.slope * value + self.offset

    def __str__(self) -> str:
        return f"{self.shown} taken for {self.taken}"


@lru_cache(maxsize=32)
def mixups(kind: str) -> tuple[Mixup, ...]:
    """All mix-ups of the units of a kind, the most usual first; none where it has one unit only."""
    found = []
    units = COMMON.get(kind, ())
    for shown, taken in permutations(units, 2):
        if min(units.index(shown), units.index(taken)) >= USUAL:
            continue
        offset, far = (
            float(to_si(from_si(value, shown, kind), taken, kind)) for value in (0.0, 1e5)
        )
        slope = (far - offset) / 1e5
        if offset or max(slope, 1 / slope) >= LEAST_FACTOR:
            found.append(Mixup(shown, taken, slope, offset))
    return tuple(sorted(found, key=lambda m: units.index(m.shown) + units.index(m.taken)))


def whole_run_mixups(kind: str) -> tuple[Mixup, ...]:
    """Mix-ups by which a whole run may be off: between usual units, and by so much that no part is
    that much better.
    """
    usual = COMMON.get(kind, ())[:USUAL]
    return tuple(
        m
        for m in mixups(kind)
        if m.shown in usual
        and m.taken in usual
        and (m.offset or max(m.slope, 1 / m.slope) >= FAR_OFF)
    )


FAR_OFF = 3.0
"""No part is so many times better or worse than the reference that it is compared with."""
