"""What all models share: air, the doubt of a model as a cause, remarks in sentences, geometry that
cannot be.
"""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass
from typing import Literal

from hauch.core.air import STANDARD_DENSITY
from hauch.core.quantity import Influence, Quantity, Step, measured

AIR_DENSITY = STANDARD_DENSITY
"""Density for which the Desk predicts [kg/m3]: standard air, as results are compared on it."""
AIR_VISCOSITY = 1.813e-5
"""Dynamic viscosity of air at 20 degC [Pa s] (E. W. Lemmon, R. T. Jacobsen, Int. J. Thermophys. 25
(2004) 21, 18.13 uPa s).
"""
SOUND_SPEED = 343.2
"""Speed of sound in dry air at 20 degC [m/s] (ISO 9613-1:1993, clause 5)."""

Level = Literal["note", "care", "range", "stop"]


@dataclass(frozen=True, slots=True)
class Remark:
    """A sentence about an answer: a note, a warning to take care, a range left, or why something
    will not go. One of a range left names the figures that lie outside: they are told without an
    interval.
    """

    level: Level
    text: str
    figures: tuple[str, ...] = ()


class CannotBe(ValueError):
    """Geometry or figures that cannot be. ``problems`` holds a sentence for each, by the input's
    key.
    """

    def __init__(self, problems: dict[str, str]):
        super().__init__(" ".join(problems.values()))
        self.problems = problems


def refuse(problems: dict[str, str]) -> None:
    """Raise `CannotBe` where there is anything to say."""
    if problems:
        raise CannotBe(problems)


def cause(model: str, name: str) -> Influence:
    """The doubt of a model as a cause: the same in all its answers, so it cancels in a comparison
    of two variants.
    """
    return Influence(f"model:{model}", name, "common", "B")


def modelled(
    value: float,
    unit: str,
    model: str,
    name: str,
    relative: float,
    working: Iterable[Step] = (),
    absolute: float = 0.0,
) -> Quantity:
    """A figure of a model with its doubt.

    Parameters
    ----------
    value : [unit]
    model, name : key and words of the cause
    relative : standard uncertainty as a share of the value
    absolute : standard uncertainty that does not shrink with the value [unit]
    """
    made = measured(
        value, unit, [(cause(model, name), (abs(relative * value) ** 2 + absolute**2) ** 0.5)]
    )
    return Quantity(made.value, unit, made.parts, tuple(working))


def factor(name: str, value: float, relative: float, model: str) -> Quantity:
    """A coefficient that is only known within a share."""
    return measured(value, "", [(cause(model, name), abs(relative * value))])
