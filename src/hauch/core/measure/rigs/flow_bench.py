"""The flow bench: its constants, its drawing, and what is measured on it."""

from __future__ import annotations

import math
from collections.abc import Mapping

from hauch.core.geometry.drawing import Arrow, Note
from hauch.core.measure import curves, laws
from hauch.core.measure.calibration import leak_flow
from hauch.core.measure.procedure import Procedure
from hauch.core.measure.rigs.base import Constant, RigKind, Sketch, length, within
from hauch.core.measure.rigs.common import LEAK, converted, leak_of, leaks, orifice_flow
from hauch.core.measure.run import NoResult, RunInput
from hauch.core.measure.sweeps import (
    Curve,
    Points,
    each,
    enough,
    figure_from,
    inside,
    law_curve,
    law_through,
    power_at,
    with_misfit,
)
from hauch.core.quantity import Quantity, derive, exact


def _draw(r: Sketch) -> None:
    plenum, pipe, orifice = r["plenum"], r["pipe"], r["orifice"]
    r.d.box(0, -plenum / 2, plenum, plenum)
    length = plenum * 1.5
    for y in (-pipe / 2, pipe / 2):
        r.d.line((plenum, y), (plenum + length, y))
    at = plenum + length * 0.55
    for sign in (-1, 1):
        r.d.line((at, sign * pipe / 2), (at, sign * orifice / 2), layer="mount")
    r.d.notes.append(Note((at, pipe * 0.8), "orifice"))
    r.d.circle((plenum + length + plenum * 0.25, 0), plenum * 0.22, "mount")
    r.d.notes.append(Note((plenum + length + plenum * 0.25, plenum * 0.3), "suction"))
    r.d.box(-plenum * 0.25, -pipe * 0.6, plenum * 0.25, pipe * 1.2, "mount")
    r.d.notes.append(Note((-plenum * 0.125, pipe * 0.8), "part"))
    r.d.arrows.append(Arrow((-plenum * 0.6, 0), (-plenum * 0.3, 0)))
    r.d.arrows.append(Arrow((plenum * 1.1, 0), (plenum * 1.45, 0)))
    r.sensor("test_depression", plenum * 0.5, plenum / 2)
    r.sensor("orifice_pressure", at, -pipe / 2 * 1.5)
    r.dimension("plenum", (0, -plenum / 2), (plenum, -plenum / 2), "below")
    r.dimension("pipe", (plenum + length, -pipe / 2), (plenum + length, pipe / 2), "right", 4, "⌀ ")
    r.dimension("orifice", (at, -orifice / 2), (at, orifice / 2), "left", 1, "⌀ ")


def _impossible(c: Mapping[str, float]) -> dict[str, str]:
    text = "The orifice is as wide as its pipe, so that it measures nothing."
    return within(c, "orifice", "pipe", text)


RIG = RigKind(
    key="flow_bench",
    label="Flow bench",
    what=(
        "Suction source with a measuring orifice; the flow through the test piece at a set"
        " depression."
    ),
    constants=(
        length("orifice", "Bore of the orifice", 0.05, 0.001, 1.0, needed=True, doubt=0.0002),
        Constant(
            "orifice_coefficient",
            "Flow coefficient of the orifice",
            "number",
            0.3,
            1.3,
            0.61,
            needed=True,
            doubt=0.02,
        ),
        length("pipe", "Bore of the pipe", 0.1, 0.005, 2.0),
        length("plenum", "Plenum, across", 0.4),
        Constant("set_depression", "Agreed depression", "pressure", 1.0, 20_000.0, 1500.0),
        Constant("agreed_flow", "Agreed flow", "volume_flow", 1e-5, 5.0, 0.04),
        *LEAK,
    ),
    channels=("orifice_pressure", "test_depression", "throttle"),
    caution=(
        "The suction source pulls in loose parts, hair and cloth: guard its inlet. Ear protection"
        " above 85 dB(A)."
    ),
    draw=_draw,
    impossible=_impossible,
)


def effective_area(run: RunInput) -> Quantity:
    """Effective area [m2] of the test piece on a flow bench: more is less restriction.

    Q from the orifice, less the bench's leak, over the ideal speed at the depression; valid below
    about 5 kPa, where air is nearly incompressible (error below 2 %).
    """
    orifice, depression, density = (
        run.mean("orifice_pressure"),
        run.mean("test_depression"),
        run.density(),
    )
    if orifice.value <= 0 or depression.value <= 0:
        raise NoResult(
            "The pressure across the orifice and the depression must both be above 0. Check the"
            " tubes and start the suction."
        )
    flow = bench_flow(run)
    if flow.value <= 0:
        raise NoResult(
            "All the flow is the bench's own leak. Open the test piece, or measure the leak again."
        )
    return derive(
        "Effective area",
        "A = Q / √(2 Δp / ρ)",
        lambda q, p, rho: q / math.sqrt(2 * p / rho),
        {"q": flow, "p": depression, "rho": density},
        "m2",
        "Bernoulli, no losses: the area that would pass this flow",
        symbols={"q": "Q", "p": "Δp", "rho": "ρ"},
    )


def bench_flow(run: RunInput) -> Quantity:
    """Volume flow [m3/s] through a test piece on a flow bench: what the orifice passes less what
    leaks in behind the piece.
    """
    flow = orifice_flow(run)
    if not leaks(run):
        return flow
    return derive(
        "Leak of the bench taken off",
        "Q − C Δp^n",
        lambda q, p, c, n: q - leak_flow(max(p, 0.0), c, n),
        {"q": flow, "p": run.mean("test_depression"), **leak_of(run)},
        "m3/s",
        "blank-plate test of this bench; ISO 9972:2015, eq. 5",
        symbols={"q": "Q", "p": "Δp", "c": "C"},
    )


def bench_loss(run: RunInput) -> Quantity:
    """Pressure loss [Pa] of a test piece on a flow bench, in standard air at equal flow."""
    return converted(run, run.mean("test_depression"), laws.LOSS, "Δp")


def _loss_points(run: RunInput) -> tuple[Points, Points]:
    points = enough(run, "orifice_pressure", "test_depression")
    return each(points, "q", bench_flow), each(points, "p", bench_loss)


def loss_at_flow(run: RunInput) -> Quantity:
    """Pressure loss [Pa] at the agreed flow, from Δp = a Q^n through the points; its change against
    the reference is the restriction change at equal flow.
    """
    flow, loss = _loss_points(run)
    agreed = run.constant("agreed_flow", "agreed flow", "m3/s").value
    q, p = [x.value for x in flow.values()], [x.value for x in loss.values()]
    inside(q, agreed, "The agreed flow", "m³/s")
    _, exponent = law_through(q, p)
    figure = figure_from(
        "Loss at the agreed flow",
        "Δp = a Q^n",
        lambda **v: power_at(curves.numbered(v, "q"), curves.numbered(v, "p"), v["Q"]),
        {**flow, **loss, "Q": exact(agreed, "m3/s")},
        "Pa",
        "least squares in logarithms",
        f"n = {exponent:.3f} over {len(q)} points",
    )
    return with_misfit(run, figure, q, p, agreed, "loss_law")


def loss_curve(run: RunInput) -> Curve:
    """Loss over flow with its law."""
    flow, loss = _loss_points(run)
    q, p = list(flow.values()), list(loss.values())
    agreed = run.rig["agreed_flow"][0]
    return law_curve("flow", "volume_flow", "pressure loss", "pressure", q, p, agreed)


PROCEDURES = (
    Procedure(
        rig=RIG.key,
        key="effective_area",
        label="Restriction on the flow bench",
        short="Area",
        metric="effective area",
        kind="area",
        direction=+1,
        log=True,
        needs=(("orifice_pressure", "test_depression"),),
        optional=(),
        by_speed=False,
        reduce=effective_area,
    ),
    Procedure(
        rig=RIG.key,
        key="loss_at_flow",
        label="Loss at equal flow on the flow bench",
        short="Loss",
        metric="pressure loss at equal flow",
        kind="pressure",
        direction=-1,
        log=True,
        needs=(("orifice_pressure", "test_depression"),),
        optional=("throttle",),
        by_speed=False,
        reduce=loss_at_flow,
        curve=loss_curve,
    ),
)
