"""Instruments: what they read, how well, and their calibrations."""

from __future__ import annotations

import math
from typing import Any

from django.contrib import messages
from django.core.exceptions import ValidationError
from django.http import HttpResponse
from django.shortcuts import get_object_or_404, redirect, render
from django.views.decorators.http import require_POST

from hauch.core.measure.channels import CHANNELS
from hauch.core.quantity import expanded, standard_of
from hauch.people.permissions import allowed, require
from hauch.people.requests import Request, whole
from hauch.stores import actions, actions_rigs
from hauch.stores.forms import (
    CalibrationForm,
    InstrumentForm,
    typed_points,
)
from hauch.stores.models import (
    Calibration,
    Instrument,
    Rig,
)
from hauch.stores.queries import due_of
from hauch.stores.relied_on import others_on, require_say
from hauch.stores.views_rigs import EMPTY_ROWS
from hauch.ui.back import back_or, next_of
from hauch.ui.fields import sent


def new_instrument(request: Request) -> HttpResponse:
    """Take an instrument into the stores."""
    require(request.user, "stores.change")
    channel = request.GET.get("channel", "")
    if channel not in CHANNELS:
        messages.error(request, "Choose what the meter reads first.")
        return redirect("stores:stores")
    return _instrument_form(request, Instrument(channel=channel))


def change_instrument(request: Request, pk: int) -> HttpResponse:
    """Change what is known of an instrument."""
    found = get_object_or_404(Instrument, pk=pk)
    require_say(request.user, found)
    return _instrument_form(request, found)


def _instrument_form(request: Request, instrument: Instrument) -> HttpResponse:
    form = InstrumentForm(sent(request), instance=instrument, units=request.user.units)
    if request.method == "POST" and form.is_valid() and _saved(request, form):
        messages.success(request, f"{form.instance} is saved.{form.taken_over_told}")
        return redirect(back_or(request, form.instance))
    return render(
        request,
        "stores/instrument_form.html",
        {"form": form, "instrument": instrument, "back": next_of(request)},
        status=422 if form.is_bound else 200,
    )


def _saved(request: Request, form: InstrumentForm) -> bool:
    try:
        actions.save_instrument(request.user, form.instance)
    except ValidationError as problem:
        for name, errors in problem.error_dict.items():
            form.add_error(name if name in form.fields else None, errors)
        return False
    return True


@require_POST
def ask(request: Request, pk: int) -> HttpResponse:
    """Ask a meter on a line who it is and what it reads."""
    found = get_object_or_404(Instrument, pk=pk)
    try:
        messages.success(request, actions.ask_instrument(request.user, found))
    except ValidationError as problem:
        messages.error(request, " ".join(problem.messages))
    return redirect(found)


def instrument(request: Request, pk: int) -> HttpResponse:
    """An instrument: specification, calibrations, the line with its residuals."""
    found = get_object_or_404(
        Instrument.objects.prefetch_related("calibrations__entered_by"), pk=pk
    )
    due = due_of(found)
    shown = due.calibration
    wanted = whole(request.GET.get("calibration"))
    shown = next((c for c in found.calibrations.all() if c.pk == wanted), shown)
    others = others_on(request.user, found)
    context = {
        "instrument": found,
        "due": due,
        "shown": shown,
        "chart": _residuals(found, shown),
        "channel": found.reads,
        "rigs": Rig.objects.filter(instruments=found).current(),
        "used": actions_rigs.why_used(found),
        "may_use": allowed(request.user, "stores.change"),
        "others": others,
        "may_change": allowed(request.user, "stores.change") and not others,
        "may_withdraw": allowed(request.user, "stores.change")
        and (not others or (shown is not None and shown.entered_by_id == request.user.pk)),
    }
    return render(request, "stores/instrument.html", context)


def _residuals(instrument: Instrument, calibration: Calibration | None) -> dict[str, Any] | None:
    """Data of the chart: how far each point lies off the line, and the doubt of the line."""
    if calibration is None or not calibration.points:
        return None
    points = [
        {"at": a, "off": b - calibration.slope * a - calibration.offset}
        for a, b in calibration.points
    ]
    low, high = min(p["at"] for p in points), max(p["at"] for p in points)
    band = []
    for step in range(21):
        x = low + (high - low) * step / 20
        u = math.hypot(calibration.level_u, calibration.slope_u * (x - calibration.centre))
        half = expanded(u, calibration.known_dof)
        band.append({"at": x, "low": -half, "high": half})
    return {"kind": instrument.reads.kind, "points": points, "band": band}


def calibrate(request: Request, pk: int) -> HttpResponse:
    """Calibrate an instrument: the line and its residuals while points are typed, kept on request."""
    require(request.user, "stores.change")
    found = get_object_or_404(Instrument, pk=pk)
    kind, units = found.reads.kind, request.user.units
    form = CalibrationForm(sent(request), instrument=found, units=units)
    problems: list[str] = []
    line = chart = None
    if request.method == "POST":
        valid = form.is_valid()
        standard_u = standard_of(form.cleaned_data.get("standard_u") or 0.0)
        try:
            points = typed_points(request.POST, "indicated", "true", (kind, kind), units)
            line = actions.line_of(found, points, standard_u)
            if "keep" in request.POST and not request.htmx and valid:
                data = form.cleaned_data
                made = actions.add_calibration(
                    request.user,
                    found,
                    data["at"],
                    points,
                    standard=data["standard"],
                    standard_u=standard_u,
                    replaces_limit=data["replaces_limit"],
                    note=data["note"],
                )
                messages.success(
                    request, f"{found} is calibrated: it holds for runs from {made.at:%d %b %Y} on."
                )
                return redirect(found)
            chart = _residuals(
                found,
                Calibration(
                    points=points,
                    slope=line.slope,
                    offset=line.offset,
                    centre=line.centre,
                    slope_u=line.slope_u,
                    level_u=line.level_u,
                    dof=line.dof,
                ),
            )
        except ValidationError as problem:
            problems = problem.messages
    typed = list(zip(request.POST.getlist("indicated"), request.POST.getlist("true"), strict=False))
    context = {
        "instrument": found,
        "form": form,
        "problems": problems,
        "line": line,
        "chart": chart,
        "kind": kind,
        "channel": found.reads,
        "rows": typed + [("", "")] * max(EMPTY_ROWS - len(typed), 1),
    }
    template = "stores/_line.html" if request.htmx else "stores/calibrate.html"
    return render(
        request,
        template,
        context,
        status=422 if (problems or form.errors) and not request.htmx else 200,
    )


@require_POST
def withdraw_calibration(request: Request, pk: int) -> HttpResponse:
    """Take a calibration out of use."""
    calibration = get_object_or_404(Calibration.objects.select_related("instrument"), pk=pk)
    try:
        actions.withdraw_calibration(request.user, calibration, request.POST.get("reason", ""))
        messages.success(
            request,
            "The calibration is out of use; it stays on record. Runs that it touched are computed"
            " again, and their rounds hear of it.",
        )
    except ValidationError as problem:
        messages.error(request, " ".join(problem.messages))
    return redirect(calibration.instrument)
