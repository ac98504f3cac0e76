"""Reading the bench: runs that a person may see and what is due next."""

from __future__ import annotations

from dataclasses import dataclass

from django.db.models import Count, F, Q, QuerySet

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


@dataclass(frozen=True)
class Plan:
    """What the rules still ask for: the next runs, how many in all, and what there is to run."""

    due: list[Due]
    total: int
    tests: list[Test]
    specimens: list[Specimen]
    references: dict[int, ReferenceSpecimen]
    """Active reference specimen by test."""
    counts: dict[tuple[int, int | None], int]
    """Valid runs by test and entry, for entries only."""

    def test(self, pk: int) -> Test | None:
        """One of the round's tests."""
        return next((test for test in self.tests if test.pk == pk), None)


def dnf_entries(round: Round) -> dict[int, Run]:
    """Entries that did not finish, by entry id, with the run that says why."""
    rows = Run.objects.filter(test__round=round, state=Run.State.DNF, specimen__isnull=False).select_related("specimen__version", "test")
    return {run.specimen.version.entry_id: run for run in rows.order_by("-started_at")}


def plan_of(round: Round, limit: int = 12) -> Plan:
    """What is due next, test by test. Did-not-finish and withdrawn entries are out, broken specimens too."""
    tests = list(round.tests.select_related("rig", "setting"))
    for test in tests:
        test.round = round
    counts, out, referenced = _progress(round)
    ready = Specimen.objects.filter(version__entry__round=round, version__entry__state=Entry.State.IN).exclude(state=Specimen.State.BROKEN)
    specimens = list(ready.select_related("version__entry").order_by("version__entry__name", "version__number", "code"))
    newest = {s.version.entry_id: s for s in specimens if s.version.entry_id not in out}
    active = TestReference.objects.filter(test__round=round, until__isnull=True).select_related("specimen__type")
    references = {row.test_id: row.specimen for row in active}
    due: list[Due] = []
    total = 0
    for test in tests:
        missing = [(s, counts.get((test.pk, entry), 0)) for entry, s in newest.items() if counts.get((test.pk, entry), 0) < test.repeats]
        total += sum(test.repeats - count for _, count in missing)
        if missing and len(due) < limit and test.pk in references and test.pk not in referenced:
            due.append(Due(test, None, references[test.pk], 1))
        for specimen, count in sorted(missing, key=lambda item: item[1])[: max(limit - len(due), 0)]:
            due.append(Due(test, specimen, None, count + 1))
    return Plan(due, total, tests, specimens, references, counts)


def _progress(round: Round) -> tuple[dict[tuple[int, int | None], int], set[int], set[int]]:
    """Runs that count by test and entry, entries that did not finish, tests in which the reference was run."""
    rows = (
        Run.objects.filter(test__round=round, setting=F("test__setting"))
        .values_list("test_id", "specimen__version__entry_id", "state")
        .annotate(n=Count("id", filter=Q(result__value__isnull=False)))
        .order_by()
    )
    counts: dict[tuple[int, int | None], int] = {}
    out, referenced = set(), set()
    for test, entry, state, n in rows:
        if entry is None:
            referenced |= {test} if state == Run.State.VALID and n else set()
        elif state == Run.State.DNF:
            out.add(entry)
        elif state == Run.State.VALID:
            counts[test, entry] = n
    return counts, out, referenced
