"""Where a spinning print is stressed most, and the speed that it is not to pass."""

from __future__ import annotations

import math
from collections.abc import Mapping
from dataclasses import dataclass
from typing import Any

from hauch.core.quantity import Quantity, Step, exact
from hauch.core.strength.material import Printed

PER_MINUTE = 60 / (2 * math.pi)
MARGIN_ASKED = 4.0
"""Strength over stress that is asked of a print before it is spun: twice in speed. Our rule, on the
safe side of scatter between prints.
"""
FASTEST = 60.0
"""Tip speed that no print is to pass [m/s], however little it is stressed: what breaks at more is
not held by a bench's guard. Our rule.
"""
NOT_COMPUTED = 30.0
"""Tip speed that is allowed at most [m/s] where its stress cannot be computed. Our rule."""
NOTCH = 1.5
"""How much higher the stress is in the corner at an unfilleted root than beside it (finite elements
of rotors and wheels with sharp corners: 1.3 to 1.7 where 99.9 % of the nodes lie below).
"""
GIVE = 1.3
"""How much more the tips move than blade or plate alone, since what they stand on gives way
(docs/validation.md: 0.9 to 2 against finite elements).
"""
GROWTH_UNCERTAINTY = 0.35
"""Standard uncertainty of the growth, as a share: the same comparison."""
UNCERTAINTY = 0.25
"""Standard uncertainty of a computed stress, as a share (docs/validation.md: against finite
elements).
"""


@dataclass(frozen=True, slots=True)
class Place:
    """A place of a spinning part.

    Parameters
    ----------
    key, label : of the place
    own : stress by its own pull, bending counted, over density and the square of the angular speed
        [m2]
    air : what the air adds at most, over the square of the angular speed [Pa s2]
    thickness : of its wall [m]
    axial : whether the stress goes along the axis
    notch : factor of a sharp corner there
    """

    key: str
    label: str
    own: float
    air: float
    thickness: float
    axial: bool = False
    notch: float = NOTCH

    def stress(self, density: float, omega: float) -> float:
        """Nominal stress at a density [kg/m3] and an angular speed [rad/s], the corner not counted
        [Pa].
        """
        return (density * self.own + self.air) * omega**2

    def speed(self, printed: Printed) -> float:
        """Angular speed [rad/s] at which strength stands `MARGIN_ASKED` times above the stress."""
        whole = MARGIN_ASKED * self.notch * self.stress(printed.material.density, 1.0)
        held = printed.held(self.thickness, axial=self.axial)
        return math.sqrt(held / whole) if whole > 0 else math.inf

    def scaled(self, factor: float) -> Place:
        """The same place of a part larger by a factor."""
        return Place(
            self.key,
            self.label,
            self.own * factor**2,
            self.air * factor**2,
            self.thickness * factor,
            self.axial,
            self.notch,
        )


@dataclass(frozen=True, slots=True)
class Stressed:
    """What was found of a part's stress: its places, or why there are none.

    Parameters
    ----------
    tip : radius of its tips [m]
    places : where it is stressed; none where that cannot be computed
    why_not : a sentence, where there are no places
    growth, shift : how far its tips go outwards and along the axis, over density and square of the
        angular speed, times Young's modulus [m3]
    """

    tip: float
    places: tuple[Place, ...] = ()
    why_not: str = ""
    growth: float = 0.0
    shift: float = 0.0

    def __post_init__(self) -> None:
        if not self.tip > 0:
            raise ValueError(f"the radius of the tips must be above 0, got {self.tip}")

    def grown(self, printed: Printed, omega: float) -> tuple[float, float]:
        """Growth outwards and shift along the axis at an angular speed [m]."""
        size = GIVE * printed.material.density * omega**2 / printed.material.stiffness
        return self.growth * size, self.shift * size

    def as_json(self) -> dict[str, Any]:
        """Plain values for storage."""
        rows = [[p.key, p.label, p.own, p.air, p.thickness, p.axial, p.notch] for p in self.places]
        return {
            "tip": self.tip,
            "places": rows,
            "why_not": self.why_not,
            "growth": self.growth,
            "shift": self.shift,
        }

    @classmethod
    def from_json(cls, stored: Mapping[str, Any]) -> Stressed:
        """As stored. Raises KeyError, TypeError or ValueError for other shapes."""
        places = tuple(Place(*row) for row in stored["places"])
        return cls(
            float(stored["tip"]),
            places,
            str(stored["why_not"]),
            float(stored["growth"]),
            float(stored["shift"]),
        )


@dataclass(frozen=True, slots=True)
class SpeedLimit:
    """Speed that a printed rotor is not to pass.

    Parameters
    ----------
    stressed : what was found of it
    printed : how it is printed
    tip : radius of the tips where it was measured larger than its model [m]

    Notes
    -----
    The lowest of ``sqrt(R_m / (margin notch sigma / omega2))`` over its places, and of the speed at
    which its tips run at `FASTEST`; at `NOT_COMPUTED` where no stress could be computed.
    """

    stressed: Stressed
    printed: Printed
    tip: float = 0.0

    @property
    def radius(self) -> float:
        """Of the tips [m], the larger of model and measurement."""
        return max(self.tip, self.stressed.tip)

    @property
    def bound(self) -> float:
        """Tip speed allowed at most [m/s]."""
        return FASTEST if self.stressed.places else NOT_COMPUTED

    @property
    def of_tip(self) -> float:
        """Speed at which the tips run at the most allowed [1/min]."""
        return PER_MINUTE * self.bound / self.radius

    @property
    def worst(self) -> Place | None:
        """Place that gives way first; None where none was computed."""
        larger = self.radius / self.stressed.tip
        places = (p.scaled(larger) for p in self.stressed.places)
        return min(places, key=lambda p: p.speed(self.printed), default=None)

    @property
    def of_strength(self) -> float:
        """Speed at which strength stands as far as asked above the stress [1/min]; infinite where
        it was not computed.
        """
        worst = self.worst
        return PER_MINUTE * worst.speed(self.printed) if worst else math.inf

    @property
    def speed(self) -> float:
        """The lower of the two, in round figures downwards, two digits [1/min]; 0 where the material
        softens before it is as warm as it gets.
        """
        if self.softens:
            return 0.0
        lower = min(self.of_tip, self.of_strength)
        step = 10.0 ** (math.floor(math.log10(lower)) - 1)
        return math.floor(lower / step + 1e-9) * step

    @property
    def softens(self) -> bool:
        """Whether nothing is left of its strength as warm as it gets."""
        return self.printed.warmth <= 0

    @property
    def why(self) -> str:
        """Where it comes from, in sentences."""
        material = self.printed.material
        if self.softens:
            return (
                f"{material.label} softens at {material.heat:.0f} °C and gets"
                f" {self.printed.warm:.0f} °C warm: it is not to be spun."
            )
        if not self.stressed.places:
            return (
                f"The tips may run at {NOT_COMPUTED:g} m/s at most, since its stress is not"
                f" computed: {self.stressed.why_not}"
            )
        worst = self.worst
        if worst is None or self.of_tip <= self.of_strength:
            return (
                f"No print's tips are to run above {FASTEST:g} m/s, however little it is stressed."
            )
        return (
            f"{worst.label} decides: strength is to stay {MARGIN_ASKED:g} times above the stress in"
            f" {self.printed}."
        )

    def quantity(self) -> Quantity:
        """The limit with its working; without doubt, since it is a rule, and on the safe side."""
        tips = Step(
            "Tips at the most allowed",
            "60 v / (2 π r)",
            (("v", self.bound, "m/s"), ("r", self.radius, "m")),
            self.of_tip,
            "1/min",
            "our rule",
        )
        last = Step(
            "Not above",
            "the lower, in round figures downwards",
            (),
            self.speed,
            "1/min",
            "our rule",
            self.why,
        )
        worst = self.worst
        told = exact(self.speed, "1/min").with_step(tips)
        if worst is None:
            return told.with_step(last)
        held = self.printed.held(worst.thickness, axial=worst.axial)
        strength = Step(
            f"Strength there: {worst.label[0].lower()}{worst.label[1:]}",
            "√(R_m / (4 K σ/ω²)) · 60/2π",
            (
                ("R_m", held, "Pa"),
                ("margin", MARGIN_ASKED, ""),
                ("K", worst.notch, ""),
                ("σ/ω²", worst.stress(self.printed.material.density, 1.0), "Pa s2"),
            ),
            self.of_strength,
            "1/min",
            str(self.printed),
        )
        return told.with_step(strength).with_step(last)
