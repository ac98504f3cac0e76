"""Reductions of sweeps: one figure from the points of a curve, and the curve itself for a picture.

A point is one stand of the throttle (found in the recording) or one row of readings by hand. Each
point is handed to the same reductions as a plain run: standard air, hot wire, leak, orifice,
standby and speed law stand there and nowhere else.
"""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass, field, replace

import numpy as np

from hauch.core.measure import curves
from hauch.core.measure.channels import CHANNELS
from hauch.core.measure.curves import OutsideRange
from hauch.core.measure.run import NoResult, RunInput
from hauch.core.quantity import Influence, Quantity, derive

Points = dict[str, Quantity]


@dataclass(frozen=True, slots=True)
class Curve:
    """A reduced curve for a picture, all in SI.

    ``points`` [(x, u of x, y, u of y)], ``line`` through them, ``system`` the line of what it works
    on, ``at`` where the figure is read.
    """

    x_label: str
    x_kind: str
    y_label: str
    y_kind: str
    points: list[tuple[float, float, float, float]]
    line: list[tuple[float, float]]
    system: list[tuple[float, float]] = field(default_factory=list)
    at: tuple[float, float] | None = None


SHARED = frozenset({"background_level"})
"""Channels that are read once for all points, whatever row they were typed in."""


def stands(run: RunInput, *channels: str, optional: Sequence[str] = ()) -> dict[int, RunInput]:
    """The points of a sweep, each as a run of its own, so that its figures come from the reductions
    that a plain run has.

    Parameters
    ----------
    run : with the number of its point beside each reading
    channels : that must have been read at a point
    optional : that are used where they were read at every such point

    Returns
    -------
    number of the point -> what was read there, in order; what was read once for all points is the
    same quantity in each, so that its causes are shared
    """
    numbers = {
        channel: (
            set(np.asarray(run.positions.get(channel, ()), int).tolist()) - {0}
            if run.has(channel) or channel in channels
            else set()
        )
        for channel in {*channels, *optional}
    }
    common = sorted(set.intersection(*(numbers[channel] for channel in channels)))
    kept = [*channels, *(c for c in optional if numbers[c] and numbers[c] >= set(common))]
    once = [
        c for c in run.readings if run.has(c) and (c in SHARED or not any(run.positions.get(c, ())))
    ]
    steady = dict(run.steady) | {channel: run.mean(channel) for channel in once}
    return {number: _stand(run, number, kept, steady) for number in common}


def _stand(
    run: RunInput, number: int, channels: Sequence[str], steady: dict[str, Quantity]
) -> RunInput:
    readings = {
        c: np.asarray(run.readings[c], float)[np.asarray(run.positions[c], int) == number]
        for c in channels
        if c not in steady
    }
    return replace(
        run, run=f"{run.run}:point{number}", readings=readings, positions={}, steady=steady
    )


def enough(run: RunInput, *channels: str, optional: Sequence[str] = ()) -> dict[int, RunInput]:
    """At least three points.

    Raises
    ------
    NoResult : fewer
    """
    found = stands(run, *channels, optional=optional)
    if len(found) < 3:
        names = " and ".join(CHANNELS[channel].label.lower() for channel in channels)
        raise NoResult(
            f"A curve needs at least three points with {names}, got {len(found)}. Step the throttle"
            " further."
        )
    return found


def each(
    points: Mapping[int, RunInput], letter: str, reduce: Callable[[RunInput], Quantity]
) -> Points:
    """A figure at each point: letter and number -> quantity, its working told point by point."""
    return {
        f"{letter}{number}": of_point(number, point, reduce(point))
        for number, point in points.items()
    }


def of_point(number: int, point: RunInput, figure: Quantity) -> Quantity:
    """The figure with the number of its point before each step that is the point's own."""
    of_all = {
        *point.density().working,
        *(step for quantity in point.steady.values() for step in quantity.working),
    }
    steps = (
        s if s in of_all else replace(s, name=f"Point {number}: {s.name[:1].lower()}{s.name[1:]}")
        for s in figure.working
    )
    return replace(figure, working=tuple(steps))


def figure_from(
    name: str,
    formula: str,
    function: Callable[..., float],
    inputs: Mapping[str, Quantity],
    unit: str,
    source: str,
    note: str = "",
) -> Quantity:
    """A figure from the points of a sweep, as `derive` makes it.

    Raises
    ------
    NoResult : it lies outside what was measured
    """
    try:
        return derive(name, formula, function, inputs, unit, source, note=note)
    except OutsideRange as problem:
        raise NoResult(str(problem)) from problem


def with_misfit(
    run: RunInput, figure: Quantity, x: list[float], y: list[float], wanted: float, name: str
) -> Quantity:
    """The figure with the scatter of the points about the law as one more cause, own to the run."""
    share = curves.law_doubt(x, y, wanted)
    if share <= 0:
        return figure
    cause = Influence(
        f"run:{run.run}:{name}", "points off the fitted law", "own", "A", float(len(x) - 2)
    )
    return Quantity(
        figure.value,
        figure.unit,
        {**figure.parts, cause: abs(figure.value) * share},
        figure.working,
    )


def pairs(x: list[Quantity], y: list[Quantity]) -> list[tuple[float, float, float, float]]:
    """Points of a curve: x, its 95 % half-width, y, its 95 % half-width."""
    return [(a.value, a.expanded, b.value, b.expanded) for a, b in zip(x, y, strict=True)]


def law_curve(
    x_label: str,
    x_kind: str,
    y_label: str,
    y_kind: str,
    x: list[Quantity],
    y: list[Quantity],
    wanted: float,
) -> Curve:
    """Points with the power law through them, read at ``wanted``; SI units of the kinds."""
    c, k = law_through([q.value for q in x], [q.value for q in y])
    low, high = min(q.value for q in x), max(q.value for q in x)
    line = [
        (low + (high - low) * i / 40, c * (low + (high - low) * i / 40) ** k) for i in range(41)
    ]
    return Curve(x_label, x_kind, y_label, y_kind, pairs(x, y), line, at=(wanted, c * wanted**k))


def law_through(x: list[float], y: list[float]) -> tuple[float, float]:
    """c and k of y = c x^k through the points.

    Raises
    ------
    NoResult : no law goes through them
    """
    try:
        return curves.power_law(x, y)
    except ValueError as problem:
        raise NoResult(
            f"No law goes through the points: {problem}. Check signs and tubes."
        ) from problem


def power_at(x: list[float], y: list[float], wanted: float) -> float:
    """The law through the points, read at one place."""
    c, k = curves.power_law(x, y)
    return c * wanted**k


def inside(x: list[float], wanted: float, what: str, unit: str) -> float:
    """``wanted``, where it lies inside the measured range.

    Raises
    ------
    NoResult : it does not; nothing is told beyond what was measured
    """
    try:
        return curves.inside(x, wanted, what, unit)
    except OutsideRange as problem:
        raise NoResult(str(problem)) from problem
