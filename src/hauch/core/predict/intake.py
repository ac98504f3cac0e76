"""An intake as a chain of elements: loss of each at a flow, area along the path, the speed at a
flow sensor.

References
----------
Losses of fittings: `fluids.fittings` (rounded entrances: I. E. Idelchik, Handbook of Hydraulic
    Resistance; contractions: Crane TP 410; the rest: D. C. Rennels, Pipe Flow), `fluids.filters`
    (round wire screens, Blevins, Applied Fluid Dynamics Handbook). Entrances and contractions were
    chosen by computed flow (docs/validation.md); printed grids have square edges and lose about
    twice as much as round wires.
Effective area: the whole pressure that drives the flow, losses and the head of the air that leaves,
    as a flow bench reads it.
Diffusers that separate: S. J. Kline, D. E. Abbott, R. W. Fox, J. Basic Eng. 81 (1959) 321 (no
    appreciable stall below about 7 degrees a side).
"""

from __future__ import annotations

import math
from collections.abc import Callable, Sequence
from dataclasses import dataclass

from fluids.filters import round_edge_screen
from fluids.fittings import (
    bend_rounded,
    contraction_conical,
    diffuser_conical,
    entrance_beveled,
    entrance_rounded,
    entrance_sharp,
)
from fluids.friction import friction_factor

from hauch.core.predict.duct import ROUGHNESS
from hauch.core.predict.model import AIR_DENSITY, AIR_VISCOSITY, refuse

STEEP = math.radians(7)
"""Half angle above which a diffuser separates."""
PERFORATED = frozenset({"screen", "grid"})
"""Kinds whose extra figure is their free share of area."""
CHOKE = 1.3
"""A place is called a choke where its velocity head is this many times that of the outlet."""
DOUBT = 0.25
"""Standard uncertainty of the loss of an element, as a share (computed flow: -9 to +47 %)."""
SQUARE_EDGES = 2.0
"""Loss of a printed grid with square edges over that of round wires, same free area."""


@dataclass(frozen=True, slots=True)
class Element:
    """A piece of an intake: kind, diameter at its end and length [m], and the one figure that its
    kind needs.

    ``extra``: screen or grid free share of area; bell lip radius [m]; filter pressure loss at 1 m/s face
    speed [Pa]; bend angle [rad]; else unused.
    """

    kind: str
    diameter: float
    length: float = 0.0
    extra: float = 0.0

    @property
    def area(self) -> float:
        return math.pi / 4 * self.diameter**2


@dataclass(frozen=True, slots=True)
class Kind:
    """A kind of element: its label, what its extra figure is (label, kind of figure, start value)
    and its loss.
    """

    key: str
    label: str
    extra: tuple[str, str, float] | None
    loss: Callable[[Element, float, float, float], float]


def _head(flow: float, area: float, density: float) -> float:
    return density / 2 * (flow / area) ** 2


def _reynolds(flow: float, diameter: float, density: float) -> float:
    return max(density * flow / (math.pi / 4 * diameter**2) * diameter / AIR_VISCOSITY, 10.0)


def _wall(e: Element, before: float, flow: float, density: float) -> float:
    mean = 0.5 * (before + e.diameter)
    f = friction_factor(Re=_reynolds(flow, mean, density), eD=ROUGHNESS / mean)
    return f * e.length / mean * _head(flow, math.pi / 4 * mean**2, density)


def _screen(e: Element, before: float, flow: float, density: float) -> float:
    wire = 0.001
    return round_edge_screen(
        alpha=e.extra, Re=max(density * flow / e.area / e.extra * wire / AIR_VISCOSITY, 20.0)
    ) * _head(flow, e.area, density)


def _grid(e: Element, before: float, flow: float, density: float) -> float:
    return SQUARE_EDGES * _screen(e, before, flow, density)


def _bell(e: Element, before: float, flow: float, density: float) -> float:
    k = (
        entrance_rounded(Di=e.diameter, rc=e.extra, method="Idelchik")
        if e.extra > 0
        else entrance_sharp()
    )
    return k * _head(flow, e.area, density) + _wall(e, e.diameter, flow, density)


def _scoop(e: Element, before: float, flow: float, density: float) -> float:
    return entrance_beveled(Di=e.diameter, l=max(e.length, 1e-4), angle=45.0) * _head(
        flow, e.area, density
    )


def _filter(e: Element, before: float, flow: float, density: float) -> float:
    return e.extra * flow / e.area + _change(e, before, flow, density)


def _bend(e: Element, before: float, flow: float, density: float) -> float:
    f = friction_factor(Re=_reynolds(flow, e.diameter, density), eD=ROUGHNESS / e.diameter)
    turns = max(e.length / max(e.extra, 1e-6) / e.diameter, 0.5)
    k = bend_rounded(
        Di=e.diameter,
        angle=math.degrees(e.extra),
        fd=f,
        bend_diameters=turns,
        Re=max(_reynolds(flow, e.diameter, density), 1e4),
        method="Rennels",
    )
    return k * _head(flow, e.area, density) + _change(e, before, flow, density) * (
        before != e.diameter
    )


def _change(e: Element, before: float, flow: float, density: float) -> float:
    if abs(before - e.diameter) < 1e-6:
        return _wall(e, before, flow, density)
    f = friction_factor(
        Re=_reynolds(flow, min(before, e.diameter), density), eD=ROUGHNESS / min(before, e.diameter)
    )
    length = max(e.length, 1e-4)
    if before > e.diameter:
        k = contraction_conical(Di1=before, Di2=e.diameter, l=length, fd=f, method="Crane")
        return k * _head(flow, e.area, density)
    return diffuser_conical(Di1=before, Di2=e.diameter, l=length, fd=f, method="Rennels") * _head(
        flow, math.pi / 4 * before**2, density
    )


KINDS: dict[str, Kind] = {
    k.key: k
    for k in (
        Kind("screen", "Screen of round wires", ("free area", "percent", 60.0), _screen),
        Kind("grid", "Printed grid", ("free area", "percent", 60.0), _grid),
        Kind("bell", "Bell mouth", ("lip radius", "length", 0.01), _bell),
        Kind("scoop", "Scoop", None, _scoop),
        Kind("filter", "Filter", ("loss at 1 m/s", "pressure", 40.0), _filter),
        Kind("straight", "Straight", None, _wall),
        Kind("bend", "Bend", ("angle in degrees", "number", 90.0), _bend),
        Kind("change", "Change of area", None, _change),
        Kind("sensor", "Flow sensor", None, _change),
    )
}


@dataclass(frozen=True, slots=True)
class Loss:
    """Loss of one element [Pa] and the speed at its end [m/s]."""

    element: Element
    loss: float
    speed: float


def problems_of(chain: Sequence[Element]) -> dict[str, str]:
    """A sentence for each thing that cannot be."""
    found: dict[str, str] = {}
    if not chain:
        found["elements"] = "The intake has no element yet. Add one, from the inlet on."
    for i, e in enumerate(chain, 1):
        name = f"Element {i} ({KINDS[e.kind].label.lower() if e.kind in KINDS else e.kind})"
        if e.kind not in KINDS:
            found.setdefault("elements", f"{name} is of no known kind.")
        elif not e.diameter > 0:
            found.setdefault(
                "elements", f"{name}: the diameter is {1000 * e.diameter:g} mm; it must be above 0."
            )
        elif e.length < 0:
            found.setdefault(
                "elements", f"{name}: the length is {1000 * e.length:g} mm; it cannot be negative."
            )
        elif e.kind in PERFORATED and not 0.05 <= e.extra < 1:
            found.setdefault(
                "elements",
                f"{name}: a free area of {100 * e.extra:g} % cannot be; it lies between 5 and"
                " 99 %.",
            )
        elif e.kind == "bend" and not 0 < e.extra <= math.pi:
            found.setdefault(
                "elements",
                f"{name}: a bend of {math.degrees(e.extra):g}° cannot be; it lies between 1° and"
                " 180°.",
            )
    return found


def chain_losses(chain: Sequence[Element], flow: float, density: float = AIR_DENSITY) -> list[Loss]:
    """Loss of each element in order at a flow [m3/s].

    Raises
    ------
    CannotBe : an element that cannot be

    Notes
    -----
    Elements are taken one by one; two that follow within a few diameters disturb one another, which
    is in the doubt.
    """
    found = problems_of(chain)
    if not flow > 0:
        found["flow"] = f"The flow is {flow:g} m³/s; it must be above 0."
    refuse(found)
    losses = []
    before = chain[0].diameter
    for e in chain:
        losses.append(Loss(e, KINDS[e.kind].loss(e, before, flow, density), flow / e.area))
        before = e.diameter
    return losses


def outgoing_head(chain: Sequence[Element], flow: float, density: float = AIR_DENSITY) -> float:
    """Velocity head of the air that leaves the intake [Pa]: whatever draws on it pays that too."""
    return _head(flow, chain[-1].area, density)


def steep_places(chain: Sequence[Element]) -> list[int]:
    """Indices of elements that widen by more than `STEEP` a side."""
    found = []
    for i in range(1, len(chain)):
        wider = chain[i].diameter - chain[i - 1].diameter
        if wider > 1e-6 and math.atan2(wider / 2, max(chain[i].length, 1e-9)) > STEEP:
            found.append(i)
    return found


def free_area(e: Element) -> float:
    """Area that the air has at the end of an element [m2]."""
    return e.area * (e.extra if e.kind in PERFORATED else 1.0)


def choke_places(chain: Sequence[Element]) -> list[int]:
    """Indices of the narrowest places: no wider than their neighbours, their velocity head more
    than `CHOKE` times that at the end.
    """
    areas = [free_area(e) for e in chain]

    def narrow(i):
        return all(areas[i] <= areas[j] for j in (i - 1, i + 1) if 0 <= j < len(areas))

    return [i for i in range(len(chain)) if narrow(i) and (areas[-1] / areas[i]) ** 2 > CHOKE]
