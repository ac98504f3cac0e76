"""A bladeless ring: slot jet, mixing in the throat, diffuser, and the same motor as an open fan.

References
----------
Momentum balance of an ejector with mixing at constant area: J. H. Keenan, E. P. Neumann, F.
    Lustwerk, J. Appl. Mech. 17 (1950) 299. What a short ring reaches of it: computed flow of
    nine rings (docs/validation.md).
Free jet: H. Schlichting, Boundary-Layer Theory, 7th edition, ch. XXIV; N. Rajaratnam, Turbulent
    Jets (1976), ch. 2: centre-line
speed 6.2 d / x, flow 0.32 x / d. Actuator disc: W. J. M. Rankine, R. E. Froude.
"""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass

import scipy

from hauch.core.predict.model import AIR_DENSITY, AIR_VISCOSITY, refuse
from hauch.core.predict.source import FanSource

CENTRE_LINE = 6.2
"""Centre-line speed of a round jet times distance over diameter and exit speed."""
ENTRAINED = 0.32
"""Flow of a round jet over its exit flow, times diameter over distance, beyond about 6 diameters."""
DEVELOPED = 6.2
"""Diameters behind which the laws of the developed jet hold."""
COMPUTED = (0.15, 3.5)
"""Length over diameter within which rings were computed, a little beyond."""
SLOT_LENGTH = 0.16
"""Length of the slot over the ring's depth, as the generator makes it."""
FULL_LENGTH = 5.0
"""Length over diameter about which a jet on the wall mixes with what it draws along."""
FITTED = {
    "exit": (0.58, 0.20, 3.8),
    "felt": (1.11, 0.24, 2.6),
    "momentum": (1.20, 0.26, 1.2),
}
"""Figure of `Mixing` -> a, b, c of its fit by least squares (docs/validation.md)."""
DOUBTS = {"exit": 0.45, "felt": 0.30, "momentum": 0.15, "slot": 0.20}
"""Standard uncertainties of `Mixing` and of the slot's loss, as shares (computed rings against the
fit, and the doubt of what was computed).
"""
SLOT_TO_NECK = 0.7
"""A slot larger than this share of the neck no longer sets the flow alone: the neck chokes it. Our
rule: at 0.7 the neck costs a third of the pressure.
"""


@dataclass(frozen=True, slots=True)
class Ring:
    """A ring: diameter of the slot's circle, slot width, throat diameter, diffuser length and exit,
    profile depth, bore of the neck [m]; loss coefficients.

    ``inlet_loss`` on the entrained speed, ``mixing_loss`` on the mixed speed, ``slot_loss`` on the
    jet (it is fed round a corner: computed, 1.05 to 1.45), ``neck_loss`` on the neck speed.
    """

    slot_diameter: float
    slot: float
    throat: float
    exit: float
    depth: float
    neck: float
    inlet_loss: float = 0.1
    mixing_loss: float = 0.05
    slot_loss: float = 1.25
    neck_loss: float = 1.0
    diffuser_efficiency: float = 0.7
    wall: float = 0.0012

    @property
    def slot_area(self) -> float:
        return math.pi * self.slot_diameter * self.slot

    @property
    def throat_area(self) -> float:
        return math.pi / 4 * self.throat**2

    @property
    def neck_area(self) -> float:
        return math.pi / 4 * self.neck**2

    @property
    def spread(self) -> float:
        """Half angle of the diffuser [rad]."""
        return math.atan2((self.exit - self.throat) / 2, self.depth)

    def slot_friction(self, jet: float, density: float = AIR_DENSITY) -> float:
        """Loss coefficient of the slot's own length on the jet: 4 f L / 2 s between plates, f = 24 /
        Re, Blasius above Re 2,300.
        """
        reynolds = max(2 * self.slot * density * jet / AIR_VISCOSITY, 1.0)
        friction = 24 / reynolds if reynolds < 2300 else 0.0791 / reynolds**0.25
        return 2 * friction * SLOT_LENGTH * self.depth / self.slot

    def problems(self) -> dict[str, str]:
        """A sentence for each thing that cannot be."""
        found: dict[str, str] = {}

        def mm(v):
            return f"{1000 * v:.4g} mm"

        for key, name in (
            ("slot_diameter", "The slot's circle"),
            ("slot", "The slot"),
            ("throat", "The throat"),
            ("exit", "The exit"),
            ("depth", "The depth"),
            ("neck", "The neck"),
            ("wall", "The wall"),
        ):
            if not getattr(self, key) > 0:
                found[key] = f"{name} is {mm(getattr(self, key))}; it must be above 0."
        if found:
            return found
        if self.slot >= self.throat / 2:
            found["slot"] = (
                f"The slot ({mm(self.slot)}) is wider than half the throat ({mm(self.throat / 2)}):"
                " there is nothing left to draw air through."
            )
        elif self.slot_area >= self.throat_area:
            found["slot"] = (
                "The slot's area is larger than the throat's: nothing is left for the air that it"
                " should draw along."
            )
        if self.slot_diameter > self.throat * 1.001 + 2 * self.slot:
            found["slot_diameter"] = (
                f"The slot's circle ({mm(self.slot_diameter)}) lies outside the throat"
                f" ({mm(self.throat)}); the jet would blow past it."
            )
        if self.exit < self.throat * 0.999:
            found["exit"] = (
                f"The exit ({mm(self.exit)}) is narrower than the throat ({mm(self.throat)}); the"
                " ring would be a nozzle, for which this model does not hold."
            )
        return found


@dataclass(frozen=True, slots=True)
class Streams:
    """Speeds [m/s] and flows [m3/s] in a ring: jet, entrained, mixed in the throat, at the exit."""

    jet: float
    entrained: float
    mixed: float
    out: float
    jet_flow: float
    entrained_flow: float
    total_flow: float
    suction: float

    @property
    def ratio(self) -> float:
        """Total flow over the jet's."""
        return self.total_flow / self.jet_flow


def entrain(ring: Ring, jet: float, density: float = AIR_DENSITY) -> Streams:
    """Entrained and total flow for a jet speed [m/s].

    Notes
    -----
    Mixing at constant area A = A_j + A_s: A_j v_j2 + A_s v_s2 - (1 + z) v_s2 A / 2 = (1 + k/2) v_m2
    A - e (1 - (A/A_e)2) v_m2 A / 2, the throat's pressure from the entrained speed before and from
    the diffuser (efficiency e) behind. Entrained speed is the root. Valid for a throat of at least
    some slot widths and jets that stick to the wall; a diffuser wider than about 7 degrees a side
    begins to separate, above 12 degrees no recovery is counted.
    """
    area, slot = ring.throat_area, ring.slot_area
    free = area - slot
    recovery = (
        ring.diffuser_efficiency * (1 - (ring.throat / ring.exit) ** 4)
        if ring.spread < math.radians(12)
        else 0.0
    )

    def surplus(v: float) -> float:
        mixed = (slot * jet + free * v) / area
        return (
            slot * jet**2
            + free * v**2
            - (1 + ring.inlet_loss) * v**2 * area / 2
            - (1 + ring.mixing_loss / 2 - recovery / 2) * mixed**2 * area
        )

    v = float(scipy.optimize.brentq(surplus, 0.0, jet)) if surplus(0.0) > 0 > surplus(jet) else 0.0
    mixed = (slot * jet + free * v) / area
    exit_area = math.pi / 4 * ring.exit**2
    return Streams(
        jet,
        v,
        mixed,
        mixed * area / exit_area,
        slot * jet,
        free * v,
        mixed * area,
        (1 + ring.inlet_loss) * density / 2 * v**2,
    )


@dataclass(frozen=True, slots=True)
class Mixing:
    """What of full mixing a ring reaches: share of the air drawn along that passes its exit, share
    that moves one diameter on, momentum of the stream over that of the jet.
    """

    exit: float
    felt: float
    momentum: float

    @classmethod
    def of(cls, ring: Ring) -> Mixing:
        """By length over diameter x and exit over throat area w.

        Notes
        -----
        Jets hug the wall and mix behind the ring. The longer it is, the more the wall takes of them;
        the wider it opens, the more they leave the middle still, in which air comes back. Fitted to
        computed rings of 0.2 to 3 diameters, ``a exp(-b x - c (w - 1))``; a tube of 8 diameters
        mixes fully, between them by our assumption.
        """
        x, wider = ring.depth / ring.throat, (ring.exit / ring.throat) ** 2 - 1
        full = 1 - math.exp(-((x / FULL_LENGTH) ** 3))

        def reached(key: str) -> float:
            a, b, c = FITTED[key]
            short = a * math.exp(-b * x - c * wider)
            return short + full * (1.0 - short)

        return cls(reached("exit"), reached("felt"), reached("momentum"))


@dataclass(frozen=True, slots=True)
class Driven:
    """A ring at work: speed and flow of its jet [m/s, m3/s], flow through its exit and one diameter
    on [m3/s], speed with which its stream begins as a jet of the exit's width [m/s], and what full
    mixing would give.
    """

    jet: float
    jet_flow: float
    exit_flow: float
    felt_flow: float
    thrown: float
    ideal: Streams

    @property
    def ratio(self) -> float:
        """Flow through the exit over the jet's."""
        return self.exit_flow / self.jet_flow if self.jet_flow else math.nan


def at_jet(
    ring: Ring, jet: float, mixing: Mixing | None = None, density: float = AIR_DENSITY
) -> Driven:
    """A ring for a jet speed [m/s]."""
    mixing = mixing or Mixing.of(ring)
    ideal = entrain(ring, jet, density)
    drawn = ideal.total_flow - ideal.jet_flow
    exit_area = math.pi / 4 * ring.exit**2
    return Driven(
        jet,
        ideal.jet_flow,
        ideal.jet_flow + mixing.exit * drawn,
        ideal.jet_flow + mixing.felt * drawn,
        math.sqrt(mixing.momentum * ideal.jet_flow * jet / exit_area),
        ideal,
    )


def driven(
    ring: Ring, fan: FanSource, mixing: Mixing | None = None, density: float = AIR_DENSITY
) -> Driven:
    """The ring on a fan: jet speed where the fan's pressure meets neck and slot.

    Raises
    ------
    CannotBe : geometry or fan that cannot be
    """
    refuse(ring.problems() | fan.problems())
    mixing = mixing or Mixing.of(ring)

    def loss(flow: float) -> float:
        jet = flow / ring.slot_area
        drawn = mixing.exit**2 * entrain(ring, jet, density).suction if jet > 0 else 0.0
        return (
            (1 + ring.slot_loss + ring.slot_friction(jet, density)) * density / 2 * jet**2
            + ring.neck_loss * density / 2 * (flow / ring.neck_area) ** 2
            - drawn
        )

    return at_jet(ring, fan.meets(loss) / ring.slot_area, mixing, density)


def jet_speed_at(speed: float, diameter: float, distance: float) -> float:
    """Speed on the axis of a round jet [m/s]: the exit speed up to 6.2 diameters, then 6.2 d / x of
    it.
    """
    return speed * min(1.0, CENTRE_LINE * diameter / distance) if distance > 0 else speed


def jet_flow_at(flow: float, diameter: float, distance: float) -> float:
    """Flow of a round jet at a distance [m3/s]: 0.32 x / d of its exit flow, never below it (a
    straight line joins both before 6.2 d).
    """
    return flow * max(1.0, ENTRAINED * distance / diameter) if distance > 0 else flow


@dataclass(frozen=True, slots=True)
class OpenFan:
    """The same motor as an open fan: flow through it [m3/s] and speed of its stream [m/s]."""

    flow: float
    speed: float
    diameter: float


def open_fan(
    power: float, efficiency: float, diameter: float, density: float = AIR_DENSITY
) -> OpenFan:
    """An open fan of a diameter at an electrical power: what an actuator disc moves with the share
    that becomes air power.

    Notes
    -----
    In still air a disc with v through it gives T = 2 rho A v2 and takes T v = 2 rho A v3; the
    stream behind narrows to half the area at 2 v. Flow is taken at the disc, speed and diameter in
    the narrow stream.
    """
    found = {}
    if not power > 0:
        found["power"] = (
            "The electrical power must be above 0: it is what ring and open fan are compared at."
        )
    if not 0 < efficiency < 1:
        found["open_efficiency"] = "The open fan's efficiency must lie between 0 and 100 %."
    if not diameter > 0:
        found["open_diameter"] = "The open fan's diameter must be above 0."
    refuse(found)
    area = math.pi / 4 * diameter**2
    through = (efficiency * power / (2 * density * area)) ** (1 / 3)
    return OpenFan(through * area, 2 * through, diameter / math.sqrt(2))


def slot_scatter(widths: Sequence[float]) -> tuple[float, float]:
    """Mean and standard deviation of slot widths measured around a specimen [m]; the deviation
    needs two places at least.
    """
    if len(widths) < 2:
        raise ValueError("The slot must be measured at two places at least to know its scatter.")
    mean = sum(widths) / len(widths)
    return mean, math.sqrt(sum((w - mean) ** 2 for w in widths) / (len(widths) - 1))
