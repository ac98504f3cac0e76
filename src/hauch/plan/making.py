"""What a specimen still needs before it is at the bench: print, work in its order, gate."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from datetime import timedelta
from functools import cached_property
from itertools import groupby

from django.utils import timezone

from hauch.core.plan.beds import Job, Laid, laid, on_bed, plates
from hauch.core.plan.durations import Duration
from hauch.core.plan.house import Piece, Pin, Step, Unit
from hauch.people.clock import house_day
from hauch.plan.models import DayPlan, Machine, PlannedStep
from hauch.plan.record import BY_RULE, Record, whole
from hauch.plan.told import Told, part_key, piece
from hauch.rounds.models import Round
from hauch.workshop.models import Specimen, WorkStep
from hauch.workshop.queries import material_for

State = Specimen.State
NIGHT = 16 * 60
"""So many minutes a print or a part in the oven may lie until somebody takes it off."""
LOADING = 10.0
"""Minutes by which the start takes longer where another material must be loaded."""


@dataclass
class Way:
    """The way of a specimen to the bench: its units in order, what is told, and the last key."""

    units: list[Unit]
    told: dict[str, Told]
    last: str = ""

    def add(self, step: Step, told: Told, pin: Pin | None = None) -> None:
        """The next step on it."""
        self.units.append(Unit(step.key, (step,), pin))
        self.told[step.key] = told
        self.last = step.key


class Making:
    """Steps of the workshop, for one plan."""

    def __init__(self, plan: DayPlan, record: Record) -> None:
        self.plan, self.record = plan, record
        self.printed_by: dict[int, str] = {}
        self.held: set[str] = set()

    @cached_property
    def printers(self) -> list[Machine]:
        """Printers that are in use."""
        return list(Machine.objects.filter(retired=False, kind=Machine.Kind.PRINTER))

    @cached_property
    def ovens(self) -> tuple[str, ...]:
        """Ovens that are in use, as plans know them."""
        rows = Machine.objects.filter(retired=False, kind=Machine.Kind.OVEN)
        return tuple(machine.key for machine in rows)

    def way(self, specimen: Specimen, round: Round, by: tuple[str, ...], due: int | None) -> Way:
        """All that is left to do to a specimen."""
        way = Way([], {})
        due = self.due(specimen, due)
        common = {
            "part": part_key(specimen.pk, None),
            "round": round.slug,
            "by": by,
            "due": due,
        }
        base = {"subject": str(specimen), "round": round, "specimen": specimen}
        if specimen.state == State.PRINTING:
            self._printing(way, specimen, common, base)
        way.last = way.last or self.printed_by.get(specimen.pk, "")
        for kind, rows in groupby(self._open(specimen), key=_own):
            self._work(way, specimen, kind, list(rows), common, base)
        self._gate(way, specimen, round, common, base)
        return way

    def due(self, specimen: Specimen, due: int | None) -> int | None:
        """By which minute a specimen is to be ready: by its round's deadline or its own day, where that
        lies within the plan; what is late already by the end of today.
        """
        if specimen.due is None:
            return due
        days = max((specimen.due - house_day(self.plan.begin)).days, 0) + 1
        own = days * 24 * 60 if days <= self.plan.days else None
        return min((one for one in (due, own) if one is not None), default=None)

    def _open(self, specimen: Specimen) -> list[WorkStep]:
        return [step for step in specimen.steps.all() if step.done_at is None]

    def _since(self, specimen: Specimen) -> float:
        return (timezone.now() - specimen.since) / timedelta(minutes=1)

    def _printing(self, way: Way, specimen: Specimen, common: dict, base: dict) -> None:
        """A print that is on the printer."""
        taken, off = self.record.print(specimen), self.record.fixed("take off")
        left = whole(max(taken.expected - self._since(specimen), 5.0))
        place = self._printing_on(specimen)
        if place in self.held:
            place = ""  # one of several on a bed, that another holds already
        self.held.add(place)
        rest = (Piece("print", left, wait=NIGHT), piece("take off", off, hands=True))
        step = Step(
            f"print:{specimen.pk}",
            "print",
            f"{specimen} prints",
            rest,
            places=(place,) if place else (),
            **common,
        )
        again = self.record.prints_fail
        told = Told(
            "print", "Print", durations=(None, off), again=again, together=(specimen.pk,), **base
        )
        way.add(step, told, Pin(self.plan.now, place))

    def _printing_on(self, specimen: Specimen) -> str:
        """The printer that a specimen is on: as planned, else one that takes it and has its material, or
        has it at least; empty where nothing tells.
        """
        planned = PlannedStep.objects.filter(
            kind="print",
            together__contains=[specimen.pk],
            begin__isnull=False,
            plan__state=DayPlan.State.DONE,
        ).order_by("-plan__made_at")
        known = {machine.key for machine in self.printers}
        place = planned.values_list("place", flat=True).first()
        if place in known:
            return str(place)
        likely, _, _ = self._printers_for([self.job(specimen, ())], specimen)
        material = material_for(specimen)
        same = [
            m.key for m in self.printers if material is not None and m.material_id == material.pk
        ]
        return next(iter((*likely, *same, *(known if len(known) == 1 else ()))), "")

    def job(self, specimen: Specimen, by: tuple[str, ...]) -> Job:
        """The print of a specimen as beds know it."""
        material = material_for(specimen)
        round = specimen.version.entry.round_id  # whose prints lie together, sees all of the bed
        alike = (material.pk if material else None, by, round)
        minutes = self.record.print(specimen).expected
        return Job(str(specimen.pk), tuple(self._parts(specimen)), minutes, alike)

    def prints(self, wanted: Sequence[tuple[Specimen, tuple[str, ...], int | None]]) -> Way:
        """Prints that are planned, together where one bed takes them: each with who may do it and by when.
        What comes first is due first, then the longest.
        """
        way = Way([], {})
        wanted = [(one, by, self.due(one, due)) for one, by, due in wanted]
        specimens = {str(one.pk): (one, by, due) for one, by, due in wanted}
        order = sorted(wanted, key=lambda row: (row[2] is None, row[2] or 0, row[0].pk))
        jobs = [self.job(one, by) for one, by, _ in order]
        beds = [machine.bed for machine in self.printers]
        for plate in plates(jobs, beds):
            rows = [specimens[job.key] for job in plate]
            self._plate(way, plate, [row[0] for row in rows], rows[0][1], [r[2] for r in rows])
        return way

    def _plate(
        self,
        way: Way,
        plate: Sequence[Job],
        specimens: Sequence[Specimen],
        by: tuple[str, ...],
        dues: Sequence[int | None],
    ) -> None:
        places, nowhere, load = self._printers_for(plate, specimens[0])
        start, off = self.record.fixed("start"), self.record.fixed("take off")
        if load:
            start = self.record.longer(start, LOADING)
        taken = self.record.print(specimens[0])
        whole_plate = sum(job.minutes for job in plate)
        taken = taken.times(whole_plate / plate[0].minutes)
        names = ", ".join(str(one) for one in specimens)
        key = "print:" + "-".join(str(one.pk) for one in specimens)
        round = specimens[0].version.entry.round
        step = Step(
            key,
            "print",
            f"Print {names}",
            (
                piece("start", start, hands=True),
                piece("print", taken, wait=NIGHT),
                piece("take off", off, hands=True),
            ),
            places=places,
            nowhere=nowhere,
            round=round.slug,
            by=by,
            due=min((due for due in dues if due is not None), default=None),
        )
        told = Told(
            "print",
            "Print" if len(specimens) == 1 else f"Print {len(specimens)} on one bed",
            names,
            round=round,
            specimen=specimens[0],
            durations=(start, taken, off),
            again=self.record.prints_fail,
            together=tuple(one.pk for one in specimens),
        )
        way.add(step, told)
        self.printed_by |= {one.pk: key for one in specimens}

    def _printers_for(
        self, plate: Sequence[Job], specimen: Specimen
    ) -> tuple[tuple[str, ...], str, bool]:
        """Printers on which a plate fits, why none does, and whether its material must be loaded."""
        if not self.printers:
            return (), f"{specimen} is to be printed, and no printer is known.", False
        fitting = [m for m in self.printers if on_bed(plate, m.bed) is not None]
        if not fitting:
            part = max((p for job in plate for p in job.parts), key=lambda p: p.width * p.depth)
            shown = " × ".join(f"{1000 * one:.0f}" for one in (part.width, part.depth, part.height))
            return (), f"A part of {specimen} is {shown} mm as it lies, and fits no bed.", False
        material = material_for(specimen)
        loaded = [m for m in fitting if material is not None and m.material_id == material.pk]
        chosen = loaded or fitting
        return tuple(m.key for m in chosen), "", not loaded and material is not None

    def _parts(self, specimen: Specimen) -> list[Laid]:
        """Its parts as their checks would lay them; none where one was not measured."""
        found: list[Laid] = []
        for check in self.record.parts(specimen.version_id):
            size = [check.value(f"size_{axis}") or 0.0 for axis in "xyz"]
            if not all(size):
                return []
            found += [laid(size, str(check.data.get("up", "z")))] * check.file.count
        return found

    def _work(
        self,
        way: Way,
        specimen: Specimen,
        kind: str,
        rows: Sequence[WorkStep],
        common: dict,
        base: dict,
    ) -> None:
        after = (way.last,) if way.last else ()
        last = rows[-1]
        if kind == WorkStep.Kind.ANNEAL:
            for row in rows:
                self._anneal(way, specimen, row, common, base)
            return
        key = f"work:{last.pk}"
        durations: list[Duration | None] = [self.record.work(row.kind) for row in rows]
        pieces = [
            piece(row.get_kind_display(), taken, hands=True)
            for row, taken in zip(rows, durations, strict=True)
            if taken is not None
        ]
        setting = specimen.state == State.GLUED and kind == WorkStep.Kind.GLUE
        if kind == WorkStep.Kind.GLUE:
            cure = self.record.lying(State.GLUED, BY_RULE["cure"])
            left = whole(max(cure.expected - self._since(specimen), 1.0)) if setting else 0
            if setting:
                pieces, durations = [], []
            pieces.append(Piece("cure", left) if setting else piece("cure", cure))
            durations.append(None if setting else cure)
        words = ", ".join(dict.fromkeys(row.get_kind_display() for row in rows))
        step = Step(key, "work", f"{specimen}: {words}", tuple(pieces), after=after, **common)
        told = Told(
            "work", words[:1].upper() + words[1:], work=last, durations=tuple(durations), **base
        )
        way.add(step, told, Pin(self.plan.now) if setting and not after else None)

    def _anneal(
        self, way: Way, specimen: Specimen, row: WorkStep, common: dict, base: dict
    ) -> None:
        taken, hand = self.record.anneal(specimen), self.record.fixed("start")
        after = (way.last,) if way.last else ()
        nowhere = "" if self.ovens else f"{specimen} is annealed, and no oven is known."
        inside = specimen.state == State.OVEN
        left = whole(max(taken.expected - self._since(specimen), 5.0)) if inside else 0
        pieces: tuple[Piece, ...] = (
            piece("load", hand, hands=True),
            piece("anneal", taken, watched=True, wait=NIGHT),
            piece("unload", hand, hands=True),
        )
        durations: tuple[Duration | None, ...] = (hand, taken, hand)
        if inside:
            pieces = (Piece("anneal", left, wait=NIGHT), pieces[2])
            durations = (None, hand)
        step = Step(
            f"work:{row.pk}",
            "anneal",
            f"Anneal {specimen}",
            pieces,
            places=self.ovens,
            after=after,
            nowhere=nowhere,
            **common,
        )
        told = Told("anneal", "Anneal", work=row, durations=durations, **base)
        way.add(step, told, Pin(self.plan.now) if inside and not after else None)

    def _gate(self, way: Way, specimen: Specimen, round: Round, common: dict, base: dict) -> None:
        if round.straight_to_the_bench:
            return
        gate = self.record.fixed("gate")
        pieces, durations = [piece("gate", gate, hands=True)], [gate]
        if round.kind.spins and not specimen.balances.exists():
            balance = self.record.fixed("balance")
            pieces.insert(0, piece("balance", balance, hands=True))
            durations.insert(0, balance)
        step = Step(
            f"gate:{specimen.pk}",
            "gate",
            f"{specimen}: safety gate",
            tuple(pieces),
            after=(way.last,) if way.last else (),
            **common,
        )
        way.add(step, Told("gate", "Safety gate", durations=tuple(durations), **base))


def _own(row: WorkStep) -> str:
    """What is a step of its own in a plan; the rest is done in one go."""
    return row.kind if row.kind in {WorkStep.Kind.ANNEAL, WorkStep.Kind.GLUE} else ""
