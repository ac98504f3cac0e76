"""Reading plans: the one in force, what happened of it, and what is next."""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Container, Iterable, Mapping, Sequence
from dataclasses import dataclass
from datetime import datetime, timedelta

from django.db.models import Exists, OuterRef, Q
from django.urls import reverse
from django.utils import timezone

from hauch.bench.models import Progress, Run
from hauch.core.plan.house import Window
from hauch.people.models import User
from hauch.people.permissions import allowed
from hauch.plan.models import DayPlan, Outage, PlannedStep
from hauch.rounds.models import Round
from hauch.rounds.queries import rounds_of
from hauch.stores.models import ReferenceSpecimen
from hauch.workshop.models import Gate, PrintRun, Specimen

OUT = (ReferenceSpecimen.State.BROKEN, ReferenceSpecimen.State.RETIRED)
LATE = 10
"""Minutes after which a step that should be done is late."""


def in_force() -> DayPlan | None:
    """The plan by which is worked."""
    return DayPlan.objects.filter(state=DayPlan.State.DONE).order_by("-made_at", "-pk").first()


def newest() -> DayPlan | None:
    """The plan that was asked for last."""
    return DayPlan.objects.first()


def steps_of(plan: DayPlan, window: Window | None = None) -> list[PlannedStep]:
    """Its steps in the order of the day, with all that is told of them.

    Parameters
    ----------
    window : minutes of the plan of which the steps are wanted, with those that should be done by now or
        are wanted no more; None for all, those without room too
    """
    found = plan.steps.all()
    if window is not None:
        now = max(plan.minute(timezone.now()), 0)
        stopped = Progress.objects.filter(entry=OuterRef("specimen__version__entry"), dnf__gt=0)
        found = found.filter(
            Q(begin__lt=window[1], end__gt=window[0])
            | Q(end__lte=now)
            | Q(specimen__state=Specimen.State.BROKEN)
            | Q(reference__state__in=OUT)
            | Exists(stopped)
        )
    rows = list(
        found.select_related(
            "round",
            "test__rig",
            "specimen__version__entry",
            "reference__type",
            "work",
        )
    )
    for row in rows:
        row.plan = plan
    return rows


@dataclass(frozen=True, slots=True)
class Happened:
    """What Hauch knows of a step: when it was done (or begun, where it is not done yet), and whether it
    is wanted no more.
    """

    begin: datetime | None = None
    end: datetime | None = None
    gone: str = ""

    @property
    def done(self) -> bool:
        """Whether it is done."""
        return self.end is not None


NOTHING = Happened()


def happened(plan: DayPlan, steps: Sequence[PlannedStep]) -> dict[str, Happened]:
    """What happened of the steps of a plan, by key: runs that were accepted, prints that were logged,
    work that was ticked off, gates that were passed.
    """
    references = list(plan.steps.filter(kind="reference").select_related("reference__type"))
    for row in references:
        row.plan = plan
    return _runs(plan, steps) | references_run(plan, references) | _made(steps)


def _runs(plan: DayPlan, steps: Sequence[PlannedStep]) -> dict[str, Happened]:
    rows = [s for s in steps if s.kind == "run" and s.test_id and s.specimen_id]
    tests = {s.test_id for s in rows}
    done: dict[tuple[int, int], list[datetime]] = defaultdict(list)
    valid = Run.objects.filter(
        test__in=tests, state=Run.State.VALID, specimen__isnull=False
    ).order_by("started_at", "pk")
    for test, of, begun in valid.values_list("test", "specimen__version", "started_at"):
        done[test, of].append(begun)
    stopped = dict(
        Progress.objects.filter(test__in=tests, dnf__gt=0).values_list("entry", "entry__name")
    )
    found = {}
    for step in rows:
        version = step.specimen.version if step.specimen else None
        if version is None:
            continue
        times = done.get((step.test_id or 0, version.pk), [])
        nth = step.repeat or 1
        if len(times) >= nth:
            begun = times[nth - 1]
            found[step.key] = Happened(begun, begun + _length(step))
        elif version.entry_id in stopped:
            found[step.key] = Happened(gone="did not finish")
        elif step.specimen and step.specimen.state == Specimen.State.BROKEN:
            found[step.key] = Happened(gone="the print is broken")
    return found


def _length(step: PlannedStep) -> timedelta:
    """As long as was planned: when the last reading of a run was taken is not kept."""
    if step.begin is None or step.end is None:
        return timedelta(minutes=10)
    return timedelta(minutes=step.end - step.begin)


def references_run(plan: DayPlan, steps: Sequence[PlannedStep]) -> dict[str, Happened]:
    """Runs of the reference since the plan was made, in their order, test by test."""
    since = plan.asked_at
    by_test: dict[int, list[datetime]] = defaultdict(list)
    rows = [s for s in steps if s.kind == "reference" and s.test_id]
    made = Run.objects.filter(
        test__in={s.test_id for s in rows},
        state=Run.State.VALID,
        reference__isnull=False,
        created_at__gte=since,
    ).order_by("started_at", "pk")
    for test, begun in made.values_list("test", "started_at"):
        by_test[test].append(begun)
    found = {}
    for step in sorted(rows, key=lambda s: (s.begin is None, s.begin or 0)):
        times = by_test.get(step.test_id or 0)
        if times:
            begun = times.pop(0)
            found[step.key] = Happened(begun, begun + _length(step))
        elif step.reference is not None and not step.reference.may_run:
            found[step.key] = Happened(gone=f"{step.reference} {_out(step.reference)}")
    return found


def _out(reference: ReferenceSpecimen) -> str:
    return "is broken" if reference.state == ReferenceSpecimen.State.BROKEN else "is retired"


def _made(steps: Sequence[PlannedStep]) -> dict[str, Happened]:
    """Prints, work and gates."""
    prints = [s for s in steps if s.kind == "print" and s.specimen]
    gates = [s for s in steps if s.kind == "gate" and s.specimen]
    logged: dict[int, PrintRun] = {}
    good = PrintRun.objects.filter(specimen__in={s.specimen_id for s in prints}, failed=False)
    for one in good:
        logged.setdefault(one.specimen_id, one)
    passed: dict[int, Gate] = {}
    for last in Gate.objects.filter(specimen__in={s.specimen_id for s in gates}):
        passed.setdefault(last.specimen_id, last)
    found: dict[str, Happened] = {}
    together = {pk for step in prints for pk in step.together}
    states = dict(Specimen.objects.filter(pk__in=together).values_list("pk", "state"))
    for step in prints:
        specimen = step.specimen
        if specimen is None:
            continue
        waiting = {states.get(pk) for pk in step.together} & {Specimen.State.PLANNED}
        if waiting and specimen.state not in {Specimen.State.PLANNED, Specimen.State.BROKEN}:
            continue  # one of a plate was logged; it is done when all are
        if specimen.state == Specimen.State.PRINTING:
            found[step.key] = Happened(specimen.since)
        elif specimen.state == Specimen.State.BROKEN:
            found[step.key] = Happened(gone="the print is broken")
        elif specimen.state != Specimen.State.PLANNED:
            run = logged.get(specimen.pk)
            end = run.at if run else specimen.since
            hours = run.hours if run and run.hours else None
            found[step.key] = Happened(end - timedelta(hours=hours) if hours else end, end)
    for step in gates:
        gate = passed.get(step.specimen_id or 0)
        if gate is not None and step.specimen and step.specimen.state == Specimen.State.READY:
            found[step.key] = Happened(gate.at - timedelta(minutes=5), gate.at)
    for step in steps:
        if step.work is not None and step.work.done_at is not None:
            found[step.key] = Happened(step.work.done_at - _length(step), step.work.done_at)
    return found


def seen_by(user: User) -> dict[int, Round]:
    """Rounds whose steps a person is told, by key; the rest of a plan is shown without names."""
    return {r.pk: r for r in rounds_of(user) if allowed(user, "bench.view", r)}


def problems_for(plan: DayPlan, mine: Container[int]) -> list[list[str]]:
    """What is wrong with a plan: in the house, and in the rounds that a person sees."""
    return [row[:3] for row in plan.problems if row[3] is None or row[3] in mine]


def link_of(step: PlannedStep) -> str:
    """Where a step is done."""
    if step.round is None:
        return ""
    if step.test_id is not None and step.kind in {"run", "reference"}:
        what = f"s{step.specimen_id}" if step.specimen_id else f"r{step.reference_id}"
        place = reverse("bench:capture", args=[step.round.slug, step.test_id])
        return f"{place}?subject={what}"
    if step.specimen is not None:
        return reverse("workshop:specimen", args=[step.round.slug, step.specimen_id])
    return ""


@dataclass(frozen=True)
class Since:
    """What happened since a plan was made that it does not know, a sentence each."""

    sentences: tuple[str, ...]

    def __bool__(self) -> bool:
        return bool(self.sentences)


def since(
    plan: DayPlan, steps: Sequence[PlannedStep], known: Mapping[str, Happened], mine: Iterable[int]
) -> Since:
    """Why a plan should be put right: late steps, what did not finish, broke or is out."""
    now, shown = timezone.now(), set(mine)
    told: list[str] = []
    for step in steps:
        what = known.get(step.key, NOTHING)
        if step.begin is None or step.round_id not in shown:
            continue
        if what.gone:
            told.append(f"{step.subject}: {what.gone}.")
        elif not what.done and step.end is not None and step.kind != "now":
            behind = (now - plan.moment(step.end)).total_seconds() / 60
            if behind > LATE:
                told.append(
                    f"{step.subject}, {step.label}: not done {_minutes(behind)} after it should be."
                )
    made = plan.made_at or plan.asked_at
    for outage in Outage.objects.filter(at__gt=made).select_related("user", "machine"):
        told.append(f"{outage} is out{f': {outage.reason}' if outage.reason else ''}.")
    return Since(tuple(dict.fromkeys(told)))


def _minutes(minutes: float) -> str:
    return f"{minutes:.0f} min" if minutes < 90 else f"{minutes / 60:.0f} h"
