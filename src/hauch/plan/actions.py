"""What may be done with plans: ask for one, stop it, wish something of it, and say who and what is
there.
"""

from __future__ import annotations

import itertools
import math
from collections.abc import Iterable, Sequence
from datetime import date, datetime, time, timedelta
from decimal import Decimal

from django.core.exceptions import ValidationError
from django.db import transaction
from django.utils import timezone

from hauch.people.audit import record
from hauch.people.clock import house_day
from hauch.people.models import User
from hauch.people.permissions import HOST, OPERATOR, require
from hauch.plan.hours import midnight
from hauch.plan.jobs import work_out_later
from hauch.plan.models import (
    DayPlan,
    Deadline,
    Duty,
    LoudBench,
    Machine,
    Outage,
    PlannedStep,
    PrototypeMaterial,
    QuietHours,
    Spool,
    Stock,
    Wish,
)
from hauch.plan.queries import in_force
from hauch.rounds.models import Round
from hauch.stores.models import Material, Rig

CHOICES = (1, 3, 7, 14, 28, 56, 84)
"""Days that may be planned."""
GRID = 5
"""Plans begin at whole multiples of so many minutes."""
MOST_DUTIES = 21
"""Hours of one person: three a day."""


@transaction.atomic
def ask(user: User, days: int, *, anew: bool = False) -> DayPlan:
    """Have a plan worked out, by the worker; while one waits to be begun, that one is waited for.

    Parameters
    ----------
    anew : not from the plan in force, which else is changed as little as needed

    Raises
    ------
    PermissionDenied, ValidationError : so many days are not planned
    """
    require(user, "plan.change")
    if days not in CHOICES:
        raise ValidationError("Choose how many days are planned.")
    waiting = DayPlan.objects.select_for_update().filter(
        state=DayPlan.State.WAITING, cancel=False, anew=anew
    )
    if (known := waiting.first()) is not None:  # one that is begun does not know what changed since
        return known
    now = timezone.now()
    begin = midnight(now)
    minute = (now - begin).total_seconds() / 60
    plan = DayPlan.objects.create(
        asked_by=user,
        begin=begin,
        now=math.ceil(minute / GRID) * GRID,
        days=days,
        anew=anew,
    )
    work_out_later.defer(plan_id=plan.pk)
    record(user, "plan.ask", plan, days=days, anew=anew)
    return plan


def again(user: User) -> DayPlan | None:
    """Have the plan in force put right after something changed; None where there is none."""
    known = in_force()
    return None if known is None else ask(user, known.days)


def cancel(user: User, plan: DayPlan) -> None:
    """Stop looking for a better plan; the best so far is kept."""
    require(user, "plan.change")
    DayPlan.objects.filter(pk=plan.pk).update(cancel=True)


@transaction.atomic
def pin(user: User, step: PlannedStep, moment: datetime, place: str = "") -> Wish:
    """Have the unit of a step begin at a moment.

    Raises
    ------
    PermissionDenied, ValidationError : a moment that has passed, or lies beyond the plan
    """
    _may_move(user, step)
    plan = step.plan
    if step.kind == "now":
        raise ValidationError("It is on the bench already.")
    if moment < timezone.now():
        raise ValidationError(f"{timezone.localtime(moment):%H:%M} has passed.")
    if plan.minute(moment) >= plan.horizon:
        raise ValidationError("That is after the last day that is planned. Plan more days first.")
    wish, _ = Wish.objects.update_or_create(
        unit=step.unit,
        defaults={"kind": Wish.Kind.PIN, "at": moment, "place": place or step.place, "by": user},
    )
    record(user, "plan.pin", step, at=moment.isoformat())
    return wish


@transaction.atomic
def want_on(user: User, step: PlannedStep, day: date) -> Wish:
    """Have the unit of a step done by the end of a day.

    Raises
    ------
    PermissionDenied, ValidationError : a day that has passed
    """
    _may_move(user, step)
    if day < house_day():
        raise ValidationError(f"{day:%-d %b} has passed.")
    end = datetime.combine(day + timedelta(days=1), time(), tzinfo=timezone.get_default_timezone())
    wish, _ = Wish.objects.update_or_create(
        unit=step.unit,
        defaults={"kind": Wish.Kind.TODAY, "at": end, "place": "", "by": user},
    )
    record(user, "plan.want", step, day=day.isoformat())
    return wish


def forget_wish(user: User, step: PlannedStep) -> None:
    """Take back what was wished of the unit of a step."""
    _may_move(user, step)
    Wish.objects.filter(unit=step.unit).delete()


def _may_move(user: User, step: PlannedStep) -> None:
    """Wishes belong to those who work in the round."""
    require(user, "plan.change")
    if step.round is not None:
        require(user, "run.record", step.round)


@transaction.atomic
def report(
    user: User,
    *,
    who: User | None = None,
    machine: Machine | None = None,
    rig: str = "",
    until: datetime | None = None,
    reason: str = "",
) -> Outage:
    """Say that somebody is ill, or a bench or machine down, until a moment or until further notice.

    Raises
    ------
    PermissionDenied, ValidationError : nothing named, or it is out already
    """
    require(user, "plan.change")
    if rig and not Rig.objects.current().filter(name=rig).exists():
        raise ValidationError("Choose a bench.")
    out = Outage(user=who, machine=machine, rig=rig, end=until, reason=reason.strip(), by=user)
    if who is None and machine is None and not rig:
        raise ValidationError("Choose who or what is out.")
    if out_now().filter(user=who, machine=machine, rig=rig).exists():
        raise ValidationError(f"{out} is out already.")
    out.full_clean(exclude=["by"])
    out.save()
    record(user, "plan.out", out, reason=out.reason)
    return out


def out_now():
    """What is out at this moment, or will be."""
    now = timezone.now()
    return Outage.objects.filter(end=None) | Outage.objects.filter(end__gt=now)


@transaction.atomic
def back(user: User, outage: Outage) -> None:
    """Say that somebody or something is there again, from now on."""
    require(user, "plan.change")
    now = timezone.now()
    if outage.begin >= now:
        outage.delete()
    else:
        outage.end = now
        outage.save(update_fields=["end"])
    record(user, "plan.back", outage)


@transaction.atomic
def set_hours(user: User, who: User, hours: Iterable[tuple[int, time, time]]) -> None:
    """Say when somebody is there, week by week: weekday, from, to.

    Raises
    ------
    PermissionDenied, ValidationError : hours that cannot be, or that overlap
    """
    require(user, "plan.change")
    if not who.memberships.filter(role__in=[HOST, OPERATOR]).exists():
        raise ValidationError(f"{who} is host or operator of no round, so may run nothing.")
    rows = sorted(hours)
    if len(rows) > MOST_DUTIES:
        raise ValidationError(f"At most {MOST_DUTIES} rows of hours a person.")
    for (day, begin, end), (later_day, later, _) in itertools.pairwise(rows):
        if day == later_day and later < end:
            raise ValidationError(
                f"{Duty.DAYS[day]}: {begin:%H:%M} to {end:%H:%M} and what begins at"
                f" {later:%H:%M} overlap."
            )
    made = [Duty(user=who, weekday=day, begin=a, end=b) for day, a, b in rows]
    for row in made:
        row.full_clean(exclude=["user"])
    who.duties.all().delete()
    Duty.objects.bulk_create(made)
    record(user, "plan.hours", who, rows=len(made))


@transaction.atomic
def set_quiet(user: User, begin: time | None, end: time | None, loud: Sequence[str] = ()) -> None:
    """Set the hours in which noise is read (none for always), and which benches are heard then."""
    require(user, "plan.change")
    QuietHours.objects.all().delete()
    if (begin is None) != (end is None):
        raise ValidationError("The quiet hours have a begin and an end, or neither.")
    if begin is not None and end is not None:
        row = QuietHours(begin=begin, end=end)
        row.full_clean()
        row.save()
    known = set(Rig.objects.current().filter(name__in=loud).values_list("name", flat=True))
    LoudBench.objects.exclude(rig__in=known).delete()
    LoudBench.objects.bulk_create((LoudBench(rig=name) for name in known), ignore_conflicts=True)
    record(user, "plan.quiet", "quiet hours", loud=sorted(known))


@transaction.atomic
def save_machine(user: User, machine: Machine) -> Machine:
    """Add or change a printer or an oven."""
    require(user, "plan.change")
    machine.full_clean()
    machine.save()
    record(user, "plan.machine", machine, retired=machine.retired)
    return machine


@transaction.atomic
def weigh_spool(user: User, material: Material, colour: str, left: float) -> Spool:
    """Note what is left on a spool [kg]; weighed again it takes the place of what was noted before.

    Raises
    ------
    PermissionDenied, ValidationError : a mass that cannot be
    """
    require(user, "plan.change")
    row = Spool.objects.filter(material=material, colour__iexact=colour.strip()).first()
    row = row or Spool(material=material, colour=colour.strip())
    row.left, row.weighed_at = left, timezone.now()
    row.full_clean()
    row.save()
    record(user, "plan.spool", row, left=left)
    return row


@transaction.atomic
def set_prototype(user: User, material: Material | None) -> None:
    """Say in what versions are printed until they are accepted; None where it does not matter."""
    require(user, "plan.change")
    PrototypeMaterial.objects.all().delete()
    if material is not None:
        PrototypeMaterial.objects.create(material=material)
    record(user, "plan.prototype", material or "none")


@transaction.atomic
def set_stock(user: User, name: str, quantity: Decimal, days: int) -> Stock:
    """Note how many of a part there are, and how long more takes to come.

    Raises
    ------
    PermissionDenied, ValidationError : a count or a time that cannot be
    """
    require(user, "plan.change")
    name = " ".join(name.split())
    row = Stock.objects.filter(name__iexact=name).first() or Stock(name=name)
    row.quantity, row.days = quantity, days
    row.full_clean()
    row.save()
    record(user, "plan.stock", row, quantity=str(quantity), days=days)
    return row


@transaction.atomic
def set_deadline(user: User, round: Round, day: date | None) -> None:
    """Say by which day a round's runs are to be done; None for none.

    Raises
    ------
    PermissionDenied, ValidationError : a day that has passed
    """
    require(user, "round.change", round)
    if day is None:
        Deadline.objects.filter(round=round).delete()
    elif day < house_day():
        raise ValidationError(f"{day:%-d %b %Y} has passed. Choose a day to come.")
    else:
        Deadline.objects.update_or_create(round=round, defaults={"day": day})
    record(user, "plan.deadline", round, round, day=day.isoformat() if day else "")
