"""How a reading is taken: what becomes of the samples or readings of a run.

References
----------
Largest of n normal values, its mean and standard deviation: H. A. David, H. N. Nagaraja, Order
    Statistics, 3rd edition (2003), 4.5 (n = 5: 1.1630 and 0.6690).
"""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import replace
from functools import lru_cache

import numpy as np
import scipy

from hauch.core.measure.channels import CHANNELS
from hauch.core.measure.meter import Meter, read
from hauch.core.quantity import Influence, Quantity, Step
from hauch.core.sound.level import energy_mean

MEAN, HIGHEST = "mean", "highest"

HOLD = 5.0
"""Seconds for which a value of a recording must hold to be a steady one."""

WHY = {
    MEAN: "The mean uses all that was read, and scatters least.",
    HIGHEST: (
        "The highest steady value tells what a part reached. It scatters more than a mean, and rises with"
        " how often it is read: it is fair only between parts that were read equally often."
    ),
}
"""Ways to take a reading -> why one would."""

BESIDE = frozenset(("background_level", "speed"))
"""Channels that are always averaged: what is read beside the figure."""

FLUCTUATES = frozenset(
    (
        "air_speed",
        "pitot_pressure",
        "static_pressure",
        "sound_level",
        "scale_mass",
        "gap",
        "vibration",
    )
)
"""Channels of which a highest steady value says something: they show now more, now less of the same."""


@lru_cache(maxsize=256)
def largest_of(count: int) -> tuple[float, float]:
    """Mean and standard deviation of the largest of so many standard normal values."""
    if count < 2:
        return 0.0, 1.0

    def moment(power: int) -> float:
        value, _ = scipy.integrate.quad(
            lambda z: (
                z**power
                * count
                * math.exp(-z * z / 2)
                / math.sqrt(2 * math.pi)
                * float(scipy.special.ndtr(z)) ** (count - 1)
            ),
            -8.0,
            8.0,
        )
        return float(value)

    first = moment(1)
    return first, math.sqrt(moment(2) - first**2)


def highest(
    channel_key: str,
    readings: Sequence[float] | np.ndarray,
    meter: Meter,
    run: str,
    hold: int = 1,
) -> Quantity:
    """Highest steady value of one channel, with its own scatter and with the doubts of its meter.

    Parameters
    ----------
    channel_key, readings, meter, run : as of `meter.read`
    hold : samples that make one steady value; 1 for readings by hand

    Notes
    -----
    A steady value is the mean of ``hold`` samples in a row. Scatter of the largest of n: that of the n
    values times the standard deviation of the largest of n standard normal ones, with n - 1 degrees of
    freedom.
    """
    channel, values = CHANNELS[channel_key], np.asarray(readings, dtype=float)
    count = max(values.size // max(hold, 1), 1)
    parts = np.array_split(values, count)
    level = channel.kind == "level"
    steady = np.array([float(energy_mean(p)) if level else float(p.mean()) for p in parts])
    top = read(channel_key, [float(steady.max())], meter, run)
    above, spread = largest_of(count)
    scatter = float(steady.std(ddof=1)) if count > 1 else 0.0
    cause = Influence(
        f"run:{run}:{channel_key}:highest",
        f"scatter of the highest {channel.label.lower()}",
        "own",
        "A",
        max(count - 1.0, 1.0),
    )
    note = (
        f"about {above * scatter:.2g} {channel.unit} above their mean by scatter alone"
        if count > 1
        else "one value only: how it scatters is not known"
    )
    step = Step(
        f"{channel.label}: highest steady value",
        "x = max xᵢ",
        (("n", float(count), ""), ("mean", float(steady.mean()), channel.unit)),
        float(steady.max()),
        channel.unit,
        "agreed in the rules",
        note,
    )
    own = {**top.parts, cause: meter.slope * spread * scatter} if scatter else top.parts
    return replace(top, parts=own, working=(step, *top.working[1:]))
