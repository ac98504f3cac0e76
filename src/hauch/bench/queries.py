"""Reading the bench: runs that a person may see and what is due next."""

from __future__ import annotations

from typing import Any

from django.db.models import Exists, F, OuterRef, Q, QuerySet

from hauch.bench.models import Live, Observation, Run
from hauch.core.judge.band import of_mean
from hauch.entries.models import Entry, Version
from hauch.people.models import User
from hauch.people.permissions import allowed
from hauch.rounds.models import Round, Test
from hauch.stores.models import ReferenceSpecimen
from hauch.workshop.models import Specimen


class RunQuerySet(QuerySet):
    """Runs, with the ways in which pages need them."""

    def with_names(self):
        """With all that a run's line names."""
        return self.select_related(
            "test__round",
            "specimen__version__entry",
            "reference__type",
            "operator",
            "result",
            "setting",
        )

    def with_raw(self):
        """With all that a reduction reads."""
        return self.select_related(
            "test__round", "rig", "recording", "result", "carried_from"
        ).prefetch_related(
            "readings",
            "carried_from__readings",
            "exclusions",
            "carried_from__exclusions",
            "recording__seconds",
            "recording__waveforms",
            "rig__meters__instrument__calibrations",
        )

    def visible_to(self, user: User, round: Round):
        """Runs of a round that a person may see: all for the bench, own entries for a designer, all
        once published.
        """
        runs = self.filter(test__round=round)
        if allowed(user, "entry.view_all", round):
            return runs
        if allowed(user, "round.view", round):
            return runs.filter(
                Q(reference__isnull=False) | Q(specimen__version__entry__designer=user)
            )
        return runs.none()


def runs() -> RunQuerySet:
    """All runs."""
    return RunQuerySet(Run)


def lives_of(rounds: list[Round]) -> list[Live]:
    """What is being recorded now in some rounds."""
    found = Live.objects.filter(round__in=rounds, ended_at__isnull=True).select_related(
        "round", "test__rig", "specimen__version__entry", "reference__type"
    )
    return list(found)


def observations_of(entry: Entry) -> list[Observation]:
    """What was seen in the runs of an entry, the newest first."""
    found = Observation.objects.filter(run__specimen__version__entry=entry).select_related(
        "run__test__round", "picture", "by"
    )
    return list(found.order_by("-at", "-pk")[:40])


def observations_by_run(made: list[Run]) -> dict[int, list[Observation]]:
    """What was seen during runs, by run: its own, and what belongs to the recording while it was
    made.
    """
    recordings = {run.recording_id for run in made if run.recording_id}
    found = Observation.objects.filter(
        Q(run__in=made) | Q(run=None, recording__in=recordings)
    ).select_related("picture", "by")
    seen: dict[int, list[Observation]] = {run.pk: [] for run in made}
    for one in found:
        for run in made:
            if one.run_id == run.pk or (
                one.run_id is None and one.recording_id == run.recording_id
            ):
                seen[run.pk].append(one)
    return seen


def counting() -> QuerySet[Run]:
    """Runs that count for the standing: not voided, at the setting of their test."""
    return Run.objects.exclude(state=Run.State.VOID).filter(setting=F("test__setting"))


def was_run() -> Exists:
    """Whether a version has a run that counts; for queries over versions."""
    return Exists(counting().filter(specimen__version=OuterRef("pk")))


def versions_in(entries: QuerySet[Entry]) -> dict[int, Version]:
    """The version by which each entry takes part, by entry id: the one that was named, else the
    newest with a run that counts.

    Versions of an entry are different parts: their runs are never taken together.
    """
    rows = (
        Version.objects.filter(was_run() | Q(named=True), entry__in=entries)
        .order_by("entry_id", "-named", "-number")
        .distinct("entry_id")
    )
    return {version.entry_id: version for version in rows}


def dnf_entries(tests: list[Test], versions: dict[int, Version]) -> dict[int, Run]:
    """Entries whose version that takes part did not finish in one of the tests, by entry id, with
    the run that says why.
    """
    taking_part = [version.pk for version in versions.values()]
    rows = (
        counting()
        .filter(test__in=tests, state=Run.State.DNF, specimen__version__in=taking_part)
        .select_related("specimen__version", "test")
    )
    return {
        run.specimen.version.entry_id: run
        for run in rows.order_by("-started_at")
        if run.specimen is not None
    }


SHOWN_REPEATS = 12
BAND_OF = 8
"""How many of the last reference runs make the band."""


def repeats_chart(
    test: Test,
    specimen: Specimen | None,
    reference: ReferenceSpecimen | None,
    this: int | None = None,
) -> dict[str, Any] | None:
    """Data of the repeats chart: runs of the subject over the last runs of the reference."""
    rows = runs().filter(
        test=test, setting=test.setting_id, state=Run.State.VALID, result__value__isnull=False
    )
    mine = (
        Q(specimen__version=specimen.version_id) if specimen is not None else Q(reference=reference)
    )
    found = list(
        rows.filter(mine | Q(reference__isnull=False))
        .select_related("result")
        .order_by("-started_at")[: 5 * SHOWN_REPEATS]
    )
    band = of_mean([run.result.value for run in found if run.reference_id is not None][:BAND_OF])
    own = [
        run
        for run in found
        if (run.specimen_id if specimen is not None else run.reference == reference)
    ]
    points = [
        {
            "label": f"run {run.pk}",
            "value": run.result.value,
            "expanded": run.result.own_expanded,
            "this": run.pk == this,
        }
        for run in reversed(own[:SHOWN_REPEATS])
    ]
    if not points and band is None:
        return None
    return {
        "kind": test.how.kind,
        "points": points,
        "reference": (band.value, band.half) if band else None,
    }
