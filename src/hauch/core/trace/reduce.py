"""From a recording of several channels to the readings that a procedure takes."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field, replace

import numpy as np

from hauch.core.measure.channels import CHANNELS
from hauch.core.measure.meter import Meter, read
from hauch.core.measure.run import NoResult
from hauch.core.quantity import Influence, Quantity, Step
from hauch.core.trace.marks import Mark, find_marks
from hauch.core.trace.settle import Settling, correlation_factor, fit_settling

STEADY_SHARE = 0.25
"""The last quarter of a recording is read as steady."""

RISE_RESOLUTION = 0.3
"""Temperature step [K] that a settled end value must resolve where the round states none."""


@dataclass(frozen=True, slots=True)
class Reduced:
    """What a recording gives: steady readings by channel, their correlation, settled quantities, marks, settling."""

    readings: dict[str, np.ndarray]
    correlation: dict[str, float]
    steady: dict[str, Quantity]
    marks: list[Mark]
    settling: Settling | None
    window: tuple[float, float]
    left_out: dict[str, int] = field(default_factory=dict)


def steady_readings(
    times: np.ndarray, channels: Mapping[str, np.ndarray], meters: Mapping[str, Meter], run: str, rise_resolution: float = RISE_RESOLUTION
) -> Reduced:
    """Steady part of a recording, with faults marked and left out of the means.

    Parameters
    ----------
    times : seconds from the start, shape (n,)
    channels : channel key -> values, shape (n,) [SI unit of the channel], NaN where there is no sample
    meters : channel key -> meter
    run : identity of the run
    rise_resolution : what the round asks of a settled temperature [K]

    Raises
    ------
    NoResult : the part never ran, or it stopped; says when
    """
    times = np.asarray(times, dtype=float)
    marks = find_marks(times, dict(channels), {key: meter.resolution for key, meter in meters.items()})
    stall = next((mark for mark in marks if mark.kind == "stall"), None)
    if stall is not None:
        if stall.first == 0:
            raise NoResult("The part never started: its speed stays at 0 1/min. Record it as did not finish.", marks)
        raise NoResult(f"The part stopped {stall.from_s:.0f} s after the start and stood still to the end. Record it as did not finish.", marks)
    start = times[-1] - STEADY_SHARE * (times[-1] - times[0])
    inside = times >= start
    readings: dict[str, np.ndarray] = {}
    correlation: dict[str, float] = {}
    left_out: dict[str, int] = {}
    for key, values in channels.items():
        good = inside & np.isfinite(values)
        for mark in marks:
            if mark.channel == key:
                good[mark.first : mark.last + 1] = False
        if not good.any():
            raise NoResult(
                f"{CHANNELS[key].label}: no sample in the last {times[-1] - start:.0f} s is usable. Check the meter and record again.", marks
            )
        readings[key] = np.asarray(values)[good]
        correlation[key] = correlation_factor(readings[key])
        left_out[key] = int(inside.sum() - good.sum())
    steady: dict[str, Quantity] = {}
    settling = None
    if {"load_temperature", "room_temperature"} <= set(channels) and "load_temperature" in meters:
        settling = _settle(times, channels, marks, rise_resolution)
        steady["load_temperature"] = _settled_load(settling, readings, meters["load_temperature"], run)
    return Reduced(readings, correlation, steady, marks, settling, (float(start), float(times[-1])), left_out)


def _settle(times: np.ndarray, channels: Mapping[str, np.ndarray], marks: list[Mark], resolution: float) -> Settling:
    load = np.array(channels["load_temperature"], dtype=float)
    for mark in marks:
        if mark.channel == "load_temperature":
            load[mark.first : mark.last + 1] = np.nan
    return fit_settling(times, load, resolution)


def _settled_load(settling: Settling, readings: Mapping[str, np.ndarray], meter: Meter, run: str) -> Quantity:
    """The fitted end value in place of the mean, with the meter's own doubts."""
    tail = read("load_temperature", readings["load_temperature"], meter, run)
    shift = settling.end - float(np.mean(readings["load_temperature"]))
    causes = {cause: part for cause, part in tail.parts.items() if not cause.key.endswith(":scatter")}
    causes[Influence(f"run:{run}:load_temperature:settling", "fit of the settling curve", "own", "A", settling.dof)] = settling.u
    step = Step(
        "Load temperature: end value", "T(t) = T∞ − (T∞ − T₀) exp(−t/τ)", (("τ", settling.tau, "s"),), tail.value + shift, "degC",
        "first-order response of a lumped body", f"{shift:+.2g} K over the mean of the last quarter",
    )  # fmt: skip
    return replace(tail, value=tail.value + shift, parts=causes, working=(*tail.working, step))
