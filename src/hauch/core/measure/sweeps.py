"""Reductions of sweeps: one figure from the points of a curve, and the curve itself for a picture.

A point is one stand of the throttle (found in the recording) or one row of readings by hand.
"""

from __future__ import annotations

import math
from collections.abc import Callable, Mapping
from dataclasses import dataclass, field

import numpy as np

from hauch.core.air import STANDARD_DENSITY
from hauch.core.measure import curves, laws, tunnel
from hauch.core.measure.calibration import leak_flow
from hauch.core.measure.channels import CHANNELS
from hauch.core.measure.curves import OutsideRange
from hauch.core.measure.meter import read
from hauch.core.measure.run import NoResult, RunInput
from hauch.core.quantity import Influence, Quantity, derive, exact
from hauch.core.sound.level import LEAST_DIFFERENCE, without_background

Points = dict[str, Quantity]


@dataclass(frozen=True, slots=True)
class Curve:
    """A reduced curve for a picture, all in SI.

    ``points`` [(x, u of x, y, u of y)], ``line`` through them, ``system`` the line of what it works on, ``at`` where the figure is read.
    """

    x_label: str
    x_kind: str
    y_label: str
    y_kind: str
    points: list[tuple[float, float, float, float]]
    line: list[tuple[float, float]]
    system: list[tuple[float, float]] = field(default_factory=list)
    at: tuple[float, float] | None = None


def point_numbers(run: RunInput, *channels: str) -> list[int]:
    """Numbers of the points at which all channels were read, in order.

    Raises
    ------
    NoResult : fewer than three
    """
    sets = [set(np.asarray(run.positions.get(channel, ()), int).tolist()) for channel in channels]
    common = sorted(set.intersection(*sets) - {0}) if sets else []
    if len(common) < 3:
        names = " and ".join(CHANNELS[channel].label.lower() for channel in channels)
        raise NoResult(f"A curve needs at least three points with {names}, got {len(common)}. Step the throttle further.")
    return common


def at_points(run: RunInput, channel: str, numbers: list[int], letter: str) -> Points:
    """Mean with doubt of a channel at each point: letter and number -> quantity. The meter's own doubts are common to all points."""
    meter = run.meters.get(channel)
    if meter is None:
        raise NoResult(f"No meter is set for {CHANNELS[channel].label.lower()} on this rig. Choose one in Stores.")
    values, positions = np.asarray(run.readings[channel], float), np.asarray(run.positions[channel], int)
    factor = run.correlation.get(channel, 1.0)
    return {f"{letter}{n}": read(channel, values[positions == n], meter, f"{run.run}:point{n}", correlation=factor) for n in numbers}


def _each(points: Points, letter: str, make: Callable[[int, Quantity], Quantity]) -> Points:
    return {f"{letter}{key[1:]}": make(int(key[1:]), q) for key, q in points.items()}


def _figure(
    name: str, formula: str, function: Callable[..., float], inputs: Mapping[str, Quantity], unit: str, source: str, note: str = ""
) -> Quantity:
    try:
        return derive(name, formula, function, inputs, unit, source, note=note)
    except OutsideRange as problem:
        raise NoResult(str(problem)) from problem


def _with_misfit(run: RunInput, figure: Quantity, x: list[float], y: list[float], wanted: float, name: str) -> Quantity:
    """The figure with the scatter of the points about the law as one more cause, own to the run."""
    share = curves.law_doubt(x, y, wanted)
    if share <= 0:
        return figure
    cause = Influence(f"run:{run.run}:{name}", "points off the fitted law", "own", "A", float(len(x) - 2))
    return Quantity(figure.value, figure.unit, {**figure.parts, cause: abs(figure.value) * share}, figure.working)


def _orifice_flow(run: RunInput, pressures: Points, leak_at: Points | None) -> Points:
    """Flow through the rig's orifice at each point, with what leaks taken off."""
    coefficient, bore, density = (
        run.constant("orifice_coefficient", "flow coefficient of the orifice", ""),
        run.constant("orifice", "bore of the orifice", "m"),
        run.density(),
    )

    def flow(n: int, p: Quantity) -> Quantity:
        made = derive(
            f"Point {n}: flow through the orifice", "Q = α π/4 d² √(2 Δp_o / ρ)", lambda a, d, p, rho: a * tunnel.round_area(d) * math.sqrt(2 * max(p, 0.0) / rho),
            {"a": coefficient, "d": bore, "p": p, "rho": density}, "m3/s", "ISO 5167-1:2022, eq. 1, incompressible; coefficient of this bench",
            symbols={"a": "α", "p": "Δp_o", "rho": "ρ"},
        )  # fmt: skip
        if leak_at is None or run.rig.get("leak_coefficient", (0.0, 0.0))[0] <= 0:
            return made
        leak = {"c": run.constant("leak_coefficient", "leak at 1 Pa", "m3/s"), "k": run.constant("leak_exponent", "exponent of the leak", "")}
        return derive(
            f"Point {n}: leak taken off", "Q − C Δp^n", lambda q, p, c, k: q - leak_flow(max(p, 0.0), c, k), {"q": made, "p": leak_at[f"p{n}"], **leak}, "m3/s",
            "blank-plate test; ISO 9972:2015, eq. 5", symbols={"q": "Q", "p": "Δp", "c": "C", "k": "n"},
        )  # fmt: skip

    return _each(pressures, "q", flow)


def _at_speed(run: RunInput, points: Points, speeds: Points, law: Callable[[float, float, float], float], formula: str) -> Points:
    """Points moved to the common speed; as they are where none is agreed."""
    if run.common_speed is None:
        return points
    n_c = exact(run.common_speed, "1/min")
    return {
        key: derive(f"Point {key[1:]}: to {run.common_speed:,.0f} 1/min", formula, law, {"x": q, "n": speeds[f"n{key[1:]}"], "n_c": n_c}, q.unit,
                    "fan laws, ISO 5801:2017, 15.3", symbols={"n_c": "n₀"})
        for key, q in points.items()
    }  # fmt: skip


def _fan_points(run: RunInput) -> tuple[Points, Points]:
    """Flow and static pressure of each point, in standard air and at the common speed."""
    needed = ["static_pressure", "orifice_pressure"] + (["speed"] if run.common_speed is not None else [])
    numbers = point_numbers(run, *needed)
    pressure = at_points(run, "static_pressure", numbers, "p")
    flow = _orifice_flow(run, at_points(run, "orifice_pressure", numbers, "o"), None)
    density, standard = run.density(), exact(STANDARD_DENSITY, "kg/m3")
    normal = _each(pressure, "p", lambda n, p: derive(
        f"Point {n}: to standard air", "Δp₀ = Δp 1.2 / ρ", lambda p, rho, rho_0: p * rho_0 / rho, {"p": p, "rho": density, "rho_0": standard}, "Pa",
        "ISO 5801:2017, 15.3", symbols={"p": "Δp", "rho": "ρ", "rho_0": "ρ₀"}))  # fmt: skip
    if run.common_speed is None:
        return flow, normal
    speeds = at_points(run, "speed", numbers, "n")
    return (
        _at_speed(run, flow, speeds, lambda x, n, n_c: laws.flow_at_speed(x, n, n_c), "Q ~ n"),
        _at_speed(run, normal, speeds, lambda x, n, n_c: laws.pressure_at_speed(x, n, n_c, 1.0, 1.0), "Δp ~ n²"),
    )


def fan_flow(run: RunInput) -> Quantity:
    """Volume flow [m3/s] where the fan curve meets the rig's system Δp = k Q^m."""
    flow, pressure = _fan_points(run)
    resistance, exponent = (
        run.constant("system_resistance", "resistance of the system at 1 m³/s", "Pa"),
        run.constant("system_exponent", "exponent of the system", ""),
    )
    return _figure(
        "Operating point", "Δp(Q) = k Q^m", lambda **v: curves.operating_point(curves.numbered(v, "q"), curves.numbered(v, "p"), v["k"], v["m"])[0],
        {**flow, **pressure, "k": resistance, "m": exponent}, "m3/s", "ISO 5801:2017; curve through the points after Fritsch and Carlson, 1980",
        f"{len(flow)} points; read where the system line crosses the curve",
    )  # fmt: skip


def fan_curve(run: RunInput) -> Curve:
    """Static pressure over flow, the system line and the operating point."""
    flow, pressure = _fan_points(run)
    q, p = list(flow.values()), list(pressure.values())
    k, m = run.rig["system_resistance"][0], run.rig["system_exponent"][0]
    highest = max(x.value for x in q)
    system = [(highest * i / 40, k * (highest * i / 40) ** m) for i in range(41)]
    top = 1.15 * max(x.value for x in p)
    return Curve(
        "flow", "volume_flow", "static pressure", "pressure", _pairs(q, p), curves.smooth([x.value for x in q], [x.value for x in p]),
        [point for point in system if point[1] <= top], curves.operating_point([x.value for x in q], [x.value for x in p], k, m),
    )  # fmt: skip


def _pairs(x: list[Quantity], y: list[Quantity]) -> list[tuple[float, float, float, float]]:
    return [(a.value, a.expanded, b.value, b.expanded) for a, b in zip(x, y, strict=True)]


def _loss_points(run: RunInput) -> tuple[Points, Points]:
    numbers = point_numbers(run, "orifice_pressure", "test_depression")
    depression = at_points(run, "test_depression", numbers, "p")
    flow = _orifice_flow(run, at_points(run, "orifice_pressure", numbers, "o"), depression)
    density, standard = run.density(), exact(STANDARD_DENSITY, "kg/m3")
    return flow, _each(depression, "p", lambda n, p: derive(
        f"Point {n}: to standard air", "Δp₀ = Δp 1.2 / ρ at equal flow", lambda p, rho, rho_0: p * rho_0 / rho, {"p": p, "rho": density, "rho_0": standard}, "Pa",
        "Δp ~ ρ Q²", symbols={"p": "Δp", "rho": "ρ", "rho_0": "ρ₀"}))  # fmt: skip


def loss_at_flow(run: RunInput) -> Quantity:
    """Pressure loss [Pa] at the agreed flow, from Δp = a Q^n through the points; its change against the reference is the restriction change at equal flow."""
    flow, loss = _loss_points(run)
    agreed = run.constant("agreed_flow", "agreed flow", "m3/s").value
    q, p = [x.value for x in flow.values()], [x.value for x in loss.values()]
    _inside(q, agreed, "The agreed flow", "m³/s")
    _, exponent = _law(q, p)
    figure = _figure(
        "Loss at the agreed flow", "Δp = a Q^n", lambda **v: _power_at(curves.numbered(v, "q"), curves.numbered(v, "p"), v["Q"]),
        {**flow, **loss, "Q": exact(agreed, "m3/s")}, "Pa", "least squares in logarithms", f"n = {exponent:.3f} over {len(q)} points",
    )  # fmt: skip
    return _with_misfit(run, figure, q, p, agreed, "loss_law")


def loss_curve(run: RunInput) -> Curve:
    """Loss over flow with its law."""
    flow, loss = _loss_points(run)
    q, p = list(flow.values()), list(loss.values())
    agreed = run.rig["agreed_flow"][0]
    return _law_curve("flow", "volume_flow", "pressure loss", "pressure", q, p, agreed)


def _law_curve(x_label: str, x_kind: str, y_label: str, y_kind: str, x: list[Quantity], y: list[Quantity], wanted: float) -> Curve:
    c, k = _law([q.value for q in x], [q.value for q in y])
    low, high = min(q.value for q in x), max(q.value for q in x)
    line = [(low + (high - low) * i / 40, c * (low + (high - low) * i / 40) ** k) for i in range(41)]
    return Curve(x_label, x_kind, y_label, y_kind, _pairs(x, y), line, at=(wanted, c * wanted**k))


def _law(x: list[float], y: list[float]) -> tuple[float, float]:
    try:
        return curves.power_law(x, y)
    except ValueError as problem:
        raise NoResult(f"No law goes through the points: {problem}. Check signs and tubes.") from problem


def _power_at(x: list[float], y: list[float], wanted: float) -> float:
    c, k = curves.power_law(x, y)
    return c * wanted**k


def _inside(x: list[float], wanted: float, what: str, unit: str) -> float:
    try:
        return curves.inside(x, wanted, what, unit)
    except OutsideRange as problem:
        raise NoResult(str(problem)) from problem


def _power_points(run: RunInput, numbers: list[int]) -> Points:
    """Electrical power at each point, from a wattmeter or from volts and amps."""
    if run.has("power"):
        return at_points(run, "power", numbers, "e")
    volts, amps = at_points(run, "voltage", numbers, "U"), at_points(run, "current", numbers, "I")
    return {
        f"e{n}": derive(f"Point {n}: direct current power", "P = U I", lambda U, I: U * I, {"U": volts[f"U{n}"], "I": amps[f"I{n}"]}, "W",  # noqa: E741
                        "definition of electrical power, direct current")
        for n in numbers
    }  # fmt: skip


def _tunnel_flow(run: RunInput, numbers: list[int]) -> Points:
    factor, bore = run.constant("profile_factor", "profile factor of the tube", ""), run.constant("bore", "bore of the tube", "m")
    return _each(at_points(run, "air_speed", numbers, "v"), "q", lambda n, v: derive(
        f"Point {n}: volume flow", "Q = k π/4 d² v", lambda v, k, d: k * tunnel.round_area(d) * v, {"v": v, "k": factor, "d": bore}, "m3/s",
        "ISO 3966:2020: one centre point, profile factor from the rig's own traverse"))  # fmt: skip


def _equal(run: RunInput) -> float:
    if run.equal is None:
        raise NoResult("The brief does not say what is held equal. Enter the watts or decibels there.")
    return run.equal


def _by_power(run: RunInput) -> tuple[Points, Points]:
    channels = ["air_speed", "power"] if run.has("power") else ["air_speed", "voltage", "current"]
    numbers = point_numbers(run, *channels)
    return _power_points(run, numbers), _tunnel_flow(run, numbers)


def flow_at_power(run: RunInput) -> Quantity:
    """Volume flow [m3/s] at the electrical power that the round holds equal, between the points of a throttle sweep."""
    power, flow = _by_power(run)
    wanted = _inside([p.value for p in power.values()], _equal(run), "Electrical power", "W")
    return _figure(
        "Flow at equal power", "lg Q over lg P between neighbours", lambda **v: curves.at_equal(curves.numbered(v, "e"), curves.numbered(v, "q"), v["P"]),
        {**power, **flow, "P": exact(wanted, "W")}, "m3/s", "interpolation inside the measured range only", f"{len(power)} points",
    )  # fmt: skip


def power_curve(run: RunInput) -> Curve:
    """Flow over electrical power."""
    power, flow = _by_power(run)
    x, y = list(power.values()), list(flow.values())
    at = _inside([p.value for p in x], _equal(run), "Electrical power", "W")
    return Curve(
        "electrical power", "power", "flow", "volume_flow", _pairs(x, y), curves.smooth([a.value for a in x], [b.value for b in y]),
        at=(at, curves.at_equal([a.value for a in x], [b.value for b in y], at)),
    )  # fmt: skip


def _by_noise(run: RunInput) -> tuple[Points, Points]:
    """Level without the background and flow, at points that stand clear of the background."""
    if not run.has("background_level"):
        raise NoResult("The background level was not read. Switch the part off, read the room, and add it to this run.")
    numbers = point_numbers(run, "air_speed", "sound_level")
    background = run.mean("background_level")
    total = at_points(run, "sound_level", numbers, "L")
    clear = [n for n in numbers if total[f"L{n}"].value - background.value >= LEAST_DIFFERENCE]
    if len(clear) < 2:
        raise NoResult(
            f"Only {len(clear)} points stand 3 dB above the background of {background.value:.1f} dB(A). Read in a quieter room, or sweep higher."
        )
    level = {f"L{n}": derive(
        f"Point {n}: without the background", "L = 10 lg (10^(L₁/10) − 10^(L₂/10))", lambda a, b: without_background(a, min(b, a - 1.0)),
        {"a": total[f"L{n}"], "b": background}, "dB(A)", "ISO 3744:2010, 8.2.3", symbols={"a": "L₁", "b": "L₂"}) for n in clear}  # fmt: skip
    return level, _tunnel_flow(run, clear)


def flow_at_noise(run: RunInput) -> Quantity:
    """Volume flow [m3/s] at the level that the round holds equal, between the points of a throttle sweep."""
    level, flow = _by_noise(run)
    wanted = _inside([x.value for x in level.values()], _equal(run), "A level", "dB(A)")
    return _figure(
        "Flow at equal noise", "lg Q over L between neighbours",
        lambda **v: math.exp(curves.at_equal(curves.numbered(v, "L"), np.log(curves.numbered(v, "q")).tolist(), v["A"], logarithmic=False)),
        {**level, **flow, "A": exact(wanted, "dB(A)")}, "m3/s", "interpolation inside the measured range only", f"{len(level)} points",
    )  # fmt: skip


def noise_curve(run: RunInput) -> Curve:
    """Flow over level."""
    level, flow = _by_noise(run)
    x, y = list(level.values()), list(flow.values())
    at = _inside([a.value for a in x], _equal(run), "A level", "dB(A)")
    value = math.exp(curves.at_equal([a.value for a in x], [math.log(b.value) for b in y], at, logarithmic=False))
    return Curve("level", "level", "flow", "volume_flow", _pairs(x, y), curves.smooth([a.value for a in x], [b.value for b in y]), at=(at, value))


def _shaft_points(run: RunInput) -> tuple[Points, Points]:
    numbers = point_numbers(run, "torque", "tare_torque", "speed")
    speed, torque, tare = (at_points(run, key, numbers, letter) for key, letter in (("speed", "n"), ("torque", "M"), ("tare_torque", "T")))
    power = {f"p{n}": derive(
        f"Point {n}: absorbed shaft power", "P = 2π n (M − M₀)", lambda M, T, n: 2 * math.pi * n / 60 * (M - T),
        {"M": torque[f"M{n}"], "T": tare[f"T{n}"], "n": speed[f"n{n}"]}, "W", "power of a turning shaft; drive without the part taken off", symbols={"T": "M₀"},
    ) for n in numbers}  # fmt: skip
    return speed, power


def shaft_power_at_speed(run: RunInput) -> Quantity:
    """Shaft power [W] at the common speed, from P = c n^k through the points with and without the part."""
    speed, power = _shaft_points(run)
    if run.common_speed is None:
        raise NoResult("The test names no common speed at which shaft powers are compared. Enter it in the brief.")
    n, p = [x.value for x in speed.values()], [x.value for x in power.values()]
    wanted = _inside(n, run.common_speed, "A speed", "1/min")
    _, exponent = _law(n, p)
    figure = _figure(
        f"Shaft power at {wanted:,.0f} 1/min", "P = c n^k", lambda **v: _power_at(curves.numbered(v, "n"), curves.numbered(v, "p"), v["N"]),
        {**speed, **power, "N": exact(wanted, "1/min")}, "W", "least squares in logarithms",
        f"k = {exponent:.2f} over {len(n)} points" + ("" if abs(exponent - 3) < 0.4 else "; a free rotor has about 3, so look for rubbing or a belt that slips"),
    )  # fmt: skip
    return _with_misfit(run, figure, n, p, wanted, "shaft_law")


def shaft_curve(run: RunInput) -> Curve:
    """Shaft power over speed with its law."""
    speed, power = _shaft_points(run)
    if run.common_speed is None:
        raise NoResult("The test names no common speed.")
    return _law_curve("speed", "rotational_speed", "shaft power", "power", list(speed.values()), list(power.values()), run.common_speed)
