"""How a plan may go: durations and failures drawn again and again, each step as soon as what it waits
for is done.

Activities keep their planned order on each place and with each person (a priority rule of "earliest
start" under uncertain durations, as in F. Ballestin, "When it is worthwhile to work with the stochastic
RCPSP?", J. Sched. 10 (2007) 153); nobody replans in a draw, so that the end is rather told late.
"""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from hauch.core.plan.durations import Duration
from hauch.core.plan.house import House, Piece, Place, Placed, Step, Unit, Window

Floats = NDArray[np.float64]

DRAWS, LEAST_DRAWS = 2000, 200
MOST_HELD = 4_000_000
"""Pieces times draws that are held at once (32 bytes each); of longer plans fewer draws are made."""
NEVER = np.inf


@dataclass(frozen=True, slots=True)
class Doubt:
    """What is not certain of a step: how long its pieces take (None where that is fixed), and with
    which probability it has to be done again.
    """

    pieces: tuple[Duration | None, ...]
    again: float = 0.0


@dataclass(frozen=True)
class Outcome:
    """Draws of a plan: minute at which each step ends, (steps, draws), and by cause the mean minutes
    for which the last step of all was held up by it.
    """

    keys: tuple[str, ...]
    ends: Floats
    held_by: Mapping[str, float]

    def end_of(self, keys: Sequence[str]) -> Floats:
        """The minute after the last of some steps, by draw; infinite where a draw ran out of days."""
        rows = [index for index, key in enumerate(self.keys) if key in set(keys)]
        return self.ends[rows].max(axis=0) if rows else np.zeros(self.ends.shape[1])

    def probability(self, keys: Sequence[str], by: float) -> float:
        """With which some steps are done by a minute."""
        return float((self.end_of(keys) <= by).mean())


def _pushed(at: Floats, minutes: Floats, windows: Sequence[Window]) -> Floats:
    """The first minute from ``at`` on from which ``minutes`` lie in a window, of windows in order; what is
    longer than every window begins at the first one and runs over.
    """
    if not windows:
        return np.full(at.shape, NEVER)
    opens, closes = np.array(windows, dtype=float).T
    needed = np.minimum(minutes, (closes - opens).max())
    index = np.searchsorted(closes, at, side="right")
    found = np.full(at.shape, NEVER)
    left = np.flatnonzero(index < len(closes))
    while left.size:
        begin = np.maximum(at[left], opens[index[left]])
        fits = begin + needed[left] <= closes[index[left]]
        found[left[fits]] = begin[fits]
        left = left[~fits]
        index[left] += 1
        left = left[index[left] < len(closes)]
    return found


@dataclass(frozen=True, slots=True)
class _Task:
    """A piece of a step in the order of the plan."""

    step: Step
    unit: Unit
    index: int
    piece: Piece
    place: Place | None
    who: str
    planned: int


class Going:
    """One plan, gone through for all draws at once."""

    def __init__(
        self,
        house: House,
        units: Sequence[Unit],
        placed: Mapping[str, Placed],
        doubts: Mapping[str, Doubt],
        *,
        draws: int = DRAWS,
        seed: int = 1,
    ) -> None:
        self.house, self.placed, self.doubts = house, placed, doubts
        self.size, self.random = draws, np.random.default_rng(seed)
        self.hours = {person.key: person.hours for person in house.people}
        self.free: dict[str, Floats] = {}
        self.by: dict[str, NDArray[np.int32]] = {}
        self.tasks = self._tasks(units)
        self.begins = np.zeros((len(self.tasks), draws))
        self.stops = np.zeros((len(self.tasks), draws))
        self.cause = np.full((len(self.tasks), draws), -1, dtype=np.int32)
        self.before = np.full((len(self.tasks), draws), -1, dtype=np.int32)
        self.causes: dict[str, int] = {}
        self.done: dict[str, int] = {}

    def _tasks(self, units: Sequence[Unit]) -> list[_Task]:
        found = []
        for unit in units:
            for step in unit.steps:
                at = self.placed.get(step.key)
                if at is None:
                    continue
                for index, piece in enumerate(step.pieces):
                    place = self.house.by_key.get(at.place)
                    who, begin = at.people[index], at.pieces[index][0]
                    found.append(_Task(step, unit, index, piece, place, who, begin))
        return sorted(found, key=lambda task: (task.planned, task.index))

    def go(self) -> Outcome:
        """Go through it."""
        for number, task in enumerate(self.tasks):
            self._one(number, task)
        keys = tuple(dict.fromkeys(task.step.key for task in self.tasks))
        ends = np.array([self.stops[self.done[key]] for key in keys]).reshape(len(keys), self.size)
        return Outcome(keys, ends, self._held())

    def _minutes(self, task: _Task) -> Floats:
        doubt = self.doubts.get(task.step.key)
        known = doubt.pieces[task.index] if doubt else None
        minutes = (
            np.full(self.size, float(task.piece.minutes))
            if known is None
            else known.draw(self.random, self.size)
        )
        longest = max(range(len(task.step.pieces)), key=lambda i: task.step.pieces[i].minutes)
        if doubt and doubt.again and task.index == longest:
            more = self.random.geometric(1 - min(doubt.again, 0.9), self.size) - 1
            minutes = minutes * (1 + more)
        return minutes

    def _one(self, number: int, task: _Task) -> None:
        at, cause, before = self._ready(task)
        minutes = self._minutes(task)
        for name, windows, needed in self._hours(task, minutes):
            later = _pushed(at, needed, windows)
            moved = later > at
            cause[moved] = self.causes.setdefault(name, len(self.causes))
            at = later
        self.begins[number], self.stops[number] = at, at + minutes
        self.cause[number], self.before[number] = cause, before
        self._hold(number, task)

    def _ready(self, task: _Task) -> tuple[Floats, NDArray[np.int32], NDArray[np.int32]]:
        """When all that a piece waits for is done, what that is, and which piece it was."""
        at = np.full(self.size, float(task.step.earliest if task.index == 0 else 0))
        if task.unit.pin is not None and task.step is task.unit.steps[0]:
            at = np.maximum(at, task.unit.pin.at)
        cause = np.full(self.size, -1, dtype=np.int32)
        before = np.full(self.size, -1, dtype=np.int32)
        for name, thing in self._waits(task):
            if thing not in self.free:
                continue
            later = self.free[thing] > at
            at = np.where(later, self.free[thing], at)
            cause[later] = self.causes.setdefault(name, len(self.causes))
            before[later] = self.by[thing][later]
        return at, cause, before

    def _waits(self, task: _Task) -> list[tuple[str, str]]:
        """Things a piece waits for: as it is called, and the key under which it is held."""
        step, found = task.step, list[tuple[str, str]]()
        if task.index:
            found.append((f"{task.step.kind}", f"step:{step.key}"))
        else:
            found += [(f"{step.kind}", f"step:{key}") for key in step.after]
            found += [(f"meter:{meter}", f"meter:{meter}") for meter in step.meters]
            if step.part:
                found.append(("part", f"part:{step.part}"))
            if task.place:
                found.append((task.place.key, f"place:{task.place.key}"))
            if step.quiet:
                found += [("noise", "loud"), ("noise", "quiet")]
        if task.who:
            found.append((task.who, f"who:{task.who}"))
        if task.place and task.place.loud and not step.quiet:
            found.append(("noise", "quiet"))
        return found

    def _hours(self, task: _Task, minutes: Floats) -> list[tuple[str, Sequence[Window], Floats]]:
        """Windows in which a piece must lie, what they are called, and how much must lie in them."""
        found: list[tuple[str, Sequence[Window], Floats]] = []
        if task.index == 0 and task.unit.chained and task.step is task.unit.steps[0]:
            whole = np.full(self.size, float(task.unit.minutes))
            found.append(("hours", self.house.days, whole))
        if task.index == 0 and task.step.quiet and self.house.quiet is not None:
            found.append(("quiet", self.house.quiet, np.full(self.size, float(task.step.minutes))))
        if task.place and task.place.open is not None:
            found.append((f"{task.place.key}", task.place.open, minutes))
        if task.who:
            found.append(("hours", self.hours.get(task.who, ()), minutes))
        elif task.piece.watched:
            found.append(("hours", self.house.on_duty, minutes))
        return found

    def _hold(self, number: int, task: _Task) -> None:
        step, end = task.step, self.stops[number]
        last = task.index + 1 == len(step.pieces)
        held = [f"step:{step.key}"]
        if task.who:
            held.append(f"who:{task.who}")
        if task.place:
            held.append(f"place:{task.place.key}")
        if step.part:
            held.append(f"part:{step.part}")
        held += [f"meter:{meter}" for meter in step.meters]
        if step.quiet:
            held.append("quiet")
        elif task.place and task.place.loud:
            held.append("loud")
        for thing in held:
            known = self.free.get(thing)
            if known is None:
                self.free[thing], self.by[thing] = end, np.full(self.size, number, dtype=np.int32)
            else:  # what is loud may end before something loud that began earlier
                self.by[thing] = np.where(end >= known, number, self.by[thing])
                self.free[thing] = np.maximum(known, end)
        if last:
            self.done[step.key] = number

    def _held(self) -> dict[str, float]:
        """By cause the mean minutes on the chain of pieces that leads to the last end of all."""
        if not self.tasks:
            return {}
        finals = np.array(list(self.done.values()))
        ends = np.where(np.isinf(self.stops[finals]), 0, self.stops[finals])
        at = finals[ends.argmax(axis=0)].astype(np.int64)
        draws = np.arange(self.size)
        minutes = np.zeros(len(self.causes) + 1)
        for _ in range(len(self.tasks)):
            alive = at >= 0
            if not alive.any():
                break
            here, who = at[alive], draws[alive]
            cause, before = self.cause[here, who], self.before[here, who]
            came = np.where(before >= 0, self.stops[np.maximum(before, 0), who], 0.0)
            spent = self.stops[here, who] - came
            spent[~np.isfinite(spent)] = 0.0
            np.add.at(minutes, np.where(cause < 0, len(self.causes), cause), spent)
            at[alive] = before
        return {name: minutes[index] / self.size for name, index in self.causes.items()}


def simulate(
    house: House,
    units: Sequence[Unit],
    placed: Mapping[str, Placed],
    doubts: Mapping[str, Doubt],
    *,
    draws: int | None = None,
    seed: int = 1,
) -> Outcome:
    """How a plan may go.

    Parameters
    ----------
    house : with hours beyond the plan's horizon, since work may slip
    doubts : by key of a step; steps without take as long as planned
    draws : as many as fit where it is not said, 2,000 at most
    """
    if draws is None:
        pieces = sum(len(one.pieces) for one in placed.values())
        draws = min(DRAWS, max(MOST_HELD // max(pieces, 1), LEAST_DRAWS))
    return Going(house, units, placed, doubts, draws=draws, seed=seed).go()
