"""Runs of a test in blocks that chance orders, with the reference before, between and after; those of
the plan before stay as they were.
"""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, replace
from functools import cached_property

from hauch.bench.plan import BRACKET_EVERY, Lacking, Plan
from hauch.core.plan.blocks import Wanted, blocks
from hauch.core.plan.durations import Duration
from hauch.core.plan.house import Rank, Step, Unit
from hauch.plan.hours import bench_key
from hauch.plan.models import DayPlan, PlannedStep
from hauch.plan.record import Record
from hauch.plan.told import Told, part_key, piece
from hauch.rounds.models import Round, Test
from hauch.stores.models import ReferenceSpecimen, RigMeter
from hauch.verdict.models import StandingRow
from hauch.verdict.queries import standing_now
from hauch.workshop.models import Specimen

SOAK_WAITS = 30
"""So many minutes longer a soak may run until somebody is free to read."""
CANNOT_WIN = 0.01
"""Below this probability of the first place the runs of an entry decide nothing."""
MOST_IN_A_CHAIN = 12
"""So many runs are done in one go, the reference between them."""
HEATED = "hot_block"
"""Kind of rig with a heater, which never runs with nobody there."""
NOISE = frozenset({"sound_spot"})
"""Kinds of rigs at which it must be quiet."""


@dataclass(frozen=True)
class Known:
    """What the tests of a round share: who may run them, by when, its prints, and the last step on the
    way of those that are not ready.
    """

    round: Round
    plan: Plan
    by: tuple[str, ...]
    due: int | None
    specimens: Mapping[int, Specimen]
    ways: Mapping[int, str]


class Benches:
    """Runs as units, for one plan."""

    def __init__(self, plan: DayPlan, record: Record) -> None:
        self.plan, self.record = plan, record
        self.units: list[Unit] = []
        self.told: dict[str, Told] = {}

    @cached_property
    def before(self) -> dict[int, list[list[PlannedStep]]]:
        """Blocks of the plan before, in the order of their begin, by test."""
        if self.plan.anew or self.plan.previous is None:
            return {}
        rows = self.plan.previous.steps.filter(kind__in=["run", "reference"], test__isnull=False)
        units: dict[str, list[PlannedStep]] = defaultdict(list)
        for row in rows.order_by("unit", "order"):
            units[row.unit].append(row)
        found: dict[int, list[list[PlannedStep]]] = defaultdict(list)
        for block in sorted(units.values(), key=lambda b: (b[0].begin is None, b[0].begin or 0)):
            found[block[0].test_id or 0].append(block)
        return found

    @cached_property
    def shared(self) -> set[int]:
        """Meters that stand at more than one bench and cannot be read at both."""
        benches: dict[int, set[str]] = defaultdict(set)
        rows = RigMeter.objects.filter(rig__next__isnull=True, instrument__shared=False)
        for instrument, name in rows.values_list("instrument_id", "rig__name"):
            benches[instrument].add(name)
        return {instrument for instrument, names in benches.items() if len(names) > 1}

    def racing(self, round: Round) -> set[int] | None:
        """Entries that may still come first; None where no standing tells."""
        _, standing = standing_now(round)
        if standing is None:
            return None
        rows = standing.rows.exclude(state=StandingRow.State.DNF)
        out = rows.filter(first__lt=CANNOT_WIN, state=StandingRow.State.RANKED)
        return set(rows.values_list("entry_id", flat=True)) - set(
            out.values_list("entry_id", flat=True)
        )

    def add(self, known: Known) -> None:
        """All runs of a round."""
        racing = self.racing(known.round)
        in_score = set(
            known.round.rules.order_by("-number").values_list("terms__test_id", flat=True)[:50]
        )
        for test in known.plan.tests:
            rows, ranks = known.plan.lacking[test.pk], dict[int, Rank]()
            for row in rows:
                entry = known.specimens[row.specimen].version.entry_id
                decides = test.pk in in_score and (racing is None or entry in racing)
                ranks[row.specimen] = Rank.DECIDES if decides else Rank.OTHER
            if rows:
                self._test(test, known, rows, ranks)

    def _test(
        self, test: Test, known: Known, rows: Sequence[Lacking], ranks: Mapping[int, Rank]
    ) -> None:
        test.round = known.round
        wanted = {
            (row.specimen, repeat): Wanted(row.specimen, repeat, int(row.specimen in known.ways))
            for row in rows
            for repeat in range(row.have + 1, row.wanted + 1)
        }
        bench = _Bench(self, test, known, known.plan.references.get(test.pk))
        for block in self.before.get(test.pk, ()):
            keys = [
                None if row.specimen_id is None else (row.specimen_id, row.repeat or 0)
                for row in block
            ]
            runs = [key for key in keys if key is not None and key in wanted]
            if runs:
                bench.chain(block[0].unit, [wanted.pop(key) for key in runs], ranks)
        for rank in (Rank.DECIDES, Rank.OTHER):
            left = [one for key, one in wanted.items() if ranks[key[0]] == rank]
            made = blocks(left, f"{test.pk}:{self.plan.pk}", most=MOST_IN_A_CHAIN)
            for number, chain in enumerate(made):
                unit = f"test:{test.pk}:{self.plan.pk}:{rank.value}:{number}"
                bench.chain(unit, chain, ranks)


class _Bench:
    """Runs of one test."""

    def __init__(
        self, benches: Benches, test: Test, known: Known, reference: ReferenceSpecimen | None
    ) -> None:
        self.benches, self.test, self.known, self.reference = benches, test, known, reference
        mount, soak, read = benches.record.run(test)
        self.durations = (mount, soak, read)
        kind = test.rig.kind
        self.quiet = kind in NOISE or test.how.kind == "level"
        heater = kind == HEATED
        minutes = known.round.unattended or 0
        fixed = test.soak_minutes or 0.0
        soaks = soak.minutes if soak is not None else fixed if test.soak == "minutes" else 0.0
        watched = heater or not soaks or soaks + SOAK_WAITS > minutes
        found = [piece("mount", mount, hands=True)]
        if soaks:
            long = soak or benches.record.fixed_minutes(soaks)
            found.append(piece("soak", long, watched=watched, wait=SOAK_WAITS, runs_on=True))
        found.append(piece("read", read, hands=True))
        self.pieces = tuple(found)
        self.doubts: tuple[Duration | None, ...] = (mount, soak, read) if soaks else (mount, read)
        meters = {meter.instrument_id for meter in test.rig.meters.all()} & benches.shared
        self.meters = tuple(f"meter:{pk}" for pk in sorted(meters))

    def chain(self, unit: str, runs: Sequence[Wanted], ranks: Mapping[int, Rank]) -> None:
        """One block: reference, some runs, reference, and so on."""
        rank = min((ranks[run.entry] for run in runs), default=Rank.OTHER)
        steps: list[Step] = []
        for index, run in enumerate(runs):
            if index % BRACKET_EVERY == 0:
                self._reference(unit, steps, rank)
            steps.append(self._run(run, rank))
        self._reference(unit, steps, rank)
        first = steps[0]
        set_up = self.benches.record.fixed("set up")
        steps[0] = replace(first, pieces=(piece("set up", set_up, hands=True), *first.pieces))
        told = self.benches.told[first.key]
        self.benches.told[first.key] = replace(told, durations=(set_up, *told.durations))
        self.benches.units.append(Unit(unit, tuple(steps)))

    def _reference(self, unit: str, steps: list[Step], rank: Rank) -> None:
        if self.reference is None:
            return
        number = sum(step.kind == "reference" for step in steps)
        key = f"ref:{unit}:{number}"
        steps.append(
            self._step(
                key, "reference", str(self.reference), part_key(None, self.reference.pk), rank
            )
        )
        self.benches.told[key] = Told(
            "reference",
            self.test.label,
            str(self.reference),
            round=self.known.round,
            test=self.test,
            reference=self.reference,
            durations=self.doubts,
            again=self.benches.record.runs_fail,
        )

    def _run(self, run: Wanted, rank: Rank) -> Step:
        specimen = self.known.specimens[run.entry]
        key = f"run:{self.test.pk}:{specimen.pk}:{run.repeat}"
        name = f"{specimen.version.entry.name} ({specimen})"
        self.benches.told[key] = Told(
            "run",
            f"{self.test.label}, repeat {run.repeat}",
            name,
            round=self.known.round,
            test=self.test,
            specimen=specimen,
            repeat=run.repeat,
            durations=self.doubts,
            again=self.benches.record.runs_fail,
        )
        way = self.known.ways.get(specimen.pk, "")
        after = (way,) if way else ()
        return self._step(key, "run", name, part_key(specimen.pk, None), rank, after)

    def _step(
        self, key: str, kind: str, name: str, part: str, rank: Rank, after: tuple[str, ...] = ()
    ) -> Step:
        return Step(
            key,
            kind,
            f"{self.test.label}: {name}",
            self.pieces,
            part=part,
            places=(bench_key(self.test.rig.name),),
            meters=self.meters,
            after=after,
            quiet=self.quiet,
            rank=rank,
            due=self.known.due,
            round=self.known.round.slug,
            by=self.known.by,
        )
