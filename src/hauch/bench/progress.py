"""Counts of runs by test and entry, so that no page has to count all runs of a round."""

from __future__ import annotations

from django.db.models import Count, F, Q, QuerySet

from hauch.bench.models import Progress, Run
from hauch.rounds.models import Round, Test


def _counts(chosen: QuerySet[Run]) -> list[dict[str, int]]:
    """Counts of runs at the scored setting, by test and entry."""
    valid = Q(state=Run.State.VALID)
    return list(
        chosen.filter(setting=F("test__setting"))
        .values("test_id", entry_id=F("specimen__version__entry_id"))
        .annotate(
            counted=Count("id", filter=valid & Q(result__value__isnull=False)),
            missing=Count("id", filter=valid & Q(result__value__isnull=True)),
            dnf=Count("id", filter=Q(state=Run.State.DNF)),
        )
        .order_by()
    )


def update(run: Run) -> None:
    """Count anew for the run's test and entry; inside the transaction that changed it."""
    of_test = Run.objects.filter(test=run.test_id)
    same = of_test.filter(specimen__version__entry=run.specimen.version.entry_id) if run.specimen else of_test.filter(reference__isnull=False)
    for row in _counts(same):
        Progress.objects.update_or_create(test_id=row.pop("test_id"), entry_id=row.pop("entry_id"), defaults=row)


def rebuild(round: Round) -> None:
    """Count anew for a whole round."""
    tests = Test.objects.filter(round=round)
    Progress.objects.filter(test__in=tests).delete()
    Progress.objects.bulk_create((Progress(**row) for row in _counts(Run.objects.filter(test__in=tests))), batch_size=2000)
