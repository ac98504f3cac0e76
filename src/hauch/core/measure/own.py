"""A figure of one's own: a short formula over what a rig reads, its units checked, parsed and never run.

A name stands for the mean of a channel, a constant of the rig, another figure of the same rig or the
density of the air in the room. All are taken in base units of the SI, so that a formula means the same
whatever a meter shows; the figure itself is kept and shown in the unit that it was given.
"""

from __future__ import annotations

import ast
import hashlib
import itertools
import json
import math
import operator
import re
from collections.abc import Callable, Mapping
from dataclasses import asdict, dataclass
from functools import lru_cache
from typing import Any

from hauch.core.measure.channels import CHANNELS
from hauch.core.measure.procedure import Procedure
from hauch.core.measure.rigs import MODULES, RIGS
from hauch.core.measure.rigs.base import RigKind
from hauch.core.measure.rigs.other import READ_OFF
from hauch.core.measure.run import NoResult, RunInput
from hauch.core.quantity import Quantity, derive
from hauch.core.quantity.units import KINDS, OWN_KIND, UnitUnknown
from hauch.core.quantity.written import check_dimension, from_base, to_base, unit_written

KEY = "own:"
"""A test's procedure begins with this where the test measures a figure of one's own."""
LONGEST = 200
"""Characters of a formula."""
DEEPEST = 20
"""Brackets and operations within each other."""
LARGEST_POWER = 6

FUNCTIONS: dict[str, Callable[..., float]] = {
    "sqrt": math.sqrt,
    "abs": abs,
    "log10": math.log10,
    "exp": math.exp,
    "min": min,
    "max": max,
}
ARITHMETIC: dict[type[ast.operator], Callable[[Any, Any], Any]] = {
    ast.Add: operator.add,
    ast.Sub: operator.sub,
    ast.Mult: operator.mul,
    ast.Div: operator.truediv,
}
LARGEST = 1e100
WRITTEN = str.maketrans({"−": "-", "–": "-", "·": "*", "×": "*", "÷": "/", "²": "^2", "³": "^3"})


class FormulaWrong(ValueError):
    """A formula that cannot be used, with what is wrong and what to write."""


@dataclass(frozen=True, slots=True)
class Own:
    """A figure of one's own as it is stored with its test.

    Parameters
    ----------
    rig : key of the kind of rig on which it is read
    formula : over names that `names_on` gives, such as ``airflow / power``
    unit : unit that it is kept and shown in, such as ``m³/h/W``
    direction : +1 where more is better, -1 where less is
    log : whether it is compared as a ratio (True) or as a difference (False)
    """

    rig: str
    formula: str
    unit: str
    direction: int
    log: bool

    @classmethod
    def from_json(cls, stored: Mapping[str, Any]) -> Own:
        """A figure as `as_json` wrote it."""
        return cls(*(stored[name] for name in ("rig", "formula", "unit", "direction", "log")))

    @property
    def key(self) -> str:
        """Key of its procedure. The same figure has the same key in every round, whatever it is
        called, so that what is known of its scatter is found again.
        """
        said = json.dumps(asdict(self), sort_keys=True, ensure_ascii=False)
        return KEY + hashlib.sha256(said.encode()).hexdigest()[:16]

    def as_json(self) -> dict[str, Any]:
        """Plain values for storage and export."""
        return asdict(self)


@dataclass(frozen=True, slots=True)
class Name:
    """What a name in a formula stands for: in words, its unit, the channels that feed it (each
    group is enough), and how a run gives it.
    """

    key: str
    label: str
    unit: str
    needs: tuple[tuple[str, ...], ...]
    optional: tuple[str, ...]
    of: Callable[[RunInput], Quantity]


def _of_channel(key: str) -> Callable[[RunInput], Quantity]:
    return lambda run: run.mean(key)


def _of_constant(key: str, label: str, unit: str) -> Callable[[RunInput], Quantity]:
    return lambda run: run.constant(key, label, unit)


@lru_cache(maxsize=64)
def names_on(rig: str) -> dict[str, Name]:
    """What a formula may name on a kind of rig; a channel before a figure of the same name.

    Parameters
    ----------
    rig : key of the kind of rig
    """
    kind: RigKind = RIGS[rig]
    found = {
        c: Name(c, CHANNELS[c].label, CHANNELS[c].unit, ((c,),), (), _of_channel(c))
        for c in kind.offered
    }
    for p in (p for module in MODULES for p in module.PROCEDURES):
        if p.rig == rig and not p.by_point and not p.places:
            figure = Name(p.key, p.label, KINDS[p.kind].unit, p.needs, p.optional, p.reduce)
            found.setdefault(p.key, figure)
    for c in kind.constants:
        unit = KINDS[c.kind].unit
        of = _of_constant(c.key, c.label.lower(), unit)
        found.setdefault(c.key, Name(c.key, c.label, unit, ((),), (), of))
    density = Name(
        "density", "Density of the air in the room", "kg/m3", ((),), (), RunInput.density
    )
    return found | {"density": density}


@lru_cache(maxsize=512)
def parsed(formula: str) -> ast.expr:
    """The formula as a tree of numbers, names, ``+ - * / ^`` and `FUNCTIONS`, and nothing else.

    Raises
    ------
    FormulaWrong : with what cannot be read
    """
    text = formula.strip()
    if not text:
        raise FormulaWrong("Write a formula, or the name of what is read.")
    if len(text) > LONGEST:
        raise FormulaWrong(f"A formula has at most {LONGEST} characters; this one has {len(text)}.")
    text = text.translate(WRITTEN).replace("√", "sqrt").replace("π", "pi")
    if strange := re.search(r"[^\w\s.+\-*/^(),]", text):
        raise FormulaWrong(
            f"“{strange[0]}” cannot stand in a formula. Use names, numbers, + - * / ^ and brackets."
        )
    if "**" in text:
        raise FormulaWrong("Write a power with ^, such as bore^2.")
    if re.search(r"(?<![\w.])\d+,\d+(?![\w.])", text) and not re.search(r"\b(min|max)\s*\(", text):
        raise FormulaWrong("Write decimals with a point, such as 0.5.")
    try:
        tree = ast.parse(text.replace("^", "**"), mode="eval").body
    except (SyntaxError, ValueError, RecursionError) as error:
        raise FormulaWrong(
            "The formula cannot be read. A sign or a bracket is missing or stands twice."
        ) from error
    _check(tree, DEEPEST)
    return tree


def _check(node: ast.expr, depth: int) -> None:
    """Refuse what a formula cannot hold; `_inner` says what stands in it."""
    if depth == 0:
        raise FormulaWrong("The formula is nested too deeply. Write it more simply.")
    for one in _inner(node):
        _check(one, depth - 1)


def _inner(node: ast.expr) -> list[ast.expr]:
    match node:
        case ast.Name():
            return []
        case ast.Constant(value=value):
            if type(value) not in {int, float}:
                raise FormulaWrong("Only numbers and names can stand in a formula.")
            if not abs(value) < LARGEST:  # type: ignore[arg-type]
                raise FormulaWrong("A number in the formula is too large.")
            return []
        case ast.UnaryOp(op=ast.USub() | ast.UAdd(), operand=inner):
            return [inner]
        case ast.BinOp(op=ast.Pow(), left=left, right=right):
            _power(right)
            return [left]
        case ast.BinOp(op=op, left=left, right=right) if type(op) in ARITHMETIC:
            return [left, right]
        case ast.Call(func=ast.Name(id=name), args=args, keywords=[]):
            _check_call(name, len(args))
            return args
    raise FormulaWrong("Only names, numbers, + - * / ^ and brackets can stand in a formula.")


def _check_call(name: str, count: int) -> None:
    if name not in FUNCTIONS:
        known = ", ".join(sorted(FUNCTIONS))
        raise FormulaWrong(f"“{name}” is no function that is known. Known are {known}.")
    wanted = 2 if name in {"min", "max"} else 1
    if count != wanted:
        raise FormulaWrong(f"“{name}” takes {wanted} {'value' if wanted == 1 else 'values'}.")


def _power(node: ast.expr) -> float:
    """The exponent, a plain number."""
    sign = 1.0
    if isinstance(node, ast.UnaryOp) and isinstance(node.op, ast.USub):
        sign, node = -1.0, node.operand
    if not isinstance(node, ast.Constant) or type(node.value) not in {int, float}:
        raise FormulaWrong("A power must be a plain number, such as ^2 or ^0.5.")
    value = sign * float(node.value)  # type: ignore[arg-type]
    if not abs(value) <= LARGEST_POWER:
        raise FormulaWrong(f"A power above {LARGEST_POWER} is hardly meant. Check the formula.")
    return value


def names_in(tree: ast.expr) -> list[str]:
    """Names that a formula uses, in order; π is none."""
    called = {id(n.func) for n in ast.walk(tree) if isinstance(n, ast.Call)}
    found = [
        n.id
        for n in ast.walk(tree)
        if isinstance(n, ast.Name) and id(n) not in called and n.id != "pi"
    ]
    return list(dict.fromkeys(found))


def value_of(node: ast.expr, values: Mapping[str, Any], functions: Mapping[str, Any]) -> Any:
    """What a tree comes to, with floats or with whatever else adds and multiplies."""

    def of(one: ast.expr) -> Any:
        return value_of(one, values, functions)

    match node:
        case ast.Constant(value=value):
            got: Any = float(value)  # type: ignore[arg-type]
        case ast.Name(id=name):
            got = math.pi if name == "pi" else values[name]
        case ast.UnaryOp(op=op, operand=inner):
            got = -of(inner) if isinstance(op, ast.USub) else of(inner)
        case ast.BinOp(op=ast.Pow(), left=left, right=right):
            got = of(left) ** _power(right)
        case ast.BinOp(op=op, left=left, right=right):
            got = ARITHMETIC[type(op)](of(left), of(right))
        case ast.Call(func=ast.Name(id=name), args=args):
            got = functions[name](*(of(one) for one in args))
        case _:
            raise FormulaWrong("The formula cannot be read.")
    return got


@lru_cache(maxsize=512)
def checked(own: Own) -> ast.expr:
    """The formula of a figure, where all its names are known on its kind of rig and its unit comes
    out as it was given.

    Raises
    ------
    FormulaWrong : with what is wrong and what to write
    """
    if own.rig not in RIGS:
        raise FormulaWrong(f"“{own.rig}” is no kind of rig.")
    tree = parsed(own.formula)
    known, used = names_on(own.rig), names_in(tree)
    for name in used:
        if name not in known:
            raise FormulaWrong(
                f"“{name}” is not read on a {RIGS[own.rig].label.lower()}. Known are"
                f" {', '.join(sorted(known))}."
            )
    if not any(group for name in used for group in known[name].needs):
        raise FormulaWrong(
            "The formula names nothing that is read, so it would be the same for all."
        )
    alone = isinstance(tree, ast.Name)
    units = {name: known[name].unit for name in used}
    try:
        unit_written(own.unit)
        if not _as_stated(tree):
            check_dimension(
                lambda values, functions: value_of(tree, values, functions),
                units,
                own.unit,
                alone=alone,
            )
    except UnitUnknown as error:
        raise FormulaWrong(str(error)) from error
    if own.log and own.unit in {"°C", "°F", "degC", "degF"}:
        raise FormulaWrong(
            "A temperature in degrees has no share of another. Compare it as a difference."
        )
    return tree


def _as_stated(tree: ast.expr) -> bool:
    """Whether it names a reading without a unit: then the figure's unit is taken as it was given, and
    nothing is converted.
    """
    return not set(READ_OFF).isdisjoint(names_in(tree))


@lru_cache(maxsize=512)
def own_procedure(own: Own, called: str) -> Procedure:
    """A figure of one's own as a way of testing like all others, ``called`` as its test. A formula
    that does not hold gives a procedure whose runs have no result, with the sentence why.
    """
    try:
        tree = checked(own)
    except FormulaWrong as error:
        return _procedure(own, called, ((),), (), _without(str(error)))
    known = names_on(own.rig)
    names = [known[name] for name in names_in(tree)]
    groups = [
        tuple(dict.fromkeys(itertools.chain.from_iterable(choice)))
        for choice in itertools.product(*(name.needs for name in names))
    ]
    needed = {channel for group in groups for channel in group}
    optional = tuple(dict.fromkeys(c for name in names for c in name.optional if c not in needed))

    stated = _as_stated(tree)

    def reduce(run: RunInput) -> Quantity:
        inputs = {name.key: name.of(run) for name in names}
        units = {key: q.unit for key, q in inputs.items()}

        def figure(**values: float) -> float:
            if stated:
                return float(value_of(tree, values, FUNCTIONS))
            base = {key: to_base(value, units[key]) for key, value in values.items()}
            return from_base(float(value_of(tree, base, FUNCTIONS)), own.unit)

        try:
            made = derive(
                called, own.formula, figure, inputs, own.unit,
                "formula of this round",
                note="unit as stated: the readings have none that could be checked" if stated else "",
            )  # fmt: skip
        except (ArithmeticError, ValueError, TypeError) as error:
            raise NoResult(
                f"{own.formula} cannot be computed from these readings: something is divided by 0, or a"
                " root or logarithm of nothing is taken. Check the readings."
            ) from error
        if not math.isfinite(made.value):
            raise NoResult(f"{own.formula} comes out as no number. Check the readings.")
        if own.log and made.value <= 0:
            raise NoResult(
                f"{called} comes out as {made.value:.3g} {own.unit}, which cannot be compared as a"
                " share. Check the readings, or compare the figure as a difference."
            )
        return made

    return _procedure(own, called, tuple(dict.fromkeys(groups)), optional, reduce)


def _without(sentence: str) -> Callable[[RunInput], Quantity]:
    def reduce(run: RunInput) -> Quantity:
        raise NoResult(sentence)

    return reduce


def _procedure(
    own: Own,
    called: str,
    needs: tuple[tuple[str, ...], ...],
    optional: tuple[str, ...],
    reduce: Callable[[RunInput], Quantity],
) -> Procedure:
    return Procedure(
        key=own.key,
        label=f"Figure of your own: {own.formula}",
        short=called[:12],
        rig=own.rig,
        needs=needs,
        metric=called if called[1:2].isupper() else called[:1].lower() + called[1:],
        kind=f"{OWN_KIND}{own.unit}",
        direction=own.direction,
        log=own.log,
        change_unit="%" if own.log else own.unit,
        optional=optional,
        by_speed=False,
        reduce=reduce,
    )
