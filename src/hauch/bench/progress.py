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
    if run.specimen is not None:
        update_entry(run.specimen.version.entry_id)
        return
    Progress.objects.filter(test=run.test_id, entry=None).delete()
    of_reference = counting().filter(test=run.test_id, reference__isnull=False)
    Progress.objects.bulk_create(_counts(of_reference))


def update_entry(entry: int) -> None:
    """Count anew for an entry, by the version that takes part now."""
    Entry.objects.select_for_update(no_key=True).get(pk=entry)
    Progress.objects.filter(entry=entry).delete()
    taking_part = _taking_part(Entry.objects.filter(pk=entry))
    Progress.objects.bulk_create(_counts(counting().filter(specimen__version__in=taking_part)))


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
