"""Reductions of sweeps: one figure from the points of a curve, and the curve itself for a picture.

A point is one stand of the throttle (found in the recording) or one row of readings by hand. Each
point is handed to the same reductions as a plain run: standard air, hot wire, leak, orifice,
standby and speed law stand there and nowhere else.
"""

from __future__ import annotations

import math
from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass, field, replace

import numpy as np

from hauch.core.measure import curves, reductions
from hauch.core.measure.channels import CHANNELS, SPEEDS
from hauch.core.measure.curves import OutsideRange
from hauch.core.measure.run import NoResult, RunInput
from hauch.core.quantity import Influence, Quantity, derive, exact
from hauch.core.sound.level import BackgroundTooLoud

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
        channel: set(np.asarray(run.positions.get(channel, ()), int).tolist()) - {0}
        for channel in {*channels, *optional}
    }
    common = sorted(set.intersection(*(numbers[channel] for channel in channels)))
    kept = [*channels, *(c for c in optional if numbers[c] and numbers[c] >= set(common))]
    once = [
        c
        for c in run.readings
        if run.has(c) and c in run.meters and (c in SHARED or not any(run.positions.get(c, ())))
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


def _enough(run: RunInput, *channels: str, optional: Sequence[str] = ()) -> dict[int, RunInput]:
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


def _each(
    points: Mapping[int, RunInput], letter: str, reduce: Callable[[RunInput], Quantity]
) -> Points:
    """A figure at each point: letter and number -> quantity, its working told point by point."""
    return {
        f"{letter}{number}": _told(number, point, reduce(point)) for number, point in points.items()
    }


def _told(number: int, point: RunInput, figure: Quantity) -> Quantity:
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


def _figure(
    name: str,
    formula: str,
    function: Callable[..., float],
    inputs: Mapping[str, Quantity],
    unit: str,
    source: str,
    note: str = "",
) -> Quantity:
    try:
        return derive(name, formula, function, inputs, unit, source, note=note)
    except OutsideRange as problem:
        raise NoResult(str(problem)) from problem


def _with_misfit(
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


def _fan_points(run: RunInput) -> tuple[Points, Points]:
    """Flow and static pressure of each point, in standard air and at the common speed."""
    needed = ["static_pressure", "orifice_pressure"] + (
        ["speed"] if run.common_speed is not None else []
    )
    points = _enough(run, *needed, optional=[s for s in SPEEDS if s not in needed])
    return _each(points, "q", reductions.chamber_flow), _each(
        points, "p", reductions.static_pressure
    )


def fan_flow(run: RunInput) -> Quantity:
    """Volume flow [m3/s] where the fan curve meets the rig's system Δp = k Q^m."""
    flow, pressure = _fan_points(run)
    resistance, exponent = (
        run.constant("system_resistance", "resistance of the system at 1 m³/s", "Pa"),
        run.constant("system_exponent", "exponent of the system", ""),
    )
    return _figure(
        "Operating point",
        "Δp(Q) = k Q^m",
        lambda **v: curves.operating_point(
            curves.numbered(v, "q"), curves.numbered(v, "p"), v["k"], v["m"]
        )[0],
        {**flow, **pressure, "k": resistance, "m": exponent},
        "m3/s",
        "ISO 5801:2017; curve through the points after Fritsch and Carlson, 1980",
        f"{len(flow)} points; read where the system line crosses the curve",
    )


def fan_curve(run: RunInput) -> Curve:
    """Static pressure over flow, the system line and the operating point."""
    flow, pressure = _fan_points(run)
    q, p = list(flow.values()), list(pressure.values())
    k, m = run.rig["system_resistance"][0], run.rig["system_exponent"][0]
    highest = max(x.value for x in q)
    system = [(highest * i / 40, k * (highest * i / 40) ** m) for i in range(41)]
    top = 1.15 * max(x.value for x in p)
    return Curve(
        "flow",
        "volume_flow",
        "static pressure",
        "pressure",
        _pairs(q, p),
        curves.smooth([x.value for x in q], [x.value for x in p]),
        [point for point in system if point[1] <= top],
        curves.operating_point([x.value for x in q], [x.value for x in p], k, m),
    )


def _pairs(x: list[Quantity], y: list[Quantity]) -> list[tuple[float, float, float, float]]:
    return [(a.value, a.expanded, b.value, b.expanded) for a, b in zip(x, y, strict=True)]


def _loss_points(run: RunInput) -> tuple[Points, Points]:
    points = _enough(run, "orifice_pressure", "test_depression")
    return _each(points, "q", reductions.bench_flow), _each(points, "p", reductions.bench_loss)


def loss_at_flow(run: RunInput) -> Quantity:
    """Pressure loss [Pa] at the agreed flow, from Δp = a Q^n through the points; its change against
    the reference is the restriction change at equal flow.
    """
    flow, loss = _loss_points(run)
    agreed = run.constant("agreed_flow", "agreed flow", "m3/s").value
    q, p = [x.value for x in flow.values()], [x.value for x in loss.values()]
    _inside(q, agreed, "The agreed flow", "m³/s")
    _, exponent = _law(q, p)
    figure = _figure(
        "Loss at the agreed flow",
        "Δp = a Q^n",
        lambda **v: _power_at(curves.numbered(v, "q"), curves.numbered(v, "p"), v["Q"]),
        {**flow, **loss, "Q": exact(agreed, "m3/s")},
        "Pa",
        "least squares in logarithms",
        f"n = {exponent:.3f} over {len(q)} points",
    )
    return _with_misfit(run, figure, q, p, agreed, "loss_law")


def loss_curve(run: RunInput) -> Curve:
    """Loss over flow with its law."""
    flow, loss = _loss_points(run)
    q, p = list(flow.values()), list(loss.values())
    agreed = run.rig["agreed_flow"][0]
    return _law_curve("flow", "volume_flow", "pressure loss", "pressure", q, p, agreed)


def _law_curve(
    x_label: str,
    x_kind: str,
    y_label: str,
    y_kind: str,
    x: list[Quantity],
    y: list[Quantity],
    wanted: float,
) -> Curve:
    c, k = _law([q.value for q in x], [q.value for q in y])
    low, high = min(q.value for q in x), max(q.value for q in x)
    line = [
        (low + (high - low) * i / 40, c * (low + (high - low) * i / 40) ** k) for i in range(41)
    ]
    return Curve(x_label, x_kind, y_label, y_kind, _pairs(x, y), line, at=(wanted, c * wanted**k))


def _law(x: list[float], y: list[float]) -> tuple[float, float]:
    try:
        return curves.power_law(x, y)
    except ValueError as problem:
        raise NoResult(
            f"No law goes through the points: {problem}. Check signs and tubes."
        ) from problem


def _power_at(x: list[float], y: list[float], wanted: float) -> float:
    c, k = curves.power_law(x, y)
    return c * wanted**k


def _inside(x: list[float], wanted: float, what: str, unit: str) -> float:
    try:
        return curves.inside(x, wanted, what, unit)
    except OutsideRange as problem:
        raise NoResult(str(problem)) from problem


def _equal(run: RunInput) -> float:
    if run.equal is None:
        raise NoResult(
            "The brief does not say what is held equal. Enter the watts or decibels there."
        )
    return run.equal


def _flow_channel(run: RunInput) -> str:
    return "air_speed" if run.has("air_speed") else "pitot_pressure"


def _by_power(run: RunInput) -> tuple[Points, Points]:
    """Electrical power and flow of each point, as they were read: no common speed."""
    of_power = ["power"] if run.has("power") else ["voltage", "current"]
    points = _enough(
        replace(run, common_speed=None), _flow_channel(run), *of_power, optional=["static_pressure"]
    )
    return _each(points, "e", reductions.electrical_power), _each(points, "q", reductions.airflow)


def flow_at_power(run: RunInput) -> Quantity:
    """Volume flow [m3/s] at the electrical power that the round holds equal, between the points of
    a throttle sweep.
    """
    power, flow = _by_power(run)
    wanted = _inside([p.value for p in power.values()], _equal(run), "Electrical power", "W")
    return _figure(
        "Flow at equal power",
        "lg Q over lg P between neighbours",
        lambda **v: curves.at_equal(curves.numbered(v, "e"), curves.numbered(v, "q"), v["P"]),
        {**power, **flow, "P": exact(wanted, "W")},
        "m3/s",
        "interpolation inside the measured range only",
        f"{len(power)} points",
    )


def power_curve(run: RunInput) -> Curve:
    """Flow over electrical power."""
    power, flow = _by_power(run)
    x, y = list(power.values()), list(flow.values())
    at = _inside([p.value for p in x], _equal(run), "Electrical power", "W")
    return Curve(
        "electrical power",
        "power",
        "flow",
        "volume_flow",
        _pairs(x, y),
        curves.smooth([a.value for a in x], [b.value for b in y]),
        at=(at, curves.at_equal([a.value for a in x], [b.value for b in y], at)),
    )


def _by_noise(run: RunInput) -> tuple[Points, Points]:
    """Level without the background and flow, at points that stand clear of the background."""
    if not run.has("background_level"):
        raise NoResult(
            "The background level was not read. Switch the part off, read the room, and add it to"
            " this run."
        )
    points = _enough(
        replace(run, common_speed=None),
        _flow_channel(run),
        "sound_level",
        optional=["static_pressure"],
    )
    levels: dict[int, Quantity] = {}
    for number, point in points.items():
        try:
            levels[number] = _told(number, point, reductions.sound_level(point))
        except NoResult as problem:
            if not isinstance(problem.__cause__, BackgroundTooLoud):
                raise
    if len(levels) < 2:
        background = run.mean("background_level").value
        raise NoResult(
            f"Only {len(levels)} points stand 3 dB above the background of {background:.1f} dB(A)."
            " Read in a quieter room, or sweep higher."
        )
    clear = {number: points[number] for number in levels}
    return {f"L{number}": level for number, level in levels.items()}, _each(
        clear, "q", reductions.airflow
    )


def flow_at_noise(run: RunInput) -> Quantity:
    """Volume flow [m3/s] at the level that the round holds equal, between the points of a throttle
    sweep.
    """
    level, flow = _by_noise(run)
    wanted = _inside([x.value for x in level.values()], _equal(run), "A level", "dB(A)")
    return _figure(
        "Flow at equal noise",
        "lg Q over L between neighbours",
        lambda **v: math.exp(
            curves.at_equal(
                curves.numbered(v, "L"),
                np.log(curves.numbered(v, "q")).tolist(),
                v["A"],
                logarithmic=False,
            )
        ),
        {**level, **flow, "A": exact(wanted, "dB(A)")},
        "m3/s",
        "interpolation inside the measured range only",
        f"{len(level)} points",
    )


def noise_curve(run: RunInput) -> Curve:
    """Flow over level."""
    level, flow = _by_noise(run)
    x, y = list(level.values()), list(flow.values())
    at = _inside([a.value for a in x], _equal(run), "A level", "dB(A)")
    value = math.exp(
        curves.at_equal([a.value for a in x], [math.log(b.value) for b in y], at, logarithmic=False)
    )
    return Curve(
        "level",
        "level",
        "flow",
        "volume_flow",
        _pairs(x, y),
        curves.smooth([a.value for a in x], [b.value for b in y]),
        at=(at, value),
    )


def _shaft_points(run: RunInput) -> tuple[Points, Points]:
    """Speed and absorbed power of each point, as they were read."""
    points = _enough(
        replace(run, common_speed=None),
        "torque",
        "tare_torque",
        "speed",
        optional=[s for s in SPEEDS if s != "speed"],
    )
    return _each(points, "n", RunInput.rotor_speed), _each(points, "p", reductions.shaft_power)


def shaft_power_at_speed(run: RunInput) -> Quantity:
    """Shaft power [W] at the common speed, from P = c n^k through the points with and without the
    part.
    """
    speed, power = _shaft_points(run)
    if run.common_speed is None:
        raise NoResult(
            "The test names no common speed at which shaft powers are compared. Enter it in the"
            " brief."
        )
    n, p = [x.value for x in speed.values()], [x.value for x in power.values()]
    wanted = _inside(n, run.common_speed, "A speed", "1/min")
    _, exponent = _law(n, p)
    figure = _figure(
        f"Shaft power at {wanted:,.0f} 1/min",
        "P = c n^k",
        lambda **v: _power_at(curves.numbered(v, "n"), curves.numbered(v, "p"), v["N"]),
        {**speed, **power, "N": exact(wanted, "1/min")},
        "W",
        "least squares in logarithms",
        f"k = {exponent:.2f} over {len(n)} points"
        + (
            ""
            if abs(exponent - 3) < 0.4
            else "; a free rotor has about 3, so look for rubbing or a belt that slips"
        ),
    )
    return _with_misfit(run, figure, n, p, wanted, "shaft_law")


def shaft_curve(run: RunInput) -> Curve:
    """Shaft power over speed with its law."""
    speed, power = _shaft_points(run)
    if run.common_speed is None:
        raise NoResult("The test names no common speed.")
    return _law_curve(
        "speed",
        "rotational_speed",
        "shaft power",
        "power",
        list(speed.values()),
        list(power.values()),
        run.common_speed,
    )
