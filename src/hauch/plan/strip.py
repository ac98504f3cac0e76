"""The strip of a day: lanes by bench, printer, oven and person, with what is planned, what happened, and
now.
"""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field
from datetime import datetime

from django.utils import timezone

from hauch.core.plan.house import Window
from hauch.plan.models import DayPlan, Machine, PlannedStep
from hauch.plan.queries import NOTHING, Happened, link_of
from hauch.rounds.models import Round

WIDTH, LABELS, LANE, TOP = 1180.0, 168.0, 40.0, 22.0
"""Sizes of the drawing: all of it, the column of labels, a lane, the hours above."""
LETTER = 6.4
"""Width of a letter in a bar."""

SHOWN = {
    "soak": "soak",
    "print": "print",
    "anneal": "soak",
    "cure": "cure",
    "warm up": "soak",
}
"""How a piece is drawn that needs no hands."""


@dataclass(frozen=True, slots=True)
class Bar:
    """A stretch in a lane: x, width, how it is drawn."""

    x: float
    width: float
    how: str


@dataclass
class Drawn:
    """A step in a lane."""

    step: PlannedStep
    bars: list[Bar]
    name: str
    text: str
    mark: int | None
    marked: bool
    state: str
    title: str
    url: str

    @property
    def x(self) -> float:
        """Its left end."""
        return self.bars[0].x

    @property
    def width(self) -> float:
        """To its right end."""
        return self.bars[-1].x + self.bars[-1].width - self.x


@dataclass
class Lane:
    """A bench, machine or person."""

    key: str
    label: str
    kind: str
    y: float = 0.0
    steps: list[Drawn] = field(default_factory=list)
    done: list[Bar] = field(default_factory=list)


@dataclass
class Strip:
    """All of a day's drawing."""

    lanes: list[Lane]
    hours: list[tuple[float, str]]
    now: float | None
    height: float
    quiet: list[Bar]
    begin: int
    per_minute: float
    width: float = WIDTH
    left: float = LABELS


class _Scale:
    def __init__(self, begin: int, end: int) -> None:
        self.begin, self.end = begin, end
        self.per_minute = (WIDTH - LABELS) / max(end - begin, 60)

    def bar(self, begin: float, end: float, how: str) -> Bar | None:
        a, b = max(begin, self.begin), min(end, self.end)
        if b <= a:
            return None
        x = LABELS + (a - self.begin) * self.per_minute
        return Bar(x, max((b - a) * self.per_minute, 1.0), how)

    def x(self, minute: float) -> float | None:
        if not self.begin <= minute <= self.end:
            return None
        return LABELS + (minute - self.begin) * self.per_minute


def hours_of(steps: Sequence[PlannedStep], day: int, duty: Sequence[Window]) -> tuple[int, int]:
    """From which full hour to which a day is drawn: while somebody is there, or works."""
    first, last = day * 1440, (day + 1) * 1440
    here = [s for s in steps if s.begin is not None and s.begin < last and (s.end or 0) > first]
    by_hand = [
        (int(p[1]), int(p[2]))
        for s in here
        for p in s.pieces
        if p[3] is not None or s.kind == "run"
    ]
    inside = [(max(a, first), min(b, last)) for a, b in (*by_hand, *duty) if a < last and b > first]
    begin = min((a for a, _ in inside), default=first + 8 * 60)
    end = max((b for _, b in inside), default=first + 18 * 60)
    return max(begin // 60 * 60, first), min(-(-end // 60) * 60, last)


def strip_of(
    plan: DayPlan,
    steps: Sequence[PlannedStep],
    known: Mapping[str, Happened],
    day: int,
    mine: Mapping[int, Round],
    people: Mapping[int, str],
    quiet: Sequence[Window] = (),
    duty: Sequence[Window] = (),
) -> Strip:
    """The strip of one of a plan's days, for somebody who is told of ``mine``."""
    begin, end = hours_of(steps, day, duty)
    scale = _Scale(begin, end)
    lanes = _lanes(steps, people)
    for step in steps:
        if step.begin is None or step.begin >= end or (step.end or 0) <= begin:
            continue
        _draw(plan, step, known.get(step.key, NOTHING), scale, lanes, mine)
    shown = [lane for lane in lanes.values() if lane.steps or lane.kind != "person"]
    for index, lane in enumerate(shown):
        lane.y = TOP + index * LANE
    now = scale.x((timezone.now() - plan.begin).total_seconds() / 60)
    every = 60 if end - begin <= 14 * 60 else 120
    hours = [
        (LABELS + (minute - begin) * scale.per_minute, f"{_local(plan, minute):%H:%M}")
        for minute in range(begin, end + 1, every)
    ]
    bands = [bar for a, b in quiet if (bar := scale.bar(a, b, "quiet")) is not None]
    return Strip(shown, hours, now, TOP + len(shown) * LANE + 4, bands, begin, scale.per_minute)


def _local(plan: DayPlan, minute: float) -> datetime:
    return timezone.localtime(plan.moment(minute))


def _lanes(steps: Sequence[PlannedStep], people: Mapping[int, str]) -> dict[str, Lane]:
    places = sorted({s.place for s in steps if s.place.startswith("bench:")})
    lanes = {place: Lane(place, place.removeprefix("bench:"), "bench") for place in places}
    for machine in Machine.objects.filter(retired=False):
        lanes[machine.key] = Lane(machine.key, machine.name, machine.kind)
    for pk, name in people.items():
        lanes[f"person:{pk}"] = Lane(f"person:{pk}", name, "person")
    return lanes


def _draw(
    plan: DayPlan,
    step: PlannedStep,
    what: Happened,
    scale: _Scale,
    lanes: dict[str, Lane],
    mine: Mapping[int, Round],
) -> None:
    own = step.round_id in mine
    where: dict[str, list[Bar]] = {}
    for index, (name, a, b, who) in enumerate(step.pieces):
        following = step.pieces[index + 1][1] if index + 1 < len(step.pieces) else b
        how = "hands" if who is not None else SHOWN.get(name, "soak")
        if step.place and (bar := scale.bar(a, b, how)) is not None:
            where.setdefault(step.place, []).append(bar)
        if step.place and (bar := scale.bar(b, following, "waits")) is not None:
            where.setdefault(step.place, []).append(bar)
        if who is not None and (bar := scale.bar(a, b, "hands")) is not None:
            where.setdefault(f"person:{who}", []).append(bar)
    for key, bars in where.items():
        if key in lanes:
            lanes[key].steps.append(_drawn(plan, step, bars, what, own))
    if what.begin is not None and step.place in lanes:
        a = (what.begin - plan.begin).total_seconds() / 60
        b = ((what.end or timezone.now()) - plan.begin).total_seconds() / 60
        if (bar := scale.bar(a, b, "done" if what.done else "going")) is not None:
            lanes[step.place].done.append(bar)


def _drawn(plan: DayPlan, step: PlannedStep, bars: list[Bar], what: Happened, own: bool) -> Drawn:
    state = "gone" if what.gone else "done" if what.done else "going" if what.begin else "open"
    name = step.subject if own else "another round"
    begin, end = _local(plan, step.begin or 0), _local(plan, step.end or 0)
    label = f"{name}, {step.label}" if own else name
    title = f"{begin:%H:%M} to {end:%H:%M}: {label}"
    width = bars[-1].x + bars[-1].width - bars[0].x
    entry = step.specimen.version.entry if own and step.specimen else None
    marked = own and width > 13 and (entry is not None or step.kind == "reference")
    room = int((width - (18 if marked else 4)) / LETTER)
    text = name if len(name) <= room else name[: max(room - 1, 0)] + "…" if room > 3 else ""
    return Drawn(
        step,
        bars,
        name,
        text,
        entry.mark if entry is not None else None,
        marked,
        state,
        title + (f" ({what.gone})" if what.gone else ""),
        link_of(step) if own else "",
    )
