"""Troubles that the readings show by themselves, as sentences. Nothing is dropped: each says what
was found and what to do.
"""

from __future__ import annotations

import math
from collections import Counter
from collections.abc import Mapping, Sequence

import numpy as np

from hauch.core.measure import laws
from hauch.core.measure.channels import CHANNELS, FOLLOWS, SPEEDS
from hauch.core.quantity import Quantity
from hauch.core.quantity.mixups import whole_run_mixups
from hauch.core.trace.marks import WORDS, Mark
from hauch.core.trace.reduce import mark_sentence
from hauch.core.trace.settle import Settling, correlation_factor

SHORT_SHARE = 0.97
"""A speed below this share of the one that is asked for was not reached."""

FULL = 98.0
"""Throttle [%] from which on it is full."""

LISTED = 3
"""Marks of one kind and channel that are told one by one; more are counted."""

HELD_SHARE = 0.01
"""So far off is what is set by hand, and changes a flow by a third of it."""

HELD_LAWS = {
    "volume_flow": laws.FLOW,
    "air_speed": laws.AIR_SPEED,
    "pressure": laws.PRESSURE,
    "force": laws.FORCE,
}
"""Kind of figure -> how it goes with speed."""

TREND_SHARE, TREND_SIGMAS, LEAST_TREND = 0.02, 4.0, 20
"""A stretch that changes by so much of its mean, by so many standard errors, had not settled; from so
many samples on.
"""

ROOTED = frozenset(("pitot_pressure", "orifice_pressure"))
"""Channels whose root the figure goes with."""

NEAR = 1.25
"""So near a ratio comes to that of two units: a part may be that much better."""


def of_marks(marks: Sequence[Mark]) -> list[str]:
    """Sentences for marks; many of one kind are told together."""
    counts = Counter((m.channel, m.kind) for m in marks)
    done: set[tuple[str, str]] = set()
    sentences = []
    for mark in marks:
        key = (mark.channel, mark.kind)
        if counts[key] <= LISTED:
            sentences.append(mark_sentence(mark))
        elif key not in done:
            done.add(key)
            label = "All channels" if mark.channel == "time" else CHANNELS[mark.channel].label
            samples = sum(m.samples for m in marks if (m.channel, m.kind) == key)
            sentences.append(
                f"{label}: {WORDS[mark.kind]} {counts[key]} times, {samples} samples in all."
            )
    return sentences


def speed_short(
    readings: Mapping[str, Sequence[float] | np.ndarray], common_speed: float | None
) -> str:
    """Whether the part did not reach the speed that is asked for; empty where it did or nothing is
    asked.
    """
    if common_speed is None or not len(readings.get("speed", ())):
        return ""
    speed = float(np.mean(readings["speed"]))
    throttle = float(np.mean(readings["throttle"])) if len(readings.get("throttle", ())) else 100.0
    if throttle < FULL or speed >= SHORT_SHARE * common_speed:
        return ""
    return (
        f"Speed not reached: {speed:,.0f} 1/min under load at full throttle, where"
        f" {common_speed:,.0f} 1/min are asked for. The figure is converted by the fan laws; look"
        " for a weak supply, a rotor that rubs, or too high a gear."
    )


def not_held(held: Quantity, agreed: float, kind: str) -> str:
    """Whether the power that a round holds equal was not held; empty where it was, by `HELD_SHARE`
    or by what the meter can tell.

    Parameters
    ----------
    held : mean power that was read [W]
    agreed : what the round compares at [W]
    kind : of the figure, key of `KINDS`: what goes with a known power of the speed is told what
        that does (fan laws: P ~ n³)
    """
    off = held.value / agreed - 1
    if abs(off) <= max(HELD_SHARE, held.expanded / agreed):
        return ""
    much = f"{100 * abs(off):.0f} % too {'much' if off > 0 else 'little'}"
    law = HELD_LAWS.get(kind)
    made = ""
    if law is not None and held.value > 0:
        figure = 100 * (law.scaled(1.0, speed_ratio=(held.value / agreed) ** (1 / 3)) - 1)
        made = f" By the fan laws that alone makes the figure {figure:+.1f} %.".replace("-", "−")
    return (
        f"Power not held: {held.value:.3g} W, where the round compares at {agreed:.3g} W, {much}.{made}"
        " Set the power and read again."
    )


def disturbed(settling: Settling | None) -> str:
    """Whether a soak was disturbed, so that its end is told from what came after; empty where not."""
    if settling is None or settling.since == -math.inf:
        return ""
    return (
        f"The load was disturbed {settling.since:.0f} s after the start (a probe that was touched or"
        " slipped, a door, a fan that stood): its end is told from what came after."
    )


def still_changing(readings: Mapping[str, Sequence[float] | np.ndarray]) -> list[str]:
    """Sentences for channels that still rise or fall through one stretch that was read: by more than
    `TREND_SHARE` of their mean, and by more than their scatter makes.

    Parameters
    ----------
    readings : channel -> samples of one stretch in their order, evenly spaced

    Notes
    -----
    Straight line through the samples (least squares); the standard error of its rise over the
    stretch is sqrt(12 k / n) s, with the residuals' scatter s and k samples of them counting as one.
    """
    sentences = []
    for key in sorted((FOLLOWS | {"speed"}) & set(readings)):
        values = np.asarray(readings[key], dtype=float)
        if values.size < LEAST_TREND or not np.isfinite(values).all() or values.mean() == 0:
            continue
        at = np.linspace(-0.5, 0.5, values.size)
        rise = float(at @ values / (at @ at))
        left = values - values.mean() - rise * at
        error = math.sqrt(12 * correlation_factor(left) / values.size) * float(left.std(ddof=2))
        share = rise / abs(float(values.mean()))
        if abs(share) > TREND_SHARE and abs(rise) > TREND_SIGMAS * error:
            sentences.append(
                f"{CHANNELS[key].label} still {'rises' if share > 0 else 'falls'}, by"
                f" {100 * abs(share):.0f} % within what was read. Let it run until nothing changes, or"
                " choose a later stretch."
            )
    return sentences


def rotors_apart(readings: Mapping[str, Sequence[float] | np.ndarray]) -> str:
    """Whether one of several rotors runs far from the others; empty where none does."""
    speeds = {key: float(np.mean(readings[key])) for key in SPEEDS if len(readings.get(key, ()))}
    if len(speeds) < 2 or max(speeds.values()) <= 0:
        return ""
    slowest = min(speeds, key=lambda key: speeds[key])
    if speeds[slowest] >= 0.9 * max(speeds.values()):
        return ""
    return (
        f"{CHANNELS[slowest].label} is {speeds[slowest]:,.0f} 1/min, the fastest rotor"
        f" {max(speeds.values()):,.0f}. Check its bearing and its controller."
    )


def wrong_unit(value: float, usual: float, channels: Sequence[str]) -> str:
    """Whether a figure is off from the usual one by just what a mix-up of units makes of one of the
    channels it is made of; empty where it is not.

    Parameters
    ----------
    value, usual : of the figure, and of the reference
    channels : that the figure is proportional to, or to whose root (`ROOTED`)
    """
    if not (value > 0 and usual > 0):
        return ""
    ratio = value / usual
    for key in channels:
        for mixup in whole_run_mixups(CHANNELS[key].kind):
            made = math.sqrt(mixup.slope) if key in ROOTED else mixup.slope
            if not mixup.offset and 1 / NEAR < ratio / made < NEAR:
                return (
                    f"The figure is {ratio:.3g} times what the reference shows, which looks like"
                    f" {CHANNELS[key].label.lower()} in {mixup}. Check the meter's unit."
                )
    return ""
