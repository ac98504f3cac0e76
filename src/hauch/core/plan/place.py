"""Placing units one after the other, each at the first time that breaks no rule.

The serial schedule generation scheme of resource-constrained scheduling (R. Kolisch, "Serial and
parallel resource-constrained project scheduling methods revisited", Eur. J. Oper. Res. 90 (1996)
320), for several orders, of which the best is kept. It plans weeks in seconds, and gives the solver
its first plan.
"""

from __future__ import annotations

import random
import time
from collections.abc import Callable, Iterable, Mapping, Sequence
from itertools import pairwise

from hauch.core.plan.calendar import NEVER, Calendar, Layers
from hauch.core.plan.house import (
    House,
    Placed,
    Schedule,
    Step,
    Unit,
    Window,
    outside,
    score_of,
    within,
)

MOST_TRIES = 400
"""So often the begin of a step is moved before it is given up."""


class Board:
    """What is held in a house, and the next time at which a step fits."""

    def __init__(self, house: House) -> None:
        self.house = house
        self.places = {place.key: Calendar() for place in house.places}
        self.open = {
            place.key: Calendar(() if place.open is None else outside(place.open, NEVER))
            for place in house.places
        }
        self.people = {
            person.key: Calendar(outside(person.hours, NEVER)) for person in house.people
        }
        self.duty = Calendar(outside(house.on_duty, NEVER))
        self.silence = Calendar(() if house.quiet is None else outside(house.quiet, NEVER))
        self.parts: dict[str, Calendar] = {}
        self.meters: dict[str, Calendar] = {}
        self.loud, self.quiet = Layers(), Layers()
        self.ends: dict[str, int] = {}
        self.left: dict[tuple[str, int], int] = {}

    def earliest(self, step: Step, at: int) -> int | None:
        """Not before ``at``, what the step waits for, and its own wish; None where it waits for a step
        that was not placed.
        """
        for key in step.after:
            if key not in self.ends:
                return None
            at = max(at, self.ends[key])
        return max(at, step.earliest)

    def fit(self, step: Step, at: int, place: str = "", *, fixed: bool = False) -> Placed | None:
        """The placing that ends first, not before ``at``, or exactly then where it is ``fixed``; None
        where nothing is found before the horizon.
        """
        first = self.earliest(step, at)
        if first is None or step.nowhere or (fixed and first > at):
            return None
        places = (place,) if place else step.places or ("",)
        found = [
            one for key in places if (one := self._fit_on(step, key, first, fixed)) is not None
        ]
        return min(found, key=lambda one: (one.end, one.begin), default=None)

    def _fit_on(self, step: Step, place: str, at: int, fixed: bool) -> Placed | None:
        for _ in range(MOST_TRIES):
            if at >= self.house.horizon:
                return None
            made, later = self._pieces(step, place, at)
            if made is not None:
                later = self._held_until(step, place, made, at)
                if later == at:
                    return made if made.end <= self.house.horizon else None
            if fixed or later >= NEVER:
                return None
            at = max(later, at + 1)
        return None

    def _pieces(self, step: Step, place: str, begin: int) -> tuple[Placed | None, int]:
        """The pieces from a begin on, or None and the next begin that is worth a try."""
        windows: list[Window] = []
        people: list[str] = []
        at, slack = begin, 0
        for index, piece in enumerate(step.pieces):
            who, free = "", at
            if piece.hands:
                who, free = self._who(step, at, piece.minutes)
            if place and piece.minutes:
                free = self.open[place].next_free(free, piece.minutes)
            if piece.watched:
                free = self.duty.next_free(free, piece.minutes)
            if free > at + slack:
                return None, begin + free - at - slack
            if free > at:
                before = step.pieces[index - 1]
                if before.runs_on:
                    run_from, _ = windows[-1]
                    windows[-1] = (run_from, free)
                    if before.watched and not self.duty.is_free(run_from, free):
                        return None, begin + free - at
                    if place and not self.open[place].is_free(run_from, free):
                        return None, begin + free - at
                if piece.hands:
                    who, sure = self._who(step, free, piece.minutes)
                    if sure != free:
                        return None, begin + 1
            windows.append((free, free + piece.minutes))
            people.append(who)
            at, slack = free + piece.minutes, piece.wait
        return Placed(tuple(windows), place, tuple(people)), begin

    def _who(self, step: Step, at: int, minutes: int) -> tuple[str, int]:
        """Who of those that may is free first for so long, and when."""
        best, when = "", NEVER
        for key, calendar in self.people.items():
            if step.by and key not in step.by:
                continue
            free = calendar.next_free(at, minutes)
            if free < when:
                best, when = key, free
        return best, when

    def _held_until(self, step: Step, place: str, made: Placed, begin: int) -> int:
        """The begin from which nothing is held by others; the same begin where that is so now."""
        minutes = made.end - made.begin
        at = begin
        for calendar in self._held_by(step, place):
            at = max(at, calendar.next_free(begin, minutes))
        if step.quiet:
            at = max(at, self.silence.next_free(begin, minutes))
            at = max(
                at, self.loud.next_clear(begin, minutes), self.quiet.next_clear(begin, minutes)
            )
        elif place and self.house.by_key[place].loud:
            for (run_from, run_to), piece in zip(made.pieces, step.pieces, strict=True):
                if not piece.hands or len(step.pieces) == 1 or self._always_loud(place):
                    clear = self.quiet.next_clear(run_from, run_to - run_from)
                    at = max(at, begin + clear - run_from)
        return at

    def _always_loud(self, place: str) -> bool:
        """Whether a step is heard from beginning to end: at a bench; a printer only prints loudly."""
        return self.house.by_key[place].kind == "bench"

    def _held_by(self, step: Step, place: str) -> Iterable[Calendar]:
        if place:
            yield self.places[place]
        if step.part:
            yield self.parts.setdefault(step.part, Calendar())
        for meter in step.meters:
            yield self.meters.setdefault(meter, Calendar())

    def loud_windows(self, step: Step, made: Placed) -> list[Window]:
        """When a placed step is heard."""
        if not made.place or not self.house.by_key[made.place].loud or step.quiet:
            return []
        return [
            window
            for window, piece in zip(made.pieces, step.pieces, strict=True)
            if not piece.hands or len(step.pieces) == 1 or self._always_loud(made.place)
        ]

    def take(self, step: Step, made: Placed) -> None:
        """Hold what a placed step holds."""
        for calendar in self._held_by(step, made.place):
            calendar.take(made.begin, made.end)
        for window, who in zip(made.pieces, made.people, strict=True):
            if who:
                self.people[who].take(*window)
        if step.quiet:
            self.quiet.take(made.begin, made.end)
        for window in self.loud_windows(step, made):
            self.loud.take(*window)
        self.ends[step.key] = made.end

    def give_back(self, step: Step, made: Placed) -> None:
        """Let go of it again."""
        for calendar in self._held_by(step, made.place):
            calendar.give_back(made.begin, made.end)
        for window, who in zip(made.pieces, made.people, strict=True):
            if who:
                self.people[who].give_back(*window)
        if step.quiet:
            self.quiet.give_back(made.begin, made.end)
        for window in self.loud_windows(step, made):
            self.loud.give_back(*window)
        del self.ends[step.key]

    def put(self, unit: Unit, at: int = 0) -> dict[str, Placed] | None:
        """Place a unit at the first time from ``at`` on, or at its pin; None where there is no room, and
        then nothing is held.
        """
        if unit.pin is not None:
            return self._pinned(unit, unit.pin.at, unit.pin.place)
        if not unit.chained:
            return self._chain(unit, at, "", fixed=False)
        for day, (begin, end) in enumerate(self.house.days):
            if end <= at or not self._room(unit, day):
                continue
            if (made := self._on_day(unit, max(at, begin), end)) is not None:
                self._use(unit, made[unit.steps[0].key].place, day)
                return made
        return None

    def keep(self, unit: Unit, placed: Mapping[str, Placed]) -> bool:
        """Place a unit exactly as it was in another plan, where that still breaks no rule."""
        if any(step.key not in placed for step in unit.steps):
            return False
        at = {step.key: placed[step.key] for step in unit.steps}
        first, last = at[unit.steps[0].key], at[unit.steps[-1].key]
        if unit.pin is not None and (first.begin, first.place) != (
            unit.pin.at,
            unit.pin.place or first.place,
        ):
            return False
        day = next(
            (n for n, d in enumerate(self.house.days) if d[0] <= first.begin and last.end <= d[1]),
            None,
        )
        if (unit.chained and day is None) or last.end > self.house.horizon:
            return False
        taken: list[Step] = []
        for step in unit.steps:
            if not self._still(step, at[step.key]):
                break
            self.take(step, at[step.key])
            taken.append(step)
        if len(taken) < len(unit.steps) or self._hold_gaps(unit, at) is not None:
            for step in taken:
                self.give_back(step, at[step.key])
            return False
        if unit.chained and day is not None:
            self._use(unit, first.place, day)
        return True

    def _still(self, step: Step, at: Placed) -> bool:
        """Whether a step may be done just as it was placed."""
        first = self.earliest(step, 0)
        if first is None or first > at.begin or step.nowhere:
            return False
        if len(at.pieces) != len(step.pieces) or at.place not in (step.places or ("",)):
            return False
        if at.place and at.place not in self.places:
            return False
        if not all(self._still_piece(step, at, index) for index in range(len(step.pieces))):
            return False
        return self._held_until(step, at.place, at, at.begin) == at.begin

    def _still_piece(self, step: Step, at: Placed, index: int) -> bool:
        piece, who, (begin, end) = step.pieces[index], at.people[index], at.pieces[index]
        following = at.pieces[index + 1][0] if index + 1 < len(at.pieces) else end
        long = end == (following if piece.runs_on else begin + piece.minutes)
        if not long or not 0 <= following - begin - piece.minutes <= piece.wait:
            return False
        if bool(who) != piece.hands or (who and step.by and who not in step.by):
            return False
        held = []
        if who:
            held.append(self.people.get(who))
        if piece.watched:
            held.append(self.duty)
        if at.place and piece.minutes:
            held.append(self.open[at.place])
        return all(one is not None and one.is_free(begin, end) for one in held)

    def _left(self, what: str, day: int) -> int:
        """Minutes that a day still has for blocks: on a place, in the quiet hours, of all hands."""
        if (what, day) not in self.left:
            window = self.house.days[day]
            self.left[what, day] = (
                within(window, self.house.quiet)
                if what == "quiet"
                else sum(within(window, person.hours) for person in self.house.people)
                if what == "hands"
                else window[1] - window[0]
            )
        return self.left[what, day]

    def _room(self, unit: Unit, day: int) -> bool:
        """Whether a day may still have room for a block; a quick look before it is tried."""
        if unit.hands > self._left("hands", day):
            return False
        if all(step.quiet for step in unit.steps) and unit.minutes > self._left("quiet", day):
            return False
        places = unit.steps[0].places
        return not places or any(unit.minutes <= self._left(place, day) for place in places)

    def _use(self, unit: Unit, place: str, day: int) -> None:
        self.left["hands", day] = self._left("hands", day) - unit.hands
        if all(step.quiet for step in unit.steps):
            self.left["quiet", day] = self._left("quiet", day) - unit.minutes
        if place:
            self.left[place, day] = self._left(place, day) - unit.minutes

    def _pinned(self, unit: Unit, at: int, place: str) -> dict[str, Placed] | None:
        made = self._chain(unit, at, place, fixed=True)
        if made is None or not unit.chained:
            return made
        last = made[unit.steps[-1].key].end
        day = any(begin <= at and last <= end for begin, end in self.house.days)
        if day and self._hold_gaps(unit, made) is None:
            return made
        self._drop(unit, made)
        return None

    def _on_day(self, unit: Unit, at: int, end: int) -> dict[str, Placed] | None:
        """A block on one day, with nothing else on its place between its steps."""
        for _ in range(MOST_TRIES):
            made = self._chain(unit, at, "", fixed=False)
            if made is None:
                return None
            beyond = made[unit.steps[-1].key].end > end
            later = None if beyond else self._hold_gaps(unit, made)
            if later is None and not beyond:
                return made
            self._drop(unit, made)
            if later is None or later + unit.minutes > end:
                return None  # begun later it would not end sooner
            at = later
        return None

    def _drop(self, unit: Unit, made: Mapping[str, Placed]) -> None:
        for step in unit.steps:
            self.give_back(step, made[step.key])

    def _hold_gaps(self, unit: Unit, made: Mapping[str, Placed]) -> int | None:
        """Hold the place between the steps of a block too; where something else lies there, nothing is
        held, and the minute at which that ends is returned.
        """
        place = made[unit.steps[0].key].place
        if not place:
            return None
        steps = [made[step.key] for step in unit.steps]
        gaps = [(a.end, b.begin) for a, b in pairwise(steps) if b.begin > a.end]
        calendar = self.places[place]
        for begin, end in gaps:
            if not calendar.is_free(begin, end):
                return max(calendar.next_free(begin, end - begin), begin + 1)
        for gap in gaps:
            calendar.take(*gap)
        return None

    def _chain(self, unit: Unit, at: int, place: str, *, fixed: bool) -> dict[str, Placed] | None:
        made: dict[str, Placed] = {}
        for index, step in enumerate(unit.steps):
            one = self.fit(step, at, place, fixed=fixed and index == 0)
            if one is None:
                for earlier in unit.steps[:index]:
                    self.give_back(earlier, made[earlier.key])
                return None
            self.take(step, one)
            made[step.key] = one
            at, place = one.end, one.place
        return made


def in_order(
    house: House,
    units: Sequence[Unit],
    not_before: Callable[[Unit], int] = lambda unit: 0,
    keep: Mapping[str, Placed] | None = None,
) -> dict[str, Placed]:
    """Place units in their order. One that waits for steps which come later in it is put off until
    they are placed; those that find no room are left out.

    Parameters
    ----------
    not_before : the minute before which a unit does not begin
    keep : another plan; what can stays as it is in it, before the rest is placed
    """
    board, placed = Board(house), dict[str, Placed]()
    waiting = [unit for unit in units if unit.pin is not None]
    waiting += [unit for unit in units if unit.pin is None]
    if keep is not None:
        kept = {unit.key: unit for unit in waiting if board.keep(unit, keep)}
        placed |= {step.key: keep[step.key] for unit in kept.values() for step in unit.steps}
        waiting = [unit for unit in waiting if unit.key not in kept]
    while waiting:
        left = []
        for unit in waiting:
            inside = {step.key for step in unit.steps}
            if any(
                key not in board.ends and key not in inside
                for step in unit.steps
                for key in step.after
            ):
                left.append(unit)
                continue
            if (made := board.put(unit, not_before(unit))) is not None:
                placed |= made
        if len(left) == len(waiting):
            break
        waiting = left
    return placed


def urgency(units: Sequence[Unit]) -> dict[str, tuple[int, int]]:
    """Of each unit its rank and the minute at which it is due, those of what waits for it counted in: the
    print of a part that decides decides too.
    """
    where = {step.key: unit.key for unit in units for step in unit.steps}
    found = {unit.key: (int(unit.rank), _due(unit)) for unit in units}
    for _ in range(len(units)):
        changed = False
        for unit in units:
            rank, due = found[unit.key]
            for step in unit.steps:
                for key in step.after:
                    before = where.get(key)
                    if before is None or before == unit.key:
                        continue
                    better = (min(found[before][0], rank), min(found[before][1], due))
                    changed |= better != found[before]
                    found[before] = better
        if not changed:
            break
    return found


def orders(units: Sequence[Unit]) -> Iterable[list[Unit]]:
    """Orders to try: what goes first before the rest, the longest first, what is alone first."""
    first = urgency(units)
    given = sorted(units, key=lambda unit: first[unit.key])
    yield given
    yield sorted(units, key=lambda unit: (*first[unit.key], -unit.minutes))
    yield sorted(units, key=lambda unit: (*first[unit.key], unit.chained, -unit.minutes))


def _due(unit: Unit) -> int:
    return min((step.due for step in unit.steps if step.due is not None), default=NEVER)


def moved(order: Sequence[Unit], chance: random.Random) -> list[Unit]:
    """An order with one of its units somewhere else."""
    made = list(order)
    unit = made.pop(chance.randrange(len(made)))
    made.insert(chance.randrange(len(made) + 1), unit)
    return made


def first_plan(
    house: House, units: Sequence[Unit], *, seconds: float = 0.8, seed: int = 1
) -> Schedule:
    """The best of several orders, then of that one changed a little again and again, in about so many
    seconds; the first order always to its end.
    """
    ends, chance = time.monotonic() + seconds, random.Random(seed)  # noqa: S311 - no secret
    best, kept = Schedule({}, score_of(units, {}, house.horizon)), list(units)
    tries = iter(orders(units))
    while units:
        began = time.monotonic()
        order = next(tries, None) or moved(kept, chance)
        placed = in_order(house, order)
        score = score_of(units, placed, house.horizon)
        if score <= best.score:
            best, kept = Schedule(placed, score), order
        now = time.monotonic()
        if 2 * now - began > ends:
            break
    return best
