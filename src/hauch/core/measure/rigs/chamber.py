"""The chamber: its constants, its drawing, and what is measured on it."""

from __future__ import annotations

from collections.abc import Mapping

import numpy as np

from hauch.core.geometry.drawing import Note
from hauch.core.measure import curves, laws
from hauch.core.measure.channels import SPEEDS
from hauch.core.measure.procedure import Procedure
from hauch.core.measure.rigs.base import Constant, RigKind, Sketch, length, within
from hauch.core.measure.rigs.common import (
    LEAK,
    SPIN,
    converted,
    leak_put_back,
    orifice_flow,
)
from hauch.core.measure.run import NoResult, RunInput
from hauch.core.measure.sweeps import Curve, Points, each, enough, figure_from, pairs
from hauch.core.quantity import Quantity


def _draw(r: Sketch) -> None:
    depth, height, mouth = r["depth"], r["height"], r["mouth"]
    half = height / 2
    r.d.box(0, -half, depth, height)
    r.d.line((0, -mouth / 2), (0, mouth / 2), layer="space")
    r.fan(0, 0, mouth * 1.1)
    r.d.shape(
        (
            (depth, -0.12 * height),
            (depth * 1.15, -0.04 * height),
            (depth * 1.15, 0.04 * height),
            (depth, 0.12 * height),
        ),
        "mount",
    )
    r.d.notes.append(Note((depth * 1.08, 0.16 * height), "throttle"))
    r.flow(depth * 0.1, 0, mouth * 0.7)
    r.sensor("static_pressure", r["tap_at"], half)
    r.sensor("speed", -mouth * 0.1, -mouth * 0.35)
    r.dimension("depth", (0, -half), (depth, -half), "below", 2)
    r.dimension("tap_at", (0, -half), (r["tap_at"], -half), "below", 1)
    r.dimension("height", (depth * 1.15, -half), (depth * 1.15, half), "right", 2)
    r.dimension("mouth", (0, -mouth / 2), (0, mouth / 2), "left", 2, "⌀ ")


def _impossible(c: Mapping[str, float]) -> dict[str, str]:
    beyond = "The pressure tap lies beyond the far wall of the chamber."
    problems = within(c, "tap_at", "depth", beyond)
    for side in ("width", "height"):
        problems |= within(c, "mouth", side, f"The mouth is as wide as the chamber's {side}.")
    return problems


RIG = RigKind(
    key="chamber",
    label="Chamber",
    what=(
        "Box with the part blowing in and a throttle out; static pressure in the box, down to no"
        " flow."
    ),
    constants=(
        length("width", "Width inside", 0.4),
        length("height", "Height inside", 0.4),
        length("depth", "Depth inside", 0.6),
        length("mouth", "Mouth for the part", 0.136, 0.005, 2.0),
        length("tap_at", "Pressure tap, from the part", 0.4),
        length("orifice", "Bore of the orifice behind the throttle", 0.08, 0.001, 1.0),
        Constant(
            "orifice_coefficient", "Flow coefficient of the orifice", "number", 0.3, 1.3, 0.61
        ),
        Constant("system_resistance", "System: loss at 1 m³/s", "pressure", 1.0, 1e8, 23_500.0),
        Constant("system_exponent", "System: exponent", "number", 1.0, 2.5, 2.0),
        *LEAK,
    ),
    channels=("static_pressure", "orifice_pressure", "speed", "throttle"),
    caution=SPIN,
    draw=_draw,
    impossible=_impossible,
)


def static_pressure(run: RunInput) -> Quantity:
    """Static pressure [Pa] in standard air of 1.2 kg/m3, at the common speed where agreed."""
    return converted(run, run.mean("static_pressure"), laws.PRESSURE, "Δp")


def chamber_flow(run: RunInput) -> Quantity:
    """Volume flow [m3/s] of a part that blows into a chamber: what the orifice passes and what
    leaks out of the chamber, at the common speed where agreed.
    """
    flow = leak_put_back(run, orifice_flow(run))
    return converted(run, flow, laws.FLOW, "Q")


def _fan_points(run: RunInput) -> tuple[Points, Points]:
    """Flow and static pressure of each point, in standard air and at the common speed."""
    needed = ["static_pressure", "orifice_pressure"] + (
        ["speed"] if run.common_speed is not None else []
    )
    points = enough(run, *needed, optional=[s for s in SPEEDS if s not in needed])
    flow, pressure = each(points, "q", chamber_flow), each(points, "p", static_pressure)
    places = places_of_curve([q.value for q in flow.values()], [p.value for p in pressure.values()])
    if len(places) < LEAST_PLACES:
        found = "all at one place" if len(places) == 1 else f"at {len(places)} places only"
        raise NoResult(
            f"The {len(flow)} points lie {found} of the fan's curve: pressure over flow squared, the"
            " system that the fan blows into, stays the same. A throttle moves a fan along its"
            " system, not along its curve. Leave the throttle and step the damper of the chamber,"
            " from shut to open."
        )
    return flow, pressure


LEAST_PLACES = 3
"""Fewer places make no curve."""

ONE_PLACE = 0.03
"""Points whose directions from the origin differ by less [rad] lie at one place of a curve: with the
flow over its highest and the root of the pressure over its highest as coordinates, in which a system
is a straight line.
"""


def places_of_curve(flow: list[float], pressure: list[float]) -> list[list[int]]:
    """Points of a fan curve by the place at which they lie, indices from 0.

    Points at one place have the same system Δp / Q^2 (ISO 5801:2017: similarity), whatever the speed
    was.

    Parameters
    ----------
    flow, pressure : m3/s and Pa, shape (n,)
    """
    across, up = np.maximum(flow, 0.0), np.sqrt(np.maximum(pressure, 0.0))
    angles = np.arctan2(up / max(float(up.max()), 1e-12), across / max(float(across.max()), 1e-12))
    order = np.argsort(angles)
    places = [[int(order[0])]]
    for after in order[1:].tolist():
        if angles[after] - angles[places[-1][0]] < ONE_PLACE:
            places[-1].append(after)
        else:
            places.append([after])
    return [sorted(one) for one in places]


def _coincide(flow: Points, pressure: Points) -> str:
    """Which points lie at one place, in words; empty where none do."""
    places = places_of_curve([q.value for q in flow.values()], [p.value for p in pressure.values()])
    shared = [" and ".join(str(i + 1) for i in sorted(one)) for one in places if len(one) > 1]
    return f", {'; '.join(shared)} at one place" if shared else ""


def fan_flow(run: RunInput) -> Quantity:
    """Volume flow [m3/s] where the fan curve meets the rig's system Δp = k Q^m."""
    flow, pressure = _fan_points(run)
    resistance, exponent = (
        run.constant("system_resistance", "resistance of the system at 1 m³/s", "Pa"),
        run.constant("system_exponent", "exponent of the system", ""),
    )
    return figure_from(
        "Operating point",
        "Δp(Q) = k Q^m",
        lambda **v: curves.operating_point(
            curves.numbered(v, "q"), curves.numbered(v, "p"), v["k"], v["m"]
        )[0],
        {**flow, **pressure, "k": resistance, "m": exponent},
        "m3/s",
        "ISO 5801:2017; curve through the points after Fritsch and Carlson, 1980",
        f"{len(flow)} points{_coincide(flow, pressure)}; read where the system line crosses the"
        " curve",
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
        pairs(q, p),
        curves.smooth([x.value for x in q], [x.value for x in p]),
        [point for point in system if point[1] <= top],
        curves.operating_point([x.value for x in q], [x.value for x in p], k, m),
    )


PROCEDURES = (
    Procedure(
        rig=RIG.key,
        key="static_pressure",
        label="Static pressure at the chamber",
        short="Pressure",
        metric="static pressure",
        kind="pressure",
        direction=+1,
        log=True,
        needs=(("static_pressure",),),
        reduce=static_pressure,
    ),
    Procedure(
        rig=RIG.key,
        key="fan_curve",
        label="Fan curve at the chamber",
        short="Curve",
        metric="flow at the operating point",
        kind="volume_flow",
        direction=+1,
        log=True,
        needs=(("static_pressure", "orifice_pressure"),),
        optional=("speed", "throttle"),
        reduce=fan_flow,
        curve=fan_curve,
        stepped="damper",
    ),
)
