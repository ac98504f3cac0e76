"""What a kind of rig is made of: constants, channels, its drawing, and what cannot be together.

A rig's constants are stored as name -> [value, standard uncertainty] in SI; here stands what each
means, which are needed, and the range in which it can be true.
"""

from __future__ import annotations

import math
from collections.abc import Callable, Mapping
from dataclasses import dataclass
from typing import Any

from hauch.core.geometry.drawing import Arrow, Dimension, Drawing, Note, Sensor, Side
from hauch.core.measure.channels import CHANNELS, SPEEDS
from hauch.core.quantity.units import KINDS


@dataclass(frozen=True, slots=True)
class Constant:
    """One constant of a rig. ``low`` and ``high`` bound what can be [SI unit of the kind].

    ``needed`` by the reduction, ``found`` by a guided calibration (``traverse`` or
    ``blank_plate``), ``typical`` is drawn where the true one is not known, and is never computed
    with; a set-up offers it with the ``doubt`` (95 %) that goes with a usual one.
    """

    key: str
    label: str
    kind: str
    low: float
    high: float
    typical: float = math.nan
    needed: bool = False
    found: str = ""
    whole: bool = False
    doubt: float = 0.0


def length(
    key: str, label: str, typical: float, low: float = 0.001, high: float = 20.0, **more: Any
) -> Constant:
    """A constant that is a length [m]."""
    return Constant(key, label, "length", low, high, typical, **more)


class Sketch:
    """A drawing of a rig in the making, with the rig's constants at hand."""

    def __init__(self, kind: RigKind, constants: Mapping[str, tuple[float, float]]):
        self.kind, self.constants = kind, constants
        self.d = Drawing(kind.label)

    def __getitem__(self, key: str) -> float:
        if key in self.constants:
            return self.constants[key][0]
        constant = self.kind.constant(key)
        return math.nan if constant is None else constant.typical

    def dimension(
        self,
        key: str,
        start: tuple[float, float],
        end: tuple[float, float],
        side: Side,
        level: int = 1,
        prefix: str = "",
    ) -> None:
        """A dimension that shows one constant."""
        self.d.dimensions.append(
            Dimension(
                start, end, side, self[key], level, prefix=prefix, known=key in self.constants
            )
        )

    def sensor(self, channel: str, x: float, y: float) -> None:
        """A sensor, lettered in the order in which they are drawn."""
        self.d.sensors.append(
            Sensor((x, y), "ABCDEFGH"[len(self.d.sensors)], CHANNELS[channel].label)
        )

    def fan(self, x: float, y: float, size: float, depth: float = 0.0) -> None:
        """A part: its frame from the side, with a cross for the rotor."""
        depth = depth or size * 0.2
        self.d.box(x - depth, y - size / 2, depth, size, "mount")
        self.d.line((x - depth, y - size / 2), (x, y + size / 2), layer="thin")
        self.d.line((x - depth, y + size / 2), (x, y - size / 2), layer="thin")
        self.d.notes.append(Note((x - depth / 2, y + size / 2 * 1.15), "part"))

    def flow(self, x: float, y: float, length: float) -> None:
        """Three arrows of air."""
        for lift in (-0.25, 0.0, 0.25):
            self.d.arrows.append(Arrow((x, y + lift * length), (x + length, y + lift * length)))


def nothing_impossible(constants: Mapping[str, float]) -> dict[str, str]:
    """For kinds of rigs whose constants do not exclude each other."""
    return {}


@dataclass(frozen=True, slots=True, kw_only=True)
class RigKind:
    """A kind of rig.

    Parameters
    ----------
    constants, channels : what is known of it, and what can be read on it
    caution : what can hurt at it
    draw : draws it with the place of every sensor; constants that are not known are drawn at a
        typical size, and their dimension is written with ≈
    impossible : a sentence by key for constants that cannot be together
    """

    key: str
    label: str
    what: str
    constants: tuple[Constant, ...]
    channels: tuple[str, ...]
    draw: Callable[[Sketch], None]
    caution: str = ""
    impossible: Callable[[Mapping[str, float]], dict[str, str]] = nothing_impossible
    power_of_part: bool = True
    """Whether electrical power that is read on it is what the part takes, not what heats a load."""

    @property
    def offered(self) -> tuple[str, ...]:
        """Channels that a meter can be chosen for: where one rotor's speed is read, that of each
        further rotor too.
        """
        more = [c for c in SPEEDS[1:] if c not in self.channels] if "speed" in self.channels else []
        return (*self.channels, *more)

    def constant(self, key: str) -> Constant | None:
        """One of the kind's constants."""
        return next((c for c in self.constants if c.key == key), None)


def within(constants: Mapping[str, float], key: str, limit: str, text: str) -> dict[str, str]:
    """The sentence where one constant is not below another."""
    both = key in constants and limit in constants
    return {key: text} if both and constants[key] >= constants[limit] else {}


def check_constants(kind: RigKind, constants: Mapping[str, tuple[float, float]]) -> dict[str, str]:
    """A sentence for each constant that cannot be, by its key; empty where all is well.

    Parameters
    ----------
    constants : name -> (value, standard uncertainty) [SI]
    """
    problems: dict[str, str] = {}
    for constant in kind.constants:
        unit = KINDS[constant.kind].unit
        if constant.key not in constants:
            if constant.needed and not constant.found:
                problems[constant.key] = (
                    f"{constant.label} is missing; without it nothing can be computed from this"
                    " rig."
                )
            continue
        value, u = constants[constant.key]
        if not (math.isfinite(value) and math.isfinite(u)):
            problems[constant.key] = f"{constant.label}: “{value}” is not a number."
        elif not constant.low <= value <= constant.high:
            problems[constant.key] = (
                f"{constant.label}: {value:.6g} {unit} cannot be; it lies between {constant.low:g}"
                f" and {constant.high:g} {unit}. Check the sign and the unit."
            )
        elif constant.whole and value != round(value):
            problems[constant.key] = f"{constant.label}: {value:g} is not a whole number."
        elif u < 0:
            problems[constant.key] = (
                f"{constant.label}: an uncertainty of {u:g} cannot be; give 0 or more."
            )
        elif value > 0 and u > 0.5 * value:
            problems[constant.key] = (
                f"{constant.label}: the uncertainty is more than half of the value. Measure it again, or"
                " check the unit of the uncertainty."
            )
    for name in set(constants) - {c.key for c in kind.constants}:
        problems[name] = f"A {kind.label.lower()} has no constant “{name}”."
    return problems | kind.impossible(
        {name: value for name, (value, _) in constants.items() if name not in problems}
    )


def rig_drawing(kind: RigKind, constants: Mapping[str, tuple[float, float]]) -> Drawing:
    """The diagram of a rig.

    Parameters
    ----------
    constants : name -> (value, standard uncertainty) [SI], free of `check_constants` problems
    """
    sketch = Sketch(kind, constants)
    kind.draw(sketch)
    return sketch.d
