"""Results: computed again from what was read."""

from __future__ import annotations

from dataclasses import dataclass

from django.db.models import Count
from django.utils import timezone

from hauch.bench.changes import round_changed
from hauch.bench.models import Result, Run
from hauch.bench.reduction import compute
from hauch.rounds.models import Round


@dataclass(frozen=True, slots=True)
class Recomputed:
    """What a recomputation found: how many results, and the runs whose figures changed."""

    count: int
    changed: list[int]


def recompute(runs, *, write: bool = True) -> Recomputed:
    """Compute results again from the raw readings and compare them digit for digit.

    Parameters
    ----------
    runs : QuerySet of valid runs
    write : store what changed; False only reports
    """
    changed, count, rounds = [], 0, {}
    for run in runs.with_raw().iterator(chunk_size=200):
        fields = compute(run)
        old = getattr(run, "result", None)
        count += 1
        if old is not None and all(
            getattr(old, name) == value for name, value in fields.items() if name != "core_version"
        ):
            if write and old.core_version != fields["core_version"]:
                Result.objects.filter(pk=old.pk).update(
                    core_version=fields["core_version"], computed_at=timezone.now()
                )
            continue
        changed.append(run.pk)
        if write:
            Result.objects.update_or_create(run=run, defaults=fields)
            rounds[run.test.round_id] = run.test.round
    for round in rounds.values():
        round_changed(round)
    return Recomputed(count, changed)


def runs_by_test(round: Round) -> dict[int, int]:
    """How many runs each test of a round has, of entries and of the reference."""
    rows = Run.objects.filter(test__round=round).values_list("test_id").annotate(count=Count("pk"))
    return dict(rows)
