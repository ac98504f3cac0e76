"""The tunnel: its constants, its drawing, and what is measured on it."""

from __future__ import annotations

import math
from collections.abc import Mapping
from dataclasses import replace

import numpy as np

from hauch.core.measure import curves, laws
from hauch.core.measure.meter import read
from hauch.core.measure.procedure import Procedure
from hauch.core.measure.rigs.base import Constant, RigKind, Sketch, length, within
from hauch.core.measure.rigs.common import LEAK, SPIN, converted, leak_put_back
from hauch.core.measure.rigs.power import electrical_power
from hauch.core.measure.rigs.sound_spot import sound_level
from hauch.core.measure.run import NoResult, RunInput
from hauch.core.measure.sweeps import (
    Curve,
    Points,
    each,
    enough,
    figure_from,
    inside,
    of_point,
    pairs,
)
from hauch.core.measure.tunnel import pitot_speed, round_area, traverse_mean
from hauch.core.quantity import Quantity, derive, exact, expanded
from hauch.core.sound.level import BackgroundTooLoud


def _draw(r: Sketch) -> None:
    bore, length = r["bore"], r["length"]
    half = bore / 2
    r.d.line((0, half), (length, half))
    r.d.line((0, -half), (length, -half))
    r.d.line((-0.2 * bore, 0), (length * 1.04, 0), layer="axis")
    r.fan(0, 0, bore * 1.1)
    at, deep, cell = r["straightener_at"], r["straightener_length"], max(r["cell"], bore / 24)
    r.d.box(at, -half, deep, bore, "thin")
    rows = int(bore / cell)
    for row in range(1, rows):
        y = -half + row * bore / rows
        r.d.line((at, y), (at + deep, y), layer="thin")
    r.flow(length * 1.01, 0, bore * 0.5)
    r.d.line((r["sensor_at"], 0), (r["sensor_at"], half * 1.7), layer="thin")
    r.sensor("air_speed", r["sensor_at"], 0)
    r.sensor("static_pressure", at * 0.5, half)
    r.sensor("speed", -bore * 0.1, -half * 0.6)
    r.dimension("bore", (length, -half), (length, half), "right", 2, "⌀ ")
    r.dimension("length", (0, -half), (length, -half), "below", 3)
    r.dimension("sensor_at", (0, -half), (r["sensor_at"], -half), "below", 2)
    r.dimension("straightener_at", (0, -half), (at, -half), "below", 1)
    r.dimension("straightener_length", (at, half), (at + deep, half), "above", 1)


def _impossible(c: Mapping[str, float]) -> dict[str, str]:
    problems = {
        **within(
            c,
            "sensor_at",
            "length",
            "The sensor sits beyond the end of the tube. Check its place and the length of the"
            " tube.",
        ),
        **within(
            c,
            "straightener_at",
            "sensor_at",
            "The straightener sits behind the sensor. The air passes the straightener first.",
        ),
        **within(c, "cell", "bore", "A cell of the straightener is as wide as the tube."),
    }
    known = {"straightener_at", "straightener_length", "sensor_at"} <= set(c)
    if known and c["straightener_at"] + c["straightener_length"] > c["sensor_at"]:
        problems.setdefault(
            "straightener_length",
            "The straightener reaches over the sensor. Shorten it or move the sensor.",
        )
    return problems


RIG = RigKind(
    key="tunnel",
    label="Tunnel",
    what=(
        "Straight tube with a flow straightener; air speed on the axis or over a traverse gives"
        " the volume flow."
    ),
    constants=(
        length("bore", "Bore of the tube", 0.125, 0.01, 3.0, needed=True, doubt=0.0005),
        length("length", "Length of the tube", 1.5),
        length("straightener_at", "Straightener, from the part", 0.35),
        length("straightener_length", "Length of the straightener", 0.08),
        length("cell", "Cell of the straightener", 0.008, 0.0005, 0.2),
        length("sensor_at", "Sensor, from the part", 1.1),
        Constant(
            "profile_factor",
            "Profile factor",
            "number",
            0.4,
            1.2,
            0.85,
            needed=True,
            found="traverse",
            doubt=0.08,  # power laws of n = 6 to 10 give 0.79 to 0.87; a short tube is flatter
        ),
        *LEAK,
        Constant("agreed_flow", "Agreed flow", "volume_flow", 1e-5, 50.0, 0.04),
    ),
    channels=(
        "air_speed",
        "pitot_pressure",
        "static_pressure",
        "speed",
        "voltage",
        "current",
        "power",
        "sound_level",
        "background_level",
        "throttle",
    ),
    caution=SPIN,
    draw=_draw,
    impossible=_impossible,
)


def _air_speed(run: RunInput) -> Quantity:
    if run.has("pitot_pressure") and not run.has("air_speed"):
        return derive(
            "Air speed from the pitot tube",
            "v = √(2 Δp / ρ)",
            lambda p, rho: pitot_speed(max(p, 0.0), rho),
            {"p": run.mean("pitot_pressure"), "rho": run.density()},
            "m/s",
            "ISO 3966:2020, 12.1",
            symbols={"p": "Δp", "rho": "ρ"},
        )
    speed = run.mean("air_speed")
    meter = run.meters.get("air_speed")
    if meter is not None and meter.principle == "hot_wire":
        return derive(
            "Hot wire to the room's air",
            "v = v_ind ρ₀ / ρ",
            lambda v, rho, rho_0: v * rho_0 / rho,
            {"v": speed, "rho": run.density(), "rho_0": exact(meter.calibration_density, "kg/m3")},
            "m/s",
            "a hot wire indicates mass flux ρ v: L. V. King, Phil. Trans. R. Soc. A 214 (1914) 373",
            symbols={"v": "v_ind", "rho": "ρ", "rho_0": "ρ₀"},
        )
    return speed


def _traverse(run: RunInput) -> Quantity | None:
    positions = run.positions.get("air_speed")
    if positions is None or len(set(positions)) < 2:
        return None
    values, points = np.asarray(run.readings["air_speed"], float), np.asarray(positions)
    means = {
        f"v{p}": read(
            "air_speed", values[points == p], run.meter("air_speed"), f"{run.run}:point{p}"
        )
        for p in sorted(set(positions))
    }
    return derive(
        "Traverse mean",
        "v̄ = 1/n Σ vᵢ",
        lambda **v: float(traverse_mean(list(v.values()))),
        means,
        "m/s",
        "ISO 3966:2020, 9.2: points of equal weight",
    )


def airflow(run: RunInput) -> Quantity:
    """Volume flow [m3/s] of a tunnel run: speed, profile, area, common speed where agreed."""
    bore = run.constant("bore", "bore of the tube", "m")
    traversed = _traverse(run)
    if traversed is not None:
        flow = derive(
            "Volume flow",
            "Q = π/4 d² v̄",
            lambda v, d: round_area(d) * v,
            {"v": traversed, "d": bore},
            "m3/s",
            "ISO 3966:2020, 4.2",
            symbols={"v": "v̄"},
        )
    else:
        factor = run.constant("profile_factor", "profile factor of the tube", "")
        flow = derive(
            "Volume flow",
            "Q = k π/4 d² v",
            lambda v, k, d: k * round_area(d) * v,
            {"v": _air_speed(run), "k": factor, "d": bore},
            "m3/s",
            "ISO 3966:2020: one centre point, profile factor from the rig's own traverse",
        )
    flow = leak_put_back(run, flow)
    return converted(run, flow, laws.FLOW, "Q")


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
    points = enough(
        replace(run, common_speed=None), _flow_channel(run), *of_power, optional=["static_pressure"]
    )
    return each(points, "e", electrical_power), each(points, "q", airflow)


def flow_at_power(run: RunInput) -> Quantity:
    """Volume flow [m3/s] at the electrical power that the round holds equal, between the points of
    a throttle sweep.
    """
    power, flow = _by_power(run)
    wanted = inside([p.value for p in power.values()], _equal(run), "Electrical power", "W")
    return figure_from(
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
    at = inside([p.value for p in x], _equal(run), "Electrical power", "W")
    return Curve(
        "electrical power",
        "power",
        "flow",
        "volume_flow",
        pairs(x, y),
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
    points = enough(
        replace(run, common_speed=None),
        _flow_channel(run),
        "sound_level",
        optional=["static_pressure"],
    )
    levels: dict[int, Quantity] = {}
    for number, point in points.items():
        try:
            levels[number] = of_point(number, point, sound_level(point))
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
    return {f"L{number}": level for number, level in levels.items()}, each(clear, "q", airflow)


def flow_at_noise(run: RunInput) -> Quantity:
    """Volume flow [m3/s] at the level that the round holds equal, between the points of a throttle
    sweep.
    """
    level, flow = _by_noise(run)
    wanted = inside([x.value for x in level.values()], _equal(run), "A level", "dB(A)")
    return figure_from(
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
    at = inside([a.value for a in x], _equal(run), "A level", "dB(A)")
    value = math.exp(
        curves.at_equal([a.value for a in x], [math.log(b.value) for b in y], at, logarithmic=False)
    )
    return Curve(
        "level",
        "level",
        "flow",
        "volume_flow",
        pairs(x, y),
        curves.smooth([a.value for a in x], [b.value for b in y]),
        at=(at, value),
    )


def _quiet_at(run: RunInput) -> tuple[Points, Points, float]:
    """Level and flow of each point, and the agreed flow [m3/s]; the flow lies inside what was swept."""
    agreed = run.constant("agreed_flow", "agreed flow", "m3/s").value
    level, flow = _by_noise(run)
    return level, flow, inside([q.value for q in flow.values()], agreed, "The agreed flow", "m³/s")


def noise_at_flow(run: RunInput) -> Quantity:
    """A-weighted level [dB(A)] at the agreed flow, between the points of a throttle sweep; the slope
    of the level over the flow stands in its working.
    """
    level, flow, agreed = _quiet_at(run)
    q, values = [a.value for a in flow.values()], [b.value for b in level.values()]
    _, slope = curves.level_law(q, values)
    half = expanded(curves.level_slope_doubt(q, values), max(len(q) - 2, 1))
    return figure_from(
        "Level at the agreed flow",
        "L over lg Q between neighbours",
        lambda **v: _level_at(curves.numbered(v, "q"), curves.numbered(v, "L"), v["Q"]),
        {**level, **flow, "Q": exact(agreed, "m3/s")},
        "dB(A)",
        "interpolation inside the measured range only",
        f"{len(level)} points; {slope:.0f} ± {half:.0f} dB for ten times the flow,"
        f" {slope * math.log10(2):.1f} dB for twice of it",
    )


def _level_at(flow: list[float], level: list[float], wanted: float) -> float:
    """Level between neighbours, straight over the logarithm of the flow."""
    return curves.at_equal(np.log(flow).tolist(), level, math.log(wanted), logarithmic=False)


def level_curve(run: RunInput) -> Curve:
    """Level over flow."""
    level, flow, agreed = _quiet_at(run)
    x, y = list(flow.values()), list(level.values())
    q, values = [a.value for a in x], [b.value for b in y]
    return Curve(
        "flow",
        "volume_flow",
        "level",
        "level",
        pairs(x, y),
        curves.smooth(q, values),
        at=(agreed, _level_at(q, values, agreed)),
    )


PROCEDURES = (
    Procedure(
        rig=RIG.key,
        key="airflow",
        label="Airflow in the tunnel",
        short="Air",
        metric="airflow",
        kind="volume_flow",
        direction=+1,
        log=True,
        needs=(("air_speed",), ("pitot_pressure",)),
        optional=("speed", "static_pressure"),
        reduce=airflow,
    ),
    Procedure(
        rig=RIG.key,
        key="flow_at_power",
        label="Airflow at equal power",
        short="Air at W",
        metric="airflow at equal power",
        kind="volume_flow",
        direction=+1,
        log=True,
        needs=(
            ("air_speed", "power"),
            ("air_speed", "voltage", "current"),
            ("pitot_pressure", "power"),
            ("pitot_pressure", "voltage", "current"),
        ),
        optional=("speed", "throttle", "static_pressure"),
        by_speed=False,
        equal="power",
        reduce=flow_at_power,
        curve=power_curve,
    ),
    Procedure(
        rig=RIG.key,
        key="flow_at_noise",
        label="Airflow at equal noise",
        short="Air at dB",
        metric="airflow at equal noise",
        kind="volume_flow",
        direction=+1,
        log=True,
        needs=(
            ("air_speed", "sound_level", "background_level"),
            ("pitot_pressure", "sound_level", "background_level"),
        ),
        optional=("speed", "throttle", "static_pressure"),
        by_speed=False,
        equal="sound_level",
        reduce=flow_at_noise,
        curve=noise_curve,
    ),
    Procedure(
        rig=RIG.key,
        key="noise_at_flow",
        label="Noise at equal airflow",
        short="dB at air",
        metric="noise at equal airflow",
        kind="level",
        direction=-1,
        log=False,
        change_unit="dB",
        needs=(
            ("air_speed", "sound_level", "background_level"),
            ("pitot_pressure", "sound_level", "background_level"),
        ),
        optional=("speed", "throttle", "static_pressure"),
        by_speed=False,
        reduce=noise_at_flow,
        curve=level_curve,
    ),
)
