"""What is found beside a live recording, from a snapshot of it: faults and a forecast; and what turns
its throttle by rule.
"""

from __future__ import annotations

import math
from dataclasses import dataclass
from typing import Literal

import numpy as np

from hauch.core.measure.seek import Search, Stepper
from hauch.core.trace.marks import Mark, find_marks
from hauch.core.trace.settle import Settling, fit_rise
from hauch.live.protocol import TaskSaid

SPIKE_LIVE = 5.5
"""A sample so many robust standard deviations off is told at once: each is looked at a hundred times
while it passes through the last minute. What a reading leaves out is found when it is reduced.
"""
LEAST_ROWS, LEAST_SECONDS = 30, 30
"""Fewer rows tell no fault, fewer seconds no forecast."""


@dataclass
class Task:
    """What turns the throttle by rule: a search for a figure, or a sweep."""

    kind: Literal["hold", "sweep"]
    machine: Search | Stepper
    channel: str = ""
    since: float = math.nan
    text: str = ""
    done: bool = False
    held: bool = False
    begun: float = 0.0
    """Second of the recording at which it began."""

    def said(self) -> TaskSaid:
        """Enough for another recorder to go on with it."""
        step = self.machine.at if isinstance(self.machine, Stepper) else None
        return TaskSaid(self.kind, self.text, self.done, self.held, self.begun, step)


@dataclass(frozen=True, slots=True)
class Snapshot:
    """A session at one moment, for whoever assesses it beside the recording: the rows of the last
    minute, shape (n, channels), from tick ``first`` on; and of load and room the means of each
    second since the throttle was turned, all shape (m,).
    """

    channels: list[str]
    rate: float
    first: int
    rows: np.ndarray
    seconds_at: np.ndarray
    load: np.ndarray
    room: np.ndarray
    resolution: float

    @property
    def now(self) -> float:
        """Seconds of the recording after its newest row."""
        return (self.first + len(self.rows)) / self.rate


@dataclass(frozen=True, slots=True)
class Assessed:
    """What a snapshot comes to: faults of the last minute, and where the load is heading; None
    where it cannot be told yet.
    """

    marks: list[Mark]
    rows: int
    now: float
    forecast: Settling | None


def assessed(snapshot: Snapshot) -> Assessed:
    """Faults and forecast of a snapshot."""
    marks, rows = [], snapshot.rows
    if len(rows) >= LEAST_ROWS:
        times = (snapshot.first + np.arange(len(rows))) / snapshot.rate
        marks = find_marks(
            times, {key: rows[:, i] for i, key in enumerate(snapshot.channels)}, sigmas=SPIKE_LIVE
        )
    forecast = None
    if np.isfinite(snapshot.load).sum() >= LEAST_SECONDS:
        forecast = fit_rise(snapshot.seconds_at, snapshot.load, snapshot.room, snapshot.resolution)
    return Assessed(marks, len(rows), snapshot.now, forecast)
