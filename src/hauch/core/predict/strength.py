"""How fast a print may spin: pull at blade root and hub, speed limit, permissible unbalance.

References
----------
Rotating blades and rings: J. P. Den Hartog, Advanced Strength of Materials, ch. II. Unbalance: ISO
    21940-11:2016, 6 (G = e omega).
Strength of prints along and across layers: typical values of filament makers' data sheets, lowered
    to what prints reach; a print's own
test bar goes before them.
"""

from __future__ import annotations

import math
from dataclasses import dataclass

import numpy as np

from hauch.core.predict.blading import Blading
from hauch.core.predict.model import modelled
from hauch.core.quantity import Quantity, Step


@dataclass(frozen=True, slots=True)
class Material:
    """A printed material: density [kg/m3], tensile strength along and across its layers [Pa], heat
    that it stands [degC], temperature at which it is annealed [degC] (None where it is not) with
    what it shrinks along and grows across the layers (shares), and what to mind.
    """

    key: str
    label: str
    density: float
    along: float
    across: float
    heat: float
    anneal: float | None = None
    shrinks: float = 0.0
    grows: float = 0.0
    cautions: str = ""

    def held(self, flat: bool) -> float:
        """Strength against a pull square to the axis [Pa]: along the layers where they lie flat,
        across them where they stand.
        """
        return self.along if flat else self.across


MATERIALS: dict[str, Material] = {
    m.key: m
    for m in (
        Material(
            "pla",
            "PLA",
            1240,
            45e6,
            22e6,
            55,
            85,
            0.020,
            0.010,
            "Softens in a car in the sun. Creeps under a steady load.",
        ),
        Material(
            "petg",
            "PETG",
            1270,
            42e6,
            20e6,
            70,
            None,
            cautions="Strings; scrape its threads off before it is balanced.",
        ),
        Material(
            "abs",
            "ABS or ASA",
            1060,
            34e6,
            15e6,
            90,
            100,
            0.008,
            0.004,
            "Its fumes are unhealthy: print and anneal it with the window open or an outlet.",
        ),
        Material(
            "pa",
            "Polyamide, dry",
            1120,
            48e6,
            26e6,
            110,
            90,
            0.006,
            0.003,
            "Takes up water and grows soft and larger by it: dry before printing, weigh dry.",
        ),
        Material(
            "pa_cf",
            "Polyamide with carbon fibre",
            1180,
            70e6,
            22e6,
            130,
            100,
            0.004,
            0.003,
            "Its dust holds fibres: sand it wet, wear a mask, keep it off electronics.",
        ),
        Material(
            "resin",
            "Tough resin",
            1150,
            40e6,
            38e6,
            55,
            None,
            cautions=(
                "Uncured resin and its solvent harm skin and lungs: gloves, outlet, cure it"
                " through."
            ),
        ),
    )
}
MARGIN_ASKED = 4.0
"""Strength over stress that is asked of a print before it is spun: twice in speed. Our rule, on the
safe side of scatter between prints.
"""
PER_MINUTE = 60 / (2 * math.pi)
TIP_LIMIT = 30.0
"""Tip speed that is allowed at most [m/s], as long as bending by the blades' own pull is not
computed. Our rule.
"""
BENT = 13.0
"""How many times the stress of the plain pull was exceeded, at most, where rotors and wheels were
computed with finite elements (two rotors, a wheel, and a rotor with its blades swept by 0.3 rad or
leaning by 10 mm: 1.6 to 13 times).
"""
NOT_COMPUTED = (
    "Blades that sweep or lean, and blades on a plate, are bent by their own pull. That is not"
    " computed yet, so no higher speed is told."
)


@dataclass(frozen=True, slots=True)
class SpeedLimit:
    """Speed that a printed rotor is not to pass: tips at `TIP_LIMIT`, or less where it is weak.

    Parameters
    ----------
    tip : radius of the tips [m]
    pull : greatest stress of the plain radial pull, over the square of the angular speed [Pa s2]; 0
        where it is not known
    strength : what meets it [Pa]

    Raises
    ------
    ValueError : no tip radius, a negative pull, or no strength

    Notes
    -----
    The plain pull leaves out bending: 0.68 MPa were told where 3.3 to 3.5 MPa were computed, 1.48
    where 15.7, 0.87 where 10 and 12. Until bending is computed the lower of two speeds is told:
    ``60 v / (2 pi r)``, and that at which `BENT` times the pull stands `MARGIN_ASKED` times below
    the strength.
    """

    tip: float
    pull: float = 0.0
    strength: float = math.inf

    def __post_init__(self) -> None:
        if not self.tip > 0:
            raise ValueError(f"the radius of the tips must be above 0, got {self.tip}")
        if not (self.pull >= 0 and self.strength > 0):
            raise ValueError(
                f"the pull must be 0 or more and the strength above 0, got {self.pull} and"
                f" {self.strength}"
            )

    @property
    def of_tip(self) -> float:
        """Speed at which the tips run at the most allowed [1/min]."""
        return PER_MINUTE * TIP_LIMIT / self.tip

    @property
    def of_strength(self) -> float:
        """Speed at which strength stands as far as asked above the pull with bending allowed for
        [1/min]; infinite where the pull is not known.
        """
        return (
            PER_MINUTE * math.sqrt(self.strength / (MARGIN_ASKED * BENT * self.pull))
            if self.pull
            else math.inf
        )

    @property
    def speed(self) -> float:
        """The lower of the two [1/min]."""
        return min(self.of_tip, self.of_strength)

    @property
    def why(self) -> str:
        """Where it comes from, in sentences."""
        if self.of_tip <= self.of_strength:
            return f"The tips may run at {TIP_LIMIT:g} m/s at most. {NOT_COMPUTED}"
        return (
            f"Strength is to be {MARGIN_ASKED:g} times the stress, with {BENT:g} times the plain"
            f" pull allowed for bending. {NOT_COMPUTED}"
        )

    def quantity(self, material: str, note: str = "") -> Quantity:
        """The limit with its working; the material's name and how its layers lie go with the
        strength.
        """
        if not self.pull:
            raise ValueError("without the pull there is no working of the strength")
        bent = (
            ("R_m", self.strength, "Pa"),
            ("margin", MARGIN_ASKED, ""),
            ("bending", BENT, ""),
            ("σ/ω²", self.pull, "Pa s2"),
        )
        steps = (
            Step(
                "Tips at the most allowed",
                "60 v / (2 π r)",
                (("v", TIP_LIMIT, "m/s"), ("r", self.tip, "m")),
                self.of_tip,
                "1/min",
                "our rule",
            ),
            Step(
                "Strength, with bending allowed for",
                "√(R_m / (4 · 13 σ/ω²)) · 60/2π",
                bent,
                self.of_strength,
                "1/min",
                material,
                note,
            ),
            Step(
                "Not above", "the lower of the two", (), self.speed, "1/min", "our rule", self.why
            ),
        )
        return modelled(
            self.speed, "1/min", "part:strength", "scatter of printed strength", 0.15, steps
        )


@dataclass(frozen=True, slots=True)
class Spin:
    """Stress of the plain pull at blade root and hub at a speed [Pa], without bending, tip speed
    [m/s], and the speed that is not to be passed.
    """

    root: float
    hub: float
    tip_speed: float
    limit: SpeedLimit


def spin(row: Blading, speed: float, material: Material, wall: float, layers: str = "flat") -> Spin:
    """Pull on a spinning rotor.

    Parameters
    ----------
    row : the blading
    speed : [1/min]
    wall : of the hub's shell [m]
    layers : ``"flat"`` where the layers lie across the axis (blades are pulled along them),
        ``"standing"`` where they are pulled apart

    Notes
    -----
    Root: pull of the blade, omega2 times the integral of rho A r dr, over the section at the root.
    Hub: a thin ring of its own mass, rho (omega R)2, that also carries the blades, B F / (2 pi A)
    with A = wall * depth. Bending by sweep, lean and the air, and notches, are not in it:
    `SpeedLimit` allows for them.
    """
    omega = 2 * math.pi * speed / 60
    at = row.stations(60)
    pull = float(np.sum(material.density * omega**2 * at.section_area * at.radius * at.width))
    root = pull / float(at.section_area[0])
    outer = row.hub / 2
    depth = max(row.chord[0] * math.sin(row.pitch[0]), 2 * wall)
    hub = material.density * (omega * (outer - wall / 2)) ** 2 + row.blades * pull / (
        2 * math.pi * wall * depth
    )
    limit = SpeedLimit(row.tip / 2, max(root, hub) / omega**2, material.held(layers == "flat"))
    return Spin(root, hub, omega * row.tip / 2, limit)


def permissible_unbalance(grade: float, mass: float, speed: float) -> float:
    """Permissible residual unbalance [kg m]: U = G m / omega (ISO 21940-11:2016, 6.3).

    Parameters
    ----------
    grade : balance quality grade G [m/s], 0.0063 for G 6.3
    mass : [kg]
    speed : [1/min]
    """
    return grade * mass / (2 * math.pi * speed / 60)


def disc_stress(outer: float, speed: float, density: float) -> float:
    """Stress of the plain pull in a flat disc with a small bore, blades not counted [Pa]: (3 + nu)
    / 4 rho (omega R)2, nu = 0.35 (Den Hartog, ch. II).
    """
    return (3 + 0.35) / 4 * density * (2 * math.pi * speed / 60 * outer / 2) ** 2
