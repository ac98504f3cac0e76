"""What a round has to judge, from the database: the values that `core.judge.round` takes."""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from datetime import datetime
from typing import Any

from django.db.models import Q

from hauch.bench.models import Run
from hauch.bench.queries import counting, dnf_entries, versions_in
from hauch.bench.queries import runs as run_rows
from hauch.bench.reduction import compute
from hauch.bench.scatter import scatter_of
from hauch.core.judge.field import Entered, Field, MeasuredRun, MeasuredTest, any_repeat
from hauch.core.judge.round import Judged, Rules
from hauch.core.judge.round import judge as judge_values
from hauch.core.judge.standing import TieRule
from hauch.core.quantity import contributions
from hauch.entries.models import Entry, Version
from hauch.rounds.drafts import RuleDraft
from hauch.rounds.models import Round, RuleVersion, Test, TestReference
from hauch.rounds.queries import round_tests
from hauch.stores.models import ReferenceSpecimen


@dataclass(frozen=True, slots=True)
class Source:
    """A test that is judged, and whose runs count for it; they are reduced anew by its own terms
    where those differ.
    """

    key: str
    test: Test
    runs_of: Test | None
    anew: bool = False


def entries_in_order(round: Round) -> list[Entry]:
    """Entries that take part, in the fixed order in which they are judged (so that draws do not
    depend on the database).
    """
    return list(round.entries.filter(state=Entry.State.IN).order_by("uid"))


def measured_tests(
    sources: Sequence[Source], versions: Mapping[int, Version]
) -> tuple[list[MeasuredTest], dict[int, tuple[str, str]]]:
    """Tests with their valid runs at their scored settings, and the names of the reference's
    specimens.

    Parameters
    ----------
    versions : entry id -> the version that takes part; runs of no other one are read
    """
    chosen = Q(reference__isnull=False) | Q(
        specimen__version__in=[version.pk for version in versions.values()]
    )
    tests = [source.runs_of for source in sources if source.runs_of is not None]
    found = counting().filter(chosen, test__in=tests, state=Run.State.VALID)
    stored: dict[int, list[MeasuredRun]] = defaultdict(list)
    as_stored = [s.runs_of for s in sources if s.runs_of is not None and not s.anew]
    rows = (
        found.filter(test__in=as_stored, result__value__isnull=False)
        .order_by("started_at", "uid")
        .values_list(
            "test_id",
            "id",
            "started_at",
            "specimen__version__entry_id",
            "reference_id",
            "result__value",
            "result__parts",
            "rig_id",
            "specimen_id",
        )
    )
    for test_id, *row in rows:
        stored[test_id].append(_measured(*row))
    assigned = _assigned(tests)
    made = []
    for source in sources:
        test, old = source.test, source.runs_of
        its: list[MeasuredRun] = []
        if old is not None:
            its = _reduced_anew(test, old, chosen) if source.anew else stored[old.pk]
        history = None
        if its and not any_repeat(its):
            history = scatter_of(its[-1].rig, test.how)
        order = assigned[old.pk] if old is not None else []
        made.append(MeasuredTest(source.key, test.label, test.how, its, order, history))
    return made, _names(made)


def versions_of(
    round: Round, tests: Sequence[Test], only: Sequence[Entry] | None = None
) -> tuple[list[MeasuredTest], dict[int, tuple[str, str]], list[int]]:
    """Tests with the valid runs of every version, each version a subject of its own; with the names
    of the reference's specimens, and the versions in order.

    Parameters
    ----------
    only : entries whose versions alone are read; else those of all, which tell more of how a run
        scatters
    """
    chosen = Q(reference__isnull=False) | (
        Q(specimen__version__entry__round=round)
        if only is None
        else Q(specimen__version__entry__in=[entry.pk for entry in only])
    )
    rows = (
        counting()
        .filter(chosen, test__in=tests, state=Run.State.VALID, result__value__isnull=False)
        .order_by("started_at", "uid")
        .values_list(
            "test_id",
            "id",
            "started_at",
            "specimen__version_id",
            "reference_id",
            "result__value",
            "result__parts",
            "rig_id",
            "specimen_id",
        )
    )
    stored: dict[int, list[MeasuredRun]] = defaultdict(list)
    for test_id, *row in rows:
        stored[test_id].append(_measured(*row))
    assigned = _assigned(tests)
    made = []
    for test in tests:
        its = stored[test.pk]
        history = scatter_of(its[-1].rig, test.how) if its and not any_repeat(its) else None
        made.append(MeasuredTest(test.key, test.label, test.how, its, assigned[test.pk], history))
    found = {run.entry for test in made for run in test.runs if run.entry is not None}
    return made, _names(made), sorted(found)


def _assigned(tests: Sequence[Test]) -> dict[int, list[int]]:
    """Specimens of the reference in the order in which they were in use, by test."""
    assigned: dict[int, list[int]] = defaultdict(list)
    for test_id, specimen in (
        TestReference.objects.filter(test__in=tests)
        .order_by("since", "id")
        .values_list("test_id", "specimen_id")
    ):
        assigned[test_id].append(specimen)
    return assigned


def _names(made: Sequence[MeasuredTest]) -> dict[int, tuple[str, str]]:
    """Names of the reference's specimens that were run: (serial, name)."""
    seen = {run.reference for test in made for run in test.runs if run.reference is not None}
    return {
        specimen.pk: (specimen.serial, str(specimen))
        for specimen in ReferenceSpecimen.objects.filter(pk__in=seen).select_related("type")
    }


def _measured(
    pk: int,
    at: datetime,
    entry: int | None,
    reference: int | None,
    value: float,
    parts: list[list[Any]],
    rig: int,
    part: int | None,
) -> MeasuredRun:
    return MeasuredRun(pk, at, entry, reference, value, contributions(parts), rig, part or 0)


def _reduced_anew(test: Test, old: Test, chosen: Q) -> list[MeasuredRun]:
    """Runs of a test as another one would reduce their readings; nothing is kept."""
    found = run_rows().filter(chosen, test=old, setting=old.setting_id, state=Run.State.VALID)
    made = []
    for run in found.with_raw().select_related("specimen__version").order_by("started_at", "uid"):
        run.test = test
        fields = compute(run)
        if fields["value"] is not None:
            entry = run.specimen.version.entry_id if run.specimen else None
            made.append(
                _measured(
                    run.pk,
                    run.started_at,
                    entry,
                    run.reference_id,
                    fields["value"],
                    fields["parts"],
                    run.rig_id,
                    run.specimen_id,
                )
            )
    return made


def field_of(round: Round, sources: Sequence[Source]) -> Field:
    """All that a round has to judge."""
    versions = versions_in(round.entries.filter(state=Entry.State.IN))
    tests = [source.runs_of for source in sources if source.runs_of is not None]
    out = dnf_entries(tests, versions)
    measured, names = measured_tests(sources, versions)
    entries = [
        Entered(
            entry.pk,
            entry.name,
            versions[entry.pk].number if entry.pk in versions else None,
            entry.pk in versions and versions[entry.pk].named,
            out[entry.pk].reason if entry.pk in out else None,
        )
        for entry in entries_in_order(round)
    ]
    return Field(entries, measured, names)


def sources_of(tests: Sequence[Test]) -> list[Source]:
    """Tests with their own runs."""
    return [Source(test.key, test, test) for test in tests]


def tie_rule_of(chosen: str) -> TieRule:
    """A choice of the rules as the core knows it."""
    return "equal_score" if chosen == RuleVersion.Ties.EQUAL else "too_close"


def rules_of(rules: RuleVersion) -> Rules:
    """A version of the rules as values."""
    return Rules(
        rules.scheme,
        tie_rule_of(rules.tie_rule),
        rules.level_as,
        rules.draws,
        rules.seed,
        {
            term.test.key: (term.weight, term.most_loss)
            for term in rules.terms.select_related("test")
        },
    )


def judge(rules: RuleVersion) -> Judged:
    """Judge a round by a version of its rules."""
    sources = sources_of(round_tests(rules.round, rules))
    return judge_values(rules_of(rules), field_of(rules.round, sources))


def judge_draft(round: Round, draft: RuleDraft, draws: int, seed: int) -> Judged:
    """Judge a round as changed rules would; nothing is written.

    Tests that are measured otherwise or are new have no runs yet; runs that are only converted
    otherwise are reduced anew from their readings.
    """
    sources, terms = [], {}
    in_order = sorted(draft.measured, key=lambda wanted: wanted.order)
    for number, wanted in enumerate(in_order):
        key, old = f"draft {number}", wanted.test
        test = Test(round=round, **wanted.values())
        if wanted.rig is not None:
            test.rig = wanted.rig
        kept = old if wanted.kind not in {"new", "again"} else None
        sources.append(Source(key, test, kept, anew=wanted.kind == "converted"))
        terms[key] = (wanted.weight, wanted.most_loss)
    rules = Rules(
        draft.scheme,
        tie_rule_of(draft.tie_rule),
        draft.level_as,
        draws,
        seed,
        terms,
    )
    return judge_values(rules, field_of(round, sources))
