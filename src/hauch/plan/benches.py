"""Runs of a test in blocks that chance orders, with the reference before, between and after; those of
the plan before stay as they were.
"""

from __future__ import annotations

import math
from collections import defaultdict
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, replace
from functools import cached_property

from hauch.bench.plan import BRACKET_EVERY, Lacking, Plan
from hauch.core.plan.blocks import Wanted, blocks
from hauch.core.plan.durations import Duration
from hauch.core.plan.house import House, Rank, Step, Unit, within
from hauch.plan.hours import bench_key
from hauch.plan.models import DayPlan, PlannedStep
from hauch.plan.queries import references_run
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
FILLED = 0.85
"""Share of a day, or of its quiet hours, that a chain fills at most, so that a slow run spoils none."""
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

    def __init__(self, plan: DayPlan, house: House, record: Record) -> None:
        self.plan, self.house, self.record = plan, house, record
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
            self._go_on(bench, block, wanted, ranks)
        for rank in (Rank.DECIDES, Rank.OTHER):
            left = [one for key, one in wanted.items() if ranks[key[0]] == rank]
            made = blocks(left, f"{test.pk}:{self.plan.pk}", most=bench.most())
            for number, chain in enumerate(made):
                unit = f"test:{test.pk}:{self.plan.pk}:{rank.value}:{number}"
                bench.chain(unit, bench.between(unit, chain), ranks)

    def _go_on(
        self,
        bench: _Bench,
        block: Sequence[PlannedStep],
        wanted: dict[tuple[int, int], Wanted],
        ranks: Mapping[int, Rank],
    ) -> None:
        """A block of the plan before, without what was run or is wanted no more; its references stay
        where they were, two in a row become one.
        """
        order: list[Wanted | str] = []
        for row in block:
            if row.specimen_id is not None:
                run = wanted.pop((row.specimen_id, row.repeat or 0), None)
                order += [run] if run is not None else []
            elif row.key not in self.referenced:
                order += [] if order and isinstance(order[-1], str) else [row.key]
        if any(isinstance(one, Wanted) for one in order):
            first = order[0]
            key = first if isinstance(first, str) else bench.key(first)
            bench.chain(block[0].unit, order, ranks, begun=key != block[0].key)

    @cached_property
    def referenced(self) -> set[str]:
        """Runs of the reference in the plan before that were made since."""
        if self.plan.previous is None:
            return set()
        steps = list(self.plan.previous.steps.filter(kind="reference").select_related("reference"))
        known = references_run(self.plan.previous, steps)
        return {key for key, what in known.items() if what.done}


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

    def most(self) -> int:
        """So many runs at most in a chain that it fits into a day, and noise into its quiet hours."""
        house = self.benches.house
        room = max(
            (within(day, house.quiet if self.quiet else None) for day in house.days), default=0
        )
        each = sum(one.minutes for one in self.pieces)
        set_up = self.benches.record.fixed("set up").expected
        fitting = [
            runs
            for runs in range(1, MOST_IN_A_CHAIN + 1)
            if set_up + each * (runs + math.ceil(runs / BRACKET_EVERY) + 1) <= FILLED * room
        ]
        return max(fitting, default=1)

    def between(self, unit: str, runs: Sequence[Wanted]) -> list[Wanted | str]:
        """Runs with the reference before them, after so many, and at the end; by its key."""
        order: list[Wanted | str] = []
        for index, run in enumerate(runs):
            if index % BRACKET_EVERY == 0:
                order.append(f"ref:{unit}:{index // BRACKET_EVERY}")
            order.append(run)
        return [*order, f"ref:{unit}:{math.ceil(len(runs) / BRACKET_EVERY)}"]

    def key(self, run: Wanted) -> str:
        """A run as plans know it."""
        return f"run:{self.test.pk}:{run.entry}:{run.repeat}"

    def chain(
        self,
        unit: str,
        order: Sequence[Wanted | str],
        ranks: Mapping[int, Rank],
        *,
        begun: bool = False,
    ) -> None:
        """One block, of runs and of keys under which the reference is run; where it has begun the bench
        is set up.
        """
        runs = [one for one in order if isinstance(one, Wanted)]
        rank = min((ranks[run.entry] for run in runs), default=Rank.OTHER)
        steps: list[Step] = []
        for one in order:
            if isinstance(one, Wanted):
                steps.append(self._run(one, rank))
            elif self.reference is not None:
                steps.append(self._reference(one, self.reference, rank))
        if begun:
            self.benches.units.append(Unit(unit, tuple(steps)))
            return
        first = steps[0]
        set_up = self.benches.record.fixed("set up")
        steps[0] = replace(first, pieces=(piece("set up", set_up, hands=True), *first.pieces))
        told = self.benches.told[first.key]
        self.benches.told[first.key] = replace(told, durations=(set_up, *told.durations))
        self.benches.units.append(Unit(unit, tuple(steps)))

    def _reference(self, key: str, reference: ReferenceSpecimen, rank: Rank) -> Step:
        self.benches.told[key] = Told(
            "reference",
            self.test.label,
            str(reference),
            round=self.known.round,
            test=self.test,
            reference=reference,
            durations=self.doubts,
            again=self.benches.record.runs_fail,
        )
        part = part_key(None, reference.pk)
        return self._step(key, "reference", str(reference), part, rank)

    def _run(self, run: Wanted, rank: Rank) -> Step:
        specimen = self.known.specimens[run.entry]
        key = self.key(run)
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
