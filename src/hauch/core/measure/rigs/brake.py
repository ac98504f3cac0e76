"""A machine on a brake that breathes through the part: power and torque that it delivers over speed.

References
----------
Correction to standard conditions: ISO 1585:2020, 6.3, engines with positive ignition that draw from the
    atmosphere, α = (99 kPa / p)^1.2 (T / 298 K)^0.6 with the pressure p of the dry air and its
    temperature T at the intake, stated for 0.93 ≤ α ≤ 1.07. A fan or suction machine goes with the
    density of its air: both exponents 1.
Saturation pressure of water: CIPM-2007, eq. A1.1 (see `core.air.density`).
"""

from __future__ import annotations

import math
from dataclasses import replace

import numpy as np

from hauch.core.air.density import room_readings, saturation_pressure
from hauch.core.geometry.drawing import Arrow, Note
from hauch.core.measure import curves
from hauch.core.measure.procedure import Procedure
from hauch.core.measure.rigs.base import Constant, RigKind, Sketch, length, within
from hauch.core.measure.run import NoResult, RunInput
from hauch.core.measure.sweeps import Curve, Points, each, enough, figure_from, inside, pairs
from hauch.core.quantity import Quantity, derive, exact

DRY_STANDARD, KELVIN_STANDARD = 99_000.0, 298.0
"""Pressure of the dry air [Pa] and temperature [K] to which power is corrected (ISO 1585:2020, 6.2)."""

STATED = (0.93, 1.07)
"""Range of the correction in which it holds."""

INTAKE = ("intake_temperature", "intake_pressure")


def _draw(r: Sketch) -> None:
    arm = max(r["arm"], 0.05)
    r.d.box(-0.35, -0.12, 0.3, 0.24, "mount")
    r.d.notes.append(Note((-0.2, 0.155), "machine"))
    r.d.box(-0.62, -0.06, 0.2, 0.12, "part")
    r.d.notes.append(Note((-0.52, 0.1), "part"))
    r.d.line((-0.42, 0.03), (-0.35, 0.03))
    r.d.line((-0.42, -0.03), (-0.35, -0.03))
    r.d.arrows.append(Arrow((-0.85, 0.0), (-0.65, 0.0)))
    r.d.line((-0.05, 0.0), (0.12, 0.0), layer="part")
    r.d.circle((0.22, 0.0), 0.1, "mount")
    r.d.notes.append(Note((0.22, 0.135), "brake"))
    r.d.line((0.22, 0.0), (0.22 + arm, 0.0), layer="mount")
    r.sensor("torque", 0.22 + arm, 0.0)
    r.sensor("speed", 0.04, 0.0)
    r.sensor("intake_temperature", -0.7, 0.05)
    r.sensor("intake_pressure", -0.7, -0.05)
    r.dimension("arm", (0.22, 0.0), (0.22 + arm, 0.0), "below", 2)


RIG = RigKind(
    key="brake",
    label="Machine on a brake",
    what=(
        "A machine breathes through the part and is braked step by step: torque and speed, with the"
        " temperature and pressure of the air before the part. Behind it the part's own loss would be"
        " corrected away."
    ),
    constants=(
        Constant("gear", "Speed of the machine over that of the brake", "number", 0.05, 20.0, 1.0),
        Constant("band_low", "Agreed band, from", "rotational_speed", 10.0, 120_000.0, 3000.0),
        Constant("band_high", "Agreed band, to", "rotational_speed", 20.0, 120_000.0, 6000.0),
        Constant("pressure_exponent", "Power goes with the air's pressure to the power of", "number",
                 0.0, 2.0, 1.2),
        Constant("temperature_exponent", "and with its temperature to that of minus", "number", 0.0,
                 2.0, 0.6),
        length("arm", "Arm of the brake's load cell", 0.2, 0.005, 3.0),
    ),
    channels=("torque", "speed", *INTAKE, "throttle"),
    caution=(
        "Shaft, brake and belts behind a guard; nobody in the plane of what turns. A brake gets hot."
        " Exhaust is led outside, fuel is kept away, an extinguisher stands by. What is bolted to the"
        " intake cannot come off and be drawn in. Ear protection above 85 dB(A). Engines are run by"
        " people competent in them."
    ),
    draw=_draw,
    impossible=lambda c: within(
        c, "band_low", "band_high", "The band ends before it begins. Exchange its ends."
    ),
)  # fmt: skip


def correction(pressure: float, temperature: float, vapour: float, a: float, b: float) -> float:
    """Factor α that brings power to standard conditions; ISO 1585:2020, 6.3 for a = 1.2, b = 0.6.

    Parameters
    ----------
    pressure, vapour : of the air at the intake, and of the water in it [Pa]
    temperature : of the air at the intake [degC]
    """
    dry = pressure - vapour
    return float((DRY_STANDARD / dry) ** a * ((temperature + 273.15) / KELVIN_STANDARD) ** b)


def _intake(run: RunInput) -> dict[str, Quantity]:
    """Temperature [degC] and pressure [Pa] of the air that the part draws in: read before it, since what
    the part itself loses is what is judged; else the room's.
    """
    room = room_readings(run.temperature, run.pressure, run.humidity)
    return {
        "t": run.mean("intake_temperature")
        if run.has("intake_temperature")
        else room["temperature"],
        "p": run.mean("intake_pressure") if run.has("intake_pressure") else room["pressure"],
    }


def _corrected(run: RunInput, raw: Quantity, symbol: str) -> Quantity:
    """A torque at standard conditions; as it was read where the rig does not say how the machine goes
    with its air.
    """
    if run.as_read or not {"pressure_exponent", "temperature_exponent"} <= set(run.rig):
        return raw
    vapour = run.humidity / 100 * float(saturation_pressure(run.temperature))
    a = run.constant("pressure_exponent", "exponent of the pressure", "")
    b = run.constant("temperature_exponent", "exponent of the temperature", "")
    intake = _intake(run)
    factor = correction(intake["p"].value, intake["t"].value, vapour, a.value, b.value)
    outside = not STATED[0] <= factor <= STATED[1]
    return derive(
        "At standard conditions",
        f"{symbol}₀ = α {symbol}, α = (99 kPa / p)^a (T / 298 K)^b",
        lambda x, p, t, a, b: x * correction(p, t, vapour, a, b),
        {"x": raw, **intake, "a": a, "b": b},
        raw.unit,
        "ISO 1585:2020, 6.3",
        note=f"α = {factor:.4f}"
        + (", outside 0.93 to 1.07: a comparison within one day is surer" if outside else ""),
        symbols={"x": symbol},
    )


def _gear(run: RunInput) -> Quantity:
    """Speed of the machine over that of the brake; 1 where they share a shaft."""
    return run.constant("gear", "gear", "") if "gear" in run.rig else exact(1.0, "")


def _machine_speed(run: RunInput) -> Quantity:
    """Speed of the machine [1/min] from that of the brake."""
    return derive(
        "Speed of the machine",
        "n = i n_b",
        lambda n, i: n * i,
        {"n": run.mean("speed"), "i": _gear(run)},
        "1/min",
        "definition",
        symbols={"n": "n_b"},
    )


def torque_out(run: RunInput) -> Quantity:
    """Torque [N m] at the machine's shaft, at standard conditions."""
    torque = derive(
        "Torque of the machine",
        "M = M_b / i",
        lambda m, i: m / i,
        {"m": run.mean("torque"), "i": _gear(run)},
        "N m",
        "no losses between machine and brake",
        symbols={"m": "M_b"},
    )
    if torque.value <= 0:
        raise NoResult(
            f"The torque comes out as {torque.value:.3g} N m: the machine was driven, not braked. Check"
            " the sign, and tare the brake."
        )
    return _corrected(run, torque, "M")


def power_out(run: RunInput) -> Quantity:
    """Power [W] delivered at the shaft, at standard conditions."""
    return derive(
        "Power delivered",
        "P = 2π n M",
        lambda m, n: 2 * math.pi * n / 60 * m,
        {"m": torque_out(run), "n": _machine_speed(run)},
        "W",
        "power of a turning shaft",
        symbols={"m": "M"},
    )


def _points(run: RunInput, figure: str) -> tuple[Points, Points]:
    points = enough(replace(run, common_speed=None), "torque", "speed", optional=list(INTAKE))
    return each(points, "n", _machine_speed), each(
        points, "y", power_out if figure == "P" else torque_out
    )


def band_mean(x: list[float], y: list[float], low: float, high: float) -> float:
    """Mean of a curve over a band, straight between its points."""
    order = np.argsort(x)
    at, value = np.asarray(x, float)[order], np.asarray(y, float)[order]
    between = at[(at > low) & (at < high)]
    grid = np.concatenate(([low], between, [high]))
    return float(np.trapezoid(np.interp(grid, at, value), grid) / (high - low))


def peak(x: list[float], y: list[float]) -> float:
    """Highest value of a curve: of the parabola through its highest point and both neighbours.

    Raises
    ------
    OutsideRange : the highest point is the first or the last
    """
    order = np.argsort(x)
    at, value = np.asarray(x, float)[order], np.asarray(y, float)[order]
    top = int(np.argmax(value))
    if top in {0, at.size - 1}:
        raise curves.OutsideRange(
            f"The highest point lies at the end of what was measured ({at[top]:,.0f} 1/min). Measure"
            " beyond it."
        )
    near = slice(top - 1, top + 2)
    bend, slope, level = np.polyfit(at[near] - at[top], value[near], 2)
    return float(level - slope**2 / (4 * bend)) if bend < 0 else float(value[top])


def _over_band(run: RunInput, figure: str, unit: str, what: str) -> Quantity:
    speed, y = _points(run, figure)
    n = [q.value for q in speed.values()]
    low, high = (
        inside(
            n, run.constant(key, "agreed band", "1/min").value, "An end of the agreed band", "1/min"
        )
        for key in ("band_low", "band_high")
    )
    return figure_from(
        f"{what}, {low:,.0f} to {high:,.0f} 1/min",
        f"{figure}̄ = ∫ {figure} dn / (n₂ − n₁)",
        lambda **v: band_mean(curves.numbered(v, "n"), curves.numbered(v, "y"), v["N1"], v["N2"]),
        {**speed, **y, "N1": exact(low, "1/min"), "N2": exact(high, "1/min")},
        unit,
        "definition of a mean; straight between the points",
        f"{len(n)} points",
    )


def mean_power(run: RunInput) -> Quantity:
    """Mean power [W] over the agreed band of speed, at standard conditions."""
    return _over_band(run, "P", "W", "Mean power")


def mean_torque(run: RunInput) -> Quantity:
    """Mean torque [N m] over the agreed band of speed, at standard conditions."""
    return _over_band(run, "M", "N m", "Mean torque")


def peak_power(run: RunInput) -> Quantity:
    """Highest power [W] of the curve, at standard conditions."""
    speed, y = _points(run, "P")
    return figure_from(
        "Highest power",
        "top of the parabola through the highest point and its neighbours",
        lambda **v: peak(curves.numbered(v, "n"), curves.numbered(v, "y")),
        {**speed, **y},
        "W",
        "three-point interpolation",
        f"{len(y)} points",
    )


def _curve(run: RunInput, figure: str, label: str, kind: str) -> Curve:
    speed, y = _points(run, figure)
    order = np.argsort([q.value for q in speed.values()])
    x, values = ([list(side.values())[i] for i in order] for side in (speed, y))
    line = [(a.value, b.value) for a, b in zip(x, values, strict=True)]
    return Curve("speed", "rotational_speed", label, kind, pairs(x, values), line)


def power_curve(run: RunInput) -> Curve:
    """Power over speed."""
    return _curve(run, "P", "power delivered", "power")


def torque_curve(run: RunInput) -> Curve:
    """Torque over speed."""
    return _curve(run, "M", "torque", "torque")


def _procedure(
    key: str, label: str, short: str, metric: str, kind: str, reduce, curve
) -> Procedure:  # type: ignore[no-untyped-def]
    return Procedure(
        rig=RIG.key,
        key=key,
        label=label,
        short=short,
        metric=metric,
        kind=kind,
        direction=+1,
        log=True,
        needs=(("torque", "speed"),),
        optional=(*INTAKE, "throttle"),
        by_speed=False,
        reduce=reduce,
        curve=curve,
        stepped="brake",
    )


PROCEDURES = (
    _procedure("power_delivered", "Mean power delivered over a band of speed", "Power out",
               "mean power delivered", "power", mean_power, power_curve),
    _procedure("torque_delivered", "Mean torque over a band of speed", "Torque out",
               "mean torque", "torque", mean_torque, torque_curve),
    _procedure("peak_power", "Highest power delivered", "Peak power", "highest power", "power",
               peak_power, power_curve),
)  # fmt: skip
