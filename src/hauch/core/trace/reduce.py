"""From a recording of several channels to the readings that a procedure takes."""

from __future__ import annotations

from collections.abc import Collection, Mapping, Sequence
from dataclasses import dataclass, field, replace

import numpy as np

from hauch.core.measure.channels import CHANNELS, SPEEDS
from hauch.core.measure.meter import Meter, read
from hauch.core.measure.run import NoResult
from hauch.core.quantity import Influence, Quantity, Step
from hauch.core.trace.marks import SET, WORDS, Known, Mark, find_marks, known_of, never_started
from hauch.core.trace.settle import Settling, correlation_factor, fit_rise
from hauch.core.trace.source import Seconds, Stretch, Trace, seconds_of
from hauch.core.trace.steps import Stand, find_steps, is_sweep

STEADY_SHARE = 0.25
"""The last quarter of a recording is read as steady where nobody marked its readings."""

RISE_RESOLUTION = 0.3
"""Temperature step [K] that a settled end value must resolve where the round states none."""

LEFT_OUT = frozenset({"dropout", "spike", "stuck", "unit", "excluded"})
"""Marks whose samples are not averaged. A reading over the meter's range is, and its doubt says so."""


@dataclass(frozen=True, slots=True)
class Chosen:
    """What people chose in a recording.

    ``windows`` [(from s, to s)] are the stretches that were taken as readings; none means the last
    quarter. Of a sweep they are where its steps are looked for; none means everywhere. ``excluded``
    [(channel, from s, to s)] are stretches left out by hand, channel ``time`` for all channels.
    """

    windows: Sequence[tuple[float, float]] = ()
    excluded: Sequence[tuple[str, float, float]] = ()


@dataclass(frozen=True, slots=True)
class Reduced:
    """What a recording gives: steady readings by channel, their points, correlation, settled
    quantities, marks, settling.
    """

    readings: dict[str, np.ndarray]
    correlation: dict[str, float]
    steady: dict[str, Quantity]
    marks: list[Mark]
    settling: Settling | None
    windows: list[tuple[float, float]]
    positions: dict[str, np.ndarray] = field(default_factory=dict)
    left_out: dict[str, int] = field(default_factory=dict)


LEAD = 120.0
"""How much of a trace before a reading is looked at for faults around it [s]."""


def marks_of(
    stretch: Stretch, meters: Mapping[str, Meter], chosen: Chosen, known: Known | None = None
) -> list[Mark]:
    """Marks of a stretch: those that were found, and those that people made.

    Parameters
    ----------
    known : what all of the recording says, where this is a part of it
    """
    times = stretch.times
    marks = find_marks(
        times,
        stretch.channels,
        {key: m.resolution for key, m in meters.items()},
        {key: (m.low, m.high) for key, m in meters.items()},
        known,
    )
    for key, low, high in chosen.excluded:
        first, last = (
            int(np.searchsorted(times, low)),
            int(np.searchsorted(times, high, side="right")) - 1,
        )
        outside = last < first or first >= times.size
        if (key == "time" or key in stretch.channels) and not outside:
            marks.append(Mark(key, "excluded", first, last, low, high))
    return sorted(marks, key=lambda mark: (mark.first, mark.channel, mark.kind))


@dataclass(frozen=True, slots=True)
class _Part:
    """A stretch that is read: its samples, its marks, and the readings in it [(from s, to s)]."""

    stretch: Stretch
    marks: list[Mark]
    windows: list[tuple[float, float]]

    def good(self, key: str) -> np.ndarray:
        """Samples of a channel that are averaged, boolean, shape (n,)."""
        flags = np.isfinite(self.stretch.channels[key])
        for mark in self.marks:
            if mark.channel in {key, "time"} and mark.kind in LEFT_OUT:
                flags[mark.first : mark.last + 1] = False
        return flags


def needed(
    extent: tuple[float, float], windows: Sequence[tuple[float, float]]
) -> list[tuple[float, float]]:
    """The stretches of a recording [(from s, to s)] that its readings are taken from, in order; all
    of it where no readings were chosen.

    A reading needs `LEAD` before it and nothing after it, so that a figure stays what it is while
    the recording goes on.
    """
    if not windows:
        return [extent]
    found: list[tuple[float, float]] = []
    for begin, end in sorted(windows):
        low, high = max(begin - LEAD, extent[0]), min(end, extent[1])
        if found and low <= found[-1][1]:
            found[-1] = (found[-1][0], max(high, found[-1][1]))
        else:
            found.append((low, high))
    return found


def steady_readings(
    trace: Trace,
    meters: Mapping[str, Meter],
    run: str,
    rise_resolution: float = RISE_RESOLUTION,
    *,
    channels: Collection[str] | None = None,
    chosen: Chosen = Chosen(),
    by_point: bool = False,
    places: int = 0,
) -> Reduced:
    """Steady part of a recording, with faults marked and left out of the means.

    Parameters
    ----------
    trace : what was recorded; only the stretches that the readings need are read
    meters : channel key -> meter
    run : identity of the run
    rise_resolution : what the round asks of a settled temperature [K]
    channels : those that are wanted, where the trace has a sample of them; all where None
    chosen : windows that were taken as readings, and what was left out by hand
    by_point : split a sweep into its stands, one point each
    places : windows were read at so many places in turn; 0 where all were read at one

    Raises
    ------
    NoResult : nothing was recorded, the part never ran, it stopped, or there is no sweep where one
        is needed; says when
    """
    extent = trace.extent
    if extent is None:
        raise NoResult("Nothing was recorded. Check the meters' lines and record again.")
    chosen_windows = [(low, min(high, extent[1])) for low, high in chosen.windows]
    parts, whole = _parts(trace, meters, chosen, chosen_windows, extent, channels)
    keys = [
        key
        for key in parts[0].stretch.channels
        if any(np.isfinite(part.stretch.channels[key]).any() for part in parts) or whole.has(key)
    ]
    parts = [replace(part, stretch=part.stretch.only(keys)) for part in parts]
    marks = [m for part in parts for m in part.marks if m.channel == "time" or m.channel in keys]
    if by_point:
        part = parts[0]
        low, high = (chosen_windows[0][0], chosen_windows[-1][1]) if chosen_windows else extent
        swept = part.stretch.between(low, high)
        stands = _stands(swept.times, swept.channels, marks)
        windows = [(float(swept.times[s.steady]), float(swept.times[s.last])) for s in stands]
        parts = [replace(part, windows=windows)]
    else:
        windows = chosen_windows
    if not windows:
        windows = [(extent[1] - STEADY_SHARE * (extent[1] - extent[0]), extent[1])]
        parts = [replace(part, windows=windows) for part in parts]
    # What a meter shows out of its range while nobody reads it is of no account.
    marks = [
        m
        for m in marks
        if m.kind != "over_range"
        or any(m.from_s <= high and m.to_s >= low for low, high in windows)
    ]
    for part in parts:
        _refuse_stall(part, marks)
        _refuse_jump(part, marks)
    readings: dict[str, np.ndarray] = {}
    correlation: dict[str, float] = {}
    positions: dict[str, np.ndarray] = {}
    left_out: dict[str, int] = {}
    for key in keys:
        taken, lost = _samples(parts, windows, key)
        if key in SET and not any(samples.size for samples in taken):
            continue
        if not any(samples.size for samples in taken) or (
            by_point and not all(samples.size for samples in taken)
        ):
            raise NoResult(
                f"{CHANNELS[key].label}: no sample in {_in_words(windows)} is usable. Check the"
                " meter and record again.",
                marks,
            )
        readings[key] = np.concatenate(taken)
        correlation[key] = max(correlation_factor(samples) for samples in taken)
        left_out[key] = sum(lost)
        if by_point or places:
            numbers = np.arange(len(taken)) % (places or len(taken)) + 1
            positions[key] = np.repeat(numbers, [samples.size for samples in taken])
    steady: dict[str, Quantity] = {}
    settling = None
    if {"load_temperature", "room_temperature"} <= set(keys) and "load_temperature" in meters:
        end = windows[-1][1] if chosen_windows else extent[1]
        settling = _settle(trace, meters, chosen, rise_resolution, end)
        steady["load_temperature"] = _settled_load(
            settling, readings, meters["load_temperature"], run
        )
    return Reduced(readings, correlation, steady, marks, settling, windows, positions, left_out)


@dataclass(frozen=True, slots=True)
class Window:
    """One reading: by channel the samples that count, and how many do not."""

    low: float
    high: float
    samples: dict[str, np.ndarray]
    left_out: dict[str, int]


def windows_read(
    trace: Trace,
    meters: Mapping[str, Meter],
    windows: Sequence[tuple[float, float]],
    channels: Collection[str],
) -> list[Window]:
    """What each of some readings is made of, with the same faults left out as when a run is reduced."""
    extent = trace.extent
    if extent is None or not windows:
        return []
    within = [(low, min(high, extent[1])) for low, high in windows]
    parts, _ = _parts(trace, meters, Chosen(within), within, extent, channels)
    by_channel = {key: _samples(parts, within, key) for key in parts[0].stretch.channels}
    return [
        Window(
            low,
            high,
            {key: taken[i] for key, (taken, _) in by_channel.items()},
            {key: lost[i] for key, (_, lost) in by_channel.items()},
        )
        for i, (low, high) in enumerate(within)
    ]


def _parts(
    trace: Trace,
    meters: Mapping[str, Meter],
    chosen: Chosen,
    windows: Sequence[tuple[float, float]],
    extent: tuple[float, float],
    channels: Collection[str] | None,
) -> tuple[list[_Part], Seconds]:
    """The stretches that are needed with their marks, and all before their end by the second."""
    spans = needed(extent, windows)
    stretches = [trace.window(low, high, channels) for low, high in spans]
    whole = (
        seconds_of(stretches[0])
        if spans[0][0] <= extent[0] and len(spans) == 1
        else trace.seconds(extent[0], spans[-1][1], channels)
    )
    known = known_of(whole)
    return [
        _Part(
            stretch,
            marks_of(stretch, meters, chosen, known),
            [(low, high) for low, high in windows if span[0] <= high <= span[1]],
        )
        for span, stretch in zip(spans, stretches, strict=True)
    ], whole


def _samples(
    parts: Sequence[_Part], windows: Sequence[tuple[float, float]], key: str
) -> tuple[list[np.ndarray], list[int]]:
    """Samples of a channel that are averaged, by reading, and how many of each are not."""
    taken: dict[tuple[float, float], np.ndarray] = {}
    left_out: dict[tuple[float, float], int] = {}
    for part in parts:
        times, values, good = part.stretch.times, part.stretch.channels[key], part.good(key)
        for low, high in part.windows:
            inside = (times >= low) & (times <= high)
            taken[(low, high)] = values[inside & good]
            left_out[(low, high)] = int((inside & ~good).sum())
    return [taken[window] for window in windows], [left_out[window] for window in windows]


def _stands(
    times: np.ndarray, channels: Mapping[str, np.ndarray], marks: list[Mark]
) -> list[Stand]:
    try:
        stands = find_steps(times, channels)
    except ValueError as problem:
        raise NoResult(f"No curve: {problem}. Record one of them too.", marks) from problem
    if not is_sweep(stands):
        count = (
            f"only {len(stands)} step was" if len(stands) == 1 else f"only {len(stands)} steps were"
        )
        raise NoResult(
            f"A curve needs at least three steps of the throttle, {count} found. Hold each step for"
            " ten seconds or more.",
            marks,
        )
    return stands


def _refuse_stall(part: _Part, marks: list[Mark]) -> None:
    """Nothing is averaged over a part that stood still.

    Parameters
    ----------
    marks : all that were found, told with the reason
    """
    count = part.stretch.times.size
    if never_started(part.marks, count):
        raise NoResult(
            "The part never started: its speed stays at 0 1/min. Record it as did not finish.",
            marks,
        )
    for mark in part.marks:
        if mark.kind == "stall" and any(
            mark.from_s <= high and mark.to_s >= low for low, high in part.windows
        ):
            which = CHANNELS[mark.channel].label.lower().replace("speed", "part", 1)
            ended = (
                "and stood still to the end"
                if mark.last == count - 1
                else f"and stood still until {mark.to_s:.0f} s"
            )
            raise NoResult(
                f"The {which} stopped {mark.from_s:.0f} s after the start {ended}. Record it as did"
                " not finish.",
                marks,
            )


def _refuse_jump(part: _Part, marks: list[Mark]) -> None:
    """Where a meter jumps to another unit and stays, somebody has to say which side is right: by
    leaving one of them out, or the moment between where the part itself changed.
    """
    for mark in part.marks:
        if mark.kind != "jump":
            continue
        settled = any(
            one.kind == "excluded"
            and one.channel in {mark.channel, "time"}
            and one.first <= mark.last
            and one.last >= mark.first
            for one in part.marks
        )
        if not settled:
            raise NoResult(
                f"{CHANNELS[mark.channel].label} jumps at {mark.to_s:.1f} s and stays there, as"
                f" {mark.note}. Leave out by hand the side that is in the wrong unit (or the moment"
                " of the jump, where the part itself changed), or record again.",
                marks,
            )


def _in_words(windows: list[tuple[float, float]]) -> str:
    if len(windows) == 1:
        return f"the stretch from {windows[0][0]:.0f} to {windows[0][1]:.0f} s"
    return "one of the stretches that were read"


def mark_sentence(mark: Mark) -> str:
    """A mark as a sentence: what, where, and what was done about it."""
    label = "All channels" if mark.channel == "time" else CHANNELS[mark.channel].label
    where = (
        f"at {mark.from_s:.1f} s"
        if mark.samples == 1
        else f"from {mark.from_s:.1f} to {mark.to_s:.1f} s"
    )
    count = f"{mark.samples} sample" + ("" if mark.samples == 1 else "s")
    done = {
        "over_range": "kept, but the meter's limits do not hold there",
        "gap": "nothing can be said of that time",
        "stall": "not averaged",
        "jump": "which side is right cannot be told",
    }
    if mark.kind == "jump":
        where = f"at {mark.to_s:.1f} s"
    note = f", as {mark.note}," if mark.note else ""
    return (
        f"{label}: {WORDS[mark.kind]}{note} {where}"
        + (f" ({done[mark.kind]})" if mark.kind in done else f" ({count} left out)")
        + "."
    )


def _settle(
    trace: Trace, meters: Mapping[str, Meter], chosen: Chosen, resolution: float, end: float
) -> Settling:
    """Fit from the last turn of the throttle to the end of what was read: before it the body was on
    its way elsewhere. The means of each second do for a body that warms.
    """
    wanted = ["load_temperature", "room_temperature", "throttle", *SPEEDS]
    seconds = trace.seconds(high=end, channels=wanted)
    marks = marks_of(Stretch(seconds.times, seconds.mean), meters, chosen)
    load = seconds.mean["load_temperature"].copy()
    for mark in marks:
        if mark.channel in {"load_temperature", "time"} and mark.kind in LEFT_OUT:
            load[mark.first : mark.last + 1] = np.nan
    part = np.ones(load.size, bool)
    if "throttle" in seconds.mean:
        throttle = seconds.mean["throttle"]
        known = np.flatnonzero(np.isfinite(throttle))
        turns = known[1:][np.abs(np.diff(throttle[known])) > TURNED]
        if turns.size:
            part &= seconds.times >= seconds.times[turns[-1]]
    room = seconds.mean["room_temperature"]
    return fit_rise(seconds.times[part], load[part], room[part], resolution)


TURNED = 0.5
"""A throttle that moves by more than this between two samples was turned [%]."""


def _settled_load(
    settling: Settling, readings: Mapping[str, np.ndarray], meter: Meter, run: str
) -> Quantity:
    """The fitted end value in place of the mean, with the meter's own doubts."""
    tail = read("load_temperature", readings["load_temperature"], meter, run)
    room = float(np.mean(readings["room_temperature"]))
    shift = settling.rise + room - float(np.mean(readings["load_temperature"]))
    causes = {
        cause: part for cause, part in tail.parts.items() if not cause.key.endswith(":scatter")
    }
    causes[
        Influence(
            f"run:{run}:load_temperature:settling",
            "fit of the settling curve",
            "own",
            "A",
            settling.dof,
        )
    ] = settling.u
    step = Step(
        "Load temperature: end value",
        "T(t) = T_room + ΔT∞ − a₁ exp(−t/τ₁) − a₂ exp(−t/τ₂)",
        (
            ("ΔT∞", settling.rise, "K"),
            ("τ₂", settling.tau, "s"),
            ("T_room", room, "degC"),
            ("T∞ − T̄", shift, "K"),
        ),
        tail.value + shift,
        "degC",
        "first-order response of a light body in front of a heavy one",
        "Fitted above the room, which the body follows later by its time constant; all time"
        " constants count by how probable the trace makes them. T̄ is the mean of what was read.",
    )
    return replace(tail, value=tail.value + shift, parts=causes, working=(*tail.working, step))
