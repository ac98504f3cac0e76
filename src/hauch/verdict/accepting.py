"""Accept or reject: versions of an entry against the reference and the version before, by criteria that
were set beforehand; what was decided stands in the version's history.
"""

from __future__ import annotations

import math
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field
from typing import Any

import numpy as np
from django.core.exceptions import PermissionDenied, ValidationError
from django.db import transaction
from django.utils import timezone

from hauch.bench.models import Run
from hauch.bench.scatter import components_of
from hauch.core.judge.accept import Bracket, Finding, Tried, bracket, found, verdict
from hauch.core.judge.accept import Criterion as Asked
from hauch.core.judge.components import PRINT
from hauch.core.judge.difference import NOT_REPEATED
from hauch.core.judge.field import TestData, compared
from hauch.core.judge.reference import between
from hauch.core.quantity import effective_dof, expanded
from hauch.core.quantity.typed import parse_number
from hauch.entries.actions import may_name
from hauch.entries.models import Entry, Version
from hauch.people.audit import record
from hauch.people.models import User
from hauch.people.permissions import require
from hauch.rounds.models import Round, Test
from hauch.verdict.actions import AT_ONCE_UP_TO
from hauch.verdict.compute import versions_of
from hauch.verdict.models import Criterion, Decision
from hauch.workshop.models import Measure

MOST_LOSS = 1e6


@dataclass(frozen=True, slots=True)
class Change:
    """A change of a version in a test as it is told: its size and half-width at 95 %, None where
    nothing tells how a run scatters; of so many runs of so many prints.
    """

    test: Test
    value: float
    half: float | None
    runs: int
    prints: int

    @property
    def clear(self) -> bool:
        """Whether it can be told from nothing."""
        return self.half is not None and abs(self.value) > self.half

    @property
    def good(self) -> bool:
        """Whether it is to the better."""
        return self.value * self.test.how.direction > 0


@dataclass
class Judgement:
    """A version beside the reference and the one before it.

    ``word`` is accepted, rejected or open by the criteria, empty without any; ``late`` are criteria
    that were set after its first run.
    """

    version: Version
    before: Version | None
    against_reference: list[Change]
    against_before: list[Change]
    findings: list[Finding] = field(default_factory=list)
    untold: list[str] = field(default_factory=list)
    late: list[Criterion] = field(default_factory=list)
    word: str = ""
    sentence: str = ""

    @property
    def rows(self) -> list[dict[str, Any]]:
        """Test by test: the change against the reference and against the version before."""
        other = {change.test.pk: change for change in self.against_before}
        return [
            {"test": one.test, "reference": one, "before": other.get(one.test.pk)}
            for one in self.against_reference
        ]

    @property
    def prints(self) -> int:
        """Fewest prints that a figure is of."""
        return min((change.prints for change in self.against_reference), default=1)


@dataclass(frozen=True)
class Measured:
    """Versions of a round beside its reference: comparisons by test, and where each version stands
    in them.
    """

    tests: list[Test]
    data: dict[str, TestData]
    position: Mapping[int, int]

    @classmethod
    def of(cls, entries: Sequence[Entry], tests: Sequence[Test]) -> Measured:
        """What was measured, from the database: of a small round all, since that tells more of how a
        run scatters; of a large one these entries alone.
        """
        round = entries[0].round
        runs = Run.objects.filter(test__in=tests)[: AT_ONCE_UP_TO + 1].count()
        only = entries if runs > AT_ONCE_UP_TO else None
        measured, names, order = versions_of(round, tests, only)
        position = {version: index for index, version in enumerate(order)}
        data = {one.key: compared(one, position, names) for one in measured}
        return cls([t for t in tests if data[t.key].comparison is not None], data, position)

    def change(self, test: Test, version: int, before: int | None = None) -> Change | None:
        """A version's change in a test against the reference, or a version before."""
        found = self.difference(test, version, before)
        if found is None:
            return None
        delta, u, dof = found
        c, at = self.data[test.key].comparison, self.position[version]
        if c is None:
            return None
        log = test.how.log
        half = None
        if c.has_doubt:
            half = expanded(u, dof) * (100 * math.exp(delta) if log else 1.0)
        value = 100 * math.expm1(delta) if log else delta
        return Change(test, value, half, int(c.counts[at]), int(c.prints[at]))

    def difference(
        self, test: Test, version: int, before: int | None = None
    ) -> tuple[float, float, float] | None:
        """The same in y: difference, standard uncertainty, degrees of freedom."""
        c, at = self.data[test.key].comparison, self.position.get(version)
        if c is None or at is None or not math.isfinite(c.delta[at]):
            return None
        if before is None:
            return float(c.delta[at]), float(c.u[at]), float(c.effective_dof[at])
        other = self.position.get(before)
        if other is None or not math.isfinite(c.delta[other]):
            return None
        return between(c, at, other)


def judgements(entry: Entry, tests: Sequence[Test]) -> list[Judgement]:
    """Every measured version of an entry, the newest first."""
    measured = Measured.of([entry], tests)
    versions = [
        v
        for v in entry.versions.order_by("number").prefetch_related("decisions__by")
        if v.pk in measured.position
    ]
    criteria = list(Criterion.objects.filter(test__in=tests).select_related("test"))
    made = []
    for index, version in enumerate(versions):
        version.entry = entry
        before = _before(versions[:index])
        one = Judgement(
            version,
            before,
            [c for t in measured.tests if (c := measured.change(t, version.pk))],
            [
                c
                for t in measured.tests
                if before and (c := measured.change(t, version.pk, before.pk))
            ],
        )
        _hold(one, measured, criteria)
        made.append(one)
    return made[::-1]


def _before(earlier: Sequence[Version]) -> Version | None:
    """The last accepted version of those before; where none was, the last one."""
    accepted = [
        v
        for v in earlier
        if (d := next(iter(v.decisions.all()), None)) and d.word == Decision.Word.ACCEPTED
    ]
    return accepted[-1] if accepted else earlier[-1] if earlier else None


def _hold(one: Judgement, measured: Measured, criteria: Sequence[Criterion]) -> None:
    """Hold a version against the criteria."""
    version = one.version
    for criterion in criteria:
        test, of_before = criterion.test, criterion.against == Criterion.Against.BEFORE
        if of_before and one.before is None:
            continue  # a first version has none before it
        what = f"version {one.before.number}" if of_before and one.before else "the reference"
        other = one.before.pk if of_before and one.before else None
        difference = (
            measured.difference(test, version.pk, other) if test.key in measured.data else None
        )
        if difference is None:
            one.untold.append(f"{test.label} against {what} has no figure yet")
            continue
        c = measured.data[test.key].comparison
        if c is None or not c.has_doubt:
            one.untold.append(f"{test.label} against {what}: {NOT_REPEATED}")
            continue
        how = test.how
        asked = Asked(test.label, what, criterion.most, how.direction, how.log, how.change_unit)
        count = int(c.counts[measured.position[version.pk]])
        one.findings.append(found(asked, *difference, c.repeat_sd, count))
        if version.sealed_at is not None and criterion.set_at > version.sealed_at:
            one.late.append(criterion)
    if one.findings:
        one.word, one.sentence = verdict(one.findings)
    if one.untold and one.word != "rejected":
        also = f" {one.sentence}" if one.word == "open" else ""
        one.word = "open"
        one.sentence = f"Cannot be decided yet: {'; '.join(one.untold)}.{also}"


@dataclass(frozen=True, slots=True)
class OfDesign:
    """A change as it speaks of the design and not of the prints alone: with what prints of one version
    differ by on this rig; ``found`` is False where that could not be told from nothing, and what
    could hide is taken instead.
    """

    change: Change
    half: float
    print_sd: float
    dof: float
    found: bool


def of_design(entry: Entry, version: Version, tests: Sequence[Test]) -> list[OfDesign]:
    """What a version's changes against the reference say of its design, for tests whose rig has
    several prints of versions on record. Nothing is told where it has not: one print says nothing
    of another.
    """
    measured = Measured.of([entry], tests)
    out = []
    for test in measured.tests:
        difference, change = (
            measured.difference(test, version.pk),
            measured.change(test, version.pk),
        )
        if difference is None or change is None or change.half is None:
            continue
        parts = {one.name: one for one in components_of(test.rig, test.how)}
        prints = parts.get(PRINT)
        if prints is None:
            continue
        delta, u, dof = difference
        slope = 100 * math.exp(delta) if test.how.log else 1.0
        told = prints.sd > 0
        sd, of_it = (prints.sd, prints.dof) if told else (prints.high, math.inf)
        # Where several prints were run, what they differ by is in the doubt already.
        more = sd if change.prints == 1 else 0.0
        freedom = effective_dof([(u, dof), (more, of_it)]) if more else dof
        half = slope * expanded(math.hypot(u, more), freedom)
        out.append(OfDesign(change, half, slope * sd, prints.dof, told))
    return out


@transaction.atomic
def set_criteria(user: User, round: Round, typed: Mapping[str, str], tests: Sequence[Test]) -> int:
    """Set the limits of a round: reference_KEY and before_KEY, empty for none; how many changed.

    Raises
    ------
    PermissionDenied, ValidationError : nothing is changed then
    """
    require(user, "rules.change", round)
    problems, wanted = [], {}
    for test in tests:
        for against in Criterion.Against.values:
            text = typed.get(f"{against}_{test.key}")
            if text is None:
                continue
            value = None
            if text.strip():
                try:
                    value = parse_number(text[:40])
                except ValueError as problem:
                    problems.append(f"{test.label}: {problem}")
                    continue
                if not abs(value) <= MOST_LOSS:
                    problems.append(f"{test.label}: {text[:40]} is no limit.")
                    continue
            wanted[test, against] = value
    if problems:
        raise ValidationError(problems)
    known = {(c.test_id, c.against): c for c in Criterion.objects.filter(test__in=tests)}
    changed = 0
    for (test, against), value in wanted.items():
        there = known.get((test.pk, against))
        if value is None and there is not None:
            there.delete()
        elif value is not None and (there is None or there.most != value):
            Criterion.objects.update_or_create(
                test=test,
                against=against,
                defaults={"round": round, "most": value, "set_at": timezone.now(), "by": user},
            )
        else:
            continue
        changed += 1
    if changed:
        record(user, "criteria.set", round, round, changed=changed)
    return changed


@transaction.atomic
def decide(user: User, entry: Entry, number: int, word: str, reason: str, said: str) -> Decision:
    """Accept or reject a version, with the reason.

    Raises
    ------
    PermissionDenied, ValidationError : no such version, no decision, or no reason
    """
    if not may_name(user, entry):
        raise PermissionDenied("Only the host and the entry's designer decide.")
    version = entry.versions.filter(number=number).first()
    if version is None:
        raise ValidationError("There is no such version.")
    if word not in Decision.Word.values:
        raise ValidationError("Accept it or reject it.")
    reason = " ".join(reason.split())[:500]
    if not reason:
        raise ValidationError("Say why in a few words.")
    made = Decision.objects.create(
        version=version, word=word, reason=reason, said=said, by=user, at=timezone.now()
    )
    record(user, "version.decide", version, entry.round, word=word, reason=reason)
    return made


MASS = "mass"


def sizes_of(entry: Entry) -> dict[str, dict[int, float]]:
    """Sizes that were measured on prints of an entry, by kind, version by version: the mean over
    prints and places [m], and the mass [kg]; kinds of at least two versions.
    """
    found: dict[str, dict[int, list[float]]] = {}
    latest: dict[tuple[int, str, int], tuple[int, float]] = {}
    for m in (
        Measure.objects.filter(specimen__version__entry=entry)
        .order_by("at", "pk")
        .values("specimen", "specimen__version", "kind", "place", "value")
    ):
        latest[m["specimen"], m["kind"], m["place"]] = m["specimen__version"], m["value"]
    for (_, kind, _), (version, value) in latest.items():
        found.setdefault(kind, {}).setdefault(version, []).append(value)
    for version, mass in entry.versions.filter(specimens__mass__isnull=False).values_list(
        "pk", "specimens__mass"
    ):
        if mass is not None:
            found.setdefault(MASS, {}).setdefault(version, []).append(mass)
    return {
        kind: {version: float(np.mean(values)) for version, values in by_version.items()}
        for kind, by_version in found.items()
        if len(by_version) > 1
    }


def bracketed(
    entry: Entry, test: Test, sizes: Mapping[int, float]
) -> tuple[Bracket | None, list[dict[str, Any]]]:
    """Between which sizes the best one lies by a test, and the tries themselves; None where fewer
    than two sizes have a figure with a doubt.
    """
    measured = Measured.of([entry], [test])
    numbers = dict(entry.versions.values_list("pk", "number"))
    tried, rows = [], []
    for version, size in sorted(sizes.items(), key=lambda one: one[1]):
        difference, change = measured.difference(test, version), measured.change(test, version)
        if difference is None or change is None or change.half is None:
            continue
        delta, u, _ = difference
        tried.append(Tried(size, test.how.direction * delta, u))
        rows.append({"version": numbers[version], "size": size, "change": change})
    if len({one.size for one in tried}) < 2:
        return None, rows
    return bracket(tried), rows
