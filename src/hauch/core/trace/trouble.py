"""Troubles that the readings show by themselves, as sentences. Nothing is dropped: each says what
was found and what to do.
"""

from __future__ import annotations

import math
from collections import Counter
from collections.abc import Mapping, Sequence

import numpy as np

from hauch.core.measure.channels import CHANNELS, SPEEDS
from hauch.core.quantity.mixups import whole_run_mixups
from hauch.core.trace.marks import WORDS, Mark
from hauch.core.trace.reduce import told
from hauch.core.trace.settle import Settling

SHORT_SHARE = 0.97
"""A speed below this share of the one that is asked for was not reached."""

FULL = 98.0
"""Throttle [%] from which on it is full."""

LISTED = 3
"""Marks of one kind and channel that are told one by one; more are counted."""

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
            sentences.append(told(mark))
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


def disturbed(settling: Settling | None) -> str:
    """Whether a soak was disturbed, so that its end is told from what came after; empty where not."""
    if settling is None or settling.since == -math.inf:
        return ""
    return (
        f"The load was disturbed {settling.since:.0f} s after the start (a probe that was touched or"
        " slipped, a door, a fan that stood): its end is told from what came after."
    )


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
