"""Plans that are too long for the solver at once: the weeks are placed step by step, their first days
solved.
"""

from __future__ import annotations

from collections.abc import Iterable, Mapping, Sequence
from dataclasses import replace

from hauch.core.plan.again import cost_of
from hauch.core.plan.house import House, Piece, Pin, Placed, Schedule, Step, Unit
from hauch.core.plan.solve import Told, improve

MOST_SOLVED = 220
"""So many steps are solved at once."""


def soonest(
    units: Sequence[Unit], placed: Mapping[str, Placed], most: int = MOST_SOLVED
) -> tuple[list[Unit], int]:
    """Units that a plan ends first, and the minute by which they end."""
    whole = [unit for unit in units if all(step.key in placed for step in unit.steps)]
    whole.sort(key=lambda unit: placed[unit.steps[-1].key].end)
    chosen, count, end = list[Unit](), 0, 0
    for unit in whole:
        count += len(unit.steps)
        if count > most and chosen:
            break
        chosen.append(unit)
        end = placed[unit.steps[-1].key].end
    return chosen, end


def _held(step: Step, at: Placed, end: int) -> Iterable[Unit]:
    """What a step holds before a minute, as units that do not move: it runs on beyond it."""
    for index, (begin, stop) in enumerate(at.pieces):
        following = at.pieces[index + 1][0] if index + 1 < len(at.pieces) else stop
        for part, (a, b) in enumerate(((begin, stop), (stop, following))):
            minutes = min(b, end) - a
            if minutes <= 0:
                continue
            who = at.people[index] if part == 0 else ""
            held = replace(
                step,
                key=f"{step.key}:{index}:{part}",
                pieces=(Piece(step.pieces[index].what, minutes, hands=bool(who)),),
                places=(at.place,) if at.place else (),
                by=(who,) if who else (),
                after=(),
                earliest=0,
                due=None,
            )
            yield Unit(held.key, (held,), Pin(a, at.place))


def _first_part(
    house: House, units: Sequence[Unit], placed: Mapping[str, Placed]
) -> tuple[House, list[Unit]]:
    """The problem of what a plan ends first, with all that lies across its end held fixed."""
    chosen, end = soonest(units, placed)
    inside = {unit.key for unit in chosen}
    known = {step.key for unit in chosen for step in unit.steps}
    part = [
        replace(
            unit,
            steps=tuple(
                replace(step, after=tuple(key for key in step.after if key in known))
                for step in unit.steps
            ),
        )
        for unit in chosen
    ]
    for unit in units:
        if unit.key in inside:
            continue
        for step in unit.steps:
            if step.key in placed and placed[step.key].begin < end:
                part += _held(step, placed[step.key], end)
    days = tuple((a, min(b, end)) for a, b in house.days if a < end)
    return replace(house, horizon=end, days=days), part


def improve_soon(
    house: House,
    units: Sequence[Unit],
    first: Schedule,
    *,
    seconds: float,
    told: Told = lambda schedule: True,
    before: Mapping[str, Placed] | None = None,
) -> Schedule:
    """The schedule, better where it can be: all of it where it is short, else what ends first in it;
    what comes later stays where it was placed.
    """
    if sum(len(unit.steps) for unit in units) <= MOST_SOLVED:
        return improve(house, units, first, seconds=seconds, told=told, before=before)
    sooner, part = _first_part(house, units, first.placed)
    known = [step for unit in part for step in unit.steps]
    begun = {step.key: first.placed[step.key] for step in known if step.key in first.placed}
    for unit in part:
        if unit.pin is not None and unit.steps[0].key not in begun:
            step, at = unit.steps[0], unit.pin.at
            begun[step.key] = Placed(((at, at + step.minutes),), unit.pin.place, step.by or ("",))
    held = {key: at for key, at in (before or {}).items() if key in begun}

    def of_all(schedule: Schedule) -> Schedule:
        moved = {key: at for key, at in schedule.placed.items() if key in first.placed}
        placed = {**first.placed, **moved}
        return Schedule(placed, cost_of(units, placed, house.horizon, before or {}))

    made = improve(
        sooner,
        part,
        Schedule(begun, cost_of(part, begun, sooner.horizon, held)),
        seconds=seconds,
        told=lambda schedule: told(of_all(schedule)),
        before=held,
    )
    return of_all(made) if begun.keys() <= made.placed.keys() else first
