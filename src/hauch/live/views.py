"""The live bench: the page, its stream, and one view for each thing that can be done there."""

from __future__ import annotations

import uuid
from typing import Any

from django.contrib import messages
from django.core.exceptions import ValidationError
from django.http import Http404, HttpResponse
from django.shortcuts import get_object_or_404, redirect, render
from django.urls import reverse
from django.utils import timezone
from django.views.decorators.http import require_POST

from hauch.bench.forms import RoomForm, room_initial, subject_of
from hauch.bench.models import Live, Observation
from hauch.bench.plan import bracket_due, plan_of
from hauch.bench.runs import Room, Subject, next_replicate
from hauch.bench.views import last_room
from hauch.core.measure.channels import AMBIENT, CHANNELS
from hauch.core.quantity.show import show
from hauch.core.quantity.units import KINDS, factor_from_si, from_si
from hauch.live import actions as live
from hauch.live import guide, presence, readiness, readings
from hauch.live.protocol import status_of
from hauch.people.requests import Request
from hauch.rounds.models import Round, Setting, Test
from hauch.rounds.queries import round_for


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
    return guide_again(request, one)


def guide_again(request: Request, one: Live, problem: str = "") -> HttpResponse:
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
