"""The live bench: the page, its stream, and one view for each thing that can be done there."""

from __future__ import annotations

import uuid
from collections import deque
from collections.abc import AsyncIterator, Callable
from contextlib import suppress
from functools import partial
from typing import Any

from asgiref.sync import sync_to_async
from django.contrib import messages
from django.contrib.sessions.models import Session
from django.core.exceptions import ValidationError
from django.http import Http404, HttpResponse, HttpResponseBase, StreamingHttpResponse
from django.shortcuts import get_object_or_404, redirect, render
from django.urls import reverse
from django.utils import timezone
from django.views.decorators.http import require_POST

from hauch.bench.forms import RoomForm, room_initial, subject_of
from hauch.bench.models import Live, Observation, Run
from hauch.bench.queries import bracket_due, plan_of
from hauch.bench.runs import Room, Subject, next_replicate
from hauch.bench.views import capture_url, last_room
from hauch.core.measure.channels import AMBIENT, CHANNELS
from hauch.core.measure.seek import even_steps
from hauch.core.quantity.show import show
from hauch.core.quantity.typed import parse_number
from hauch.core.quantity.units import KINDS, factor_from_si, from_si, to_si
from hauch.live import actions as live
from hauch.live import guide, presence, readiness, readings, runs
from hauch.live.protocol import status_of
from hauch.live.stream import events
from hauch.people.models import User
from hauch.people.permissions import allowed
from hauch.people.requests import Request, whole
from hauch.rounds.models import Round, Setting, Test
from hauch.rounds.queries import round_for
from hauch.stores.pictures import keep_picture

SWEEP_FROM, SWEEP_TO, SWEEP_STEPS, SWEEP_DWELL = 30.0, 100.0, 8, 12.0
"""The sweep that is offered; the form may ask for another."""


def live_for(request: Request, round: Round, pk: int) -> Live:
    """One live recording of a round, with all that its page reads."""
    found = (
        Live.objects.select_related(
            "test__rig",
            "test__round",
            "setting",
            "recording",
            "specimen__version__entry",
            "reference__type",
            "operator",
            "ended_by",
        )
        .filter(pk=pk, round=round)
        .first()
    )
    if found is None:
        raise Http404("There is no such recording in this round.")
    found.round = found.test.round = round
    return found


@require_POST
def start(request: Request, slug: str, test_pk: int) -> HttpResponse:
    """Begin a recording."""
    round = round_for(request.user, slug, "run.record")
    test = get_object_or_404(Test.objects.select_related("rig", "setting"), pk=test_pk, round=round)
    try:
        subject = subject_of(round, request.POST.get("subject", ""))
        return redirect(live.begin(request.user, test, subject))
    except ValidationError as problem:
        messages.error(request, " ".join(problem.messages))
        return redirect("bench:overview", slug)


def page(request: Request, slug: str, pk: int) -> HttpResponse:
    """The live bench."""
    round = round_for(request.user, slug, "run.record")
    one = live_for(request, round, pk)
    if one.ended_at is not None and not request.htmx:
        last = one.recording.runs.order_by("-pk").first()
        return redirect(last) if last else redirect("bench:overview", slug)
    holdable = [
        (key, CHANNELS[key].label, KINDS[CHANNELS[key].kind].shown[request.user.units])
        for key in guide.HOLDABLE
        if key in readiness.shown_channels(one)
    ]
    context = {
        "holdable": holdable,
        "round": round,
        "live": one,
        "config": config(request, one),
        "main": readiness.main_channel(one),
        **_guide(request, one),
    }
    return render(request, "live/page.html", context)


def config(request: Request, one: Live) -> dict[str, Any]:
    """What the page's script reads: channels with unit and digits, the reference's bands,
    addresses.
    """
    units, bands = request.user.units, guide.bands(one.test)
    digits = {
        m.channel: m.instrument.resolution for m in one.test.rig.meters.select_related("instrument")
    }
    channels = []
    for key in readiness.shown_channels(one):
        kind = CHANNELS[key].kind
        unit = KINDS[kind].shown[units]
        factor = factor_from_si(unit, kind)
        band = bands.get(key)
        risen = (
            key == "load_temperature"
            and one.test.procedure == "temperature_rise"
            and "room_temperature" in one.recording.columns
        )
        product = (
            ["voltage", "current"] if key == "power" and key not in one.recording.columns else None
        )
        channels.append(
            {
                "key": key,
                "label": CHANNELS[key].label,
                "unit": unit,
                "factor": factor,
                "offset": float(from_si(0.0, unit, kind)),
                "step": digits.get(key, 0) * factor,
                "product": product,
                "over": "room_temperature" if risen else None,
                "band": [band.value, band.half] if band else None,
            }
        )
    return {
        "channels": channels,
        "main": readiness.main_channel(one),
        "rate": one.recording.rate,
        "origin": one.recording.started_at.timestamp(),
        "stream": reverse("live:stream", args=[one.round.slug, one.pk]),
        "here": reverse("live:here", args=[one.round.slug, one.pk]),
        "beat": presence.BEAT,
        "presence": one.round.presence,
        "turns": "throttle" in one.recording.columns,
    }


def _guide(request: Request, one: Live) -> dict[str, Any]:
    """What the guide shows: steps, readings taken, room, tasks."""
    units, status = request.user.units, status_of(one)
    taken = readings.readings_of(one)
    made = guide.steps(one, units)
    now = next((step for step in made if step.state == "now"), made[-1])
    room = one.room or _room_of(one)
    form = RoomForm(
        units=units, initial=room_initial(Room(**{name: room.get(name) for name in AMBIENT}), units)
    )
    known = all(room.get(name) is not None for name in AMBIENT)
    shown = [c for c in one.recording.columns if c != "throttle"][:6]
    plan, after = plan_of(one.round, 3), guide.offer(one)
    reference = plan.references.get(one.test_id)
    return {
        "steps": made,
        "offer": after,
        "now": now,
        "far_off": readings.asks(one, taken),
        "shown": shown,
        "labels": {c: CHANNELS[c].label for c in shown},
        "form": form,
        "room_known": known,
        "table": [
            {
                "number": i,
                "odd": bool(row.odd),
                "cells": [
                    (
                        show(row.means[c], CHANNELS[c].kind, units),
                        c in row.odd,
                        row.left_out.get(c, 0),
                    )
                    for c in shown
                ],
            }
            for i, row in enumerate(taken, 1)
        ],
        "settings": list(Setting.objects.filter(round=one.round)),
        "tags": Observation.Tag.choices,
        "can_turn": "throttle" in one.recording.columns,
        "seen": list(one.recording.observations.select_related("picture")),
        "hold": readiness.to_hold(one),
        "key": uuid.uuid4(),
        "bracket": bool(reference) and one.specimen_id is not None and bracket_due(one.test),
        "reference": reference,
        "due": plan.due,
        "repeat": next_replicate(one.test, one.setting, Subject(one.specimen, one.reference)),
        "silent": status.silent,
        "stopped": status.stopped,
        "recorder_silent": (timezone.now() - (one.heard_at or one.started_at)).total_seconds() > 5,
    }


def _room_of(one: Live) -> dict[str, float | None]:
    """Room readings to begin with: of the last run while they are fresh, the temperature from the
    room's thermometer.
    """
    last = last_room(one.round)
    return {name: getattr(last, name) if last else None for name in AMBIENT}


def guide_part(request: Request, slug: str, pk: int) -> HttpResponse:
    """The guide alone, when something changed."""
    round = round_for(request.user, slug, "run.record")
    one = live_for(request, round, pk)
    return _show(request, one)


def _show(request: Request, one: Live, problem: str = "") -> HttpResponse:
    """The guide as it is now, or that the recording has ended."""
    status = 422 if problem else 200
    context = {"round": one.round, "live": one, "problem": problem}
    if one.ended_at is not None:
        made = one.recording.runs.order_by("pk").select_related(
            "test__round", "specimen__version__entry", "reference__type"
        )
        return render(request, "live/_ended.html", context | {"made": made}, status=status)
    return render(request, "live/_guide.html", context | _guide(request, one), status=status)


@require_POST
def here(request: Request, slug: str, pk: int) -> HttpResponse:
    """Somebody has the page open."""
    round = round_for(request.user, slug, "run.record")
    presence.here(request.user, live_for(request, round, pk))
    return HttpResponse(status=204)


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
    return _show(request, live_for(request, round, pk), problem)


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
    if one.specimen_id and (count < one.test.repeats or guide.offer(one).settings):
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


def _stream_of(request: Request, slug: str, pk: int) -> Live:
    round = round_for(request.user, slug, "bench.view")
    request.user.pk  # noqa: B018 the session is read here, where the database may be asked
    return live_for(request, round, pk)


def _may_watch(session_key: str | None, user_pk: int | None, one: Live) -> bool:
    """Whether somebody who watches a bench is still signed in, and still in the round with a role
    that sees it.
    """
    user = User.objects.filter(pk=user_pk or 0, is_active=True).first()
    if user is None or not Session.objects.filter(session_key=session_key).exists():
        return False
    round = Round.objects.get(pk=one.test.round_id)
    return allowed(user, "bench.view", round)


MOST_STREAMS = 12
"""So many streams one person has open in one web process; one more ends the oldest."""
_open: dict[int, deque[object]] = {}


def _one_more(user_pk: int, may: Callable[[], bool]) -> Callable[[], bool]:
    """Count a stream of a person; gives what tells whether it may go on, which it may not once it
    is the oldest of too many.
    """
    mine, streams = object(), _open.setdefault(user_pk, deque(maxlen=MOST_STREAMS))
    streams.append(mine)
    return lambda: mine in streams and may()


async def _counted(
    one: Live, tick: int | None, user_pk: int, may: Callable[[], bool]
) -> AsyncIterator[str]:
    """A stream that counts among those of a person as long as it is open."""
    before = set(_open.get(user_pk, ()))
    may_still = _one_more(user_pk, may)
    mine = [token for token in _open[user_pk] if token not in before]
    try:
        async for text in events(one, tick, may_still):
            yield text
    finally:
        for token in mine:
            with suppress(ValueError):
                _open[user_pk].remove(token)


async def stream(request: Request, slug: str, pk: int) -> HttpResponseBase:
    """What the recorder stores, as it comes."""
    one = await sync_to_async(_stream_of)(request, slug, pk)
    last = request.headers.get("Last-Event-ID") or request.GET.get("last", "")
    tick = -1 if last == "-1" else whole(last)
    may = partial(_may_watch, request.session.session_key, request.user.pk, one)
    answer = StreamingHttpResponse(
        _counted(one, tick, request.user.pk, may),
        content_type="text/event-stream",
    )
    answer["Cache-Control"] = "no-cache"
    answer["X-Accel-Buffering"] = "no"
    return answer
