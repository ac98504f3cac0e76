"""Reading the bench: runs that a person may see and what is due next."""

from __future__ import annotations

from dataclasses import dataclass

from django.db.models import Count, Q, QuerySet

from hauch.bench.models import Run
from hauch.entries.models import Entry
from hauch.people.models import User
from hauch.people.permissions import allowed
from hauch.rounds.models import Round, Test, TestReference
from hauch.stores.models import ReferenceSpecimen
from hauch.workshop.models import Specimen


class RunQuerySet(QuerySet):
    """Runs, with the ways in which pages need them."""

    def with_names(self):
        """With all that a run's line names."""
        return self.select_related("test__round", "specimen__version__entry", "reference__type", "operator", "result", "setting")

    def with_raw(self):
        """With all that a reduction reads."""
        return self.select_related("test__round", "test__rig", "recording", "result").prefetch_related("readings", "test__rig__meters__instrument")

    def visible_to(self, user: User, round: Round):
        """Runs of a round that a person may see: all for the bench, own entries for a designer, all once published."""
        runs = self.filter(test__round=round)
        if allowed(user, "entry.view_all", round):
            return runs
        if allowed(user, "round.view", round):
            return runs.filter(Q(reference__isnull=False) | Q(specimen__version__entry__designer=user))
        return runs.none()


def runs() -> RunQuerySet:
    """All runs."""
    return RunQuerySet(Run)


@dataclass(frozen=True, slots=True)
class Due:
    """A run that the rules still ask for."""

    test: Test
    specimen: Specimen | None
    reference: ReferenceSpecimen | None
    repeat: int

    @property
    def label(self) -> str:
        """Test and repeat in words."""
        return f"{self.test.label}, repeat {self.repeat}"


def counts_of(round: Round) -> dict[tuple[int, int], int]:
    """Valid runs that count, by test and entry."""
    rows = (
        Run.objects.filter(test__round=round, state=Run.State.VALID, specimen__isnull=False, result__value__isnull=False)
        .values_list("test_id", "specimen__version__entry_id")
        .annotate(n=Count("id"))
        .order_by()
    )
    return {(test, entry): n for test, entry, n in rows}


def dnf_entries(round: Round) -> dict[int, Run]:
    """Entries that did not finish, by entry id, with the run that says why."""
    rows = Run.objects.filter(test__round=round, state=Run.State.DNF, specimen__isnull=False).select_related("specimen__version", "test")
    return {run.specimen.version.entry_id: run for run in rows.order_by("-started_at")}


def due_runs(round: Round, limit: int = 12) -> tuple[list[Due], int]:
    """What is due next, test by test, and how many runs are due in all. Did-not-finish and withdrawn entries are out."""
    out = dnf_entries(round)
    counts = counts_of(round)
    specimens: dict[int, Specimen] = {}
    ready = Specimen.objects.filter(version__entry__round=round, version__entry__state=Entry.State.IN).exclude(state=Specimen.State.BROKEN)
    for specimen in ready.select_related("version__entry").order_by("version__entry__name", "version__number", "code"):
        if specimen.version.entry_id not in out:
            specimens[specimen.version.entry_id] = specimen
    due: list[Due] = []
    total = 0
    tests = list(round.tests.select_related("round"))
    active = {row.test_id: row.specimen for row in TestReference.objects.filter(test__in=tests, until__isnull=True).select_related("specimen__type")}
    for test in tests:
        missing = [(entry, s, counts.get((test.pk, entry), 0)) for entry, s in specimens.items() if counts.get((test.pk, entry), 0) < test.repeats]
        total += sum(test.repeats - count for _, _, count in missing)
        if missing and len(due) < limit and test.pk in active and not Run.objects.filter(test=test, reference=active[test.pk], state="valid").exists():
            due.append(Due(test, None, active[test.pk], 1))
        for _, specimen, count in sorted(missing, key=lambda item: item[2]):
            if len(due) < limit:
                due.append(Due(test, specimen, None, count + 1))
    return due, total


def active_reference(test: Test) -> ReferenceSpecimen | None:
    """The reference specimen that a test is bracketed with now."""
    row = test.references.filter(until__isnull=True).select_related("specimen__type").first()
    return row.specimen if row else None
