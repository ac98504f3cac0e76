"""One view for each thing that can be done at a live bench."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any

from django.contrib import messages
from django.core.exceptions import ValidationError
from django.http import HttpResponse
from django.shortcuts import get_object_or_404, redirect
from django.urls import reverse
from django.views.decorators.http import require_POST

from hauch.bench.forms import RoomForm
from hauch.bench.models import Live, Run
from hauch.bench.plan import plan_of, wanted_repeats
from hauch.bench.runs import Subject
from hauch.bench.views import capture_url
from hauch.core.measure.channels import CHANNELS
from hauch.core.measure.seek import even_steps
from hauch.core.quantity.show import show
from hauch.core.quantity.typed import parse_number
from hauch.core.quantity.units import KINDS, to_si
from hauch.live import actions as live
from hauch.live import guide, readiness, runs
from hauch.live.views import guide_again, live_for
from hauch.people.requests import Request, whole
from hauch.rounds.models import Setting
from hauch.rounds.queries import round_for
from hauch.stores.pictures import keep_picture

SWEEP_FROM, SWEEP_TO, SWEEP_STEPS, SWEEP_DWELL = 30.0, 100.0, 8, 12.0
"""The sweep that is offered; the form may ask for another."""


def _go(request: Request, target: str) -> HttpResponse:
    if request.htmx:
        answer = HttpResponse(status=204)
        answer["HX-Redirect"] = target
        return answer
    return redirect(target)


def _do(request: Request, slug: str, pk: int, action: Callable[[Live], Any]) -> HttpResponse:
    """Do one thing and show the guide again, with a sentence where it could not be done."""
    round = round_for(request.user, slug, "run.record")
    one = live_for(request, round, pk)
    problem = ""
    try:
        action(one)
    except ValidationError as refused:
        problem = " ".join(refused.messages)
    if not request.htmx:
        if problem:
            messages.error(request, problem)
        return redirect(one)
    return guide_again(request, live_for(request, round, pk), problem)


@require_POST
def step(request: Request, slug: str, pk: int) -> HttpResponse:
    """Confirm or do the step that is now."""
    key = request.POST.get("step", "")

    def action(one: Live) -> None:
        if key in {"background", "tare"}:
            live.read_beside(request.user, one, key)
        elif key == "cut":
            live.cut(request.user, one)
        elif key == "throttle":
            live.set_throttle(request.user, one, 100.0)
        elif key == "hold":
            if (held := readiness.to_hold(one)) is None:
                raise ValidationError("This round holds nothing equal.")
            live.hold(request.user, one, *held)
        elif key == "sweep":
            live.sweep(
                request.user, one, even_steps(SWEEP_FROM, SWEEP_TO, SWEEP_STEPS), SWEEP_DWELL
            )
        else:
            live.confirm(request.user, one, key)

    return _do(request, slug, pk, action)


@require_POST
def throttle(request: Request, slug: str, pk: int) -> HttpResponse:
    """Turn the throttle, close it, search a figure or sweep."""
    wish = request.POST.get("do", "")

    def number(name: str, what: str) -> float:
        try:
            return parse_number(request.POST.get(name, ""))
        except ValueError as problem:
            raise ValidationError(f"{what}: {problem}") from problem

    def action(one: Live) -> None:
        if wish == "cut":
            live.cut(request.user, one)
        elif wish == "hold":
            channel = request.POST.get("channel", "")
            if channel not in CHANNELS:
                raise ValidationError("Choose what is held.")
            kind = CHANNELS[channel].kind
            live.hold(
                request.user,
                one,
                channel,
                float(
                    to_si(
                        number("target", CHANNELS[channel].label),
                        KINDS[kind].shown[request.user.units],
                        kind,
                    )
                ),
            )
        elif wish == "sweep":
            count = int(number("count", "Steps"))
            if not 3 <= count <= 40:
                raise ValidationError("Take 3 to 40 steps.")
            live.sweep(
                request.user,
                one,
                even_steps(number("low", "From"), number("high", "To"), count),
                number("dwell", "Seconds"),
            )
        else:
            live.set_throttle(request.user, one, number("percent", "Throttle"))

    return _do(request, slug, pk, action)


@require_POST
def take(request: Request, slug: str, pk: int) -> HttpResponse:
    """Take a reading."""
    return _do(request, slug, pk, lambda one: live.take(request.user, one))


@require_POST
def undo(request: Request, slug: str, pk: int) -> HttpResponse:
    """Take the last reading back."""
    return _do(request, slug, pk, lambda one: live.undo(request.user, one))


@require_POST
def drop(request: Request, slug: str, pk: int) -> HttpResponse:
    """Leave one reading out."""
    number = whole(request.POST.get("reading")) or 0
    return _do(
        request,
        slug,
        pk,
        lambda one: live.drop(request.user, one, number),
    )


@require_POST
def setting(request: Request, slug: str, pk: int) -> HttpResponse:
    """Go on with another setting of the same part."""
    chosen = get_object_or_404(Setting, pk=request.POST.get("setting") or 0)
    return _do(request, slug, pk, lambda one: live.set_setting(request.user, one, chosen))


@require_POST
def note(request: Request, slug: str, pk: int) -> HttpResponse:
    """Write down what was seen, with a picture."""

    def action(one: Live) -> None:
        live.note(
            request.user,
            one,
            request.POST.get("text", ""),
            request.POST.getlist("tags"),
            _picture(request),
        )

    return _do(request, slug, pk, action)


def _picture(request: Request):
    """The picture that was sent, checked; None where none was."""
    sent = request.FILES.get("picture")
    return keep_picture(request.user, sent.read()) if sent is not None else None


@require_POST
def accept(request: Request, slug: str, pk: int) -> HttpResponse:
    """Make a run of the readings."""
    round = round_for(request.user, slug, "run.record")
    one = live_for(request, round, pk)
    made: list[Run] = []

    def action(one: Live) -> None:
        form = RoomForm(request.POST, units=request.user.units)
        if not form.is_valid():
            raise ValidationError(
                [
                    f"{form.fields[name].label}: {' '.join(map(str, errors))}"
                    for name, errors in form.errors.items()
                ]
            )
        room = form.room()
        if not form.is_valid():
            raise ValidationError(
                [
                    f"{form.fields[name].label}: {' '.join(map(str, errors))}"
                    for name, errors in form.errors.items()
                ]
            )
        made.append(
            runs.accept(
                request.user,
                one,
                room,
                form.cleaned_data["note"],
                form.cleaned_data["form_key"],
                far_off_count="far_off_count" in request.POST,
            )
        )

    answer = _do(request, slug, pk, action)
    if not made:
        return answer
    run = made[0]
    value = run.result.value
    if value is None:
        messages.warning(
            request,
            f"Run {run.pk} is recorded, but has no result. {run.result.missing}",
            extra_tags=run.get_absolute_url(),
        )
    else:
        shown = show(value, run.test.how.kind, request.user.units, run.result.expanded)
        messages.success(
            request, f"Run {run.pk}, {run}: {shown}.", extra_tags=run.get_absolute_url()
        )
    where = request.POST.get("then", "")
    if where == "show":
        return _go(request, run.get_absolute_url())
    if where == "next":
        return _go(request, _next(request, one))
    return _go(request, one.get_absolute_url())


def _next(request: Request, one: Live) -> str:
    """Where to go after a run: on with the next repeat of this part or to another setting of it, or
    off the rig and to what is due.
    """
    count = Run.objects.filter(
        test=one.test,
        setting=one.setting,
        state=Run.State.VALID,
        **Subject(one.specimen, one.reference).fields,
    ).count()
    if one.specimen_id and (
        count < wanted_repeats(one.test, one.specimen) or guide.offer(one).settings
    ):
        return one.get_absolute_url()
    live.end(request.user, one)
    return _due(one)


def _due(one: Live) -> str:
    """Where the next run that is due is taken."""
    due = plan_of(one.round, 1).next
    return (
        capture_url(one.round, due.test, Subject(due.specimen, due.reference))
        if due
        else reverse("bench:overview", args=[one.round.slug])
    )


@require_POST
def end(request: Request, slug: str, pk: int) -> HttpResponse:
    """End the recording."""
    round = round_for(request.user, slug, "run.record")
    one = live_for(request, round, pk)
    try:
        live.end(request.user, one)
        messages.success(
            request,
            f"{one.subject}: the recording has ended and the throttle is closed. All that was"
            " recorded is kept.",
        )
    except ValidationError as problem:
        messages.error(request, " ".join(problem.messages))
    if request.POST.get("then") == "next":
        return _go(request, _due(one))
    reference = (
        plan_of(round, 0).references.get(one.test_id)
        if request.POST.get("then") == "reference"
        else None
    )
    return _go(
        request,
        (
            capture_url(round, one.test, Subject(reference=reference))
            if reference
            else reverse("bench:overview", args=[slug])
        ),
    )


@require_POST
def give_up(request: Request, slug: str, pk: int) -> HttpResponse:
    """The part did not finish."""
    round = round_for(request.user, slug, "run.record")
    one = live_for(request, round, pk)
    try:
        run = runs.give_up(request.user, one, request.POST.get("reason", ""), _picture(request))
    except ValidationError as problem:
        messages.error(request, " ".join(problem.messages))
        return redirect(one)
    messages.success(
        request,
        f"{run.subject} did not finish: {run.reason} It keeps its row, last, with all that was"
        " recorded.",
    )
    return redirect(run)
