"""The drive rig: its constants, its drawing, and what is measured on it."""

from __future__ import annotations

import math
from dataclasses import replace

from hauch.core.geometry.drawing import Note
from hauch.core.measure import curves, laws
from hauch.core.measure.channels import SPEEDS
from hauch.core.measure.procedure import Procedure
from hauch.core.measure.rigs.base import Constant, RigKind, Sketch, length
from hauch.core.measure.rigs.common import SPIN, converted
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
    rotor, belt = r["rotor"], max(r["belt"], 0.05)
    small = rotor * 0.18
    big = min(max(small * r["gear"], rotor * 0.08), rotor * 0.45)
    r.d.circle((0, 0), rotor / 2, "space")
    r.d.circle((0, 0), big, "part")
    r.d.circle((0, -belt - rotor / 2), small, "part")
    r.d.line((-big, 0), (-small, -belt - rotor / 2), layer="thin")
    r.d.line((big, 0), (small, -belt - rotor / 2), layer="thin")
    r.d.notes += [
        Note((rotor * 0.6, rotor * 0.3), "part, behind its guard", "start"),
        Note((rotor * 0.6, -belt - rotor / 2), "motor, free to turn", "start"),
    ]
    arm = r["arm"]
    r.d.line((0, -belt - rotor / 2), (arm, -belt - rotor / 2), layer="mount")
    r.sensor("torque", arm, -belt - rotor / 2)
    r.sensor("speed", big, 0)
    r.dimension("rotor", (-rotor / 2, 0), (rotor / 2, 0), "above", 2, "⌀ ")
    r.dimension("arm", (0, -belt - rotor / 2), (arm, -belt - rotor / 2), "below", 2)


RIG = RigKind(
    key="drive",
    label="Drive rig",
    what="The part is driven by a shaft; torque against speed, with and without the part.",
    constants=(
        Constant("gear", "Gear ratio, part to motor", "number", 0.05, 20.0, 1.0),
        length("arm", "Arm of the torque sensor", 0.1, 0.005, 3.0),
        length("belt", "Distance of the shafts", 0.3, 0.0, 5.0),
        length("rotor", "Diameter of the rotor", 0.4, 0.01, 5.0),
    ),
    channels=("torque", "tare_torque", "speed", "throttle"),
    caution="Belts and shafts catch: cover them, no loose cloth, switch off before a hand goes in. "
    + SPIN,
    draw=_draw,
)


def shaft_power(run: RunInput) -> Quantity:
    """Shaft power [W] that the part absorbs: torque with it less torque without it, times speed, in
    standard air of 1.2 kg/m3, at the common speed where agreed.
    """
    power = derive(
        "Absorbed shaft power",
        "P = 2π n (M − M₀)",
        lambda torque, tare, n: 2 * math.pi * n / 60 * (torque - tare),
        {"torque": run.mean("torque"), "tare": run.mean("tare_torque"), "n": run.mean("speed")},
        "W",
        "power of a turning shaft; drive without the part taken off",
        symbols={"torque": "M", "tare": "M₀"},
    )
    if power.value <= 0:
        raise NoResult(
            f"The shaft power comes out as {power.value:.3g} W: the torque with the part must be"
            " above the torque without it."
        )
    return converted(run, power, laws.SHAFT_POWER, "P")


def _shaft_points(run: RunInput) -> tuple[Points, Points]:
    """Speed and absorbed power of each point, as they were read."""
    points = enough(
        replace(run, common_speed=None),
        "torque",
        "tare_torque",
        "speed",
        optional=[s for s in SPEEDS if s != "speed"],
    )
    return each(points, "n", RunInput.rotor_speed), each(points, "p", shaft_power)


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
    wanted = inside(n, run.common_speed, "A speed", "1/min")
    _, exponent = law_through(n, p)
    figure = figure_from(
        f"Shaft power at {wanted:,.0f} 1/min",
        "P = c n^k",
        lambda **v: power_at(curves.numbered(v, "n"), curves.numbered(v, "p"), v["N"]),
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
    return with_misfit(run, figure, n, p, wanted, "shaft_law")


def shaft_curve(run: RunInput) -> Curve:
    """Shaft power over speed with its law."""
    speed, power = _shaft_points(run)
    if run.common_speed is None:
        raise NoResult("The test names no common speed.")
    return law_curve(
        "speed",
        "rotational_speed",
        "shaft power",
        "power",
        list(speed.values()),
        list(power.values()),
        run.common_speed,
    )


PROCEDURES = (
    Procedure(
        rig=RIG.key,
        key="shaft_power",
        label="Shaft power on the drive rig",
        short="Shaft",
        metric="shaft power",
        kind="power",
        direction=-1,
        log=True,
        needs=(("torque", "tare_torque", "speed"),),
        optional=(),
        reduce=shaft_power,
    ),
    Procedure(
        rig=RIG.key,
        key="shaft_curve",
        label="Shaft power against speed",
        short="Shaft",
        metric="shaft power",
        kind="power",
        direction=-1,
        log=True,
        needs=(("torque", "tare_torque", "speed"),),
        optional=("throttle",),
        reduce=shaft_power_at_speed,
        curve=shaft_curve,
    ),
)
