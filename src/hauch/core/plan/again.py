"""A plan that is changed as little as needed, and what changed in it."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from typing import Literal

from hauch.core.plan.house import House, Placed, Schedule, Unit, score_of
from hauch.core.plan.place import in_order, urgency

What = Literal["new", "left_out", "gone", "later", "earlier", "place"]

MOVED = 40
"""Weight of a minute by which a step moves, beside those of `score_of`."""


def cost_of(
    units: Sequence[Unit],
    placed: Mapping[str, Placed],
    horizon: int,
    before: Mapping[str, Placed],
) -> float:
    """What is kept low where a plan is in force: its score, and how far steps move."""
    steps = [step.key for unit in units for step in unit.steps]
    moved = sum(
        abs(placed[key].begin - before[key].begin)
        for key in steps
        if key in placed and key in before
    )
    return score_of(units, placed, horizon) + MOVED * moved


def put_right(house: House, units: Sequence[Unit], before: Mapping[str, Placed]) -> Schedule:
    """The plan in force put right, in the better of two ways: all moves on in its order; or what can
    stays just where it was, and the rest finds the next room.

    What is new comes last, the most urgent first.
    """
    first = urgency(units)

    def begin(unit: Unit) -> int:
        return min((before[s.key].begin for s in unit.steps if s.key in before), default=-1)

    known = sorted((unit for unit in units if begin(unit) >= 0), key=begin)
    new = sorted((unit for unit in units if begin(unit) < 0), key=lambda unit: first[unit.key])
    order = [*known, *new]
    made = (
        in_order(house, order, lambda unit: max(begin(unit), 0)),
        in_order(house, order, lambda unit: max(begin(unit), 0), keep=before),
    )
    plans = [Schedule(one, cost_of(units, one, house.horizon, before)) for one in made]
    return min(plans, key=lambda plan: plan.score)


@dataclass(frozen=True, slots=True)
class Change:
    """What changed for a step: by how many minutes it moved, and from where to where."""

    key: str
    what: What
    minutes: int = 0
    place: str = ""


def changes(
    before: Mapping[str, Placed], after: Mapping[str, Placed], wanted: Sequence[str]
) -> list[Change]:
    """What changed from one plan to the next, in the order of the work.

    Parameters
    ----------
    wanted : keys of the steps that are still wanted; the others are gone
    """
    still, found = set(wanted), list[tuple[int, Change]]()
    for key in {*before, *after}:
        old, new = before.get(key), after.get(key)
        if new is None and old is not None:
            found.append((old.begin, Change(key, "left_out" if key in still else "gone")))
        elif old is None and new is not None:
            found.append((new.begin, Change(key, "new")))
        elif old is not None and new is not None:
            moved = new.begin - old.begin
            if moved:
                what: What = "later" if moved > 0 else "earlier"
                found.append((new.begin, Change(key, what, abs(moved), new.place)))
            elif old.place != new.place:
                found.append((new.begin, Change(key, "place", 0, new.place)))
    return [change for _, change in sorted(found, key=lambda one: (one[0], one[1].key))]
