"""Searching for a better rotor: start, watch, stop, take over."""

from __future__ import annotations

import uuid

from django.contrib import messages
from django.core.exceptions import ValidationError
from django.http import HttpResponse
from django.shortcuts import get_object_or_404, redirect, render
from django.views.decorators.http import require_POST

from hauch.core.quantity.units import KINDS
from hauch.desk import actions
from hauch.desk.forms import SearchForm
from hauch.desk.models import Around, Search
from hauch.desk.search import AIMS, FIGURES
from hauch.desk.tools import TOOLS
from hauch.desk.views import page, picture, tool_of, tool_request
from hauch.people.permissions import require
from hauch.people.requests import Request, whole

STOP_POLLING = 286
"""Status by which htmx ends its polling."""


@require_POST
def start(request: Request, tool: str) -> HttpResponse:
    """Leave a search to the worker."""
    made = tool_request(request, tool_of(request, tool))
    if made.answer is None or not made.tool.optimises:
        return page(request, made)
    form = SearchForm(request.POST, units=request.user.units)
    if not form.is_valid():
        return page(request, made, 422, search_form=form)
    try:
        row = actions.start_search(
            request.user, made.values, made.around, form.cleaned_data["aim"], form.limits()
        )
    except ValidationError as problem:
        form.add_error(None, problem.messages)
        return page(request, made, 422, search_form=form)
    return redirect("desk:search", row.uid)


def search(request: Request, uid: uuid.UUID) -> HttpResponse:
    """A search: progress while it runs, then the best rotor, what it gained, and the front."""
    require(request.user, "desk.use")
    row = get_object_or_404(
        Search.objects.select_related("rig", "fit"), uid=uid, owner=request.user
    )
    aim = AIMS[row.aim]
    context: dict[str, object] = {
        "search": row,
        "aim": aim,
        "against": FIGURES[aim.against][0],
        "against_label": aim.against,
    }
    if row.best.get("inputs"):
        context["drawing"] = picture(
            TOOLS["rotor"].answer(row.best["inputs"]), request.user.units, 760, 280
        )
    if row.best.get("figures"):
        before = row.best.get("before") or {}
        context["gains"] = [
            (
                key,
                kind,
                before.get(key),
                value,
                (
                    None
                    if not before.get(key) or kind == "decibel"
                    else 100 * (value / before[key] - 1)
                ),
            )
            for key, value in row.best["figures"].items()
            for kind in [FIGURES[key][0]]
        ]
    if row.front:
        line = {
            "label": "front",
            "xs": [p["other"] for p in row.front],
            "ys": [p["aim"] for p in row.front],
            "style": "first",
        }
        points = [("candidate", p["other"], p["aim"]) for p in row.front]
        context["front"] = {
            "x": (FIGURES[aim.against][0], KINDS[FIGURES[aim.against][0]].label.lower()),
            "y": (aim.kind, KINDS[aim.kind].label.lower()),
            "lines": [line],
            "points": points,
            "marks": [],
            "bars": (),
            "add_up": False,
            "others": [],
        }
    polled = request.htmx and not request.htmx.boosted
    status = STOP_POLLING if polled and row.ended else 200
    return render(
        request, "desk/_search.html" if polled else "desk/search.html", context, status=status
    )


@require_POST
def stop(request: Request, uid: uuid.UUID) -> HttpResponse:
    """Stop a search, or keep the best of an ended one as a design."""
    require(request.user, "desk.use")
    row = get_object_or_404(Search, uid=uid, owner=request.user)
    if "keep" in request.POST:
        wanted = whole(request.POST.get("of"))
        inputs = (
            row.front[wanted]["inputs"]
            if wanted is not None and wanted < len(row.front)
            else row.as_values()
        )
        try:
            design = actions.save_design(
                request.user,
                TOOLS["rotor"],
                request.POST.get("do_name", ""),
                inputs,
                Around(row.rig, row.fit),
            )
        except ValidationError as problem:
            for text in problem.messages:
                messages.error(request, text)
            return redirect("desk:search", uid)
        messages.success(request, f"{design.name} is saved.")
        return redirect(design)
    actions.cancel_search(request.user, row)
    return redirect("desk:search", uid)
