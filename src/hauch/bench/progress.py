"""Counts of runs by test and entry, so that no page has to count all runs of a round."""

from __future__ import annotations

from django.db.models import Count, F, Q, QuerySet

from hauch.bench.models import Progress, Run
from hauch.bench.queries import counting, versions_in
from hauch.entries.models import Entry
from hauch.rounds.models import Round, Test


def _counts(chosen: QuerySet[Run]) -> list[Progress]:
    """Counts of runs, by test and entry."""
    valid = Q(state=Run.State.VALID)
    rows = (
        chosen.values(
            "test_id",
            entry_id=F("specimen__version__entry_id"),
            version_id=F("specimen__version_id"),
        )
        .annotate(
            counted=Count("id", filter=valid & Q(result__value__isnull=False)),
            missing=Count("id", filter=valid & Q(result__value__isnull=True)),
            dnf=Count("id", filter=Q(state=Run.State.DNF)),
        )
        .order_by()
    )
    return [Progress(**row) for row in rows]


def update(run: Run) -> None:
    """Count anew for what was run; inside the transaction that changed it.

    A run may bring another version into the standing, or take one out, so that all tests of its
    entry are counted; the entry is locked meanwhile, since its other tests may have a run in
    another transaction.
    """
    if run.specimen is None:
        old, runs = (
            Progress.objects.filter(test=run.test_id, entry=None),
            counting().filter(test=run.test_id, reference__isnull=False),
        )
    else:
        entry = run.specimen.version.entry_id
        Entry.objects.select_for_update(no_key=True).get(pk=entry)
        old, runs = (
            Progress.objects.filter(entry=entry),
            counting().filter(specimen__version__in=_taking_part(Entry.objects.filter(pk=entry))),
        )
    old.delete()
    Progress.objects.bulk_create(_counts(runs))


def rebuild(round: Round) -> None:
    """Count anew for a whole round."""
    Progress.objects.filter(test__round=round).delete()
    versions = _taking_part(round.entries.all())
    chosen = counting().filter(
        Q(specimen__version__in=versions) | Q(reference__isnull=False),
        test__in=Test.objects.filter(round=round),
    )
    Progress.objects.bulk_create(_counts(chosen), batch_size=2000)


def _taking_part(entries: QuerySet[Entry]) -> list[int]:
    return [version.pk for version in versions_in(entries).values()]
