"""A duct that splits: flow for each outlet, imbalance, and the outlet areas that would balance it.

References
----------
Friction, bends, contractions: `fluids.friction`, `fluids.fittings` (D. S. Miller, Internal Flow
    Systems; Crane TP 410; Rennels).
Branching: I. E. Idelchik, Handbook of Hydraulic Resistance, ch. 7 (dividing wye, 1 - 2 w cos(a) +
    w2 of the combined velocity head).
"""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass

from fluids.fittings import bend_rounded
from fluids.friction import friction_factor

from hauch.core.predict.model import AIR_DENSITY, AIR_VISCOSITY, refuse
from hauch.core.predict.source import FanSource

ROUGHNESS = 8e-5
"""Of a printed wall [m]: half of a common layer height of 0.16 mm."""
NOZZLE_LOSS = 0.05
"""Loss of a short rounded nozzle on its outlet speed."""
DOUBTS = {"flow": 0.08, "share": 0.05}


@dataclass(frozen=True, slots=True)
class Branch:
    """One way out: name, cross-section (width, height), length, bend (angle, radius over width),
    angle from the trunk, outlet area, aim point (x, y).

    [m, rad, m2]
    """

    name: str
    width: float
    height: float
    length: float
    bend: float
    bend_radius: float
    split: float
    outlet: float
    aim: tuple[float, float] = (0.0, 0.0)

    @property
    def area(self) -> float:
        return self.width * self.height

    @property
    def hydraulic(self) -> float:
        """Hydraulic diameter [m]."""
        return 2 * self.width * self.height / (self.width + self.height)

    def resistance(
        self,
        flow: float,
        trunk_area: float,
        density: float = AIR_DENSITY,
        total: float | None = None,
    ) -> float:
        """Loss of the branch from the trunk to the room over flow squared [Pa s2/m6], the outgoing
        head among it.
        """
        head = density / 2
        speed = max(flow, 1e-7) / self.area
        reynolds = density * speed * self.hydraulic / AIR_VISCOSITY
        f = friction_factor(Re=max(reynolds, 10.0), eD=ROUGHNESS / self.hydraulic)
        k = f * self.length / self.hydraulic
        if self.bend > 1e-6:
            k += bend_rounded(
                Di=self.hydraulic,
                angle=math.degrees(self.bend),
                fd=f,
                bend_diameters=max(self.bend_radius, 0.5),
                Re=max(reynolds, 1e4),
                method="Rennels",
            )
        lost = k / self.area**2 + (1 + NOZZLE_LOSS) / self.outlet**2
        if total:
            ratio = (flow / self.area) / (total / trunk_area)
            lost += (
                max(1 - 2 * ratio * math.cos(self.split) + ratio**2, 0.0)
                * (total / flow) ** 2
                / trunk_area**2
                * SPLIT_SHARE
            )
        return head * lost


SPLIT_SHARE = 0.5
"""Share of the loss of a sharp wye that a printed, rounded splitter still has. Our assumption,
inside the doubt stated.
"""


@dataclass(frozen=True)
class Splitter:
    """A trunk (width, height, length) [m] and its branches."""

    width: float
    height: float
    length: float
    branches: tuple[Branch, ...]
    wall: float = 0.0012

    @property
    def area(self) -> float:
        return self.width * self.height

    def problems(self) -> dict[str, str]:
        """A sentence for each thing that cannot be."""
        found: dict[str, str] = {}
        if not (self.width > 0 and self.height > 0 and self.length >= 0):
            found["width"] = (
                "The trunk's width and height must be above 0 and its length not negative."
            )
        if not self.wall > 0:
            found["wall"] = f"The wall is {1000 * self.wall:g} mm; it must be above 0."
        if not 1 <= len(self.branches) <= 6:
            found["branches"] = f"{len(self.branches)} outlets cannot be; a duct has 1 to 6 here."
        for b in self.branches:
            if not (b.width > 0 and b.height > 0 and b.length > 0):
                found.setdefault("branches", f"{b.name}: width, height and length must be above 0.")
            elif not b.outlet > 0:
                found.setdefault("branches", f"{b.name}: the outlet's area must be above 0.")
            elif not 0 <= b.bend <= math.pi:
                found.setdefault(
                    "branches",
                    f"{b.name}: a bend of {math.degrees(b.bend):.0f}° cannot be; it lies between 0°"
                    " and 180°.",
                )
            elif b.bend > 0 and b.bend_radius < 0.5:
                found.setdefault(
                    "branches",
                    f"{b.name}: a bend radius of {b.bend_radius:g} widths folds the inner wall"
                    " over; it must be 0.5 or more.",
                )
        return found


@dataclass(frozen=True, slots=True)
class Shared:
    """Flows out of a splitter [m3/s], total and static pressure before it [Pa], speeds at its
    outlets [m/s]. A tap in the wall before it reads the static one, a fan's curve is told in it.
    """

    flows: tuple[float, ...]
    pressure: float
    static: float
    speeds: tuple[float, ...]

    @property
    def total(self) -> float:
        return sum(self.flows)

    @property
    def imbalance(self) -> float:
        """Greatest less least flow over the mean."""
        return (max(self.flows) - min(self.flows)) / (self.total / len(self.flows))


def share_flow(duct: Splitter, total: float, density: float = AIR_DENSITY) -> Shared:
    """Flow for each outlet at a total flow [m3/s]; the pressures over all branches agree.

    Raises
    ------
    CannotBe : geometry that cannot be
    """
    refuse(
        duct.problems()
        | ({"flow": f"The flow is {total:g} m³/s; it must be above 0."} if not total > 0 else {})
    )
    flows = [total * b.outlet / sum(x.outlet for x in duct.branches) for b in duct.branches]
    pressure = 0.0
    for _ in range(60):
        resistances = [
            b.resistance(q, duct.area, density, total)
            for b, q in zip(duct.branches, flows, strict=True)
        ]
        weights = [r**-0.5 for r in resistances]
        wanted = [total * w / sum(weights) for w in weights]
        change = max(abs(a - b) for a, b in zip(wanted, flows, strict=True))
        flows = [0.5 * (a + b) for a, b in zip(wanted, flows, strict=True)]
        pressure = resistances[0] * flows[0] ** 2
        if change < 1e-9 * total:
            break
    hydraulic = 2 * duct.width * duct.height / (duct.width + duct.height)
    speed = total / duct.area
    f = friction_factor(
        Re=max(density * speed * hydraulic / AIR_VISCOSITY, 10.0), eD=ROUGHNESS / hydraulic
    )
    pressure += f * duct.length / hydraulic * density / 2 * speed**2
    return Shared(
        tuple(flows),
        pressure,
        pressure - density / 2 * speed**2,
        tuple(q / b.outlet for q, b in zip(flows, duct.branches, strict=True)),
    )


def fed_by(duct: Splitter, fan: FanSource, density: float = AIR_DENSITY) -> Shared:
    """The duct on a fan whose outlet is as wide as the trunk: the flow at which the static pressure
    before the duct is the fan's.
    """
    refuse(duct.problems() | fan.problems())
    flow = fan.meets(lambda q: share_flow(duct, max(q, 1e-6), density).static)
    return share_flow(duct, max(flow, 1e-6), density)


def balancing_outlets(
    duct: Splitter,
    total: float,
    shares: Sequence[float] | None = None,
    density: float = AIR_DENSITY,
) -> tuple[float, ...]:
    """Outlet areas [m2] that give each outlet its share of the flow; the outlet that suffers most
    keeps its area, the others are narrowed.

    Parameters
    ----------
    shares : wanted of the flow; even where None
    """
    refuse(duct.problems())
    wanted = shares or [1 / len(duct.branches)] * len(duct.branches)
    flows = [total * w / sum(wanted) for w in wanted]
    losses = [
        b.resistance(q, duct.area, density, total) * q**2
        for b, q in zip(duct.branches, flows, strict=True)
    ]
    target = max(losses)
    areas = []
    for b, q, loss in zip(duct.branches, flows, losses, strict=True):
        own = (1 + NOZZLE_LOSS) / b.outlet**2 * density / 2 * q**2
        areas.append(math.sqrt((1 + NOZZLE_LOSS) * density / 2 * q**2 / (own + target - loss)))
    return tuple(areas)


def wall_mass(duct: Splitter, density: float) -> float:
    """Mass of the walls [kg] for a material's density [kg/m3]: perimeter times length times wall."""
    ways = [
        (duct.width, duct.height, duct.length),
        *((b.width, b.height, b.length + b.bend * b.bend_radius * b.width) for b in duct.branches),
    ]
    return density * sum(
        ((w + 2 * duct.wall) * (h + 2 * duct.wall) - w * h) * length for w, h, length in ways
    )
