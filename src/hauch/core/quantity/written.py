"""Units as people write them for figures of their own, such as ``m³/h/W``, and what they are in base
units of the SI.
"""

from __future__ import annotations

import re
from collections.abc import Callable, Mapping
from functools import lru_cache
from typing import TYPE_CHECKING, Any, cast

from hauch.core.quantity.units import PINT_OF_SI, UnitUnknown, registry

if TYPE_CHECKING:
    import pint

LONGEST = 16
"""Characters of a unit."""

SPELLED = {
    "cfm": "foot**3/minute", "rpm": "rev_per_minute", "fpm": "foot/minute", "kph": "kilometer/hour",
    "mmH2O": "conventional_mmH2O", "inH2O": "conventional_inH2O", "inHg": "inHg", "mmHg": "mmHg",
    "dB": "decibel_a", "dB(A)": "decibel_a", "dBA": "decibel_a", "%": "share_percent", "points": "panel_point",
    "°C": "degC", "°F": "degF", "°": "degree", "Ω": "ohm", "mΩ": "milliohm", "ozf": "force_ounce", "lbf": "force_pound",
    "1": "dimensionless",
}  # fmt: skip
_TOKEN = re.compile(r"([^\d^-]+|1)(?:\^?(-?[1-4]))?")
_RAISED = str.maketrans({"²": "2", "³": "3", "⁴": "4", "−": "-"})


@lru_cache(maxsize=512)
def unit_written(text: str) -> pint.Unit:
    """A unit that was written. A word that is no unit, such as coins, is the name of a plain number.

    Raises
    ------
    UnitUnknown : it cannot be read as a unit at all
    """
    if len(text) > LONGEST:
        raise UnitUnknown(
            f"A unit has at most {LONGEST} characters; “{text[:20]}…” has {len(text)}."
        )
    if re.search(r"[^\w\s°%Ω²³⁴^·*/().€$£-]", text):
        raise UnitUnknown(f"“{text}” cannot be a unit. Write it like m³/h/W or K.")
    units = registry()
    made = units.Unit("dimensionless")
    parts = re.sub(r"\s+per\s+", "/", text.strip()).split("/")
    for place, part in enumerate(parts):
        for word in re.split(r"[\s·*]+", part.strip()):
            if not word:
                if place or len(parts) > 1 or len(part.strip()):
                    raise UnitUnknown(f"“{text}” cannot be a unit. Write it like m³/h/W or K.")
                continue
            one = _word(word)
            made = made / one if place else made * one
    return made


def _word(word: str) -> pint.Unit:
    units = registry()
    if word in SPELLED:
        return units.Unit(SPELLED[word])
    found = _TOKEN.fullmatch(word.translate(_RAISED))
    if found is None or not re.fullmatch(r"[A-Za-zµμ°Ω%]+|1", found[1]):
        return units.Unit("dimensionless")
    name, power = found[1], int(found[2] or 1)
    known = name in SPELLED or name in units
    one: Any = units.Unit(SPELLED.get(name, name) if known else "dimensionless")
    return cast("pint.Unit", one**power)


def _stored(unit: str) -> pint.Unit:
    """The unit in which the core keeps something, or that of a figure of one's own."""
    if unit in PINT_OF_SI:
        return registry().Unit(PINT_OF_SI[unit])
    return unit_written(unit)


@lru_cache(maxsize=512)
def _line_to_base(unit: str) -> tuple[float, float]:
    """Slope and offset that bring a unit to base units of the SI."""
    quantity, of = registry().Quantity, _stored(unit)
    zero = quantity(0.0, of).to_base_units().magnitude
    far = quantity(1e5, of).to_base_units().magnitude
    return float((far - zero) / 1e5), float(zero)


def to_base(value: float, unit: str) -> float:
    """A value in base units of the SI; temperatures in kelvin."""
    slope, offset = _line_to_base(unit)
    return value * slope + offset


def from_base(value: float, unit: str) -> float:
    """A value in base units of the SI brought to the unit that it is written in."""
    slope, offset = _line_to_base(unit)
    return (value - offset) / slope


def _extent(value: Any) -> Any:
    """A value with its dimension; a plain number has none."""
    return (
        value if hasattr(value, "dimensionality") else registry().Quantity(value, "dimensionless")
    )


def _same(*values: Any) -> Any:
    """The first of several values that must be of one dimension."""
    first = _extent(values[0])
    for other in values[1:]:
        first + _extent(other)
    return first


def _plain(value: Any) -> Any:
    extent = _extent(value)
    if not extent.dimensionless:
        raise UnitUnknown(
            "A logarithm or an exponential takes a plain number; divide by what it is compared with."
        )
    return registry().Quantity(1.0, "dimensionless")


MEASURED_OUT: Mapping[str, Callable[..., Any]] = {
    "sqrt": lambda a: abs(_extent(a)) ** 0.5,
    "abs": lambda a: abs(_extent(a)),
    "log10": _plain,
    "exp": _plain,
    "min": _same,
    "max": _same,
}
"""The functions of a formula, for dimensions."""


def check_dimension(
    evaluate: Callable[[Mapping[str, Any], Mapping[str, Callable[..., Any]]], Any],
    units: Mapping[str, str],
    target: str,
    *,
    alone: bool,
) -> None:
    """Whether a formula over names with units comes out in the unit that it is to be written in.

    Parameters
    ----------
    evaluate : computes the formula from values by name, with the given functions
    units : unit of each name
    target : unit as written
    alone : whether the formula is one name and nothing else, so that degrees can be meant

    Raises
    ------
    UnitUnknown : with what does not go together, or what comes out instead
    """
    import pint

    wanted = unit_written(target)
    quantity = registry().Quantity
    base = {
        name: quantity(1.0, _stored(unit)).to_base_units().units for name, unit in units.items()
    }
    values = {
        name: quantity(1.0 + 0.37 * n, unit) for n, (name, unit) in enumerate(base.items(), 1)
    }
    try:
        comes = _extent(evaluate(values, MEASURED_OUT))
    except pint.DimensionalityError as error:
        raise UnitUnknown(
            f"Units do not go together: {_said(error.units1)} and {_said(error.units2)} cannot be added"
            " or compared."
        ) from error
    except UnitUnknown:
        raise
    except ZeroDivisionError as error:
        raise UnitUnknown("The formula divides by 0.") from error
    except (OverflowError, ValueError, TypeError) as error:
        raise UnitUnknown("The formula comes out as no number. Check its powers.") from error
    if str(wanted).removeprefix("degree_") in {"Celsius", "Fahrenheit"} and not alone:
        raise UnitUnknown("A difference of temperatures is given in K.")
    if quantity(1.0, wanted).dimensionality != comes.dimensionality:
        raise UnitUnknown(
            f"The formula comes out in {_said(comes.units)}, and {_named(target)} is something else."
            " Change the unit or the formula."
        )


COMMON = ("W", "Pa", "N", "N m", "V", "ohm", "m³/s", "m/s", "K", "kg", "K/W", "s", "m", "m²", "m³")


def _said(unit: Any) -> str:
    """A unit in short symbols: the usual one where there is one."""
    extent = registry().Unit(str(unit))
    for usual in COMMON:
        if unit_written(usual).dimensionality == extent.dimensionality:
            return usual
    return f"{extent:~P}" or "a plain number"


def _named(target: str) -> str:
    return f"“{target}”" if target else "a figure without unit"
