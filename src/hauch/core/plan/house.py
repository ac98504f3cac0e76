"""What is planned, and the house in which: steps, blocks of them, places, people. All times are whole
minutes from the plan's begin.
"""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from dataclasses import dataclass
from enum import IntEnum
from functools import cached_property

Window = tuple[int, int]
"""From and to; the end is not in it."""

DAY = 24 * 60


class Rank(IntEnum):
    """What goes first: what must be done, what decides the first place, the rest."""

    MUST = 0
    DECIDES = 1
    OTHER = 2


@dataclass(frozen=True, slots=True)
class Piece:
    """A stretch of a step.

    Parameters
    ----------
    what : in one word, such as soak
    minutes : how long it takes, 0 or more
    hands : whether somebody is busy with it all the time
    watched : whether somebody must be on duty as long as it runs, free or not: heaters always
    wait : so much longer the next piece may be waited for [min]
    runs_on : whether it goes on running while it is waited for, as a soak does; a print lies there
    """

    what: str
    minutes: int
    hands: bool = False
    watched: bool = False
    wait: int = 0
    runs_on: bool = False


@dataclass(frozen=True, slots=True)
class Step:
    """One thing that is done to one part, from its first piece to its last without a gap beyond
    what a piece may wait.

    Parameters
    ----------
    key : unique in a plan, and the same in the next plan
    kind : such as run, reference, print, anneal
    label : in words
    pieces : at least one
    part : what it is done to; one thing at a time is done to it, empty for nothing in particular
    places : one of these is held, empty for none
    meters : all of these are held
    after : keys of steps that end before it begins
    quiet : whether it must be quiet around it
    rank : what goes first
    earliest : not before [min]
    due : ends at the latest, where somebody wished so [min]
    round : whose it is
    by : keys of those who may do what is done by hand, empty for everybody
    nowhere : why no place takes it, in a sentence; empty where one does
    """

    key: str
    kind: str
    label: str
    pieces: tuple[Piece, ...]
    part: str = ""
    places: tuple[str, ...] = ()
    meters: tuple[str, ...] = ()
    after: tuple[str, ...] = ()
    quiet: bool = False
    rank: Rank = Rank.OTHER
    earliest: int = 0
    due: int | None = None
    round: str = ""
    by: tuple[str, ...] = ()
    nowhere: str = ""

    @property
    def minutes(self) -> int:
        """How long it takes where nothing is waited for."""
        return sum(piece.minutes for piece in self.pieces)


@dataclass(frozen=True, slots=True)
class Pin:
    """A begin that somebody set: minute, and where there is a choice the place."""

    at: int
    place: str = ""


@dataclass(frozen=True, slots=True)
class Unit:
    """Steps that are done in this order on one place and one day with nothing else between them, such
    as a bracket of runs; or one step alone.
    """

    key: str
    steps: tuple[Step, ...]
    pin: Pin | None = None

    @property
    def chained(self) -> bool:
        """Whether it holds its place and its day from its first step to its last."""
        return len(self.steps) > 1

    @property
    def rank(self) -> Rank:
        """Of its steps the first."""
        return min(step.rank for step in self.steps)

    @property
    def minutes(self) -> int:
        """How long it takes where nothing is waited for."""
        return sum(step.minutes for step in self.steps)

    @property
    def hands(self) -> int:
        """Minutes for which somebody is busy with it."""
        return sum(piece.minutes for step in self.steps for piece in step.pieces if piece.hands)


@dataclass(frozen=True, slots=True)
class Place:
    """A bench, printer or oven. ``open`` holds the windows in which something may run on it, empty for
    always; what runs on a ``loud`` one is heard at a quiet step.
    """

    key: str
    kind: str
    label: str
    open: tuple[Window, ...] | None = None
    loud: bool = False


@dataclass(frozen=True, slots=True)
class Person:
    """Somebody who can be busy with a step in these windows."""

    key: str
    label: str
    hours: tuple[Window, ...]


def joined(windows: Iterable[Window]) -> tuple[Window, ...]:
    """Windows in order, those that touch made one."""
    found: list[Window] = []
    for begin, end in sorted(windows):
        if end <= begin:
            continue
        if found and begin <= found[-1][1]:
            found[-1] = (found[-1][0], max(found[-1][1], end))
        else:
            found.append((begin, end))
    return tuple(found)


def outside(windows: Iterable[Window], horizon: int) -> tuple[Window, ...]:
    """What lies between windows, from 0 to the horizon."""
    found, at = [], 0
    for begin, end in joined(windows):
        if begin > at:
            found.append((at, min(begin, horizon)))
        at = max(at, end)
        if at >= horizon:
            break
    if at < horizon:
        found.append((at, horizon))
    return tuple(window for window in found if window[1] > window[0])


def within(window: Window, others: Iterable[Window] | None) -> int:
    """Minutes of a window that lie in others, which do not overlap; all of them where none are given."""
    if others is None:
        return window[1] - window[0]
    return sum(max(0, min(window[1], b) - max(window[0], a)) for a, b in others)


@dataclass(frozen=True)
class House:
    """The places, the people and the hours.

    Parameters
    ----------
    horizon : to which minute is planned
    days : begin and end of each day; a block lies within one
    quiet : windows in which quiet steps may run; None for always
    """

    places: tuple[Place, ...]
    people: tuple[Person, ...]
    horizon: int
    days: tuple[Window, ...]
    quiet: tuple[Window, ...] | None = None

    @cached_property
    def by_key(self) -> Mapping[str, Place]:
        """Places by their key."""
        return {place.key: place for place in self.places}

    @cached_property
    def on_duty(self) -> tuple[Window, ...]:
        """When anybody is there."""
        return joined(window for person in self.people for window in person.hours)


@dataclass(frozen=True, slots=True)
class Placed:
    """When and where a step is done: begin and end of each piece as it runs, the place, and who is
    busy with each piece (empty for nobody).
    """

    pieces: tuple[Window, ...]
    place: str
    people: tuple[str, ...]

    @property
    def begin(self) -> int:
        """Its first minute."""
        return self.pieces[0][0]

    @property
    def end(self) -> int:
        """The minute after its last."""
        return self.pieces[-1][1]


@dataclass(frozen=True)
class Schedule:
    """Steps by key as they are placed; those that are in none found no room.

    ``bound`` is what no schedule of this problem can go below in `score`; None where nothing is
    proven.
    """

    placed: Mapping[str, Placed]
    score: float = 0.0
    bound: float | None = None

    @property
    def gap(self) -> float | None:
        """By which share it is above what is proven; None where nothing is."""
        if self.bound is None:
            return None
        return max(self.score - self.bound, 0.0) / max(abs(self.bound), 1.0)


def steps_of(units: Iterable[Unit]) -> dict[str, Step]:
    """Steps of units by their key."""
    return {step.key: step for unit in units for step in unit.steps}


LATE_MUST, LATE_DECISION, LATE_ALL, SOON = 20_000, 100, 20, 1
"""Weights of a minute: of what must be done, of the last run that decides, of the last step of all,
and of the mean step. What stands first outweighs what follows on any day that can be planned.
"""
LEFT_OUT = 1.5
"""A step that found no room counts as ending so many horizons after the begin."""


def score_of(units: Iterable[Unit], placed: Mapping[str, Placed], horizon: int) -> float:
    """What is kept low: minutes by which what must be done is late, the minute of the decision, the last
    minute of all, the mean minute; what is left out counts as very late.
    """
    lost = int(LEFT_OUT * horizon)
    late, decision, last, total, count = 0, 0, 0, 0, 0
    left = {Rank.MUST: 0, Rank.DECIDES: 0, Rank.OTHER: 0}
    for unit in units:
        for step in unit.steps:
            count += 1
            at = placed.get(step.key)
            if at is None:
                left[step.rank] += 1
            end = lost if at is None else at.end
            total += end
            last = max(last, end)
            if step.rank <= Rank.DECIDES:
                decision = max(decision, end)
            if step.due is not None:
                late += max(0, end - step.due)
    return (
        LATE_MUST * late
        + LATE_DECISION * decision
        + LATE_ALL * last
        + SOON * total / max(count, 1)
        + horizon
        * (
            10 * LATE_DECISION * left[Rank.MUST]
            + LATE_DECISION * left[Rank.DECIDES]
            + LATE_ALL * left[Rank.OTHER]
        )
    )
