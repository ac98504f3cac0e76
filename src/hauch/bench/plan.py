"""What the rules still ask for at the bench: the next runs, and why there are none."""

from __future__ import annotations

from collections import Counter
from collections.abc import Sequence
from dataclasses import dataclass
from typing import NamedTuple

from django.db.models import Exists, OuterRef, QuerySet, Subquery
from django.urls import reverse

from hauch.bench.models import AskedRepeats, Progress, Run
from hauch.entries.models import Entry, Version
from hauch.rounds.models import Round, Test, TestReference
from hauch.rounds.queries import round_tests
from hauch.stores.models import ReferenceSpecimen
from hauch.ui.missing import Missing
from hauch.workshop.models import Specimen


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

    @property
    def name(self) -> str:
        """What is run."""
        return self.specimen.version.entry.name if self.specimen else str(self.reference)

    @property
    def subject(self) -> str:
        """What is run, as forms name it."""
        return (
            f"s{self.specimen.pk}"
            if self.specimen
            else f"r{self.reference.pk}"
            if self.reference
            else ""
        )

    @property
    def waits(self) -> str:
        """Why it cannot be run yet, such as "on the printer"; empty where it can."""
        return (
            ""
            if self.specimen is None or self.specimen.state == Specimen.State.READY
            else self.specimen.get_state_display()
        )


class Lacking(NamedTuple):
    """An entry that lacks repeats: those so far, its order, the specimen to run, those wanted."""

    have: int
    order: int
    specimen: int
    wanted: int


MOST_CHOICES = 100
"""Rounds with more specimens ask for the code on the part instead of offering a list."""


@dataclass(frozen=True)
class Plan:
    """What the rules still ask for: the next runs, how many in all, and what there is to run.

    ``versions`` is the version by which each entry takes part, ``specimens`` holds all that can be
    run, or where there are ``many`` (more than `MOST_CHOICES`) only those that are due and the one
    asked for; ``references`` the active one by test, ``beside`` those that are run beside it;
    ``counts`` the runs that count by test and entry; ``without_result`` how many have no figure;
    ``lacking`` what entries lack, by test.
    """

    due: list[Due]
    total: int
    tests: list[Test]
    specimens: list[Specimen]
    references: dict[int, ReferenceSpecimen]
    beside: list[ReferenceSpecimen]
    counts: dict[tuple[int, int], int]
    versions: dict[int, int]
    many: bool
    without_result: int
    asked: dict[tuple[int, int], int]
    lacking: dict[int, list[Lacking]]

    def repeats_of(self, test: Test, entry: int | None) -> int:
        """Repeats that are wanted of an entry in a test: by the rules, or more where more are asked
        for.
        """
        return max(test.repeats, self.asked.get((test.pk, entry or 0), 0))

    @property
    def next(self) -> Due | None:
        """The next run whose part is at hand."""
        return next((due for due in self.due if not due.waits), None)

    def test(self, pk: int) -> Test | None:
        """One of the round's tests."""
        return next((test for test in self.tests if test.pk == pk), None)


BRACKET_EVERY = 4
"""After so many runs of entries the reference is due again."""


def bracket_due(test: Test) -> bool:
    """Whether so many runs of entries were made since the reference's last one that it is due
    again.
    """
    return test.pk in brackets_due([test])


def brackets_due(tests: Sequence[Test]) -> set[int]:
    """Of which tests the reference is due again; one query, of the last runs of each."""
    if not tests:
        return set()
    last = [
        Run.objects.filter(test=test, state=Run.State.VALID)
        .order_by("-started_at", "-pk")
        .values_list("test_id", "reference_id")[:BRACKET_EVERY]
        for test in tests
    ]
    of_entries: Counter[int] = Counter()
    for test, reference in last[0].union(*last[1:], all=True):
        of_entries[test] += reference is None
    return {test for test, count in of_entries.items() if count == BRACKET_EVERY}


def plan_of(round: Round, limit: int = 12, also: int | None = None) -> Plan:
    """What is due next, test by test. Did-not-finish and withdrawn entries are out, broken
    specimens too.

    Parameters
    ----------
    round : the round
    limit : how many due runs to name
    also : a specimen to have in the plan besides those that are due
    """
    tests = round_tests(round)
    counts: dict[tuple[int, int], int] = {}
    out: set[int] = set()
    referenced: set[int] = set()
    versions: dict[int, int] = {}
    asked: dict[tuple[int, int], int] = {}
    beyond = AskedRepeats.objects.filter(test=OuterRef("test"), entry=OuterRef("entry"))
    progress = Progress.objects.filter(test__in=tests).values_list(
        "test_id",
        "entry_id",
        "version_id",
        "counted",
        "dnf",
        "missing",
        Subquery(beyond.values("repeats")),  # whoever is asked for more was run already
    )
    without_result = 0
    for test_pk, entry, version, counted, dnf, no_result, more in progress:
        without_result += no_result
        if entry is None:
            referenced |= {test_pk} if counted else set()
            continue
        counts[test_pk, entry], versions[entry] = counted, version
        if more is not None:
            asked[test_pk, entry] = more
        if dnf:
            out.add(entry)
    prints = _prints_of(round, tests, counts, versions, out)
    assigned = list(
        TestReference.objects.filter(test__in=tests, until__isnull=True).select_related(
            "specimen__type"
        )
    )
    references = {row.test_id: row.specimen for row in assigned if not row.bridging}
    beside = list({row.specimen_id: row.specimen for row in assigned if row.bridging}.values())
    lacking = {test.pk: _lacking(test, prints.next, counts, prints.afresh, asked) for test in tests}
    again = brackets_due(
        [t for t in tests if lacking[t.pk] and t.pk in references and t.pk in referenced]
    )
    wanted: list[tuple[Test, int | None, int]] = []
    later: list[tuple[Test, int | None, int]] = []
    total = 0
    for test in tests:
        missing = lacking[test.pk]
        total += sum(one.wanted - one.have for one in missing)
        if missing and test.pk in references and (test.pk not in referenced or test.pk in again):
            wanted.append(
                (test, None, 1)
            )  # the reference goes first, and again after every few runs of entries
        wanted += [
            (test, one.specimen, one.have + 1)
            for one in missing
            if one.specimen not in prints.waiting
        ][: max(limit - len(wanted), 0)]
        later += [
            (test, one.specimen, one.have + 1) for one in missing if one.specimen in prints.waiting
        ][: max(limit - len(later), 0)]
    wanted = (wanted + later)[:limit]
    chosen = (
        Specimen.objects.filter(
            pk__in={pk for pk in (also, *(pk for _, pk, _ in wanted)) if pk is not None}
        )
        if prints.many
        else prints.usable
    )
    specimens = {specimen.pk: specimen for specimen in chosen.select_related("version__entry")}
    due = [
        Due(
            test,
            None if pk is None else specimens[pk],
            references[test.pk] if pk is None else None,
            repeat,
        )
        for test, pk, repeat in wanted
    ]
    return Plan(
        due,
        total,
        tests,
        list(specimens.values()),
        references,
        beside,
        counts,
        versions,
        prints.many,
        without_result,
        asked,
        lacking,
    )


def wanted_repeats(test: Test, specimen: Specimen | None) -> int:
    """Repeats that are wanted of a print in a test; of the reference where there is none."""
    if specimen is None:
        return test.repeats
    entry = specimen.version.entry_id
    asked = AskedRepeats.objects.filter(test=test, entry=entry).values_list("repeats", flat=True)
    return max(test.repeats, asked.first() or 0)


@dataclass(frozen=True)
class _Prints:
    """What of a round can be run: all ``usable`` prints, whether they are ``many``, which are
    ``waiting`` before the bench, the ``next`` one of each entry, and entries that go on ``afresh`` with
    the version after the one that was measured.
    """

    usable: QuerySet[Specimen]
    many: bool
    waiting: set[int]
    next: dict[int, int]
    afresh: set[int]


def _prints_of(
    round: Round,
    tests: list[Test],
    counts: dict[tuple[int, int], int],
    versions: dict[int, int],
    out: set[int],
) -> _Prints:
    """The prints of a round; fills in the ``versions`` that were named. Entries that are ``out`` have
    no next one.
    """
    usable = Specimen.objects.filter(
        version__entry__round=round, version__entry__state=Entry.State.IN
    ).exclude(state=Specimen.State.BROKEN)
    usable = usable.order_by("version__entry__name", "version__number", "code")
    named = Version.objects.filter(entry=OuterRef("version__entry"), named=True).values("pk")
    rows, waiting = [], set()
    ready: dict[int, tuple[int, int]] = {}
    numbers: dict[int, int] = {}
    for pk, entry, version, number, state, chosen in usable.values_list(
        "pk", "version__entry_id", "version_id", "version__number", "state", Subquery(named)
    ):
        numbers[version] = number
        if chosen is not None:
            versions[entry] = chosen
        if chosen not in (None, version):
            continue
        rows.append((pk, entry, version))
        if state == Specimen.State.READY:
            ready[entry] = (pk, version)  # the newest one
        else:
            waiting.add(pk)
    following = {entry: pk for pk, entry, _ in rows if entry not in out}
    following |= {
        entry: pk
        for pk, entry, version in rows
        if entry not in out and versions.get(entry) == version
    }  # goes on with what it began
    afresh = set()
    for entry, (pk, version) in ready.items():
        begun = numbers.get(versions.get(entry, version), 0)
        if entry in following and begun < numbers[version] and _complete(tests, entry, counts):
            following[entry] = pk  # and with the version after it, once that one is measured
            afresh.add(entry)
    return _Prints(usable, len(rows) > MOST_CHOICES, waiting, following, afresh)


def why_nothing_due(round: Round, plan: Plan) -> Missing | None:
    """What keeps the bench from having a next run; None where all that the rules ask for was run."""
    if not plan.tests:
        return Missing(
            "The round has no test yet.", reverse("change_rules", args=[round.slug]), "Add one"
        )
    entries = round.entries.filter(state=Entry.State.IN)
    printed = Specimen.objects.filter(version__entry=OuterRef("pk")).exclude(
        state=Specimen.State.BROKEN
    )
    gave_up = Progress.objects.filter(entry=OuterRef("pk"), test__in=plan.tests, dnf__gt=0)
    without = entries.exclude(Exists(printed)).exclude(Exists(gave_up))
    lacking = sum(
        any(plan.counts.get((test.pk, pk), 0) < test.repeats for test in plan.tests)
        for pk in without.values_list("pk", flat=True)
    )
    if lacking:
        return Missing(
            f"{lacking} {'entry has' if lacking == 1 else 'entries have'} no print that can be run.",
            reverse("workshop:list", args=[round.slug]),
            "Add one in the workshop",
        )
    if not plan.specimens and not entries.exists():
        return Missing(
            "No entry is in yet, so there is nothing to compare with the reference.",
            reverse("entries:list", args=[round.slug]),
            "Hand one in",
        )
    return None


def _complete(tests: list[Test], entry: int, counts: dict[tuple[int, int], int]) -> bool:
    """Whether an entry has all its repeats in every test."""
    return all(counts.get((test.pk, entry), 0) >= test.repeats for test in tests)


def _lacking(
    test: Test,
    newest: dict[int, int],
    counts: dict[tuple[int, int], int],
    afresh: set[int],
    asked: dict[tuple[int, int], int],
) -> list[Lacking]:
    """Entries that lack repeats in a test, the fewest first.

    Parameters
    ----------
    newest : entry -> its specimen that is run next, in the order of the plan
    counts : (test, entry) -> repeats that count
    afresh : entries whose next version begins, so that none of these repeats is its own
    asked : (test, entry) -> repeats that are asked for beyond the rules
    """
    rows, key, most = [], test.pk, test.repeats
    for order, (entry, pk) in enumerate(newest.items()):  # thousands, on each page of the bench
        count = 0 if entry in afresh else counts.get((key, entry), 0)
        wanted = most if not asked or entry in afresh else max(most, asked.get((key, entry), 0))
        if count < wanted:
            rows.append(Lacking(count, order, pk, wanted))
    return sorted(rows)
