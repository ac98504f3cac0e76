"""What a part is held against, and what its check finds: sentences, figures, data for drawings."""

from __future__ import annotations

from dataclasses import dataclass, field
from typing import Any, Literal

from hauch.core.geometry.envelope import Envelope
from hauch.core.part.pose import Placed, UnitGuess
from hauch.core.part.printing import Settings
from hauch.core.part.rays import Samples, Walls
from hauch.core.part.soundness import Mended
from hauch.core.quantity import Quantity
from hauch.core.strength.material import Material

Verdict = Literal["ready", "care", "back"]
WORDS: dict[str, str] = {"ready": "ready to print", "care": "print with care", "back": "sent back"}


class Stopped(Exception):
    """Somebody stopped the check."""


@dataclass(frozen=True)
class Reason:
    """A sentence about a part: why it is sent back, where care is needed, or what is well."""

    level: Literal["back", "care", "well"]
    text: str


@dataclass(frozen=True)
class Figure:
    """A figure of a part, in a group."""

    key: str
    group: str
    label: str
    kind: str
    quantity: Quantity


@dataclass(frozen=True)
class CheckInput:
    """What a part is held against: its place, who says so, material, settings, speed [1/min], price
    of a kilogram, and what its designer has said.
    """

    envelope: Envelope
    material: Material
    settings: Settings = field(default_factory=Settings)
    speed: float = 1900.0
    price: float = 0.0
    file_unit: float | None = None
    said_unit: str = ""
    said_axis: str = ""


@dataclass
class Report:
    """What a check found."""

    reasons: list[Reason] = field(default_factory=list)
    figures: list[Figure] = field(default_factory=list)
    data: dict[str, Any] = field(default_factory=dict)
    unit: UnitGuess | None = None
    placed: Placed | None = None
    mended: Mended | None = None
    samples: Samples | None = None
    walls: Walls | None = None

    @property
    def verdict(self) -> Verdict:
        """The worst of the reasons."""
        levels = {r.level for r in self.reasons}
        return "back" if "back" in levels else "care" if "care" in levels else "ready"

    def say(self, level: Literal["back", "care", "well"], text: str) -> None:
        """Add a reason."""
        self.reasons.append(Reason(level, text))

    def add(self, key: str, group: str, label: str, kind: str, quantity: Quantity) -> None:
        """Add a figure."""
        self.figures.append(Figure(key, group, label, kind, quantity))
