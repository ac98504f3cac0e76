"""A day of the plan in force as pages show it: strip, list, what is next, what it hangs on."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from datetime import datetime, timedelta
from functools import cached_property
from typing import Any

from django.utils import timezone

from hauch.core.plan.house import Window
from hauch.people.models import User
from hauch.plan.hours import Hours, midnight
from hauch.plan.models import DayPlan, Machine, PlannedStep, QuietHours, Wish
from hauch.plan.queries import NOTHING, Happened, happened, link_of, seen_by, since, steps_of
from hauch.plan.strip import Strip, strip_of
from hauch.rounds.models import Round

CAUSES = {
    "hours": "waiting until somebody is there",
    "quiet": "waiting for the quiet hours",
    "noise": "what is loud, and noise readings, one after the other",
    "run": "runs on the benches",
    "reference": "runs of the reference",
    "print": "printing",
    "work": "work by hand on prints",
    "anneal": "annealing",
    "gate": "safety gates",
    "part": "parts that are needed in two places",
}


@dataclass(frozen=True)
class Line:
    """A step in the list of a day."""

    step: PlannedStep
    begin: datetime
    end: datetime
    name: str
    label: str
    place: str
    who: str
    url: str
    state: str
    happened: Happened
    waits: str

    @property
    def over_night(self) -> bool:
        """Whether it ends on another day than it begins."""
        return timezone.localdate(self.begin) != timezone.localdate(self.end)

    @property
    def ends_later(self) -> bool:
        """Whether it ends on a later day than today."""
        return timezone.localdate(self.end) > timezone.localdate()

    @property
    def doubt(self) -> str:
        """On what its minutes rest."""
        if self.step.logged is None:
            return ""
        if self.step.logged == 0:
            return "by rule"
        return f"from {self.step.logged} logged"


@dataclass
class Shown:
    """The plan in force as a person sees it."""

    plan: DayPlan
    steps: list[PlannedStep]
    known: dict[str, Happened]
    mine: dict[int, Round]
    people: dict[int, str]

    @property
    def days(self) -> list[datetime]:
        """Its days."""
        return [self.plan.begin + timedelta(days=day) for day in range(self.plan.days)]

    def strip(self, day: int) -> Strip:
        """The drawing of a day."""
        row = QuietHours.objects.first()
        hours = Hours(_whole_day(self.plan))
        quiet = hours.daily(row.begin, row.end) if row else []
        duty = [window for _, windows in hours.people() for window in windows]
        return strip_of(self.plan, self.steps, self.known, day, self.mine, self.people, quiet, duty)

    def lines(self, day: int | None = None) -> list[Line]:
        """The steps of a day in the order of their begin; of all days without one."""
        first, last = (0, self.plan.horizon) if day is None else (day * 1440, (day + 1) * 1440)
        here = [
            s for s in self.steps if s.begin is not None and s.begin < last and (s.end or 0) > first
        ]
        return [self.line(step) for step in sorted(here, key=lambda s: (s.begin or 0, s.place))]

    def line(self, step: PlannedStep) -> Line:
        """One step in words; of a round of others only that it is there."""
        own, what = step.round_id in self.mine, self.known.get(step.key, NOTHING)
        who = dict.fromkeys(self.people.get(p[3], "") for p in step.pieces if p[3] is not None)
        state = "gone" if what.gone else "done" if what.done else "going" if what.begin else "open"
        return Line(
            step,
            self.plan.moment(step.begin or 0),
            self.plan.moment(step.end or 0),
            step.subject if own else "another round",
            step.label if own else "",
            self.places.get(step.place, step.place.removeprefix("bench:")),
            ", ".join(name for name in who if name),
            link_of(step) if own else "",
            state,
            what,
            self._waits(step),
        )

    def _waits(self, step: PlannedStep) -> str:
        """How long it runs by itself, such as a soak."""
        alone = [p for p in step.pieces if p[3] is None]
        minutes = sum(p[2] - p[1] for p in alone)
        if not alone or minutes < 5:
            return ""
        told = f"{minutes} min" if minutes < 100 else f"{minutes / 60:.0f} h"
        return f"{alone[0][0]} {told}"

    @cached_property
    def places(self) -> dict[str, str]:
        """Names of machines by their key."""
        return {machine.key: machine.name for machine in Machine.objects.all()}

    def next(self) -> dict[str, tuple[Line | None, Line | None]]:
        """By place what is on it now and what comes next, as far as it is planned and not done."""
        now = (timezone.now() - self.plan.begin).total_seconds() / 60
        found: dict[str, tuple[Line | None, Line | None]] = {}
        for step in self.steps:
            what = self.known.get(step.key, NOTHING)
            if step.begin is None or not step.place or what.done or what.gone:
                continue
            line = self.line(step)
            current, following = found.get(line.place, (None, None))
            going = (
                what.begin is not None or step.kind == "now" or step.begin <= now < (step.end or 0)
            )
            if going and current is None:
                current = line
            elif following is None:
                following = line
            found[line.place] = (current, following)
        return found

    def missed(self) -> list[str]:
        """Wishes that the plan does not keep, with the rule that stands against each."""
        units = [unit for unit, _, _ in self.plan.missed]
        rows = self.plan.steps.filter(unit__in=units, order=0)
        first = {step.unit: step for step in rows}
        return [
            _missed(first[unit], wish, rules)
            for unit, wish, rules in self.plan.missed
            if unit in first and first[unit].round_id in self.mine
        ]

    def left_out(self) -> int:
        """How many steps found no room."""
        return self.plan.steps.filter(begin=None).count()

    @property
    def left_out_told(self) -> str:
        """What is left out, in a sentence; empty where nothing is."""
        left = self.left_out()
        if left:
            return f"{left} step{'s' if left > 1 else ''} found no room in the plan."
        return ""

    def changes(self) -> list[str]:
        """What changed against the plan before, in words; of rounds that the person sees."""
        return told_changes([row for row in self.plan.changes if row[4] in self.mine])

    def chances(self) -> list[dict[str, Any]]:
        """How probable it is that rounds end by their days."""
        found = []
        for pk, row in (self.plan.chance.get("rounds") or {}).items():
            if int(pk) not in self.mine:
                continue
            made = {key: _moment(row.get(key)) for key in ("low", "middle", "high")}
            found.append(
                {
                    "round": self.mine[int(pk)],
                    "left": row.get("left", 0),
                    "probability": None
                    if row.get("probability") is None
                    else 100 * row["probability"],
                    "by": self.plan.moment(row["by"] - 1) if row.get("by") else None,
                    **made,
                }
            )
        return found

    def held(self) -> list[tuple[str, float]]:
        """What the end hangs on: cause in words, hours."""
        rows = self.plan.chance.get("held") or []
        return [(CAUSES.get(cause, cause.removeprefix("bench:")), m / 60) for cause, m in rows][:4]

    def more(self) -> list[str]:
        """What one more printer or person would bring, a sentence each."""
        return [
            _more(kind, minutes, room) for kind, minutes, room in self.plan.chance.get("more") or []
        ]

    def wishes(self) -> set[str]:
        """Units of which something is wished."""
        return set(Wish.objects.values_list("unit", flat=True))

    def since(self) -> Any:
        """What happened since that the plan does not know."""
        return since(self.plan, self.steps, self.known, self.mine)


def _whole_day(plan: DayPlan) -> DayPlan:
    """The plan with the hours that have passed today, for the drawing."""
    return DayPlan(begin=plan.begin, days=plan.days, now=0)


def _moment(text: str | None) -> datetime | None:
    return None if text is None else datetime.fromisoformat(text)


def _missed(step: PlannedStep, wish: str, rules: Sequence[str]) -> str:
    what = f"{step.subject}, {step.label}"
    wanted = {
        "pin": "cannot begin when it is pinned",
        "due": "is not done by its day",
        "horizon": "finds no room in these days",
    }[wish]
    if not rules:
        return f"{what} {wanted}: several rules together stand against it."
    return f"{what} {wanted}: {', or '.join(rules)}."


def _more(kind: str, minutes: int, room: int) -> str:
    what = "One more printer" if kind == "printer" else "One more person"
    if not minutes and not room:
        return f"{what} would not end it earlier."
    told = f"{minutes} min" if minutes < 100 else f"{minutes / 60:.0f} h"
    end = f"end it {told} earlier" if minutes else ""
    fits = f"let {room} more step{'s' if room > 1 else ''} find room" if room else ""
    return f"{what} would {' and '.join(part for part in (end, fits) if part)}."


def told_changes(rows: Sequence[Sequence[Any]]) -> list[str]:
    """Changes in words, alike ones together: so many steps half an hour later."""
    by: dict[tuple[str, int, str], list[str]] = {}
    for label, subject, what, minutes, _, place in rows:
        rounded = 5 * round(minutes / 5) if what in {"later", "earlier"} else 0
        key = (what, rounded, place if what == "place" else "")
        by.setdefault(key, []).append(f"{subject}, {label}")
    return [_told_change(key, names) for key, names in by.items()]


def _told_change(key: tuple[str, int, str], names: Sequence[str]) -> str:
    what, minutes, place = key
    who = names[0] if len(names) == 1 else f"{names[0]} and {len(names) - 1} more"
    told = f"{minutes} min" if minutes < 100 else f"{minutes / 60:.0f} h"
    return {
        "new": f"{who}: new in the plan.",
        "left_out": f"{who}: no room any more.",
        "gone": f"{who}: no longer wanted.",
        "later": f"{who}: {told} later.",
        "earlier": f"{who}: {told} earlier.",
        "place": f"{who}: on {place} instead.",
    }[what]


def today_of(plan: DayPlan) -> int:
    """Which of a plan's days it is; the first or the last where it is none of them."""
    day = (midnight(timezone.now()) - plan.begin).days
    return min(max(day, 0), plan.days - 1)


def first_day(plan: DayPlan) -> int:
    """The day that is looked at first: today where something begins or runs, else the next one on which
    something does.
    """
    now = max(plan.minute(timezone.now()), 0)
    begins = plan.steps.filter(begin__gte=now).order_by("begin").values_list("begin", flat=True)
    first, today = begins.first(), today_of(plan)
    if (
        first is None
        or plan.steps.filter(begin__lte=now, end__gt=now).exclude(kind="print").exists()
    ):
        return today
    return max(first // 1440, today)


def shown(user: User, plan: DayPlan, window: Window | None = None) -> Shown:
    """A plan as a person sees it; of the steps those in a window of its minutes, and what should be done
    by now.
    """
    steps = steps_of(plan, window)
    keys = {p[3] for step in steps for p in step.pieces if p[3] is not None}
    people = {person.pk: str(person) for person in User.objects.filter(pk__in=keys).order_by("pk")}
    return Shown(plan, steps, happened(plan, steps), seen_by(user), people)
