"""From a recording of several channels to the readings that a procedure takes."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field, replace

import numpy as np

from hauch.core.measure.channels import CHANNELS
from hauch.core.measure.meter import Meter, read
from hauch.core.measure.run import NoResult
from hauch.core.quantity import Influence, Quantity, Step
from hauch.core.trace.marks import SET, WORDS, Mark, find_marks, never_started
from hauch.core.trace.settle import Settling, correlation_factor, fit_settling
from hauch.core.trace.steps import Stand, find_steps, is_sweep

STEADY_SHARE = 0.25
"""The last quarter of a recording is read as steady where nobody marked its readings."""

RISE_RESOLUTION = 0.3
"""Temperature step [K] that a settled end value must resolve where the round states none."""

LEFT_OUT = frozenset({"dropout", "spike", "stuck", "excluded"})
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


def marks_of(
    times: np.ndarray,
    channels: Mapping[str, np.ndarray],
    meters: Mapping[str, Meter],
    chosen: Chosen,
) -> list[Mark]:
    """Marks that were found, and those that people made."""
    marks = find_marks(
        times,
        channels,
        {key: m.resolution for key, m in meters.items()},
        {key: (m.low, m.high) for key, m in meters.items()},
    )
    for key, low, high in chosen.excluded:
        first, last = (
            int(np.searchsorted(times, low)),
            int(np.searchsorted(times, high, side="right")) - 1,
        )
        if key == "time" or key in channels:
            marks.append(Mark(key, "excluded", first, max(last, first), low, high))
    return sorted(marks, key=lambda mark: (mark.first, mark.channel, mark.kind))


def steady_readings(
    times: np.ndarray,
    channels: Mapping[str, np.ndarray],
    meters: Mapping[str, Meter],
    run: str,
    rise_resolution: float = RISE_RESOLUTION,
    *,
    chosen: Chosen = Chosen(),
    by_point: bool = False,
    places: int = 0,
) -> Reduced:
    """Steady part of a recording, with faults marked and left out of the means.

    Parameters
    ----------
    times : seconds from the start, shape (n,)
    channels : channel key -> values, shape (n,) [SI unit of the channel], NaN where there is no
        sample
    meters : channel key -> meter
    run : identity of the run
    rise_resolution : what the round asks of a settled temperature [K]
    chosen : windows that were taken as readings, and what was left out by hand
    by_point : split a sweep into its stands, one point each
    places : windows were read at so many places in turn; 0 where all were read at one

    Raises
    ------
    NoResult : the part never ran, it stopped, or there is no sweep where one is needed; says when
    """
    times = np.asarray(times, dtype=float)
    marks = marks_of(times, channels, meters, chosen)
    if by_point:
        low, high = (
            (chosen.windows[0][0], chosen.windows[-1][1])
            if chosen.windows
            else (float(times[0]), float(times[-1]))
        )
        part = slice(
            int(np.searchsorted(times, low)), int(np.searchsorted(times, high, side="right"))
        )
        stands = _stands(
            times[part], {key: values[part] for key, values in channels.items()}, marks
        )
        windows = [(float(times[part][s.steady]), float(times[part][s.last])) for s in stands]
    else:
        windows = list(chosen.windows)
    windows = windows or [
        (float(times[-1] - STEADY_SHARE * (times[-1] - times[0])), float(times[-1]))
    ]
    # What a meter shows out of its range while nobody reads it is of no account.
    marks = [
        m
        for m in marks
        if m.kind != "over_range"
        or any(m.from_s <= high and m.to_s >= low for low, high in windows)
    ]
    _refuse_stall(marks, windows, times.size)
    readings: dict[str, np.ndarray] = {}
    correlation: dict[str, float] = {}
    positions: dict[str, np.ndarray] = {}
    left_out: dict[str, int] = {}
    for key, values in channels.items():
        good = np.isfinite(values)
        for mark in marks:
            if mark.channel in {key, "time"} and mark.kind in LEFT_OUT:
                good[mark.first : mark.last + 1] = False
        parts = [np.flatnonzero(good & (times >= low) & (times <= high)) for low, high in windows]
        if key in SET and not any(part.size for part in parts):
            continue
        if not any(part.size for part in parts) or (
            by_point and not all(part.size for part in parts)
        ):
            raise NoResult(
                f"{CHANNELS[key].label}: no sample in {_in_words(windows)} is usable. Check the"
                " meter and record again.",
                marks,
            )
        readings[key] = np.concatenate([np.asarray(values)[part] for part in parts])
        correlation[key] = max(correlation_factor(np.asarray(values)[part]) for part in parts)
        left_out[key] = (
            sum(int(((times >= low) & (times <= high)).sum()) for low, high in windows)
            - readings[key].size
        )
        if by_point or places:
            numbers = np.arange(len(parts)) % (places or len(parts)) + 1
            positions[key] = np.repeat(numbers, [part.size for part in parts])
    steady: dict[str, Quantity] = {}
    settling = None
    if {"load_temperature", "room_temperature"} <= set(channels) and "load_temperature" in meters:
        settling = _settle(
            times,
            channels,
            marks,
            rise_resolution,
            windows[-1][1] if chosen.windows else float(times[-1]),
        )
        steady["load_temperature"] = _settled_load(
            settling, readings, meters["load_temperature"], run
        )
    return Reduced(readings, correlation, steady, marks, settling, windows, positions, left_out)


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


def _refuse_stall(marks: list[Mark], windows: list[tuple[float, float]], count: int) -> None:
    """Nothing is averaged over a part that stood still."""
    if never_started(marks, count):
        raise NoResult(
            "The part never started: its speed stays at 0 1/min. Record it as did not finish.",
            marks,
        )
    for mark in marks:
        if mark.kind == "stall" and any(
            mark.from_s <= high and mark.to_s >= low for low, high in windows
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


def _in_words(windows: list[tuple[float, float]]) -> str:
    if len(windows) == 1:
        return f"the stretch from {windows[0][0]:.0f} to {windows[0][1]:.0f} s"
    return "one of the stretches that were read"


def told(mark: Mark) -> str:
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
    }
    return (
        f"{label}: {WORDS[mark.kind]} {where}"
        + (f" ({done[mark.kind]})" if mark.kind in done else f" ({count} left out)")
        + "."
    )


def _settle(
    times: np.ndarray,
    channels: Mapping[str, np.ndarray],
    marks: list[Mark],
    resolution: float,
    end: float,
) -> Settling:
    """Fit from the last turn of the throttle to the end of what was read: before it the body was on
    its way elsewhere.
    """
    load = np.array(channels["load_temperature"], dtype=float)
    for mark in marks:
        if mark.channel in {"load_temperature", "time"} and mark.kind in LEFT_OUT:
            load[mark.first : mark.last + 1] = np.nan
    part = times <= end
    if "throttle" in channels:
        throttle = np.asarray(channels["throttle"], dtype=float)
        known = np.flatnonzero(np.isfinite(throttle) & part)
        turns = known[1:][np.abs(np.diff(throttle[known])) > TURNED]
        if turns.size:
            part &= times >= times[turns[-1]]
    return fit_settling(times[part], load[part], resolution)


TURNED = 0.5
"""A throttle that moves by more than this between two samples was turned [%]."""


def _settled_load(
    settling: Settling, readings: Mapping[str, np.ndarray], meter: Meter, run: str
) -> Quantity:
    """The fitted end value in place of the mean, with the meter's own doubts."""
    tail = read("load_temperature", readings["load_temperature"], meter, run)
    shift = settling.end - float(np.mean(readings["load_temperature"]))
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
        "T(t) = T∞ − (T∞ − T₀) exp(−t/τ)",
        (("τ", settling.tau, "s"), ("T∞ − T̄", shift, "K")),
        tail.value + shift,
        "degC",
        "first-order response of a lumped body",
        "T̄ is the mean of the last quarter.",
    )
    return replace(tail, value=tail.value + shift, parts=causes, working=(*tail.working, step))
