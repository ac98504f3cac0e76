"""The record of predictions: each designer's and each model's, against what was measured."""

from __future__ import annotations

from typing import Any

from django.contrib import messages
from django.core.exceptions import PermissionDenied, ValidationError
from django.db import transaction
from django.http import HttpResponse
from django.shortcuts import get_object_or_404, redirect, render

from hauch.core.quantity import expanded
from hauch.desk import queries
from hauch.desk.forms import PredictionForm
from hauch.entries.actions import may_change
from hauch.entries.models import Entry, Prediction
from hauch.entries.predictions import predict
from hauch.entries.queries import entry_for
from hauch.people.models import User
from hauch.people.permissions import require, role_in
from hauch.people.requests import Request
from hauch.rounds.queries import round_for, round_tests

MOST_SHOWN = 400


def _visible(user: User) -> Any:
    return Prediction.objects.filter(version__entry__round__memberships__user=user)


def _context(held: list[queries.Held]) -> dict[str, Any]:
    points = [
        {"by": h.by, "metric": h.procedure.metric, "error": h.error, "entry": h.entry.name}
        for h in held
        if h.error is not None and h.procedure.log
    ]
    return {"held": held[:MOST_SHOWN], "lines": queries.lines_of(held), "points": points}


def record(request: Request) -> HttpResponse:
    """Bias and scatter of all predictors that the person may see."""
    require(request.user, "desk.use")
    return render(
        request,
        "desk/record.html",
        _context(queries.held_against(_visible(request.user), request.user)),
    )


def designer(request: Request, pk: int) -> HttpResponse:
    """One designer: entries, and how their predictions did."""
    require(request.user, "desk.use")
    person = get_object_or_404(User, pk=pk)
    held = queries.held_against(
        _visible(request.user).filter(version__entry__designer=person), request.user
    )
    if not held and person != request.user:
        raise PermissionDenied("Nothing of this designer is published in your rounds yet.")
    return render(request, "desk/designer.html", {"designer": person, **_context(held)})


def entry(request: Request, pk: int) -> HttpResponse:
    """Predictions of an entry beside what was measured, and the designer's own while they may still
    be changed.
    """
    row = get_object_or_404(Entry.objects.select_related("round"), pk=pk)
    round = round_for(request.user, row.round.slug)
    row = entry_for(request.user, round, pk)
    latest = row.versions.order_by("-number").first()
    may = latest is not None and latest.sealed_at is None and may_change(request.user, row)
    procedures = list({t.procedure: t.how for t in round_tests(round)}.values())
    own = (
        {p.procedure: p for p in latest.predictions.filter(source=Prediction.Source.DESIGNER)}
        if latest and may
        else {}
    )
    initial = {
        k: v
        for p in own.values()
        for k, v in (
            (p.procedure, p.value),
            (f"{p.procedure}_half", expanded(p.u) if p.u else None),
        )
    }
    form = PredictionForm(
        request.POST if request.method == "POST" else None,
        units=request.user.units,
        procedures=procedures,
        initial=initial,
    )
    if request.method == "POST":
        if latest is not None and form.is_valid():
            try:
                with transaction.atomic():
                    for procedure, (value, u) in form.entered().items():
                        predict(request.user, latest, procedure, value, u)
            except ValidationError as problem:
                for text in problem.messages:
                    messages.error(request, text)
            else:
                messages.success(
                    request,
                    "Your prediction is saved. It is fixed when the first run is recorded, and shown"
                    " from then on.",
                )
        else:
            for sentence in {str(t) for errors in form.errors.values() for t in errors}:
                messages.error(request, f"The prediction is not kept: {sentence}")
        return redirect(row)
    held = queries.held_against(
        Prediction.objects.filter(version__entry=row),
        request.user,
        {round.pk: role_in(request.user, round)},
    )
    told = (
        []
        if latest is None or latest.sealed_at
        else latest.predictions.values_list("pk", flat=True)
    )
    hidden = len(set(told) - {h.prediction.pk for h in held})
    pairs = [(form[p.key], form[f"{p.key}_half"]) for p in procedures]
    context = {
        "round": round,
        "entry": row,
        "version": latest,
        "held": held,
        "hidden": hidden,
        "pairs": pairs if may else [],
        "designer": row.designer,
    }
    return render(request, "desk/_entry.html", context)
