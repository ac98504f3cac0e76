"""Faults in a trace: dropouts, gaps, spikes, a stuck meter, a stall, readings over the range. Found
and marked, never removed from the data.

References
----------
Robust spread from the middle of the scatter (trimmed variance): P. J. Huber, Robust Statistics,
    1981, 5.1.
Runs of equal readings: a run of n has the chance (1 - p)^n where p is the share of readings that
    differ from the one before.
"""

from __future__ import annotations

import math
from collections.abc import Mapping
from dataclasses import dataclass
from itertools import pairwise

import numpy as np
import scipy

from hauch.core.measure.channels import CHANNELS, FOLLOWS, SPEEDS
from hauch.core.trace.jumps import OtherUnit, other_units
from hauch.core.trace.source import Seconds, Stretch, seconds_of

SPIKE_SIGMAS = 4.6
"""A sample this many robust standard deviations off its neighbours is a spike. Normal scatter
reaches it about 3 times in a million (the median of the neighbours scatters too), and a fault of 8
standard deviations passes it in 99.7 of 100.
"""

STALL_SHARE = 0.1
"""A speed below this share of its earlier running value is a stall."""

STALL_SECONDS = 1.0
"""A stop shorter than this is a tachometer that lost a pulse."""

STUCK_SECONDS = 3.0
"""A meter that repeats itself for less than this may just be slow."""

STUCK_CHANCE = 1e-9
"""A run of equal readings less likely than this is a stuck meter."""

STUCK_NEIGHBOURS = 300
"""Samples before and after a run of equal readings that say how often this meter changes."""

LIVELY = 0.1
"""A meter whose readings turn back less often than in this share (a thermometer that creeps to its
end) says nothing by standing still.
"""

LEAST_READINGS = 5
"""A meter that shows fewer different readings than this in the surroundings has too coarse a digit
to be judged.
"""

GAP_STEPS = 2.5
"""A pause of this many usual steps of the clock is a gap."""

WORDS = {
    "dropout": "samples lost",
    "gap": "nothing recorded",
    "spike": "spiked",
    "stuck": "the meter repeats one reading",
    "stall": "stands still",
    "over_range": "outside the meter's range",
    "unit": "reads in another unit",
    "jump": "jumps to another unit and stays",
    "excluded": "left out by hand",
}
"""Kinds of marks in words."""


@dataclass(frozen=True, slots=True)
class Mark:
    """A marked stretch of one channel (``time`` for all): ``kind`` is a key of `WORDS`; indices
    count samples from 0.
    """

    channel: str
    kind: str
    first: int
    last: int
    from_s: float
    to_s: float
    note: str = ""
    """What was found, where the kind alone does not say it."""

    @property
    def samples(self) -> int:
        """How many samples the mark covers."""
        return self.last - self.first + 1


def stretches(flags: np.ndarray) -> list[tuple[int, int]]:
    """First and last index of each run of True in a boolean array, shape (n,)."""
    edges = np.flatnonzero(np.diff(np.concatenate(([0], flags.astype(np.int8), [0]))))
    return [(int(first), int(after) - 1) for first, after in edges.reshape(-1, 2)]


def spikes(values: np.ndarray, resolution: float = 0.0, sigmas: float = SPIKE_SIGMAS) -> np.ndarray:
    """Flags of samples far off their neighbours, shape (n,).

    Parameters
    ----------
    values : shape (n,), NaN where there is no sample
    resolution : step of the meter's last digit; a smaller spread than a third of it is not believed
    sigmas : from how many robust standard deviations on

    Notes
    -----
    Distance to the running median of 11 samples against `SPIKE_SIGMAS` times its robust spread. On
    a slope the median is the sample itself, so the spread is at least that of the second
    differences (sqrt(6) times the scatter), which know no slope. The spread is taken from the
    surroundings, as scatter grows with the speed of a sweep and ends with a stall. A step or a slow
    change is no spike; a fault longer than five samples is none either.
    """
    values = np.asarray(values, dtype=float)
    flags = np.zeros(values.size, dtype=bool)
    there = np.flatnonzero(np.isfinite(values))
    if there.size < 11:
        return flags
    known = values[there]
    # Reflected about its ends, so that a slope goes on there.
    off = (
        known
        - scipy.ndimage.median_filter(
            np.pad(known, 5, mode="reflect", reflect_type="odd"), size=11
        )[5:-5]
    )
    bent = np.diff(known, 2, prepend=known[0], append=known[-1])
    spread = np.maximum(_spread_around(off), _spread_around(bent) / 6**0.5)
    off[:5], off[-5:] = off[:5] / EDGE_DOUBT, off[-5:] / EDGE_DOUBT
    step = max(resolution, last_digit(known))
    flags[there[np.abs(off) > sigmas * np.maximum(spread, max(step / 2, 1e-12))]] = True
    return flags


def last_digit(values: np.ndarray) -> float:
    """Step of the last digit that a meter shows, from the smallest difference between its first
    readings.
    """
    steps = np.diff(np.unique(values[:5000]))
    steps = steps[steps > 1e-9 * max(float(np.abs(values[:5000]).max()), 1e-12)]
    return float(steps.min()) if steps.size else 0.0


EDGE_DOUBT = 1.5
"""By how much less a median tells at the ends, where its window is half a reflection."""

NINE_TENTHS = 0.7893
"""Standard deviation of the nine tenths of normal scatter nearest to zero: sqrt(1 - 2 * 1.6449 *
0.10314 / 0.9).
"""

STILL_SHARE = 0.3
"""From this share on, samples without any change are a meter or a part that stands still, and say
nothing of the scatter of the others.
"""

SURROUNDINGS = 256
"""Samples whose scatter is taken together; a sample is judged by the most restless of its own and
the two neighbouring stretches.
"""


def _spread_around(values: np.ndarray) -> np.ndarray:
    """Robust standard deviation around each sample, shape (n,): root mean square of the nine tenths
    nearest to zero.
    """
    count = max(values.size // SURROUNDINGS, 1)
    size = values.size // count
    squares = np.sort(values[: count * size].reshape(count, size) ** 2, axis=1)
    still = (squares == 0).sum(axis=1)
    still[still < STILL_SHARE * size] = (
        0  # a few equal readings belong to the scatter, a standing meter does not
    )
    kept = np.maximum(still + (0.9 * (size - still)).astype(int), np.minimum(still + 1, size))
    sums = np.take_along_axis(np.cumsum(squares, axis=1), kept[:, None] - 1, axis=1)[:, 0]
    found = np.sqrt(sums / np.maximum(kept - still, 1)) / NINE_TENTHS
    widest = np.maximum(
        found, np.maximum(np.append(found[1:], found[-1]), np.insert(found[:-1], 0, found[0]))
    )
    return widest[np.minimum(np.arange(values.size) // size, count - 1)]


def stuck(times: np.ndarray, values: np.ndarray) -> np.ndarray:
    """Flags of samples where the meter repeated one reading for longer than chance allows, shape
    (n,).

    Parameters
    ----------
    times : seconds, shape (n,)
    values : shape (n,), NaN where there is no sample

    Notes
    -----
    How often a meter changes is taken from its neighbours in time, not from the whole trace, so
    that a thermometer that settles is not blamed. A meter that is stuck from the first to the last
    sample has no neighbours; `never_moved` finds it.
    """
    values = np.asarray(values, dtype=float)
    flags = np.zeros(values.size, dtype=bool)
    there = np.flatnonzero(np.isfinite(values))
    if there.size < 60:
        return flags
    changes = np.concatenate(([True], np.diff(values[there]) != 0))
    steps = np.diff(values[there], prepend=values[there[0]])
    turns = np.concatenate(([False], steps[1:] * steps[:-1] < 0))
    starts = np.flatnonzero(changes)
    lengths = np.diff(np.append(starts, there.size))
    ends = starts + lengths - 1
    long = (lengths >= 8) & (times[there[ends]] - times[there[starts]] >= STUCK_SECONDS)
    for start, length in zip(starts[long], lengths[long], strict=True):
        last = start + length - 1
        near = [
            slice(max(start - STUCK_NEIGHBOURS, 1), start),
            slice(last + 2, last + 2 + STUCK_NEIGHBOURS),
        ]
        around, back = (
            np.concatenate([flags[part] for part in near]) for flags in (changes, turns)
        )
        if around.size < 50:
            continue
        share, beside = (
            float(around.mean()),
            np.concatenate(
                (values[there][max(start - 30, 0) : start], values[there][last + 1 : last + 31])
            ),
        )
        # A meter with a coarse digit may toggle between two readings and then rest on one: that is
        # no fault.
        if np.unique(beside).size < LEAST_READINGS:
            continue
        if back.mean() >= LIVELY and length * -math.log(max(1 - share, 1e-6)) > -math.log(
            STUCK_CHANCE
        ):
            flags[there[start + 1 : last + 1]] = True
    return flags


def never_moved(whole: Seconds, channel: str) -> bool:
    """Whether a meter showed one reading throughout, although the part stood still and ran for
    `STUCK_SECONDS` each while it was read.

    Parameters
    ----------
    whole : all of a recording by the second, with the speed of the part
    channel : one of `FOLLOWS`

    Notes
    -----
    What follows the speed cannot be the same at rest and running. A reading of nothing may be: the
    part moves less than the meter feels.
    """
    speed = whole.mean["speed"]
    there = np.isfinite(whole.mean[channel]) & np.isfinite(speed)
    least, most = whole.least[channel][there], whole.most[channel][there]
    if whole.count[channel][there].sum() < 60 or least[0] == 0 or least.min() != most.max():
        return False
    step, top = max(float(np.median(np.diff(whole.times))), 1.0), float(speed[there].max())
    still, runs = (
        float(flags.sum()) * step
        for flags in (speed[there] < STALL_SHARE * top, speed[there] > 0.5 * top)
    )
    return top > 0 and min(still, runs) >= STUCK_SECONDS


@dataclass(frozen=True, slots=True)
class Known:
    """What all of a recording says of a stretch of it: by channel of a speed, at which speed the
    part runs [1/min] and when it first did [s]; and the channels whose meter never moved.
    """

    runs: dict[str, tuple[float, float]]
    frozen: frozenset[str]


def known_of(whole: Seconds) -> Known:
    """What all of a recording says, by the second."""
    runs = {}
    for key in (key for key in SPEEDS if key in whole.mean):
        speed = whole.mean[key]
        there = np.isfinite(speed)
        if there.any():
            running = float(np.percentile(speed[there], 95))
            first = np.argmax(whole.most[key][there] >= STALL_SHARE * running)
            runs[key] = running, float(whole.times[there][first])
    frozen = (
        {key for key in FOLLOWS & set(whole.mean) if never_moved(whole, key)}
        if "speed" in runs
        else set()
    )
    return Known(runs, frozenset(frozen))


def standing(
    times: np.ndarray, speed: np.ndarray, running: float, since: float
) -> list[tuple[int, int]]:
    """First and last index of each stretch in which a part stands still; all of it when it never
    started.

    Parameters
    ----------
    times : seconds, shape (n,)
    speed : rotational speed [1/min], shape (n,), NaN where there is no sample
    running, since : at which speed it runs [1/min] and when it first did [s], from all of the
        recording

    Notes
    -----
    Still is below `STALL_SHARE` of the running speed for at least `STALL_SECONDS`. The time before
    a part is first started is no stall.
    """
    speed = np.asarray(speed, dtype=float)
    there = np.flatnonzero(np.isfinite(speed))
    if there.size == 0:
        return []
    if running <= 0:
        return [(0, speed.size - 1)]
    found = []
    for a, b in stretches(speed[there] < STALL_SHARE * running):
        first, last = there[a], there[b]
        if times[first] > since and b - a >= 4 and times[last] - times[first] >= STALL_SECONDS:
            found.append((int(first), int(speed.size - 1 if b == there.size - 1 else last)))
    return found


def gaps(times: np.ndarray) -> list[tuple[int, int]]:
    """Indices of the samples before and after each pause of the clock; a step back counts too (the
    clock was set).
    """
    steps = np.diff(np.asarray(times, dtype=float))
    if steps.size < 3:
        return []
    usual = float(np.median(steps))
    return [
        (int(i), int(i) + 1) for i in np.flatnonzero((steps > GAP_STEPS * usual) | (steps <= 0))
    ]


def find_marks(
    times: np.ndarray,
    channels: Mapping[str, np.ndarray],
    resolutions: Mapping[str, float] | None = None,
    ranges: Mapping[str, tuple[float, float]] | None = None,
    known: Known | None = None,
    sigmas: float = SPIKE_SIGMAS,
) -> list[Mark]:
    """All marks of a recording, or of a stretch of one, in order of time.

    Parameters
    ----------
    times : seconds from the start, shape (n,)
    channels : channel key -> values, shape (n,), NaN where there is no sample
    resolutions : channel key -> step of the meter's last digit
    ranges : channel key -> range in which the meter's limits hold
    known : what all of the recording says, where this is a stretch of it
    sigmas : from how many robust standard deviations on a sample is a spike
    """
    resolutions, ranges = resolutions or {}, ranges or {}
    known = known or known_of(seconds_of(Stretch(times, dict(channels))))
    marks = [Mark("time", "gap", a, b, float(times[a]), float(times[b])) for a, b in gaps(times)]
    stops = {
        key: _unwanted(standing(times, channels[key], *known.runs[key]), channels.get("throttle"))
        for key in SPEEDS
        if key in channels and key in known.runs
    }
    idle = np.zeros(len(times), dtype=bool)
    if "speed" in channels and "speed" in known.runs:
        idle = ~(channels["speed"] >= STALL_SHARE * max(known.runs["speed"][0], 1.0))
    # Samples around a stop or start are no spikes: the whole bench changed at once. Nor does a
    # meter stick while nothing moves.
    ends = [float(times[i]) for found in stops.values() for stop in found for i in stop]
    near = [(end - 10, end + 10) for end in ends]
    switched = other_units(channels)
    for key, pairs in switched.items():
        for one in pairs:
            a, b = one.first, one.last
            kind = "jump" if one.open else "unit"
            marks.append(Mark(key, kind, a, b, float(times[a]), float(times[b]), str(one.mixup)))
    for key, values in channels.items():
        low, high = ranges.get(key, (-math.inf, math.inf))
        step = resolutions.get(key, 0.0)
        found = {
            "dropout": ~np.isfinite(values),
            "spike": (
                _spikes_between(values, step, sigmas, switched.get(key, []))
                if key not in SET
                else np.zeros(0, bool)
            ),
        }
        found["over_range"] = (
            ((values < low) | (values > high)) & ~found["spike"]
            if math.isfinite(low) or math.isfinite(high)
            else np.zeros(0, bool)
        )
        for one in switched.get(key, ()):
            if found["over_range"].size and not one.open:
                found["over_range"][one.first : one.last + 1] = False
        frozen = key in known.frozen
        if key not in SET:
            found["stuck"] = np.isfinite(values) if frozen else stuck(times, values)
        for kind, flags in found.items():
            for a, b in stretches(flags):
                mark = Mark(key, kind, a, b, float(times[a]), float(times[b]))
                if kind == "spike" and any(low <= mark.from_s <= high for low, high in near):
                    continue
                if (
                    kind == "stuck"
                    and not frozen
                    and (
                        idle[a : b + 1].mean() > 0.5 or (values[b] == 0 and "speed" not in channels)
                    )
                ):
                    continue
                marks.append(mark)
    marks += [
        Mark(key, "stall", a, b, float(times[a]), float(times[b]))
        for key, found in stops.items()
        for a, b in found
    ]
    return sorted(marks, key=lambda mark: (mark.first, mark.channel, mark.kind))


def _spikes_between(
    values: np.ndarray, step: float, sigmas: float, switched: list[OtherUnit]
) -> np.ndarray:
    """Flags of spikes, shape (n,): each stretch in one unit by itself, as scatter goes with the unit."""
    edges = [0]
    for one in switched:
        edges += [one.last] if one.open else [one.first, one.last + 1]
    edges.append(values.size)
    flags = np.zeros(values.size, bool)
    for first, after in pairwise(sorted(set(edges))):
        flags[first:after] = spikes(values[first:after], step, sigmas)
    for one in switched:
        if not one.open:  # it is left out as a whole
            flags[one.first : one.last + 1] = False
    return flags


def _unwanted(stops: list[tuple[int, int]], throttle: np.ndarray | None) -> list[tuple[int, int]]:
    """Stops with the throttle open; a part whose throttle was closed was stopped on purpose."""
    if throttle is None or not np.isfinite(throttle).any():
        return stops
    return [
        (a, b)
        for a, b in stops
        if np.isfinite(throttle[a : b + 1]).any()
        and float(np.nanmedian(throttle[a : b + 1])) >= CLOSED
    ]


CLOSED = 5.0
"""Throttle [%] below which nobody wants the part to turn."""

SET = frozenset(key for key, channel in CHANNELS.items() if channel.kind == "percent")
"""Channels that somebody sets, so that they stand still and jump."""


def never_started(marks: list[Mark], count: int) -> bool:
    """Whether a stall covers the whole recording of ``count`` samples."""
    return any(m.kind == "stall" and m.first == 0 and m.last == count - 1 for m in marks)
