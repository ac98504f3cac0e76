"""The sound spot: its constants, its drawing, and what is measured on it."""

from __future__ import annotations

import numpy as np

from hauch.core.measure.channels import CHANNELS
from hauch.core.measure.procedure import Procedure
from hauch.core.measure.rigs.base import RigKind, Sketch, length
from hauch.core.measure.rigs.common import mean_place
from hauch.core.measure.run import NoResult, RunInput
from hauch.core.quantity import Influence, Quantity, Step, derive, exact, measured
from hauch.core.sound.level import (
    BackgroundTooLoud,
    at_distance,
    level_of_difference,
    without_background,
)
from hauch.core.sound.tones import MOST_ADJUSTMENT


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


TONE_DOUBT = 0.3
"""How far the audibility of a tone differs between ten-second stretches of one recording (standard
uncertainty) [dB]; simulated, docs/method.md.
"""

RESPONSE_DOUBT = 0.05
"""Share by which the frequency response of a microphone of class 2 shifts a sharpness; our
assumption.
"""


def _of_recording(run: RunInput, channel: str) -> float:
    """What a recording of the run came to; of several the mean.

    Raises
    ------
    NoResult : no recording was counted
    """
    read = np.asarray(run.readings.get(channel, ()), float)
    if not read.size:
        raise NoResult(
            f"{CHANNELS[channel].label} was not told by a recording. Hand one in, and count it."
        )
    return float(read.mean())


def rating_level(run: RunInput) -> Quantity:
    """A-weighted level without the background, with the adjustment for audible tones [dB(A)]."""
    adjustment = _of_recording(run, "tonal_adjustment")
    cause = Influence(f"run:{run.run}:tones", "audibility of the tones", "own", "B")
    # An adjustment at an end of its range hardly changes with the audibility.
    u = TONE_DOUBT if 0 < adjustment < MOST_ADJUSTMENT else TONE_DOUBT / 2
    return derive(
        "With the adjustment for tones",
        "L + Kₜ",
        lambda L, K: L + K,
        {"L": sound_level(run), "K": measured(adjustment, "dB", [(cause, u)])},
        "dB(A)",
        "ISO 1996-2:2007, C.2.4: 0 dB up to an audibility of 4 dB, 6 dB from 10 dB on",
        symbols={"K": "Kₜ"},
    )


def loudness(run: RunInput) -> Quantity:
    """Loudness with the background [sone]; its doubt is that of the level: 10 dB are a factor of
    two.
    """
    sone = _of_recording(run, "loudness")
    level = run.mean("sound_level")
    at = level.value
    return derive(
        "Loudness at the level as read",
        "N = N₀ 2^((L − L₀) / 10)",
        lambda L: sone * 2 ** ((L - at) / 10),
        {"L": level},
        "sone",
        "ISO 532-1:2017, method for stationary sounds; doubt by its eq. 3",
    )


def sharpness(run: RunInput) -> Quantity:
    """Sharpness [acum]."""
    value = _of_recording(run, "sharpness")
    meter = run.meter("sound_level")
    cause = Influence(
        f"meter:{meter.key}:response", f"frequency response of {meter.name}", "common", "B"
    )
    return measured(value, "acum", [(cause, RESPONSE_DOUBT * value)]).with_step(
        Step("Sharpness", "S = 0.11 ∫N′ g z dz / N", (), value, "acum", "DIN 45692:2009, eq. 1")
    )


def worst_tone(run: RunInput) -> Quantity:
    """Audibility of the tone that stands out most: its level above the masking threshold [dB]."""
    value = _of_recording(run, "tone_audibility")
    cause = Influence(f"run:{run.run}:tones", "audibility of the tones", "own", "B")
    return measured(value, "dB", [(cause, TONE_DOUBT)]).with_step(
        Step(
            "Most audible tone",
            "ΔL = Lₜ − Lₙ + 2 + lg(1 + (f / 502)^2.5)",
            (),
            value,
            "dB",
            "ISO 1996-2:2007, C.2.3",
        )
    )


def listeners(run: RunInput) -> Quantity:
    """Mean place that blind listeners gave [%]: 0 the most pleasant end, 100 the other; doubt from how
    far they disagree.
    """
    return mean_place(
        run,
        "listener_place",
        "listeners",
        "Nobody has ranked it. Open a blind ranking, and close it into runs.",
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
    Procedure(
        rig=RIG.key,
        key="rating_level",
        label="Noise at the sound spot, with tones adjusted for",
        short="Noise with tones",
        metric="noise",
        kind="level",
        direction=-1,
        log=False,
        change_unit="dB",
        needs=(("tonal_adjustment", "sound_level", "background_level"),),
        by_speed=False,
        reduce=rating_level,
    ),
    Procedure(
        rig=RIG.key,
        key="loudness",
        label="Loudness at the sound spot",
        short="Loudness",
        metric="loudness",
        kind="loudness",
        direction=-1,
        log=True,
        needs=(("loudness", "sound_level"),),
        by_speed=False,
        reduce=loudness,
    ),
    Procedure(
        rig=RIG.key,
        key="sharpness",
        label="Sharpness at the sound spot",
        short="Sharpness",
        metric="sharpness",
        kind="sharpness",
        direction=-1,
        log=True,
        needs=(("sharpness",),),
        by_speed=False,
        reduce=sharpness,
    ),
    Procedure(
        rig=RIG.key,
        key="worst_tone",
        label="Most audible tone at the sound spot",
        short="Worst tone",
        metric="tone",
        kind="decibel",
        direction=-1,
        log=False,
        change_unit="dB",
        needs=(("tone_audibility",),),
        by_speed=False,
        reduce=worst_tone,
    ),
    Procedure(
        rig=RIG.key,
        key="listeners",
        label="Pleasantness by blind listeners",
        short="Listeners",
        metric="pleasantness",
        kind="percent",
        direction=-1,
        log=False,
        change_unit="%",
        needs=(("listener_place",),),
        optional=(),
        by_speed=False,
        reduce=listeners,
    ),
)
