"""A value with its standard uncertainty, split by cause, and the steps that led to it.

References
----------
JCGM 100:2008 (GUM), clauses 4.2 (type A), 4.3 (type B), 5.1.2 and 5.2.2 (combination, with
    correlation), G.4.1
(effective degrees of freedom).
"""

from __future__ import annotations

import math
from collections.abc import Callable, Iterable, Mapping, Sequence
from dataclasses import dataclass, field, replace
from functools import lru_cache
from typing import Any, Literal, NamedTuple

import scipy

Scope = Literal["common", "own"]
Kind = Literal["A", "B"]

DIGITS_KEPT = 12
"""Significant digits of a stored figure: far below any doubt, far above what processors disagree
about.
"""


def significant(value: float, digits: int = DIGITS_KEPT) -> float:
    """Round to a number of significant digits; NaN and infinities pass through."""
    if value == 0 or not math.isfinite(value):
        return value
    return float(f"{value:.{digits - 1}e}")


@dataclass(frozen=True, slots=True)
class Influence:
    """One cause of doubt. The same key in two results is the same cause, so it is fully correlated
    (GUM 5.2.2).

    Parameters
    ----------
    key : identity of the cause, such as ``"meter:V2:accuracy"`` or ``"run:31:resolution"``
    name : the cause in words
    scope : ``"common"`` to all runs on the rig, or ``"own"`` to one run
    kind : ``"A"`` (from scatter) or ``"B"`` (from other knowledge)
    dof : degrees of freedom of the estimate
    """

    key: str
    name: str
    scope: Scope
    kind: Kind
    dof: float = math.inf


class Contribution(NamedTuple):
    """What one cause adds to the doubt of a figure, as it is stored with it: the fields of an
    `Influence`, with ``dof`` None where infinite, and the signed standard contribution ``u`` in the
    figure's unit.
    """

    key: str
    name: str
    scope: Scope
    kind: Kind
    dof: float | None
    u: float

    @property
    def cause(self) -> Influence:
        """The cause itself."""
        dof = math.inf if self.dof is None else self.dof
        return Influence(self.key, self.name, self.scope, self.kind, dof)


def contributions(stored: Iterable[Sequence[Any]]) -> list[Contribution]:
    """Contributions as `Quantity.as_json` wrote them."""
    return [Contribution._make(one) for one in stored]


@dataclass(frozen=True, slots=True)
class Step:
    """One line of working: what was computed, from what, by which formula and source."""

    name: str
    formula: str
    inputs: tuple[tuple[str, float, str], ...]
    value: float
    unit: str
    source: str = ""
    note: str = ""

    def as_json(self) -> dict[str, Any]:
        """Plain values for storage and export."""
        return {
            "name": self.name,
            "formula": self.formula,
            "inputs": [[symbol, significant(value), unit] for symbol, value, unit in self.inputs],
            "value": significant(self.value),
            "unit": self.unit,
            "source": self.source,
            "note": self.note,
        }


@dataclass(frozen=True)
class Quantity:
    """Value, unit, signed standard contributions by cause [unit], and working.

    A contribution is the sensitivity times the standard uncertainty of the cause; the sign is kept
    so that common causes cancel in a difference.
    """

    value: float
    unit: str
    parts: Mapping[Influence, float] = field(default_factory=dict)
    working: tuple[Step, ...] = ()

    @classmethod
    def stored(cls, value: float, unit: str, parts: Iterable[Any]) -> Quantity:
        """A quantity from its stored value and causes, as `as_json` wrote them; without its
        working.
        """
        return cls(value, unit, {one.cause: one.u for one in contributions(parts)})

    @property
    def u(self) -> float:
        """Combined standard uncertainty [unit] (GUM eq. 13, causes independent of one another)."""
        return math.sqrt(sum(part * part for part in self.parts.values()))

    @property
    def dof(self) -> float:
        """Effective degrees of freedom by Welch-Satterthwaite (GUM eq. G.2b)."""
        return effective_dof((part, cause.dof) for cause, part in self.parts.items())

    @property
    def expanded(self) -> float:
        """Half-width of the 95 % coverage interval [unit] (GUM 6.2.1, G.6.4)."""
        return expanded(self.u, self.dof)

    def with_step(self, step: Step) -> Quantity:
        """The same quantity with one more line of working."""
        return replace(self, working=(*self.working, step))

    def as_json(self) -> dict[str, Any]:
        """Plain values for storage and export, rounded to `DIGITS_KEPT` significant digits."""
        return {
            "value": significant(self.value),
            "unit": self.unit,
            "u": significant(self.u),
            "dof": significant(self.dof) if math.isfinite(self.dof) else None,
            "parts": [
                list(
                    Contribution(
                        c.key,
                        c.name,
                        c.scope,
                        c.kind,
                        c.dof if math.isfinite(c.dof) else None,
                        significant(part),
                    )
                )
                for c, part in sorted(self.parts.items(), key=lambda item: item[0].key)
            ],
            "working": [step.as_json() for step in self.working],
        }


@lru_cache(maxsize=4096)
def _t_quantile(dof: float, level: float) -> float:
    return float(scipy.special.stdtrit(dof, 0.5 + level / 2))


def coverage_factor(dof: float, level: float = 0.95) -> float:
    """Coverage factor of a two-sided interval (GUM G.3.4; table G.2: 10 degrees of freedom, 95 % ->
    2.23).

    Raises
    ------
    ValueError : degrees of freedom below 1 or level outside 0 to 1
    """
    if not dof > 0:
        raise ValueError(f"degrees of freedom must be above 0, got {dof}")
    if not 0 < level < 1:
        raise ValueError(f"level must be between 0 and 1, got {level}")
    return _t_quantile(min(dof, 1e9), level)


def expanded(u: float, dof: float | None = None) -> float:
    """Half-width of the 95 % coverage interval of a standard uncertainty, in its unit (GUM 6.2.1,
    G.6.4); ``dof`` None or infinite: normal, 1.96 u.
    """
    return coverage_factor(math.inf if dof is None else dof) * u


def standard_of(half: float) -> float:
    """Standard uncertainty of a half-width that is stated at 95 %, taken as normal (GUM 4.3.4)."""
    return half / coverage_factor(math.inf)


def as_normal(u: float, dof: float) -> float:
    """The standard uncertainty that gives the same 95 % interval where its degrees of freedom are
    not kept: a constant of a rig, found from a few points, is no surer for being stored.
    """
    return standard_of(expanded(u, dof))


def effective_dof(parts: Iterable[tuple[float, float]]) -> float:
    """Effective degrees of freedom of independent contributions (GUM eq. G.2b).

    Parameters
    ----------
    parts : standard contribution (any sign) and degrees of freedom of each; infinite where no part
        has finite ones
    """
    known = list(parts)
    total = sum(u * u for u, _ in known)
    if total == 0:
        return math.inf
    spread = sum((u * u / total) ** 2 / dof for u, dof in known if math.isfinite(dof))
    return 1 / spread if spread > 0 else math.inf


def exact(value: float, unit: str) -> Quantity:
    """A quantity without doubt, such as an agreed speed."""
    return Quantity(value, unit)


def measured(value: float, unit: str, causes: Iterable[tuple[Influence, float]]) -> Quantity:
    """A quantity read or stated, with the standard uncertainty [unit] of each cause."""
    return Quantity(value, unit, {cause: u for cause, u in causes if u})


def derive(
    name: str,
    formula: str,
    function: Callable[..., float],
    inputs: Mapping[str, Quantity],
    unit: str,
    source: str = "",
    *,
    note: str = "",
    symbols: Mapping[str, str] | None = None,
) -> Quantity:
    """Compute a quantity from others, carrying doubt and working along.

    Parameters
    ----------
    name, formula, source, note : the line of working
    function : plain function of floats, called with the input names as keywords
    inputs : quantities by argument name
    unit : unit of the result
    symbols : how an input is written in the formula, where that differs from its argument name

    Notes
    -----
    First order in the inputs (GUM eq. 10 with 5.2.2 for shared causes); partial derivatives by
    central differences of 1e-3 standard uncertainties or 1e-7 of the value, whichever is more (GUM
    5.1.3 note 2), so that they hold for any formula. Valid while the formula is close to straight
    over one standard uncertainty.
    """
    symbols = symbols or {}
    values = {key: q.value for key, q in inputs.items()}
    value = float(function(**values))
    parts: dict[Influence, float] = {}
    for key, q in inputs.items():
        u = q.u
        if u == 0:
            continue
        # At least what the value itself resolves: a doubt of rounding errors alone must not become
        # a division by zero.
        step = max(1e-3 * u, 1e-7 * abs(values[key]))
        above, below = values[key] + step, values[key] - step
        if above == below:
            continue
        slope = (function(**{**values, key: above}) - function(**{**values, key: below})) / (
            above - below
        )
        for cause, part in q.parts.items():
            parts[cause] = parts.get(cause, 0.0) + slope * part
    seen: dict[Step, None] = {}
    for q in inputs.values():
        seen.update(dict.fromkeys(q.working))
    shown = tuple((symbols.get(key, key), q.value, q.unit) for key, q in inputs.items())
    step_made = Step(name, formula, shown, value, unit, source, note)
    return Quantity(value, unit, parts, (*seen, step_made))
