"""The pages of a set-up: the kinds of parts to begin with, then one page for each step."""

from __future__ import annotations

from typing import Any

from django.contrib import messages
from django.core.exceptions import ValidationError
from django.http import HttpResponse
from django.shortcuts import get_object_or_404, redirect, render
from django.utils.safestring import SafeString
from django.views.decorators.http import require_POST

from hauch.core.geometry.kinds import PART_KINDS
from hauch.core.measure.rigs import RIGS, check_constants
from hauch.people.requests import Request
from hauch.setup import actions
from hauch.setup.answers import STEPS, Answers
from hauch.setup.forms import MeansForm, PartsForm, SizesForm, WantsForm
from hauch.setup.models import SetUp
from hauch.stores.views_rigs import diagram
from hauch.ui.fields import sent

LOOKED_AT = {"means", "sizes"}
"""Steps that are looked at while they are filled in."""


def begin(request: Request) -> HttpResponse:
    """What is compared: each kind of part as a drawing; pressing one begins."""
    actions.require_set_up(request.user)
    if request.method == "POST":
        try:
            made = actions.begin(request.user, request.POST.get("part", ""))
        except ValidationError as problem:
            messages.error(request, " ".join(problem.messages))
            return redirect("setup:begin")
        return redirect(made)
    return render(
        request,
        "setup/begin.html",
        {"kinds": PART_KINDS.values(), "begun": request.user.set_ups.filter(round=None)},
    )


@require_POST
def discard(request: Request, pk: int) -> HttpResponse:
    """Throw a set-up away that was not finished."""
    actions.discard(get_object_or_404(SetUp, pk=pk, user=request.user, round=None))
    messages.success(request, "It is discarded.")
    return redirect("home")


def step(request: Request, pk: int, step: str) -> HttpResponse:
    """One step: asked, looked at while it is filled in (htmx), kept and followed by the next."""
    actions.require_set_up(request.user)
    set_up = get_object_or_404(SetUp.objects.select_related("round"), pk=pk, user=request.user)
    if set_up.round is not None:
        return redirect("bench:overview", set_up.round.slug)
    said = set_up.said
    earliest = said.next_step()
    if step not in said.steps or said.steps.index(step) > said.steps.index(earliest):
        return redirect(set_up)  # what comes before was not answered yet
    return {"wants": _wants, "means": _means, "sizes": _sizes, "parts": _parts}[step](
        request, set_up, said
    )


def _page(
    request: Request, set_up: SetUp, step: str, form: Any, *, bad: bool = False, **more: Any
) -> HttpResponse:
    said: Answers = more.pop("said", None) or set_up.said
    steps = said.steps
    at = steps.index(step) if step in steps else 0
    context = {
        "set_up": set_up,
        "said": said,
        "form": form,
        "step": step,
        "steps": [(key, STEPS[key], key in said.done) for key in steps],
        "before": steps[at - 1] if at else "",
        **more,
    }
    if request.htmx and step in LOOKED_AT:
        return render(request, f"setup/_{step}.html", context)
    return render(request, f"setup/{step}.html", context, status=422 if bad else 200)


def _on(set_up: SetUp, said: Answers, step: str) -> HttpResponse:
    """Keep the answers, and go on to the step after this one."""
    actions.keep(set_up, said, step)
    steps = said.steps
    return redirect("setup:step", set_up.pk, steps[steps.index(step) + 1])


def _wants(request: Request, set_up: SetUp, said: Answers) -> HttpResponse:
    form = WantsForm(sent(request), said=said)
    if form.is_bound and form.is_valid():
        said.wants = form.cleaned_data["wants"]
        said.condition = form.cleaned_data["condition"].strip()
        said.done = [s for s in said.done if s != "means"]  # more may be asked for now
        return _on(set_up, said, "wants")
    ticked = request.POST.getlist("wants") if form.is_bound else said.wants or said.usual
    return _page(
        request,
        set_up,
        "wants",
        form,
        bad=form.is_bound,
        offered=[(want, want.key in ticked) for want in form.offered],
    )


def _means(request: Request, set_up: SetUp, said: Answers) -> HttpResponse:
    if (
        request.htmx
    ):  # another way or rig was chosen: what goes with it is asked, nothing is judged yet
        said.look(request.POST)
    form = MeansForm(None if request.htmx else sent(request), said=said, units=request.user.units)
    if form.is_bound and form.is_valid():
        form.into(said)
        said.done = [s for s in said.done if s != "sizes"]
        return _on(set_up, said, "means")
    drawings = {
        kind: diagram(RIGS[kind], {}, request.user.units, 420, 190) for kind in said.rig_kinds
    }
    return _page(
        request,
        set_up,
        "means",
        form,
        bad=form.is_bound and not form.is_valid(),
        groups=[{**group, "drawing": drawings[group["kind"].key]} for group in form.groups],
        said=said,
    )


def _sizes(request: Request, set_up: SetUp, said: Answers) -> HttpResponse:
    form = SizesForm(sent(request), said=said, units=request.user.units)
    problems: list[str] = []
    drawings: dict[str, SafeString] = {}
    if form.is_bound:
        form.is_valid()
        form.into(said)
    for rig in form.new_rigs:
        impossible = check_constants(RIGS[rig], said.pairs(rig))
        problems += impossible.values()
        known = {key: pair for key, pair in said.pairs(rig).items() if key not in impossible}
        drawings[rig] = diagram(RIGS[rig], known, request.user.units, 520, 220)
    if form.is_bound and not request.htmx and form.is_valid() and not problems:
        return _on(set_up, said, "sizes")
    return _page(
        request,
        set_up,
        "sizes",
        form,
        bad=form.is_bound,
        problems=problems,
        groups=[{**group, "drawing": drawings[group["kind"].key]} for group in form.groups],
    )


def _parts(request: Request, set_up: SetUp, said: Answers) -> HttpResponse:
    form = PartsForm(sent(request), said=said)
    if form.is_bound and form.is_valid():
        data = form.cleaned_data
        parts = actions.Parts(
            data["title"],
            data["reference"],
            data["names"],
            data["repeats"],
            data["decide"],
            data.get("first", ""),
        )
        try:
            round = actions.make(request.user, set_up, parts)
        except ValidationError as problem:
            form.add_error(None, problem.messages)
        else:
            messages.success(
                request, f"{round} is set up. The reference is run first; its readings come next."
            )
            return redirect("bench:overview", round.slug)
    return _page(request, set_up, "parts", form, bad=form.is_bound)
