"""Readings that were taken at a live bench and are not a run yet: what they come to, and which of them
lie far off.
"""

from __future__ import annotations

from dataclasses import dataclass, field
from functools import lru_cache

import numpy as np

from hauch.bench.models import Live
from hauch.bench.traces import trace_of
from hauch.core.measure.channels import CHANNELS
from hauch.core.sound.level import energy_mean
from hauch.core.trace.reduce import windows_read


@dataclass(frozen=True, slots=True)
class Taken:
    """One reading: by channel its mean [SI unit], None where no sample counts, how many samples do
    not count, and the channels that lie far off the other readings.
    """

    means: dict[str, float | None]
    left_out: dict[str, int]
    odd: set[str] = field(default_factory=set)


def readings_of(live: Live) -> list[Taken]:
    """The readings that were taken, without what the run will leave out too."""
    windows = tuple((float(low), float(high)) for low, high in live.windows)
    if not windows:
        return []
    newest = live.seconds() < windows[-1][1] + FRESH
    return _readings(live.pk, windows, live.changes, live.seconds() if newest else None)


FRESH = 10.0
"""So long after a reading [s] what stands beside it may still change what is left out of it."""


@lru_cache(maxsize=64)
def _readings(
    pk: int, windows: tuple[tuple[float, float], ...], changes: int, now: float | None
) -> list[Taken]:
    """Computed once for each thing that somebody did, and anew while a reading is fresh."""
    live = Live.objects.select_related("recording", "test__rig").get(pk=pk)
    meters = {
        m.channel: m.instrument.meter(live.started_at)
        for m in live.test.rig.meters.select_related("instrument")
    }
    trace, columns = trace_of(live.recording), live.recording.columns
    taken = [
        Taken(
            {
                c: mean_of(c, samples) if samples.size else None
                for c, samples in one.samples.items()
            },
            one.left_out,
        )
        for one in windows_read(trace, meters, windows, columns)
    ]
    for channel in columns:
        known = [one for one in taken if one.means[channel] is not None]
        values = np.array([one.means[channel] for one in known], dtype=float)
        for one, value in zip(known, values.tolist(), strict=True):
            if odd_one(value, values):
                one.odd.add(channel)
    return taken


def mean_of(channel: str, samples: np.ndarray) -> float:
    """Mean of a reading's samples; of a level that of the energy."""
    level = CHANNELS[channel].kind == "level"
    return float(energy_mean(samples) if level else samples.mean())


def asks(live: Live, taken: list[Taken]) -> list[str]:
    """Sentences for readings that lie far off the others in a figure that decides: before they count
    somebody says that they do.
    """
    groups = {channel for group in live.test.how.needs for channel in group}
    found = []
    for number, one in enumerate(taken, 1):
        for channel in sorted(one.odd & groups, key=list(CHANNELS).index):
            others = [
                value
                for other in taken
                if other is not one and (value := other.means[channel]) is not None
            ]
            usual, value = float(np.median(others)), one.means[channel]
            times = f"{value / usual:.3g} times their median" if value and usual else "beside them"
            found.append(
                f"Reading {number} lies far off the others: {CHANNELS[channel].label.lower()} is"
                f" {times}."
            )
    return found


APART = 0.25
"""Two readings are too far apart to be one figure by this share of the higher one, where there is no
third to say which is off.
"""


def odd_one(value: float, all_values: np.ndarray) -> bool:
    """Whether one of a few readings lies far off the others: more than 5 robust standard deviations
    and 1 % from their median; the later one of two that lie far apart.
    """
    if all_values.size < 3:
        apart = all_values.size == 2 and float(np.ptp(all_values)) > APART * float(
            np.abs(all_values).max()
        )
        return apart and value == all_values[-1]
    centre = float(np.median(all_values))
    spread = 1.4826 * float(np.median(np.abs(all_values - centre)))
    return abs(value - centre) > max(5 * spread, 0.01 * abs(centre))
