"""Rise over time: how the load of versions warms beside each other, from their recordings."""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np

from hauch.bench.models import Run
from hauch.bench.traces import MINUTE, trace_of
from hauch.core.trace.thin import seconds_binned
from hauch.entries.models import Version
from hauch.rounds.models import Test

LOAD, ROOM = "load_temperature", "room_temperature"
POINTS = 240
"""So many points are drawn of each."""


@dataclass(frozen=True)
class Rise:
    """How the newest run of a part warmed.

    Parameters
    ----------
    times : from the beginning [s]
    rise : of the load above the room [K]
    """

    run: Run
    times: np.ndarray
    rise: np.ndarray


@dataclass(frozen=True)
class Rises:
    """A test's rises: of each version that is asked for, and of the reference; None where there is no
    recording of one.
    """

    test: Test
    of: list[Rise | None]
    reference: Rise | None


def rises_of(versions: Sequence[Version], tests: Sequence[Test]) -> list[Rises]:
    """Rises over time of tests that read a load's temperature, where any was recorded."""
    found = []
    for test in tests:
        if not any(LOAD in group for group in test.how.needs):
            continue
        recorded = (
            Run.objects.filter(
                test=test,
                state=Run.State.VALID,
                setting=test.setting_id,
                recording__isnull=False,
                recording__set_aside_at=None,
            )
            .select_related("recording")
            .order_by("-started_at", "-pk")
        )
        mine = [_rise(recorded.filter(specimen__version=one).first()) for one in versions]
        if any(one is not None for one in mine):
            found.append(Rises(test, mine, _rise(recorded.filter(reference__isnull=False).first())))
    return found


def _rise(run: Run | None) -> Rise | None:
    """The rise of a run; None without one, or where its load was not read."""
    if run is None or run.recording is None:
        return None
    trace = trace_of(run.recording)
    extent = trace.extent
    if extent is None:
        return None
    shared = Run.objects.filter(recording=run.recording).exclude(pk=run.pk).exists()
    low, high = (run.windows[0][0], run.windows[-1][1]) if shared and run.windows else extent
    seconds = trace.some_minutes(low, high, (LOAD, ROOM), POINTS)
    if not seconds.has(LOAD):
        return None
    width = min(max((high - low) / POINTS, 1.0), MINUTE)
    starts, _, _, load = seconds_binned(seconds, LOAD, width)
    every = math.ceil(starts.size / POINTS)
    starts, load = starts[::every], load[::every]
    times = np.minimum(starts + width / 2, high)  # a mean stands at the middle of its stretch
    if seconds.has(ROOM):
        at, _, _, read = seconds_binned(seconds, ROOM, width)
        room = np.interp(starts, at, read)
    elif run.temperature is not None:
        room = np.full(times.size, run.temperature)
    else:
        return None
    return Rise(run, np.maximum(times - low, 0.0), load - room)
