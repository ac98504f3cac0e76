"""How long a run takes, from what was recorded."""

from __future__ import annotations

import itertools
import statistics
from dataclasses import dataclass
from datetime import timedelta

from hauch.bench.models import Run
from hauch.rounds.models import Test

NEWEST = 300
FOLLOWS = timedelta(hours=2)
"""A run that began later than this after the one before was no part of the same work."""

LEAST_KNOWN = 3
"""So many gaps tell how long a run takes."""

BY_HAND, PER_READING = 4.0, 0.5
"""Minutes that a run takes by rule, beside its soak, and of each reading."""


@dataclass(frozen=True, slots=True)
class Duration:
    """Minutes that a run takes, and how many of the record tell it; 0: by rule."""

    minutes: float
    runs: int


def run_minutes(test: Test) -> Duration:
    """Minutes from the beginning of a run to that of the next one in a test: the median of the
    record of its rig and procedure; before there is one by rule, from soak and readings.
    """
    moments = list(
        Run.objects.filter(rig__name=test.rig.name, test__procedure=test.procedure)
        .exclude(state=Run.State.VOID)
        .filter(carried_from=None)
        .order_by("-started_at")
        .values_list("started_at", flat=True)[:NEWEST]
    )
    gaps = [
        (later - earlier).total_seconds() / 60
        for later, earlier in itertools.pairwise(moments)
        if timedelta(0) < later - earlier <= FOLLOWS
    ]
    if len(gaps) >= LEAST_KNOWN:
        return Duration(statistics.median(gaps), len(gaps))
    soak = test.soak_minutes or 0.0
    return Duration(soak + BY_HAND + PER_READING * test.readings, 0)
