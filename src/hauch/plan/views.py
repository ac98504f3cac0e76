"""The plan of the day: seen, asked for, changed by hand, put right."""

from __future__ import annotations

import uuid
from datetime import datetime, timedelta
from typing import Any

from django.contrib import messages
from django.core.exceptions import ValidationError
from django.http import HttpResponse
from django.shortcuts import get_object_or_404, redirect, render
from django.urls import reverse
from django.utils import timezone
from django.utils.dateparse import parse_date, parse_time
from django.views.decorators.http import require_POST

from hauch.people.models import User
from hauch.people.permissions import HOST, OPERATOR, allowed, require
from hauch.people.requests import Request, whole
from hauch.plan import actions
from hauch.plan.day import first_day, shown, today_of
from hauch.plan.models import DayPlan, Machine, Outage, PlannedStep
from hauch.plan.queries import in_force, newest, problems_for, seen_by
from hauch.stores.models import Rig
from hauch.ui.worker import worker_away

STOP_POLLING = 286
"""Status by which htmx ends its polling."""
USUAL_DAYS = 3


def plan(request: Request) -> HttpResponse:
    """The plan in force: a day as strip and list, what it hangs on, what changed."""
    require(request.user, "plan.view")
    known, last = in_force(), newest()
    context: dict[str, Any] = {
        "last": last,
        "may_change": allowed(request.user, "plan.change"),
        "choices": actions.CHOICES,
        "days": known.days if known else USUAL_DAYS,
    }
    if last is not None and last.state == DayPlan.State.FAILED:
        context["failed"] = problems_for(last, seen_by(request.user))
    if known is not None:
        context |= _day(request, known)
    return render(request, "plan/plan.html", context)


def _day(request: Request, known: DayPlan) -> dict[str, Any]:
    day, today = whole(request.GET.get("day")), today_of(known)
    day = first_day(known) if day is None else min(day, known.days - 1)
    made = shown(request.user, known, (day * 1440, (day + 1) * 1440))
    lines = made.lines(day)
    open_ = [line for line in lines if line.state in {"open", "going"}]
    return {
        "plan": known,
        "shown": made,
        "day": day,
        "date": made.days[day],
        "today": today,
        "strip": made.strip(day),
        "lines": lines,
        "next": next((line for line in open_ if line.state == "open"), None),
        "going": bool(open_),
        "since": made.since() if day == today else None,
        "gap": _gap(known),
        "problems": problems_for(known, made.mine),
        "out": actions.out_now().select_related("user", "machine"),
        "people": User.objects.filter(
            is_active=True, memberships__role__in=[HOST, OPERATOR]
        ).distinct(),
        "machines": Machine.objects.filter(retired=False),
        "benches": Rig.objects.current().order_by("name"),
    }


def _gap(known: DayPlan) -> float | None:
    """By how many percent the plan may be from the best; None where nothing is proven."""
    if known.score is None or not known.bound or known.bound <= 0:
        return None
    return max(100 * (known.score / known.bound - 1), 0.0)


def state(request: Request, uid: uuid.UUID) -> HttpResponse:
    """How far the worker is; asked for until it is done, then the page is fetched anew."""
    require(request.user, "plan.view")
    last = get_object_or_404(DayPlan, uid=uid)
    answer = render(
        request,
        "plan/_state.html",
        {"last": last, "may_change": allowed(request.user, "plan.change"), "away": worker_away()},
        status=STOP_POLLING if last.ended else 200,
    )
    if last.ended:
        answer["HX-Refresh"] = "true"
    return answer


@require_POST
def ask(request: Request) -> HttpResponse:
    """Have a plan worked out, or the one in force put right."""
    days = whole(request.POST.get("days")) or USUAL_DAYS
    try:
        actions.ask(request.user, days, anew="anew" in request.POST)
    except ValidationError as problem:
        messages.error(request, " ".join(problem.messages))
    return redirect("plan:plan")


@require_POST
def stop(request: Request, uid: uuid.UUID) -> HttpResponse:
    """Be content with the best plan so far."""
    actions.cancel(request.user, get_object_or_404(DayPlan, uid=uid))
    return redirect("plan:plan")


def _step(request: Request, pk: int) -> PlannedStep:
    require(request.user, "plan.view")
    return get_object_or_404(
        PlannedStep.objects.select_related(
            "plan", "round", "test__rig", "specimen__version__entry", "reference__type", "work"
        ),
        pk=pk,
    )


def step(request: Request, pk: int) -> HttpResponse:
    """One step beside the strip: when, on what its minutes rest, and what may be wished of it."""
    row = _step(request, pk)
    begin = row.begin or 0
    made = shown(request.user, row.plan, (begin, begin + 1))
    siblings = list(row.plan.steps.filter(unit=row.unit).order_by("order"))
    first = siblings[0]
    context = {
        "line": made.line(row),
        "block": len(siblings),
        "first": made.line(first),
        "wished": row.unit in made.wishes(),
        "own": row.round_id in made.mine,
        "may_change": allowed(request.user, "plan.change"),
    }
    return render(request, "plan/_step.html", context)


def _moment(request: Request, row: PlannedStep) -> datetime:
    """The moment that was typed or dragged to: a time on a day of the plan, or a minute of it."""
    minute = whole(request.POST.get("minute"))
    if minute is not None and minute < row.plan.horizon:
        return row.plan.moment(minute)
    at = _time(request.POST.get("at", ""))
    day = _date(request.POST.get("on", "")) or timezone.localdate()
    if at is None:
        raise ValidationError("Type a time, such as 14:30.")
    return datetime.combine(day, at, tzinfo=timezone.get_current_timezone())


def _time(text: str) -> Any:
    try:
        return parse_time(text.strip())
    except ValueError:
        return None


def _date(text: str) -> Any:
    try:
        return parse_date(text.strip())
    except ValueError:
        return None


def _changed(request: Request, row: PlannedStep, said: str) -> HttpResponse:
    """Have the plan put right after a wish."""
    actions.again(request.user)
    messages.success(request, said)
    return _to(request, f"{row.plan.get_absolute_url()}?day={(row.begin or 0) // 1440}")


def _to(request: Request, url: str) -> HttpResponse:
    """Go to a page, also from a request that a script made."""
    if not request.htmx:
        return redirect(url)
    answer = HttpResponse(status=204)
    answer["HX-Redirect"] = url
    return answer


def _refused(request: Request, problem: ValidationError) -> HttpResponse:
    messages.error(request, " ".join(problem.messages))
    return _to(request, reverse("plan:plan"))


@require_POST
def pin(request: Request, pk: int) -> HttpResponse:
    """Have a step, or the block in which it is, begin at a time."""
    row = _step(request, pk)
    try:
        moment = _moment(request, row)
        actions.pin(request.user, row, moment)
    except ValidationError as problem:
        return _refused(request, problem)
    local = timezone.localtime(moment)
    return _changed(request, row, f"{row.subject} is pinned to {local:%H:%M}.")


@require_POST
def want(request: Request, pk: int) -> HttpResponse:
    """Have a step done by the end of a day."""
    row = _step(request, pk)
    day = _date(request.POST.get("on", "")) or timezone.localdate()
    try:
        actions.want_on(request.user, row, day)
    except ValidationError as problem:
        return _refused(request, problem)
    return _changed(request, row, f"{row.subject} is to be done by the end of {day:%-d %b}.")


@require_POST
def forget(request: Request, pk: int) -> HttpResponse:
    """Take a wish back."""
    row = _step(request, pk)
    actions.forget_wish(request.user, row)
    return _changed(request, row, f"{row.subject} may be moved again.")


@require_POST
def out(request: Request) -> HttpResponse:
    """Say that somebody is ill, or a bench or machine down."""
    kind, _, key = request.POST.get("what", "").partition(":")
    number = whole(key)
    typed = request.POST.get("hours", "").strip()
    hours = whole(typed)
    until = timezone.now() + timedelta(hours=min(hours, 24 * 60)) if hours else None
    try:
        if typed and not hours:
            raise ValidationError(
                f"“{typed[:12]}” is no number of hours. Type such as 4, or nothing."
            )
        made = actions.report(
            request.user,
            who=User.objects.filter(pk=number or 0).first() if kind == "person" else None,
            machine=Machine.objects.filter(pk=number or 0).first() if kind == "machine" else None,
            rig=key[:80] if kind == "bench" else "",
            until=until,
            reason=request.POST.get("reason", "")[:120],
        )
    except ValidationError as problem:
        return _refused(request, problem)
    actions.again(request.user)
    messages.success(request, f"{made} is out. The plan is put right.")
    return redirect("plan:plan")


@require_POST
def back(request: Request, pk: int) -> HttpResponse:
    """Say that it is there again."""
    outage = get_object_or_404(Outage.objects.select_related("user", "machine"), pk=pk)
    name = str(outage)
    actions.back(request.user, outage)
    actions.again(request.user)
    messages.success(request, f"{name} is there again. The plan is put right.")
    return redirect("plan:plan")
