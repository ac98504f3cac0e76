"""Whether a schedule keeps every rule: looked at minute by minute and pair by pair, with nothing of
what made it.
"""

from __future__ import annotations

import itertools
from collections.abc import Iterable, Mapping, Sequence

from hauch.core.plan.house import House, Placed, Step, Unit, Window


def _inside(window: Window, windows: Iterable[Window]) -> bool:
    """Whether each minute of a window lies in one of some windows."""
    minutes = set(range(*window))
    for begin, end in windows:
        if _meet(window, (begin, end)):
            minutes.difference_update(range(max(begin, window[0]), min(end, window[1])))
    return not minutes


def _meet(a: Window, b: Window) -> bool:
    return a[0] < b[1] and b[0] < a[1]


def broken_rules(house: House, units: Sequence[Unit], placed: Mapping[str, Placed]) -> list[str]:
    """What a schedule breaks, a sentence each; empty where it keeps all.

    It shares no code with what places steps, so that it can be held against it.
    """
    steps = {step.key: step for unit in units for step in unit.steps}
    found = [f"{key} is in no plan." for key in placed if key not in steps]
    here = [(steps[key], at) for key, at in placed.items() if key in steps]
    for step, at in here:
        found += _of_one(house, step, at, placed)
    for first, second in _beside(here):
        found += _of_two(house, first, second)
    on_place: dict[str, list[tuple[str, Placed]]] = {}
    for step, at in here:
        on_place.setdefault(at.place, []).append((step.key, at))
    for unit in units:
        found += _of_unit(house, unit, placed, on_place)
    return found


Pair = tuple[Step, Placed]


def _beside(here: list[Pair]) -> Iterable[tuple[Pair, Pair]]:
    """Each two steps that run at the same time."""
    running: list[Pair] = []
    for one in sorted(here, key=lambda pair: pair[1].begin):
        running = [other for other in running if other[1].end > one[1].begin]
        yield from ((other, one) for other in running)
        running.append(one)


def _of_one(house: House, step: Step, at: Placed, placed: Mapping[str, Placed]) -> list[str]:
    found = []
    if len(at.pieces) != len(step.pieces) or len(at.people) != len(step.pieces):
        return [f"{step.key} has other pieces than it should."]
    if at.begin < max(step.earliest, 0) or at.end > house.horizon:
        found.append(f"{step.key} lies outside its time.")
    if step.nowhere:
        found.append(f"{step.key} is placed, though: {step.nowhere}")
    if (at.place or step.places) and at.place not in step.places:
        found.append(f"{step.key} is on {at.place or 'no place'}, which does not take it.")
    for key in step.after:
        if key not in placed or placed[key].end > at.begin:
            found.append(f"{step.key} begins before {key} ends.")
    if step.quiet and house.quiet is not None and not _inside((at.begin, at.end), house.quiet):
        found.append(f"{step.key} is not in the quiet hours.")
    for index in range(len(step.pieces)):
        found += _of_piece(house, step, at, index)
    return found


def _of_piece(house: House, step: Step, at: Placed, index: int) -> list[str]:
    piece, (begin, end), found = step.pieces[index], at.pieces[index], list[str]()
    people = {person.key: person for person in house.people}
    place = {one.key: one for one in house.places}.get(at.place)
    duty = [window for person in house.people for window in person.hours]
    following = at.pieces[index + 1][0] if index + 1 < len(at.pieces) else end
    runs_to = following if piece.runs_on else begin + piece.minutes
    if end != runs_to or not 0 <= following - begin - piece.minutes <= piece.wait:
        found.append(f"{step.key}: {piece.what} takes another time than it should.")
    if piece.watched and not _inside((begin, end), duty):
        found.append(f"{step.key}: {piece.what} runs with nobody on duty.")
    if place is not None and place.open is not None and not _inside((begin, end), place.open):
        found.append(f"{step.key}: {at.place} is closed.")
    who = people.get(at.people[index])
    if piece.hands and (who is None or not _inside((begin, end), who.hours)):
        found.append(f"{step.key}: nobody is there to {piece.what}.")
    if step.by and piece.hands and at.people[index] not in step.by:
        found.append(f"{step.key}: {at.people[index]} may not {piece.what}.")
    if not piece.hands and at.people[index]:
        found.append(f"{step.key}: {piece.what} needs nobody.")
    return found


def _heard(house: House, step: Step, at: Placed) -> list[Window]:
    """When a step is heard elsewhere: at a loud bench all the time, at a loud printer or oven while it
    runs.
    """
    place = next((one for one in house.places if one.key == at.place), None)
    if place is None or not place.loud or step.quiet:
        return []
    if place.kind == "bench" or len(step.pieces) == 1:
        return list(at.pieces)
    return [window for piece, window in zip(step.pieces, at.pieces, strict=True) if not piece.hands]


def _of_two(house: House, first: Pair, second: Pair) -> list[str]:
    (a, at_a), (b, at_b) = first, second
    both, found = f"{a.key} and {b.key}", []
    if at_a.place and at_a.place == at_b.place:
        found.append(f"{both} are both on {at_a.place}.")
    if a.part and a.part == b.part:
        found.append(f"{both} are both done to {a.part}.")
    if shared := set(a.meters) & set(b.meters):
        found.append(f"{both} both need {', '.join(sorted(shared))}.")
    for who, window in zip(at_a.people, at_a.pieces, strict=True):
        for other, beside in zip(at_b.people, at_b.pieces, strict=True):
            if who and who == other and _meet(window, beside):
                found.append(f"{who} is at {both} at once.")
    if a.quiet and b.quiet:
        found.append(f"{both} are read beside one another, and both need it quiet.")
    for quiet, at_quiet, loud, at_loud in ((a, at_a, b, at_b), (b, at_b, a, at_a)):
        if quiet.quiet and any(
            _meet((at_quiet.begin, at_quiet.end), window) for window in _heard(house, loud, at_loud)
        ):
            found.append(f"{loud.key} is heard at {quiet.key}.")
    return found


def _of_unit(
    house: House,
    unit: Unit,
    placed: Mapping[str, Placed],
    on_place: Mapping[str, Sequence[tuple[str, Placed]]],
) -> list[str]:
    there = [placed[step.key] for step in unit.steps if step.key in placed]
    if not there:
        return []
    if len(there) < len(unit.steps):
        return [f"{unit.key} is placed in part only."]
    found = []
    begin, end = there[0].begin, there[-1].end
    if unit.pin is not None and (
        unit.pin.at != begin or (unit.pin.place and unit.pin.place != there[0].place)
    ):
        found.append(f"{unit.key} is not where it was pinned.")
    if not unit.chained:
        return found
    if any(later.begin < earlier.end for earlier, later in itertools.pairwise(there)):
        found.append(f"{unit.key} is out of its order.")
    if len({one.place for one in there}) > 1:
        found.append(f"{unit.key} changes its place.")
    if not any(day[0] <= begin and end <= day[1] for day in house.days):
        found.append(f"{unit.key} does not lie within one day.")
    inside = {step.key for step in unit.steps}
    for key, other in on_place[there[0].place] if there[0].place else ():
        if key not in inside and other.begin < end and begin < other.end:
            found.append(f"{key} lies inside {unit.key}.")
    return found
