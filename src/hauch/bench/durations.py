"""How long a run takes, from what was recorded."""

from __future__ import annotations

import itertools
from datetime import timedelta

from hauch.bench.models import Run
from hauch.core.plan.durations import Duration, duration
from hauch.rounds.models import Test

NEWEST = 300
FOLLOWS = timedelta(hours=2)
"""A run that began later than this after the one before was no part of the same work."""

BY_HAND, PER_READING = 4.0, 0.5
"""Minutes that a run takes by rule, beside its soak, and of each reading."""

UNTIL_SETTLED = 25.0
"""Minutes of a soak that ends when it has settled, by rule."""


def soak_minutes(test: Test) -> float:
    """Minutes that a run soaks, by rule [min]."""
    if test.soak == Test.Soak.SETTLED:
        return UNTIL_SETTLED
    return test.soak_minutes or 0.0 if test.soak == Test.Soak.MINUTES else 0.0


def hands_minutes(test: Test) -> tuple[float, float]:
    """Minutes that somebody mounts and reads in a run, by rule [min]."""
    return BY_HAND, max(PER_READING * test.readings, 0.5)


def run_minutes(test: Test) -> Duration:
    """Minutes from the beginning of a run to that of the next one in a test, from the record of its rig
    and procedure; before there is one by rule, from soak and readings.
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
    return duration(soak_minutes(test) + sum(hands_minutes(test)), gaps)
