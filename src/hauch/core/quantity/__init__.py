"""Quantities with standard uncertainty and working, and their units."""

from hauch.core.quantity.quantity import (
    Influence,
    Quantity,
    Step,
    coverage_factor,
    derive,
    exact,
    measured,
    significant,
)

__all__ = [
    "Influence",
    "Quantity",
    "Step",
    "coverage_factor",
    "derive",
    "exact",
    "measured",
    "significant",
]
