"""The sound spot: its constants, its drawing, and what is measured on it."""

from __future__ import annotations

from hauch.core.measure.procedure import Procedure
from hauch.core.measure.rigs.base import RigKind, Sketch, length
from hauch.core.measure.run import NoResult, RunInput
from hauch.core.quantity import Quantity, derive, exact
from hauch.core.sound.level import (
    BackgroundTooLoud,
    at_distance,
    level_of_difference,
    without_background,
)


def _draw(r: Sketch) -> None:
    distance, part, meter, back = r["distance"], r["part_height"], r["height"], r["background_at"]
    far = max(distance, back) * 1.15
    r.d.line((-0.4 * distance, 0), (far, 0))
    r.d.line((0, 0), (0, part * 0.92), layer="thin")
    r.fan(0.03 * far, part, 0.16 * max(distance, 0.5))
    r.d.line((distance, 0), (distance, meter), layer="thin")
    r.d.line((back, 0), (back, meter), layer="thin")
    r.d.line((0, part), (distance, meter), layer="axis")
    r.sensor("sound_level", distance, meter)
    r.sensor("background_level", back, meter)
    r.dimension("distance", (0, 0), (distance, 0), "below", 1)
    r.dimension("background_at", (0, 0), (back, 0), "below", 2)
    r.dimension("height", (far, 0), (far, meter), "right")
    r.dimension("part_height", (-0.4 * distance, 0), (-0.4 * distance, part), "left")


RIG = RigKind(
    key="sound_spot",
    label="Sound spot",
    what="Sound level meter at a stated distance, mounting and background.",
    constants=(
        length("distance", "Distance of the meter", 1.0, 0.05, 20.0, needed=True, doubt=0.02),
        length("height", "Height of the meter", 1.2, 0.0, 10.0),
        length("part_height", "Height of the part", 1.2, 0.0, 10.0),
        length("background_at", "Background spot, from the part", 3.0, 0.05, 50.0),
    ),
    channels=("sound_level", "background_level", "speed", "throttle"),
    caution="Above 85 dB(A) wear hearing protection and keep exposure short.",
    draw=_draw,
)


def sound_level(run: RunInput) -> Quantity:
    """A-weighted level [dB(A)] without the background, at the reporting distance where agreed."""
    total = run.mean("sound_level")
    if not run.has("background_level"):
        raise NoResult(
            "The background level was not read. Switch the part off, read the room, and add it to"
            " this run."
        )
    background = run.mean("background_level")
    try:
        without_background(total.value, background.value)
    except BackgroundTooLoud as problem:
        raise NoResult(str(problem)) from problem
    # The meter's own error is in both readings; the subtraction carries it once, since the cause
    # has the same key.
    level = derive(
        "Without the background",
        "L = 10 lg (10^(L₁/10) − 10^(L₂/10))",
        level_of_difference,
        {"level": total, "background": background},
        "dB(A)",
        "ISO 3744:2010, 8.2.3",
        symbols={"level": "L₁", "background": "L₂"},
        note=(
            ""
            if total.value - background.value >= 6
            else "Background within 6 dB: grade 3 (ISO 3746)."
        ),
    )
    if run.reporting_distance is None:
        return level
    return derive(
        "To the reporting distance",
        "L − 20 lg (r / r₀)",
        lambda L, r0, r: at_distance(L, r0, r),
        {
            "L": level,
            "r0": run.constant("distance", "distance of the sound level meter", "m"),
            "r": exact(run.reporting_distance, "m"),
        },
        "dB(A)",
        "inverse square law: small source, free field assumed",
        symbols={"r0": "r₀"},
    )


PROCEDURES = (
    Procedure(
        rig=RIG.key,
        key="sound_level",
        label="Noise at the sound spot",
        short="Noise",
        metric="noise",
        kind="level",
        direction=-1,
        log=False,
        change_unit="dB",
        needs=(("sound_level", "background_level"),),
        by_speed=False,
        reduce=sound_level,
    ),
)
