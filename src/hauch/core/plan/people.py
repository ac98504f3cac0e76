"""Who does what once it is settled when: the same person stays with a step and at a bench where that
costs nobody anything.
"""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import replace

from hauch.core.plan.calendar import Calendar
from hauch.core.plan.house import DAY, House, Placed, Unit, outside


def stay(house: House, units: Sequence[Unit], placed: Mapping[str, Placed]) -> dict[str, Placed]:
    """The same schedule with fewer changes of person; as it was where it cannot be manned anew.

    Notes
    -----
    Pieces by hand are given out in the order of their begin, to whoever did the one before in the same
    step, else to who was at the same place last, else to who has least to do.
    """
    steps = {step.key: step for unit in units for step in unit.steps}
    tasks = sorted(
        (at.pieces[index][0], key, index)
        for key, at in placed.items()
        for index, piece in enumerate(steps[key].pieces)
        if piece.hands and piece.minutes
    )
    free = {
        person.key: Calendar(outside(person.hours, house.horizon + DAY)) for person in house.people
    }
    people = {key: list(at.people) for key, at in placed.items()}
    did: dict[str, str] = {}
    at_place: dict[str, str] = {}
    busy = dict.fromkeys(free, 0)
    for begin, key, index in tasks:
        step, at = steps[key], placed[key]
        end = at.pieces[index][1]
        can = [
            who
            for who, calendar in free.items()
            if (not step.by or who in step.by) and calendar.is_free(begin, end)
        ]
        if not can:
            return dict(placed)
        wished = (did.get(key), at_place.get(at.place) if at.place else None)
        who = next((one for one in wished if one in can), None) or min(can, key=busy.__getitem__)
        free[who].take(begin, end)
        busy[who] += end - begin
        did[key] = people[key][index] = who
        at_place[at.place] = who
    return {key: replace(at, people=tuple(people[key])) for key, at in placed.items()}
