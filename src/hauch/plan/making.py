"""What a specimen still needs before it is at the bench: print, work in its order, gate."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from datetime import timedelta
from functools import cached_property
from itertools import groupby

from django.utils import timezone

from hauch.core.plan.durations import Duration
from hauch.core.plan.house import House, Piece, Pin, Step, Unit
from hauch.entries.models import PartCheck
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

    def __init__(self, plan: DayPlan, house: House, record: Record) -> None:
        self.plan, self.house, self.record = plan, house, record

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
        common = {
            "part": part_key(specimen.pk, None),
            "round": round.slug,
            "by": by,
            "due": due,
        }
        base = {"subject": str(specimen), "round": round, "specimen": specimen}
        if specimen.state in {State.PLANNED, State.PRINTING}:
            self._print(way, specimen, common, base)
        for kind, rows in groupby(self._open(specimen), key=_own):
            self._work(way, specimen, kind, list(rows), common, base)
        self._gate(way, specimen, round, common, base)
        return way

    def _open(self, specimen: Specimen) -> list[WorkStep]:
        return [step for step in specimen.steps.all() if step.done_at is None]

    def _since(self, specimen: Specimen) -> float:
        return (timezone.now() - specimen.since) / timedelta(minutes=1)

    def _print(self, way: Way, specimen: Specimen, common: dict, base: dict) -> None:
        taken = self.record.print(specimen)
        start, off = self.record.fixed("start"), self.record.fixed("take off")
        again = self.record.prints_fail
        key = f"print:{specimen.pk}"
        if specimen.state == State.PRINTING:
            left = whole(max(taken.expected - self._since(specimen), 5.0))
            place = self._printing_on(specimen)
            rest = (Piece("print", left, wait=NIGHT), piece("take off", off, hands=True))
            step = Step(
                key,
                "print",
                f"{specimen} prints",
                rest,
                places=(place,) if place else (),
                **common,
            )
            told = Told("print", "Print", durations=(None, off), again=again, **base)
            way.add(step, told, Pin(self.plan.now, place))
            return
        places, nowhere, load = self._printers_for(specimen)
        if load:
            start = self.record.longer(start, LOADING)
        pieces = (
            piece("start", start, hands=True),
            piece("print", taken, wait=NIGHT),
            piece("take off", off, hands=True),
        )
        step = Step(
            key, "print", f"Print {specimen}", pieces, places=places, nowhere=nowhere, **common
        )
        way.add(step, Told("print", "Print", durations=(start, taken, off), again=again, **base))

    def _printing_on(self, specimen: Specimen) -> str:
        """The printer that a specimen is on: as planned, else one that takes it and has its material."""
        planned = PlannedStep.objects.filter(
            key=f"print:{specimen.pk}", begin__isnull=False, plan__state=DayPlan.State.DONE
        ).order_by("-plan__made_at")
        known = {machine.key for machine in self.printers}
        place = planned.values_list("place", flat=True).first()
        if place in known:
            return str(place)
        likely, _, _ = self._printers_for(specimen)
        return likely[0] if likely else ""

    def _printers_for(self, specimen: Specimen) -> tuple[tuple[str, ...], str, bool]:
        """Printers on which a specimen fits, why none does, and whether its material must be loaded."""
        if not self.printers:
            return (), f"{specimen} is to be printed, and no printer is known.", False
        sizes = self._sizes(specimen)
        fitting = [m for m in self.printers if all(_fits(size, m) for size in sizes)]
        if not fitting:
            size = max(sizes, key=max)
            shown = " × ".join(f"{1000 * one:.0f}" for one in size)
            return (), f"A part of {specimen} is {shown} mm and fits no bed.", False
        material = material_for(specimen)
        loaded = [m for m in fitting if material is not None and m.material_id == material.pk]
        chosen = loaded or fitting
        return tuple(m.key for m in chosen), "", not loaded and material is not None

    def _sizes(self, specimen: Specimen) -> list[tuple[float, ...]]:
        checks = PartCheck.objects.newest().filter(
            file__version=specimen.version_id, state=PartCheck.State.DONE
        )
        found = []
        for check in checks:
            size = [check.value(f"size_{axis}") for axis in "xyz"]
            if all(size):
                found.append(tuple(float(one or 0) for one in size))
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


def _fits(size: tuple[float, ...], machine: Machine) -> bool:
    """Whether a part lies in a machine in some way, along its axes."""
    room = sorted((machine.width, machine.depth, machine.height))
    return all(one <= most for one, most in zip(sorted(size), room, strict=True))
