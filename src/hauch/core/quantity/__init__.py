"""Quantities with standard uncertainty and working, and their units."""

from hauch.core.quantity.quantity import (
    Contribution,
    Influence,
    Quantity,
    Step,
    as_normal,
    contributions,
    coverage_factor,
    derive,
    effective_dof,
    exact,
    expanded,
    measured,
    significant,
    standard_of,
)

__all__ = [
    "Contribution",
    "Influence",
    "Quantity",
    "Step",
    "as_normal",
    "contributions",
    "coverage_factor",
    "derive",
    "effective_dof",
    "exact",
    "expanded",
    "measured",
    "significant",
    "standard_of",
]
