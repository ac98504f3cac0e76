"""Figures as people type them: a number, with a unit or without."""

from __future__ import annotations

import math
import re

from hauch.core.quantity.units import factor_from_si, to_si

_TYPED = re.compile(
    r"([+\-−]?(?:\d+(?:[.,]\d*)?|[.,]\d+)(?:[eE][+\-−]?\d+)?)\s*(1/(?:min|s)|[^\d.,\s].*)?"
)


def parse_number(text: str) -> float:
    """A number as people type it: decimal point or comma, no thousands marks.

    Raises ValueError with a sentence, for what no figure can be too (nan, inf, 1e999).
    """
    try:
        value = float(text.strip().replace(",", ".").replace("−", "-"))
        if not math.isfinite(value):
            raise ValueError("not finite")
    except ValueError as problem:
        raise ValueError(f"“{text.strip()[:40]}” is not a number.") from problem
    return value


def split_unit(text: str) -> tuple[str, str]:
    """The number and the unit of a figure such as ``3,2 m/s``; no unit where none was typed, and the
    whole text as the number where it is none.
    """
    found = _TYPED.fullmatch(text.strip())
    return (found[1], (found[2] or "").strip()) if found else (text.strip(), "")


def typed_figure(
    text: str, kind: str, unit: str, *, difference: bool = False
) -> tuple[float, str, str]:
    """A figure in the SI unit of its kind, with the number and the unit that it was typed in.

    Parameters
    ----------
    unit : what holds where none was typed
    difference : converted without an offset, for doubts and limits

    Raises
    ------
    ValueError : no number, with a sentence
    UnitUnknown : a unit of another kind, with those that are known
    """
    number, own = split_unit(text)
    value, written = parse_number(number), own or unit
    if difference:
        return value / factor_from_si(written, kind), number, written
    return float(to_si(value, written, kind)), number, written
