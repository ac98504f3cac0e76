"""The best schedule that a solver finds in a time, with what it has proven.

Constraint programming over intervals (P. Laborie et al., "IBM ILOG CP optimizer for scheduling",
Constraints 23 (2018) 210, for the kind of model), solved with CP-SAT. It begins from a schedule that
was placed step by step, and never returns a worse one.
"""

from __future__ import annotations

import itertools
import math
import threading
import time
from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass

from ortools.sat.python import cp_model

from hauch.core.plan.again import MOVED, cost_of
from hauch.core.plan.house import (
    LATE_ALL,
    LATE_DECISION,
    LATE_MUST,
    LEFT_OUT,
    SOON,
    House,
    Placed,
    Rank,
    Schedule,
    Step,
    Unit,
    Window,
    outside,
    within,
)

WORKERS = 8
"""Ways of searching that take turns on the cores: eight on two cores prove more than two do."""

LOOKS_EVERY = 0.2
"""Seconds after which the best so far is told, and may be taken."""

Told = Callable[[Schedule], bool]
"""Told the best schedule so far; False ends the search."""


@dataclass
class _Of:
    """Variables of a step: begins of its pieces, its end, whether it is placed, by place a literal."""

    begins: list[cp_model.LinearExprT]
    ends: list[cp_model.LinearExprT]
    there: cp_model.IntVar
    on: dict[str, cp_model.IntVar]
    who: list[dict[str, cp_model.IntVar]]

    @property
    def begin(self) -> cp_model.LinearExprT:
        return self.begins[0]

    @property
    def end(self) -> cp_model.LinearExprT:
        return self.ends[-1]


class Model:
    """The problem as the solver takes it."""

    def __init__(
        self, house: House, units: Sequence[Unit], before: Mapping[str, Placed] | None = None
    ) -> None:
        self.house, self.units = house, [unit for unit in units if _placeable(unit)]
        self.all, self.before = units, before or {}
        self.model = cp_model.CpModel()
        self.of: dict[str, _Of] = {}
        self.on_place: dict[str, list[cp_model.IntervalVar]] = {p.key: [] for p in house.places}
        self.loud: list[cp_model.IntervalVar] = []
        self.quiet: list[cp_model.IntervalVar] = []
        self.by_day: dict[int, list[tuple[Unit, cp_model.IntVar]]] = {}
        for unit in self.units:
            self._add_unit(unit)
        self._persons()
        self._shared("part")
        self._shared("meters")
        self._noise()
        for intervals in self.on_place.values():
            self.model.add_no_overlap(intervals)
        self._precedences()
        self._room_of_days()
        self._crowd()
        self._objective()

    def _add_unit(self, unit: Unit) -> None:
        model, there = self.model, self.model.new_bool_var(f"{unit.key}")
        on = {place: model.new_bool_var(f"{unit.key}@{place}") for place in _places(unit)}
        if on:
            model.add(sum(on.values()) == there)
        made = [self._add_step(step, there, on) for step in unit.steps]
        for a, b in itertools.pairwise(made):
            model.add(b.begin >= a.end)
        if unit.pin is not None:
            model.add(there == 1)
            model.add(made[0].begin == unit.pin.at)
            if unit.pin.place:
                model.add(on[unit.pin.place] == 1)
        begin, end = made[0].begin, made[-1].end
        for place, literal in on.items():
            size = model.new_int_var(0, self.house.horizon, "")
            self.on_place[place].append(
                model.new_optional_interval_var(begin, size, end, literal, f"{unit.key}@{place}")
            )
        if unit.chained:
            self._on_days(unit, begin, end, there)

    def _on_days(
        self,
        unit: Unit,
        begin: cp_model.LinearExprT,
        end: cp_model.LinearExprT,
        there: cp_model.IntVar,
    ) -> None:
        """Hold a block within one day; the literals say which, for the room that the days have."""
        model, chosen = self.model, []
        for day, (a, b) in enumerate(self.house.days):
            inside = model.new_bool_var(f"{unit.key} on day {day}")
            model.add(begin >= a).only_enforce_if(inside)
            model.add(end <= b).only_enforce_if(inside)
            self.by_day.setdefault(day, []).append((unit, inside))
            chosen.append(inside)
        model.add(sum(chosen) == there)

    def _room_of_days(self) -> None:
        """What follows from the others, and is hard to see from them: the blocks of a day fit into its
        minutes, by place, by quiet, and by hands.
        """
        for day, blocks in self.by_day.items():
            window = self.house.days[day]
            for place in self.house.by_key:
                self._at_most(
                    [
                        (inside, unit.minutes)
                        for unit, inside in blocks
                        if _places(unit) == (place,)
                    ],
                    window[1] - window[0],
                )
            silent = within(window, self.house.quiet)
            quiet = [(i, u.minutes) for u, i in blocks if all(step.quiet for step in u.steps)]
            self._at_most(quiet, silent)
            hands = sum(within(window, person.hours) for person in self.house.people)
            self._at_most([(inside, unit.hands) for unit, inside in blocks], hands)

    def _at_most(self, taken: Sequence[tuple[cp_model.IntVar, int]], room: int) -> None:
        if taken:
            self.model.add(sum(literal * minutes for literal, minutes in taken) <= room)

    def _add_step(self, step: Step, there: cp_model.IntVar, on: dict[str, cp_model.IntVar]) -> _Of:
        model, horizon = self.model, self.house.horizon
        begins: list[cp_model.LinearExprT] = [
            model.new_int_var(min(step.earliest, horizon), horizon, step.key)
        ]
        ends: list[cp_model.LinearExprT] = []
        for index, piece in enumerate(step.pieces):
            end = begins[index] + piece.minutes
            if index + 1 < len(step.pieces):
                if piece.wait:
                    later = model.new_int_var(0, horizon, "")
                    model.add(later >= end)
                    model.add(later <= end + piece.wait)
                    begins.append(later)
                else:
                    begins.append(end)
            ends.append(
                begins[index + 1]
                if piece.runs_on and piece.wait and index + 1 < len(step.pieces)
                else end
            )
        model.add(ends[-1] <= horizon)
        of = _Of(begins, ends, there, on, [])
        self.of[step.key] = of
        for index in range(len(step.pieces)):
            self._add_piece(step, index, of)
        if step.quiet:
            if self.house.quiet is not None:
                self._within(of.begin, of.end, self.house.quiet, there)
            size = model.new_int_var(0, horizon, "")
            self.quiet.append(
                model.new_optional_interval_var(of.begin, size, of.end, there, step.key)
            )
        return of

    def _add_piece(self, step: Step, index: int, of: _Of) -> None:
        model, piece = self.model, step.pieces[index]
        begin, end, stretches = of.begins[index], of.ends[index], piece.runs_on and piece.wait > 0
        if piece.watched:
            self._within(
                begin, end, self.house.on_duty, of.there, None if stretches else piece.minutes
            )
        for place, literal in of.on.items():
            what = self.house.by_key[place]
            if what.open is not None and piece.minutes:
                self._within(begin, end, what.open, literal, None if stretches else piece.minutes)
            heard = what.kind == "bench" or len(step.pieces) == 1 or not piece.hands
            if what.loud and heard and not step.quiet and piece.minutes:
                size = model.new_int_var(0, self.house.horizon, "") if stretches else piece.minutes
                self.loud.append(model.new_optional_interval_var(begin, size, end, literal, ""))
        who: dict[str, cp_model.IntVar] = {}
        if piece.hands:
            who = {
                p.key: model.new_bool_var(f"{step.key}:{p.key}")
                for p in self.house.people
                if not step.by or p.key in step.by
            }
            model.add(sum(who.values()) == of.there)
        of.who.append(who)

    def _within(
        self,
        begin: cp_model.LinearExprT,
        end: cp_model.LinearExprT,
        windows: Sequence[Window],
        literal: cp_model.IntVar,
        minutes: int | None = None,
    ) -> None:
        """Hold an interval within one of some windows; one of a fixed length by its begin alone."""
        model = self.model
        windows = [w for w in windows if w[0] < self.house.horizon]
        if minutes is not None:
            allowed = [[a, b - minutes] for a, b in windows if b - a >= minutes]
            domain = cp_model.Domain.from_intervals(allowed)
            model.add_linear_expression_in_domain(begin, domain).only_enforce_if(literal)
            return
        chosen = []
        for a, b in windows:
            inside = model.new_bool_var("")
            model.add(begin >= a).only_enforce_if(inside)
            model.add(end <= b).only_enforce_if(inside)
            chosen.append(inside)
        model.add(sum(chosen) == literal)

    def _persons(self) -> None:
        model = self.model
        for person in self.house.people:
            held = [
                model.new_fixed_size_interval_var(a, b - a, "")
                for a, b in outside(person.hours, self.house.horizon + 1)
            ]
            for unit in self.units:
                for step in unit.steps:
                    of = self.of[step.key]
                    for index, piece in enumerate(step.pieces):
                        if piece.hands and piece.minutes and person.key in of.who[index]:
                            held.append(
                                model.new_optional_fixed_size_interval_var(
                                    of.begins[index], piece.minutes, of.who[index][person.key], ""
                                )
                            )
            model.add_no_overlap(held)

    def _crowd(self) -> None:
        """No more hands at once than people on duty: said once for all, since it proves more than one
        person after the other.
        """
        if len(self.house.people) < 2:
            return
        model, held = self.model, []
        for person in self.house.people:
            held += [
                model.new_fixed_size_interval_var(a, b - a, "")
                for a, b in outside(person.hours, self.house.horizon + 1)
            ]
        for unit in self.units:
            for step in unit.steps:
                of = self.of[step.key]
                held += [
                    model.new_optional_fixed_size_interval_var(begin, piece.minutes, of.there, "")
                    for piece, begin in zip(step.pieces, of.begins, strict=True)
                    if piece.hands and piece.minutes
                ]
        model.add_cumulative(held, [1] * len(held), len(self.house.people))

    def _shared(self, what: str) -> None:
        """One thing at a time is done to a part, and read by a meter."""
        held: dict[str, list[cp_model.IntervalVar]] = {}
        for unit in self.units:
            for step in unit.steps:
                keys = step.meters if what == "meters" else (step.part,) if step.part else ()
                for key in keys:
                    held.setdefault(key, []).append(self._whole(step))
        for intervals in held.values():
            if len(intervals) > 1:
                self.model.add_no_overlap(intervals)

    def _whole(self, step: Step) -> cp_model.IntervalVar:
        of, model = self.of[step.key], self.model
        size = model.new_int_var(0, self.house.horizon, "")
        return model.new_optional_interval_var(of.begin, size, of.end, of.there, "")

    def _noise(self) -> None:
        """What is loud may run beside what is loud; at a quiet step nothing else is heard."""
        if not self.quiet:
            return
        room = len(self.house.places) + 1
        self.model.add_cumulative(
            [*self.quiet, *self.loud], [room] * len(self.quiet) + [1] * len(self.loud), room
        )

    def _precedences(self) -> None:
        for unit in self.units:
            inside = {step.key for step in unit.steps}
            for step in unit.steps:
                of = self.of[step.key]
                for key in step.after:
                    if key not in self.of:
                        self.model.add(of.there == 0)
                        continue
                    self.model.add(of.begin >= self.of[key].end).only_enforce_if(of.there)
                    if key not in inside:
                        self.model.add_implication(of.there, self.of[key].there)

    def _objective(self) -> None:
        """`score_of`, times the count of steps so that it is whole."""
        model, horizon = self.model, self.house.horizon
        steps = [step for unit in self.all for step in unit.steps]
        count, lost = max(len(steps), 1), int(LEFT_OUT * horizon)
        decision, last = model.new_int_var(0, lost, "decision"), model.new_int_var(0, lost, "last")
        terms: list[cp_model.LinearExprT] = [
            count * LATE_DECISION * decision,
            count * LATE_ALL * last,
        ]
        cost = {
            Rank.MUST: 10 * LATE_DECISION,
            Rank.DECIDES: LATE_DECISION,
            Rank.OTHER: LATE_ALL,
        }
        for step in steps:
            of = self.of.get(step.key)
            end: cp_model.LinearExprT = lost
            if of is None:
                terms.append(count * horizon * cost[step.rank])
            else:
                counted = model.new_int_var(0, lost, "")
                model.add(counted >= of.end).only_enforce_if(of.there)
                model.add(counted >= lost).only_enforce_if(of.there.negated())
                end = counted
                terms.append(count * horizon * cost[step.rank] * (1 - of.there))
            terms.append(SOON * end)
            model.add(last >= end)
            if step.rank <= Rank.DECIDES:
                model.add(decision >= end)
            if step.due is not None:
                late = model.new_int_var(0, lost, "")
                model.add(late >= end - step.due)
                terms.append(count * LATE_MUST * late)
        self.count = count
        for key, at in self.before.items():
            if key in self.of:
                moved = model.new_int_var(0, lost, "")
                model.add(moved >= self.of[key].begin - at.begin)
                model.add(moved >= at.begin - self.of[key].begin)
                terms.append(count * MOVED * moved)
        model.minimize(sum(terms))

    def cost(self, placed: Mapping[str, Placed]) -> float:
        """What is kept low, of a schedule."""
        return cost_of(self.all, placed, self.house.horizon, self.before)

    def hint(self, placed: Mapping[str, Placed]) -> None:
        """Begin from a schedule."""
        hinted: set[int] = set()
        for day, blocks in self.by_day.items():
            a, b = self.house.days[day]
            for unit, inside in blocks:
                at = placed.get(unit.steps[0].key)
                self.model.add_hint(inside, at is not None and a <= at.begin < b)
        for key, of in self.of.items():
            at = placed.get(key)
            if of.there.index not in hinted:
                hinted.add(of.there.index)
                self.model.add_hint(of.there, at is not None)
            if at is None:
                continue
            for begin, (minute, _) in zip(of.begins, at.pieces, strict=True):
                if isinstance(begin, cp_model.IntVar):
                    self.model.add_hint(begin, minute)
            for place, literal in of.on.items():
                if literal.index not in hinted:
                    hinted.add(literal.index)
                    self.model.add_hint(literal, place == at.place)
            for who, name in zip(of.who, at.people, strict=True):
                for person, literal in who.items():
                    self.model.add_hint(literal, person == name)

    def read(self, value: Callable[[cp_model.LinearExprT], int]) -> dict[str, Placed]:
        """The schedule of a solution."""
        found = {}
        for key, of in self.of.items():
            if not value(of.there):
                continue
            pieces = tuple(
                (value(begin), value(end)) for begin, end in zip(of.begins, of.ends, strict=True)
            )
            place = next((p for p, literal in of.on.items() if value(literal)), "")
            people = tuple(
                next((p for p, literal in who.items() if value(literal)), "") for who in of.who
            )
            found[key] = Placed(pieces, place, people)
        return found


def _places(unit: Unit) -> tuple[str, ...]:
    """Places that take all steps of a unit."""
    first = unit.steps[0].places
    return tuple(p for p in first if all(p in step.places for step in unit.steps))


def _placeable(unit: Unit) -> bool:
    return all(not step.nowhere for step in unit.steps) and (
        not unit.steps[0].places or bool(_places(unit))
    )


class _Watch(cp_model.CpSolverSolutionCallback):
    """Keeps the newest schedule. The solver calls it from threads of its own, so that it does no more."""

    def __init__(self, made: Model) -> None:
        super().__init__()
        self.made, self.read_at = made, -math.inf
        self.newest: Schedule | None = None

    def on_solution_callback(self) -> None:
        now = time.monotonic()
        if now - self.read_at < LOOKS_EVERY / 2:
            return
        self.read_at = now
        placed = self.made.read(lambda expression: int(self.value(expression)))
        bound = self.best_objective_bound / self.made.count
        self.newest = Schedule(placed, self.made.cost(placed), bound)


def _solved(solver: cp_model.CpSolver, model: Model, first: Schedule, told: Told) -> bool:
    """Solve, telling the best so far from the caller's thread; whether there is a schedule."""
    watch, status = _Watch(model), list[cp_model.CpSolverStatus]()
    work = threading.Thread(
        target=lambda: status.append(solver.solve(model.model, watch)), name="solver", daemon=True
    )
    work.start()
    while work.is_alive():
        work.join(LOOKS_EVERY)
        if not told(watch.newest or first):
            solver.stop_search()
            work.join()
    return bool(status) and status[0] in (cp_model.OPTIMAL, cp_model.FEASIBLE)


def improve(
    house: House,
    units: Sequence[Unit],
    first: Schedule,
    *,
    seconds: float,
    told: Told = lambda schedule: True,
    before: Mapping[str, Placed] | None = None,
    seed: int = 1,
    workers: int = WORKERS,
) -> Schedule:
    """The best schedule that is found in so many seconds, beginning from a first one.

    Parameters
    ----------
    told : told the best so far every moment, from the caller's thread; returns False where the search should end
    before : the plan that is in force, from which is moved as little as needed
    """
    if not units:
        return first
    model = Model(house, units, before)
    model.hint(first.placed)
    solver = cp_model.CpSolver()
    solver.parameters.max_time_in_seconds = seconds
    solver.parameters.num_workers = workers
    solver.parameters.random_seed = seed
    if not _solved(solver, model, first, told):
        return first
    placed = model.read(lambda expression: int(solver.value(expression)))
    found = Schedule(placed, model.cost(placed), solver.best_objective_bound / model.count)
    if found.score > first.score:
        return Schedule(first.placed, first.score, found.bound)
    return found
