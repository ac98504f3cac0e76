"""Working a plan out, in the worker: first a valid one at once, then better ones as long as there is
time, and what it hangs on.
"""

from __future__ import annotations

import time
from collections.abc import Mapping, Sequence
from dataclasses import replace
from typing import Any

import numpy as np
from django.db import transaction
from django.urls import reverse
from django.utils import timezone

from hauch.core.plan.again import changes, put_right
from hauch.core.plan.chance import Outcome, simulate
from hauch.core.plan.check import broken_rules
from hauch.core.plan.house import Person, Place, Placed, Schedule, Unit
from hauch.core.plan.people import stay
from hauch.core.plan.place import first_plan
from hauch.core.plan.wishes import Fault, faults, impossible
from hauch.people.clock import house_day
from hauch.plan.loading import Problem, load
from hauch.plan.models import DayPlan, Deadline, PlannedStep
from hauch.plan.queries import in_force
from hauch.plan.told import Told
from hauch.ui.missing import Missing

SECONDS, SECONDS_AGAIN = 30.0, 2.0
"""For so long better plans are looked for: for a new one, and for one that is put right."""
SECONDS_FIRST, SECONDS_COMPARED = 0.8, 0.3
"""The first plan is there after so long; plans that are only compared with one another have less."""
TELL_EVERY = 0.5


def work_out(plan: DayPlan, seconds: float | None = None) -> None:
    """Work a plan out and keep it; safe to run twice."""
    if plan.ended:
        return
    plan.previous = in_force()
    DayPlan.objects.filter(pk=plan.pk).update(
        state=DayPlan.State.RUNNING, progress=0.0, previous=plan.previous
    )
    problem = load(plan)
    wrong = faults(problem.house, problem.units)
    fatal = [fault for fault in wrong if not fault.step]
    missing = [*problem.missing, *(_of_fault(problem, fault) for fault in wrong)]
    if fatal or not problem.house.people:
        _fail(plan, missing, not problem.house.people)
        return
    before = _before(plan, problem)
    found = _best(plan, problem, before, seconds)
    found = replace(found, placed=stay(problem.house, problem.units, found.placed))
    if (broken := broken_rules(problem.house, problem.units, found.placed)) != []:
        raise AssertionError(f"the plan breaks a rule: {broken[0]}")
    keep(plan, problem, found, missing, seconds)


Row = tuple[Missing, int | None]
"""What is missing, and in which round; None for the house."""


def _of_fault(problem: Problem, fault: Fault) -> Row:
    told = problem.told.get(fault.step)
    round = told.round.pk if told and told.round else None
    house = reverse("plan:house")
    if not fault.step:
        return Missing(fault.text, f"{house}#hours", "Set hours"), None
    if told is not None and told.kind in {"print", "anneal"}:
        return Missing(fault.text, f"{house}#machines", "Printers and ovens"), round
    return Missing(fault.text), round


def _rows(missing: Sequence[Row]) -> list[list[Any]]:
    """As plans keep it: text, address, words, round."""
    return [[*one, round] for one, round in missing]


def _fail(plan: DayPlan, missing: Sequence[Row], empty: bool) -> None:
    rows = list(missing)
    if empty:
        text = "Nobody has said yet when somebody is there."
        hours = Missing(text, reverse("plan:house") + "#hours", "Set hours")
        rows = [(hours, None), *(row for row in rows if row[1] is not None)]
    DayPlan.objects.filter(pk=plan.pk).update(
        state=DayPlan.State.FAILED, problems=_rows(rows), made_at=timezone.now()
    )


def _before(plan: DayPlan, problem: Problem) -> dict[str, Placed] | None:
    """The plan in force, in minutes of the new one, as far as its steps are still to be done; None
    where a new one is wanted.
    """
    if plan.anew or plan.previous is None:
        return None
    shift = plan.previous.minute(plan.begin)
    wanted = set(problem.told)
    found = {}
    for row in plan.previous.steps.filter(key__in=wanted, begin__isnull=False):
        placed = row.placed
        if placed is not None:
            pieces = tuple((a - shift, b - shift) for a, b in placed.pieces)
            found[row.key] = replace(placed, pieces=pieces)
    return found


def _best(
    plan: DayPlan, problem: Problem, before: dict[str, Placed] | None, seconds: float | None
) -> Schedule:
    house, units = problem.house, problem.units
    limit = SECONDS if before is None else SECONDS_AGAIN
    limit = limit if seconds is None else seconds
    if before is None:
        first = first_plan(house, units, seconds=min(SECONDS_FIRST, limit))
    else:
        first = put_right(house, units, before)
    began, last = time.monotonic(), 0.0

    def told(schedule: Schedule) -> bool:
        nonlocal last
        now = time.monotonic()
        if now - last >= TELL_EVERY:
            last = now
            DayPlan.objects.filter(pk=plan.pk).update(
                progress=min((now - began) / limit, 1.0),
                score=schedule.score,
                bound=schedule.bound,
            )
        return not DayPlan.objects.filter(pk=plan.pk, cancel=True).exists()

    told(first)
    # The solver takes two seconds to load, of which no page knows anything.
    from hauch.core.plan.long import improve_soon

    return improve_soon(house, units, first, seconds=limit, told=told, before=before)


def keep(
    plan: DayPlan,
    problem: Problem,
    found: Schedule,
    missing: Sequence[Row],
    seconds: float | None = None,
) -> None:
    """Keep a plan with all that is told of it; from now on it is in force."""
    rows = []
    for unit in problem.units:
        for order, step in enumerate(unit.steps):
            told, placed = problem.told[step.key], found.placed.get(step.key)
            rows.append(_row(plan, unit, order, told, placed, unit.key in problem.pinned))
    with transaction.atomic():
        current = DayPlan.objects.select_for_update().get(pk=plan.pk)
        if current.ended:
            return
        PlannedStep.objects.filter(plan=plan).delete()
        PlannedStep.objects.bulk_create(rows)
        current.state, current.progress = DayPlan.State.DONE, 1.0
        current.score, current.bound, current.made_at = found.score, found.bound, timezone.now()
        current.problems = _rows(missing)
        current.missed = [
            [one.unit, one.wish, [rule.value for rule in one.rules]]
            for one in impossible(problem.house, problem.units, found.placed)
        ]
        current.changes = _changes(plan, problem, found)
        current.chance = chance_of(plan, problem, found.placed, seconds)
        current.save()
    forget_old()


KEPT = 10
"""Of so many plans the steps are kept; of older ones only that they were."""


def forget_old() -> None:
    """Take the steps of old plans away: each change makes a plan with thousands of them."""
    newest = DayPlan.objects.filter(state=DayPlan.State.DONE).order_by("-made_at", "-pk")
    kept = list(newest.values_list("pk", flat=True)[:KEPT])
    PlannedStep.objects.exclude(plan__in=kept).filter(plan__state=DayPlan.State.DONE).delete()


def _row(
    plan: DayPlan, unit: Unit, order: int, told: Told, placed: Placed | None, pinned: bool
) -> PlannedStep:
    step, known = unit.steps[order], told.told_by
    row = PlannedStep(
        plan=plan,
        key=step.key,
        unit=unit.key,
        order=order,
        kind=step.kind,
        label=told.label[:160],
        subject=told.subject[:120],
        round=told.round,
        test=told.test,
        specimen=told.specimen,
        together=list(told.together),
        reference=told.reference,
        work=told.work,
        repeat=told.repeat,
        low=None if known is None else known.low,
        high=None if known is None else known.high,
        logged=None if known is None else known.count,
        urgent=step.rank.value,
        quiet=step.quiet,
        pinned=pinned,
    )
    for name, value in row.as_placed(placed, [piece.what for piece in step.pieces]).items():
        setattr(row, name, value)
    return row


def _changes(plan: DayPlan, problem: Problem, found: Schedule) -> list[list[Any]]:
    """What changed against the plan before: step, subject, what, minutes, key of the round, place."""
    if plan.previous is None:
        return []
    shift = plan.previous.minute(plan.begin)
    rows = {row.key: row for row in plan.previous.steps.filter(begin__isnull=False)}
    before = {}
    for key, row in rows.items():
        placed = row.placed
        if placed is not None and (key in problem.told or placed.end > shift + plan.now):
            pieces = tuple((a - shift, b - shift) for a, b in placed.pieces)
            before[key] = replace(placed, pieces=pieces)
    told: list[list[Any]] = []
    for change in changes(before, found.placed, list(problem.told)):
        known, old = problem.told.get(change.key), rows.get(change.key)
        label = known.label if known else old.label if old else change.key
        subject = known.subject if known else old.subject if old else ""
        round = known.round.pk if known and known.round else old.round_id if old else None
        place = problem.house.by_key[change.place].label if change.place else ""
        told.append([label, subject, change.what, change.minutes, round, place])
    return told


LEAST_HELD = 10.0
"""Minutes from which on a cause is told."""


def chance_of(
    plan: DayPlan, problem: Problem, placed: Mapping[str, Placed], seconds: float | None = None
) -> dict[str, Any]:
    """How probable it is that each round ends by its day, what it hangs on, and what one more printer
    or person would bring.
    """
    outcome = simulate(problem.later, problem.units, placed, problem.doubts)
    rounds: dict[int, list[str]] = {}
    left: dict[int, int] = {}
    for key, told in problem.told.items():
        if told.round is None:
            continue
        if key in placed:
            rounds.setdefault(told.round.pk, []).append(key)
        else:
            left[told.round.pk] = left.get(told.round.pk, 0) + 1
    by = {
        deadline.round_id: (deadline.day - house_day(plan.begin)).days + 1
        for deadline in Deadline.objects.filter(round__in=rounds)
    }
    told_rounds = {
        str(pk): _of_round(plan, outcome, keys, by.get(pk), left.get(pk, 0))
        for pk, keys in rounds.items()
    }
    labels = {p.key: p.label for p in problem.house.places}
    labels |= {p.key: p.label for p in problem.house.people}
    held = [
        [labels.get(cause, cause), minutes]
        for cause, minutes in sorted(outcome.held_by.items(), key=lambda item: -item[1])
        if minutes >= LEAST_HELD
    ]
    return {"rounds": told_rounds, "held": held[:6], "more": _one_more(problem, seconds)}


def _of_round(
    plan: DayPlan, outcome: Outcome, keys: Sequence[str], days: int | None, left: int
) -> dict[str, Any]:
    ends = outcome.end_of(keys)
    low, middle, high = (
        float(value) for value in np.quantile(ends, [0.1, 0.5, 0.9], method="inverted_cdf")
    )
    found: dict[str, Any] = {
        "low": plan.moment(low).isoformat() if np.isfinite(low) else None,
        "middle": plan.moment(middle).isoformat() if np.isfinite(middle) else None,
        "high": plan.moment(high).isoformat() if np.isfinite(high) else None,
        "left": left,
    }
    if days is not None:
        found["by"] = days * 1440
        found["probability"] = 0.0 if left else float((ends <= days * 1440).mean())
    return found


def _one_more(problem: Problem, seconds: float | None) -> list[list[Any]]:
    """By how many minutes the last step of all would end earlier with one more printer or person like
    those that there are, and how many more steps would find room; all planned in the same quick way.
    """
    house, units = problem.house, problem.units
    quick = SECONDS_COMPARED if seconds is None else min(SECONDS_COMPARED, seconds)
    base = first_plan(house, units, seconds=quick).placed
    if not base:
        return []
    found: list[list[Any]] = []
    printers = [place for place in house.places if place.kind == "printer"]
    if printers:
        more = replace(printers[0], key="one more", label="one more printer")
        wider = replace(house, places=(*house.places, more))
        taking = [_also(unit, printers, more.key) for unit in units]
        made = first_plan(wider, taking, seconds=quick).placed
        found.append(["printer", *_gain(base, made)])
    busy = max(house.people, key=lambda person: sum(b - a for a, b in person.hours))
    extra = Person("person:0", "one more person", busy.hours)
    more_hands = replace(house, people=(*house.people, extra))
    free = [
        replace(unit, steps=tuple(replace(step, by=()) for step in unit.steps)) for unit in units
    ]
    made = first_plan(more_hands, free, seconds=quick).placed
    found.append(["person", *_gain(base, made)])
    return found


def _also(unit: Unit, printers: Sequence[Place], more: str) -> Unit:
    known = {place.key for place in printers}
    steps = tuple(
        replace(step, places=(*step.places, more)) if known & set(step.places) else step
        for step in unit.steps
    )
    return replace(unit, steps=steps)


def _gain(base: Mapping[str, Placed], made: Mapping[str, Placed]) -> tuple[int, int]:
    """Minutes by which the last step that both place ends earlier, and how many steps more find room."""
    both = base.keys() & made.keys()
    sooner = max(base[key].end for key in both) - max(made[key].end for key in both) if both else 0
    return max(sooner, 0), max(len(made) - len(base), 0)
