"""How long the steps of the work take and how often a print fails, from what was logged here."""

from __future__ import annotations

import math
from collections import defaultdict
from collections.abc import Iterable
from datetime import datetime, timedelta
from functools import cached_property

from hauch.bench.durations import hands_minutes, run_minutes, soak_minutes
from hauch.bench.models import Run
from hauch.core.plan.durations import Duration, duration, failure_rate
from hauch.entries.models import PartCheck
from hauch.people.models import AuditEntry
from hauch.rounds.models import Test
from hauch.workshop.models import PrintRun, Specimen, WorkStep
from hauch.workshop.queries import annealing_for, printed_parts

NEWEST = 2000
FOLLOWS = timedelta(hours=2)
"""A step of work that was done later than this after the one before was not begun at once."""

BY_RULE: dict[str, float] = {
    WorkStep.Kind.SUPPORTS: 15,
    WorkStep.Kind.SAND: 20,
    WorkStep.Kind.GLUE: 15,
    WorkStep.Kind.GASKET: 10,
    WorkStep.Kind.INSERT: 15,
    WorkStep.Kind.ANNEAL: 10,
    WorkStep.Kind.ASSEMBLE: 15,
    WorkStep.Kind.OTHER: 5,
    "cure": 12 * 60,
    "oven": 4 * 60,
    "print": 4 * 60,
    "gate": 5,
    "balance": 20,
    "set up": 10,
    "start": 5,
    "take off": 5,
}
"""Minutes before there is a record; of a print where its check tells nothing."""


def whole(minutes: float) -> int:
    """Minutes as plans count them, rounded up."""
    return max(math.ceil(minutes - 1e-9), 1)


class Record:
    """What was logged, read once for a plan."""

    def run(self, test: Test) -> tuple[Duration, Duration | None, Duration]:
        """Minutes that a run in a test is mounted, soaks (None where it does not), and is read.

        A soak of fixed minutes takes them; what the record tells beyond is by hand. One that ends when
        it has settled is longer or shorter in the same way as the run.
        """
        known = self._runs.get(test.pk)
        if known is None:
            known = self._runs[test.pk] = self._run(test)
        return known

    @cached_property
    def _runs(self) -> dict[int, tuple[Duration, Duration | None, Duration]]:
        return {}

    def _run(self, test: Test) -> tuple[Duration, Duration | None, Duration]:
        taken, soak = run_minutes(test), soak_minutes(test)
        mount, read = hands_minutes(test)
        if not soak:
            by_hand = taken.times(1 / (mount + read))
            return by_hand.times(mount), None, by_hand.times(read)
        if test.soak == Test.Soak.SETTLED:
            scaled = taken.times(1 / (mount + read + soak))
            return scaled.times(mount), scaled.times(soak), scaled.times(read)
        share = max(taken.minutes - soak, 1.0) / taken.minutes
        by_hand = taken.times(share / (mount + read))
        return by_hand.times(mount), None, by_hand.times(read)

    def print(self, specimen: Specimen) -> Duration:
        """Minutes that a print of a specimen takes: as its check tells, by what prints took against
        that.
        """
        told = self._told(specimen.version_id)
        if told is None:
            return duration(BY_RULE["print"], self._print_minutes)
        return duration(told, [told * ratio for ratio in self._print_ratios])

    def parts(self, version: int) -> list[PartCheck]:
        """The checks of what is printed for a version."""
        if version not in self._parts:
            self.know([version])
        return self._parts[version]

    def know(self, versions: Iterable[int]) -> None:
        """Read the checks of many versions at once."""
        wanted = set(versions) - self._parts.keys()
        found = printed_parts(wanted) if wanted else {}
        self._parts.update({version: found.get(version, []) for version in wanted})

    @cached_property
    def _parts(self) -> dict[int, list[PartCheck]]:
        return {}

    def _told(self, version: int) -> float | None:
        """Minutes on the printer that the checks of a version tell; None where they do not."""
        seconds = [(check.value("time"), check.file.count) for check in self.parts(version)]
        if not seconds or any(one is None for one, _ in seconds):
            return None
        return sum((one or 0.0) * count for one, count in seconds) / 60

    def mass(self, version: int) -> float | None:
        """Mass of what is printed for a version [kg], as its checks tell; None where they do not."""
        masses = [(check.value("mass"), check.file.count) for check in self.parts(version)]
        if not masses or any(one is None for one, _ in masses):
            return None
        return sum((one or 0.0) * count for one, count in masses)

    @cached_property
    def _prints(self) -> list[PrintRun]:
        return list(PrintRun.objects.select_related("specimen").order_by("-at")[:NEWEST])

    @cached_property
    def _print_minutes(self) -> list[float]:
        return [60 * run.hours for run in self._prints if run.hours and not run.failed]

    @cached_property
    def _print_ratios(self) -> list[float]:
        good = [run for run in self._prints if run.hours and not run.failed]
        self.know(run.specimen.version_id for run in good)
        told = [(run.hours or 0.0, self._told(run.specimen.version_id)) for run in good]
        return [60 * hours / minutes for hours, minutes in told if minutes]

    @cached_property
    def prints_fail(self) -> float:
        """Probability that the next print fails."""
        return failure_rate(sum(run.failed for run in self._prints), len(self._prints))

    def work(self, kind: str) -> Duration:
        """Minutes that a step by hand takes, by its kind."""
        return duration(BY_RULE[kind], self._work.get(kind, ()))

    @cached_property
    def _work(self) -> dict[str, list[float]]:
        rows = (
            WorkStep.objects.exclude(done_at=None)
            .order_by("-done_at")
            .values_list("specimen_id", "done_at", "kind")[:NEWEST]
        )
        found: dict[str, list[float]] = defaultdict(list)
        last: dict[int, datetime] = {}
        for specimen, done, kind in sorted(rows, key=lambda row: (row[0], row[1])):
            before = last.get(specimen)
            if done is None:
                continue
            if before is not None and timedelta(0) < done - before <= FOLLOWS:
                found[kind].append((done - before).total_seconds() / 60)
            last[specimen] = done
        return found

    def fixed(self, what: str) -> Duration:
        """Minutes of what is not logged by itself, by rule."""
        return duration(BY_RULE[what])

    def longer(self, known: Duration, minutes: float) -> Duration:
        """A duration and so many minutes more."""
        return known.times((known.minutes + minutes) / known.minutes)

    def fixed_minutes(self, minutes: float) -> Duration:
        """A duration that a rule of the test fixes."""
        return duration(minutes)

    def whole_run(self, test: Test) -> float:
        """Minutes of a run from mounting to its last reading."""
        mount, soak, read = self.run(test)
        soaks = soak.expected if soak is not None else soak_minutes(test)
        return mount.expected + soaks + read.expected

    def lying(self, state: str, rule: float) -> Duration:
        """Minutes that a specimen lies in the oven or sets, from when it came into its state and left
        it.
        """
        return duration(rule, self._states.get(state, ()))

    @cached_property
    def _states(self) -> dict[str, list[float]]:
        moves = (
            AuditEntry.objects.filter(action="specimen.state")
            .order_by("-at")
            .values_list("round_id", "target", "at", "detail")[:NEWEST]
        )
        found: dict[str, list[float]] = defaultdict(list)
        since: dict[tuple[int | None, str], tuple[str | None, datetime]] = {}
        for round, target, at, detail in sorted(moves, key=lambda move: move[2]):
            began = since.pop((round, target), None)
            if began is not None and began[0] and began[0] == detail.get("before"):
                found[began[0]].append((at - began[1]).total_seconds() / 60)
            since[round, target] = (detail.get("after"), at)
        return found

    def anneal(self, specimen: Specimen) -> Duration:
        """Minutes in the oven: as its program says, else by rule or record."""
        program = annealing_for(specimen)
        if program is None:
            return self.lying(Specimen.State.OVEN, BY_RULE["oven"])
        return self.lying(Specimen.State.OVEN, (2 * program.ramp + program.hold) / 60)

    @cached_property
    def runs_fail(self) -> float:
        """Probability that a run has to be made again: it was void."""
        states = list(
            Run.objects.filter(carried_from=None)
            .order_by("-created_at")
            .values_list("state", flat=True)[:NEWEST]
        )
        void = sum(state == Run.State.VOID for state in states)
        return (void + 0.2) / (len(states) + 10)
