"""Troubles that the readings show by themselves, as sentences. Nothing is dropped: each says what
was found and what to do.
"""

from __future__ import annotations

from collections import Counter
from collections.abc import Mapping, Sequence

import numpy as np

from hauch.core.measure.channels import CHANNELS, SPEEDS
from hauch.core.trace.marks import WORDS, Mark
from hauch.core.trace.reduce import told

SHORT_SHARE = 0.97
"""A speed below this share of the one that is asked for was not reached."""

FULL = 98.0
"""Throttle [%] from which on it is full."""

LISTED = 3
"""Marks of one kind and channel that are told one by one; more are counted."""

UNIT_FACTORS = {
    196.85: "ft/min read as m/s",
    3.6: "km/h read as m/s",
    9.80665: "mmH₂O read as Pa",
    249.09: "inH₂O read as Pa",
    1000.0: "thousandths read as whole",
}
"""Ratios that a wrong unit gives, with what was mixed up."""


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


def wrong_unit(value: float, usual: float, label: str) -> str:
    """Whether a figure is off from the usual one by just the factor of a wrong unit; empty where it
    is not.
    """
    if not (value > 0 and usual > 0):
        return ""
    ratio = value / usual
    for factor, words in UNIT_FACTORS.items():
        if 0.8 < ratio / factor < 1.25 or 0.8 < ratio * factor < 1.25:
            return (
                f"{label} is {ratio:.3g} times what the reference shows, which looks like {words}."
                " Check the meter's unit."
            )
    return ""
