"""What cannot be planned, said before planning; and which rule keeps a wish from being kept."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, replace
from enum import Enum
from typing import Literal

import networkx as nx

from hauch.core.plan.house import House, Placed, Unit, Window, steps_of
from hauch.core.plan.place import in_order, urgency


class Rule(Enum):
    """A rule that a wish may meet, in words that end a sentence."""

    QUIET = "noise is read in the quiet hours only"
    NOISE = "nothing loud runs beside a noise reading"
    HOURS = "somebody must be on duty for it"
    NIGHT = "the machine runs only while somebody is on duty"
    DAY = "a bracket of runs stays within one day"
    AFTER = "what comes before it is not done by then"
    OTHERS = "what is needed is taken by other steps"


@dataclass(frozen=True, slots=True)
class Impossible:
    """A unit that finds no room or misses its wish, and the rules of which each alone would have to
    give way; none where only several together would.
    """

    unit: str
    wish: Literal["pin", "due", "horizon"]
    rules: tuple[Rule, ...]


@dataclass(frozen=True, slots=True)
class Fault:
    """What is wrong with a problem before it is planned: of which step (empty for the house), in a
    sentence.
    """

    step: str
    text: str


def faults(house: House, units: Sequence[Unit]) -> list[Fault]:
    """What is wrong with a problem: a circle, a step that no place takes, a deadline that has passed,
    nobody on duty.
    """
    steps, found = steps_of(units), list[Fault]()
    graph = nx.DiGraph()
    for unit in units:
        for before, step in zip((None, *unit.steps), unit.steps, strict=False):
            waits = (*step.after, *((before.key,) if before else ()))
            graph.add_edges_from((key, step.key) for key in waits)
            unknown = [key for key in step.after if key not in steps]
            if unknown:
                text = f"{step.label} waits for {unknown[0]}, which is in no plan."
                found.append(Fault(step.key, text))
            if step.nowhere:
                found.append(Fault(step.key, step.nowhere))
            elif step.due is not None and step.due <= 0:
                found.append(Fault(step.key, f"The deadline of {step.label} has passed."))
    try:
        circle = nx.find_cycle(graph)
    except nx.NetworkXNoCycle:
        pass
    else:
        names = [steps[a].label if a in steps else a for a, _ in circle]
        found.append(
            Fault(circle[0][0], f"These wait for one another in a circle: {', '.join(names)}.")
        )
    hands = any(piece.hands for step in steps.values() for piece in step.pieces)
    if hands and not house.on_duty:
        found.append(Fault("", "Nobody is on duty in these days, so nothing can be done by hand."))
    return found


def _always(house: House) -> tuple[Window, ...]:
    return ((0, house.horizon),)


def _without(rule: Rule, house: House) -> House:
    """The house without one of its rules."""
    if rule is Rule.QUIET:
        return replace(house, quiet=None)
    if rule is Rule.NOISE:
        return replace(house, places=tuple(replace(p, loud=False) for p in house.places))
    if rule is Rule.HOURS:
        people = tuple(replace(person, hours=_always(house)) for person in house.people)
        return replace(house, people=people, days=_always(house))
    if rule is Rule.NIGHT:
        return replace(house, places=tuple(replace(p, open=None) for p in house.places))
    return replace(house, days=_always(house))


def _alone(unit: Unit, units: Sequence[Unit]) -> list[Unit]:
    """A unit behind what it waits for, and nothing else."""
    steps, where = steps_of(units), {step.key: one for one in units for step in one.steps}
    needed, waiting = {unit.key: unit}, [unit]
    while waiting:
        for step in waiting.pop().steps:
            for key in step.after:
                if key in steps and where[key].key not in needed:
                    needed[where[key].key] = where[key]
                    waiting.append(where[key])
    return list(reversed(needed.values()))


def _kept(unit: Unit, placed: Mapping[str, Placed]) -> bool:
    """Whether a unit is placed and ends by its deadlines."""
    return all(
        step.key in placed and (step.due is None or placed[step.key].end <= step.due)
        for step in unit.steps
    )


def why_not(house: House, units: Sequence[Unit], unit: Unit) -> tuple[Rule, ...]:
    """Rules of which each alone keeps a unit from its pin or deadline, or from any room at all."""
    needed = _alone(unit, units)
    if _kept(unit, in_order(house, needed)):
        return (Rule.OTHERS,)
    found = [
        rule
        for rule in (Rule.QUIET, Rule.NOISE, Rule.HOURS, Rule.NIGHT, Rule.DAY)
        if _kept(unit, in_order(_without(rule, house), needed))
    ]
    free = replace(unit, steps=tuple(replace(step, after=()) for step in unit.steps))
    if any(step.after for step in unit.steps) and _kept(unit, in_order(house, [free])):
        found.append(Rule.AFTER)
    return tuple(found)


def _follows(unit: Unit, units: Sequence[Unit], placed: Mapping[str, Placed]) -> bool:
    """Whether a unit is left out or late only since what comes before it is, which is told there."""
    where = {step.key: one for one in units for step in one.steps}
    before = {key for step in unit.steps for key in step.after if key in where}
    return any(where[key] is not unit and not _kept(where[key], placed) for key in before)


MOST_TOLD = 12
"""So many units at most are looked into: each takes some plans."""


def impossible(
    house: House, units: Sequence[Unit], placed: Mapping[str, Placed]
) -> list[Impossible]:
    """Units that a plan leaves out or brings too late, the most urgent first, and why."""
    first = urgency(units)
    missed = sorted(
        (unit for unit in units if not _kept(unit, placed) and not _follows(unit, units, placed)),
        key=lambda unit: first[unit.key],
    )
    found = []
    for unit in missed[:MOST_TOLD]:
        due = any(step.due is not None for step in unit.steps)
        wish: Literal["pin", "due", "horizon"] = "pin" if unit.pin else "due" if due else "horizon"
        found.append(Impossible(unit.key, wish, why_not(house, units, unit)))
    return found
