"""How a figure is written: unit of the person's choice, as many digits as its doubt allows.

References
----------
JCGM 100:2008, 7.2.6 (no more than two digits of doubt, the value to the same place).
"""

from __future__ import annotations

import math
from dataclasses import dataclass

from hauch.core.quantity.units import KINDS, factor_from_si, from_si

PLAIN_DIGITS = 4
"""Significant digits of a figure whose doubt is not known."""


@dataclass(frozen=True, slots=True)
class Shown:
    """A figure in text: number, doubt (empty where unknown) and unit."""

    number: str
    doubt: str
    unit: str

    def __str__(self) -> str:
        return " ".join(
            part
            for part in (self.number, f"± {self.doubt}" if self.doubt else "", self.unit)
            if part
        )


def decimals_for(doubt: float) -> int:
    """Decimals at which a doubt has one digit, or two when it begins with 1 or 2; negative for tens
    and hundreds.
    """
    exponent = math.floor(math.log10(doubt))
    leading = doubt / 10**exponent
    return -exponent + (1 if leading < 2.95 else 0)


def grouped(value: float, decimals: int) -> str:
    """A number with thin thousands marks and a true minus sign."""
    rounded = round(value, decimals)
    text = f"{rounded:,.{max(decimals, 0)}f}"
    if text.strip("-0.,") == "":
        text = text.lstrip("-")
    return text.replace("-", "−")


def show(
    value: float | None,
    kind: str,
    system: str = "workshop",
    expanded: float | None = None,
    *,
    sign: bool = False,
) -> Shown:
    """Write a figure.

    Parameters
    ----------
    value : in the SI unit of the kind; None or NaN gives a dash
    kind : key in `KINDS`
    system : ``si``, ``workshop`` or ``inch``
    expanded : half-width of its 95 % interval, same unit, where known
    sign : write a plus sign too
    """
    unit = KINDS[kind].shown[system]
    if value is None or math.isnan(value):
        return Shown("–", "", unit)
    shown = float(from_si(value, unit, kind))
    doubt = abs(expanded * factor_from_si(unit, kind)) if expanded else 0.0
    if doubt > 0 and math.isfinite(doubt):
        decimals = decimals_for(doubt)
        return Shown(_signed(grouped(shown, decimals), sign), grouped(doubt, decimals), unit)
    decimals = max(0, PLAIN_DIGITS - 1 - math.floor(math.log10(abs(shown)))) if shown else 0
    text = grouped(shown, decimals)
    if "." in text:
        text = text.rstrip("0").rstrip(".")
    return Shown(_signed(text, sign), "", unit)


def show_plain(
    value: float | None, unit: str, expanded: float | None = None, *, sign: bool = False
) -> Shown:
    """Write a figure whose unit is not converted, such as percent."""
    if value is None or math.isnan(value):
        return Shown("–", "", unit)
    decimals = decimals_for(expanded) if expanded and expanded > 0 else 1
    return Shown(
        _signed(grouped(value, decimals), sign),
        grouped(expanded, decimals) if expanded else "",
        unit,
    )


def _signed(text: str, sign: bool) -> str:
    return f"+{text}" if sign and text[0].isdigit() and text.strip("0.,") else text
