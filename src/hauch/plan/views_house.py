"""Who and what is there: printers and ovens, hours, quiet hours, deadlines."""

from __future__ import annotations

from datetime import time
from itertools import groupby
from typing import Any

from django.contrib import messages
from django.core.exceptions import ValidationError
from django.http import HttpResponse
from django.shortcuts import get_object_or_404, redirect, render
from django.urls import reverse
from django.utils.dateparse import parse_date, parse_time
from django.views.decorators.http import require_POST

from hauch.people.models import User
from hauch.people.permissions import HOST, OPERATOR, allowed, require
from hauch.people.requests import Request
from hauch.plan import actions
from hauch.plan.forms import MachineForm
from hauch.plan.models import Deadline, Duty, LoudBench, Machine, QuietHours
from hauch.rounds.models import Round
from hauch.rounds.queries import rounds_of
from hauch.stores.models import Rig
from hauch.ui.fields import sent

ROWS_OF_HOURS = 2
"""So many rows of hours are offered for each day: before noon and after."""


def house(request: Request) -> HttpResponse:
    """All that plans know of the house, each with its short form."""
    require(request.user, "plan.view")
    return _page(request)


def _page(request: Request, status: int = 200, **more: Any) -> HttpResponse:
    people = (
        User.objects.filter(is_active=True, memberships__role__in=[HOST, OPERATOR])
        .distinct()
        .prefetch_related("duties")
        .order_by("first_name", "pk")
    )
    days = {d.round_id: d.day for d in Deadline.objects.all()}
    context = {
        "machines": Machine.objects.select_related("material"),
        "people": [(person, _week(person), _in_short(person)) for person in people],
        "quiet": QuietHours.objects.first(),
        "loud": set(LoudBench.objects.values_list("rig", flat=True)),
        "benches": Rig.objects.current().order_by("name"),
        "rounds": [
            (round, days.get(round.pk))
            for round in rounds_of(request.user)
            if not round.archived
            and round.state in {Round.State.OPEN, Round.State.BENCH, Round.State.BRIEF}
            and allowed(request.user, "round.change", round)
        ],
        "may_change": allowed(request.user, "plan.change"),
        **more,
    }
    return render(request, "plan/house.html", context, status=status)


def _week(person: User) -> list[tuple[int, str, list[tuple[str, str]]]]:
    """Days of a week with the hours of a person as they stand in fields."""
    rows: dict[int, list[tuple[str, str]]] = {day: [] for day in range(7)}
    for duty in person.duties.all():
        rows[duty.weekday].append((f"{duty.begin:%H:%M}", f"{duty.end:%H:%M}"))
    for fields in rows.values():
        fields.extend([("", "")] * max(ROWS_OF_HOURS - len(fields), 0))
    return [(day, Duty.DAYS[day], rows[day]) for day in range(7)]


def _in_short(person: User) -> str:
    """The hours of a person in words, days with the same hours together: Mo to Fr 8:00–12:00."""
    by_day: dict[int, list[str]] = {}
    for duty in person.duties.all():
        by_day.setdefault(duty.weekday, []).append(f"{duty.begin:%-H:%M}–{duty.end:%-H:%M}")
    told = []
    for said, group in groupby(sorted(by_day), key=lambda day: " and ".join(by_day[day])):
        days = [Duty.DAYS[day][:2] for day in group]
        told.append(f"{days[0]} to {days[-1]} {said}" if len(days) > 1 else f"{days[0]} {said}")
    return ", ".join(told)


@require_POST
def hours(request: Request, pk: int) -> HttpResponse:
    """Say when somebody is there."""
    person = get_object_or_404(User, pk=pk, is_active=True)
    try:
        actions.set_hours(request.user, person, _typed_hours(request))
    except ValidationError as problem:
        return _page(request, 422, problems=problem.messages, of="hours", whose=person.pk)
    messages.success(request, f"The hours of {person} are saved.")
    return redirect(reverse("plan:house") + "#hours")


def _typed_hours(request: Request) -> list[tuple[int, time, time]]:
    found = []
    for day in range(7):
        begins, ends = request.POST.getlist(f"from_{day}"), request.POST.getlist(f"to_{day}")
        for begin, end in zip(begins, ends, strict=False):
            if not begin.strip() and not end.strip():
                continue
            found.append((day, _time(begin, Duty.DAYS[day]), _time(end, Duty.DAYS[day])))
    return found


def _time(text: str, where: str) -> time:
    try:
        at = parse_time(text.strip())
    except ValueError:
        at = None
    if at is None:
        raise ValidationError(f"{where}: “{text[:12]}” is no time. Type such as 9:00, or 17:30.")
    return at.replace(second=0, microsecond=0, tzinfo=None)


@require_POST
def quiet(request: Request) -> HttpResponse:
    """Set the quiet hours and the benches that are heard in them."""
    try:
        begin, end = (
            _time(request.POST[name], "Quiet hours") if request.POST.get(name, "").strip() else None
            for name in ("begin", "end")
        )
        actions.set_quiet(request.user, begin, end, request.POST.getlist("loud"))
    except ValidationError as problem:
        return _page(request, 422, problems=problem.messages, of="quiet")
    messages.success(request, "The quiet hours are saved.")
    return redirect(reverse("plan:house") + "#quiet")


@require_POST
def deadlines(request: Request) -> HttpResponse:
    """Set the days by which rounds are to be done."""
    try:
        for round in rounds_of(request.user):
            name = f"day_{round.pk}"
            if name not in request.POST or not allowed(request.user, "round.change", round):
                continue
            text = request.POST[name].strip()
            before = Deadline.objects.filter(round=round).values_list("day", flat=True).first()
            day = _day(text, round) if text else None
            if day != before:
                actions.set_deadline(request.user, round, day)
    except ValidationError as problem:
        return _page(request, 422, problems=problem.messages, of="deadlines")
    messages.success(request, "The deadlines are saved.")
    return redirect(reverse("plan:house") + "#deadlines")


def _day(text: str, round: Round) -> Any:
    try:
        day = parse_date(text)
    except ValueError:
        day = None
    if day is None:
        raise ValidationError(f"{round}: “{text[:12]}” is no day. Type such as 2026-12-04.")
    return day


def machine(request: Request, pk: int | None = None) -> HttpResponse:
    """Add or change a printer or an oven."""
    require(request.user, "plan.change")
    row = None if pk is None else get_object_or_404(Machine, pk=pk)
    form = MachineForm(sent(request), instance=row, units=request.user.units)
    if request.method == "POST" and form.is_valid():
        try:
            made = actions.save_machine(request.user, form.save(commit=False))
        except ValidationError as problem:
            form.add_error(None, problem.messages)
        else:
            messages.success(request, f"{made} is saved.")
            return redirect(reverse("plan:house") + "#machines")
    status = 422 if form.errors else 200
    return render(request, "plan/machine.html", {"form": form, "machine": row}, status=status)
