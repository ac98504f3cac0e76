"""The house that a plan is made for: hours of people and machines in minutes of the plan."""

from __future__ import annotations

from collections.abc import Iterable
from datetime import datetime, time, timedelta

from django.utils import timezone

from hauch.core.plan.house import House, Person, Place, Window, joined, outside
from hauch.people.clock import house_day
from hauch.people.models import User
from hauch.people.permissions import HOST, OPERATOR
from hauch.plan.models import DayPlan, Duty, LoudBench, Machine, Outage, QuietHours
from hauch.rounds.models import Round
from hauch.stores.models import Rig


def midnight(moment: datetime) -> datetime:
    """The midnight before a moment, at the installation's place."""
    zone = timezone.get_default_timezone()
    return datetime.combine(house_day(moment), time(), tzinfo=zone)


class Hours:
    """Windows of a plan, read from what was said of people, machines and benches."""

    def __init__(self, plan: DayPlan, days: int | None = None) -> None:
        self.plan, self.days = plan, days or plan.days
        self.horizon = self.days * 24 * 60
        self.outages = list(Outage.objects.select_related("machine", "user"))

    def daily(self, begin: time, end: time, weekday: int | None = None) -> list[Window]:
        """The same hours each day, or each week on a weekday, from now on."""
        zone, first = timezone.get_default_timezone(), house_day(self.plan.begin)
        found = []
        for offset in range(self.days):
            day = first + timedelta(days=offset)
            if weekday is None or day.weekday() == weekday:
                a, b = (datetime.combine(day, at, tzinfo=zone) for at in (begin, end))
                found.append((max(self.plan.minute(a), self.plan.now), self.plan.minute(b)))
        return [window for window in found if window[1] > window[0]]

    def without(self, windows: Iterable[Window], outages: Iterable[Outage]) -> tuple[Window, ...]:
        """Windows as outages leave them."""
        out = [
            (self.plan.minute(o.begin), self.horizon if o.end is None else self.plan.minute(o.end))
            for o in outages
        ]
        closed = [*outside(windows, self.horizon), *out]
        return outside([(max(a, 0), b) for a, b in closed if b > 0], self.horizon)

    def people(self) -> list[tuple[User, tuple[Window, ...]]]:
        """Who is there when, of those who may work in any round."""
        by_user: dict[User, list[Window]] = {}
        rows = Duty.objects.filter(
            user__is_active=True, user__memberships__role__in=[HOST, OPERATOR]
        ).distinct()
        for duty in rows.select_related("user"):
            hours = self.daily(duty.begin, duty.end, duty.weekday)
            by_user.setdefault(duty.user, []).extend(hours)
        return [
            (user, self.without(joined(hours), [o for o in self.outages if o.user_id == user.pk]))
            for user, hours in sorted(by_user.items(), key=lambda item: item[0].pk)
        ]

    def house(self, rigs: Iterable[Rig]) -> House:
        """The house with these benches, and all printers and ovens."""
        people = tuple(
            Person(f"person:{user.pk}", str(user), hours) for user, hours in self.people()
        )
        duty = joined(window for person in people for window in person.hours)
        loud = set(LoudBench.objects.values_list("rig", flat=True))
        names = sorted({rig.name for rig in rigs})
        places = [
            Place(bench_key(name), "bench", name, self._open(rig=name), name in loud)
            for name in names
        ]
        for machine in Machine.objects.filter(retired=False):
            hours = None if machine.nights else duty
            places.append(
                Place(
                    machine.key,
                    machine.kind,
                    machine.name,
                    self._open(machine=machine, hours=hours),
                    machine.loud,
                )
            )
        quiet = QuietHours.objects.first()
        return House(
            tuple(places),
            people,
            self.horizon,
            _days(duty),
            None if quiet is None else tuple(self.daily(quiet.begin, quiet.end)),
        )

    def _open(
        self,
        *,
        rig: str = "",
        machine: Machine | None = None,
        hours: tuple[Window, ...] | None = None,
    ) -> tuple[Window, ...] | None:
        out = [
            o
            for o in self.outages
            if (rig and o.rig == rig) or (machine and o.machine_id == machine.pk)
        ]
        if not out:
            return hours
        return self.without(((0, self.horizon),) if hours is None else hours, out)


def bench_key(name: str) -> str:
    """A bench as plans know it."""
    return f"bench:{name}"


def _days(duty: Iterable[Window]) -> tuple[Window, ...]:
    """From when to when somebody is there, day by day; what goes through midnight is cut there."""
    found: dict[int, Window] = {}
    for begin, end in duty:
        for day in range(begin // 1440, (end - 1) // 1440 + 1):
            a, b = max(begin, day * 1440), min(end, (day + 1) * 1440)
            known = found.get(day, (a, b))
            found[day] = (min(a, known[0]), max(b, known[1]))
    return tuple(found[day] for day in sorted(found))


def workers_of(round: Round, house: House) -> tuple[str, ...]:
    """Those on duty who may work in a round, as the house knows them."""
    may = set(round.memberships.filter(role__in=[HOST, OPERATOR]).values_list("user_id", flat=True))
    return tuple(p.key for p in house.people if int(p.key.removeprefix("person:")) in may)
