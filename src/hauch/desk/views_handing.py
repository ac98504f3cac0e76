"""What leaves the Desk: kept designs, predictions and versions for entries, measured values sent
back.
"""

from __future__ import annotations

from dataclasses import replace
from typing import Any

from django.contrib import messages
from django.core.exceptions import ValidationError
from django.db import transaction
from django.http import Http404, HttpResponse
from django.shortcuts import get_object_or_404, redirect
from django.utils.http import content_disposition_header
from django.views.decorators.http import require_POST

from hauch.core.quantity import expanded, standard_of
from hauch.desk import actions, queries
from hauch.desk.forms import MeasuredForm
from hauch.desk.models import Design, MeasuredBack
from hauch.desk.show import imported
from hauch.desk.views import ToolRequest, _measurable, page, tool_of, tool_request
from hauch.entries.models import PartFile
from hauch.entries.queries import entry_for
from hauch.people.keep import read_kept
from hauch.people.requests import Request, whole
from hauch.rounds.queries import round_for
from hauch.workshop.models import Specimen

MOST_DESIGN_BYTES = 200_000


def _refused(
    request: Request, made: ToolRequest, problem: ValidationError, **forms: Any
) -> HttpResponse:
    for text in problem.messages:
        messages.error(request, text)
    return page(request, made, 422, **forms)


@require_POST
def save(request: Request, tool: str) -> HttpResponse:
    """Keep the design."""
    made = tool_request(request, tool_of(request, tool))
    if made.answer is None:
        return page(request, made)
    try:
        design = actions.save_design(
            request.user, made.tool, request.POST.get("do_name", ""), made.values, made.around
        )
    except ValidationError as problem:
        return _refused(request, made, problem)
    messages.success(request, f"{design.name} is saved.")
    return redirect(design)


@require_POST
def delete(request: Request, tool: str) -> HttpResponse:
    """Throw a design away."""
    what = tool_of(request, tool)
    wanted = whole(request.POST.get("design"))
    design = get_object_or_404(Design, pk=wanted, owner=request.user, tool=what.key)
    actions.delete_design(request.user, design)
    messages.success(request, f"{design.name} is thrown away.")
    return redirect("desk:tool", what.key)


@require_POST
def load(request: Request, tool: str) -> HttpResponse:
    """Take in a design that was exported as JSON."""
    what = tool_of(request, tool)
    upload = request.FILES.get("do_file")
    try:
        if upload is None or (upload.size or 0) > MOST_DESIGN_BYTES:
            raise ValueError(
                "Choose a design that the Desk has written as JSON."
                if upload is None
                else "The file is too large for a design."
            )
        name, inputs = imported(what, upload.read())
        design = actions.save_design(request.user, what, name, inputs)
    except (ValueError, ValidationError) as problem:
        for text in getattr(problem, "messages", [str(problem)]):
            messages.error(request, text)
        return redirect("desk:tool", what.key)
    messages.success(request, f"{design.name} is taken in.")
    return redirect(design)


@require_POST
def entry(request: Request, tool: str) -> HttpResponse:
    """Hand the answer to an entry as a prediction, or the part as a new version with it."""
    made = tool_request(request, tool_of(request, tool))
    if made.answer is None:
        return page(request, made)
    chosen = next(
        (
            e
            for e in queries.entries_to_predict(request.user)
            if str(e.pk) == request.POST.get("do_entry")
        ),
        None,
    )
    if chosen is None:
        return _refused(request, made, ValidationError("Choose the entry that gets it."))
    try:
        with transaction.atomic():
            if request.POST.get("do_make"):
                version = actions.new_version(
                    request.user,
                    made.tool,
                    made.values,
                    made.setting,
                    chosen,
                    request.POST.get("do_changed", ""),
                )
                said = f"{chosen.name} has version {version.number}, with its files."
            else:
                latest = chosen.versions.order_by("-number").first()
                if latest is None:
                    raise ValidationError(f"{chosen.name} has no version yet.")
                told = actions.predict_for(
                    request.user, made.tool, made.values, made.setting, latest
                )
                said = (
                    f"{chosen.name} v{latest.number} has a prediction for: {', '.join(told)}. It is"
                    " fixed when its first run is recorded."
                )
                version = latest
            name = made.design.name if made.design else f"{chosen.name} v{version.number}"
            design = actions.save_design(request.user, made.tool, name, made.values, made.around)
    except ValidationError as problem:
        return _refused(request, made, problem)
    messages.success(request, said)
    return redirect(design)


@require_POST
def measured(request: Request, tool: str) -> HttpResponse:
    """Send a measured value back to the model."""
    made = tool_request(request, tool_of(request, tool))
    if made.answer is None:
        return page(request, made)
    form = MeasuredForm(request.POST, units=request.user.units, figures=_measurable(made.answer))
    if not form.is_valid():
        return page(request, made, 422, measured_form=form)
    data, rig = form.cleaned_data, form.cleaned_data["measured_rig"]
    name = (
        made.design.name
        if made.design
        else request.POST.get("do_name", "").strip() or f"{made.tool.label} on {rig.name}"
    )
    try:
        with transaction.atomic():
            row = actions.send_back(
                request.user,
                made.tool,
                data["figure"],
                rig,
                name,
                made.values,
                data["measured"],
                standard_of(data["half"] or 0.0),
                queries.resistance_of(rig) if made.tool.rig else 0.0,
            )
            design = actions.save_design(
                request.user, made.tool, name, made.values, replace(made.around, rig=rig)
            )
    except ValidationError as problem:
        for field, errors in (
            problem.error_dict if hasattr(problem, "error_dict") else {None: problem.messages}
        ).items():
            form.add_error(field if field in form.fields else None, errors)
        return page(request, made, 422, measured_form=form)
    factor = queries.factors_of(made.tool.key, rig)[row.figure]
    messages.success(
        request,
        f"On {rig.name} the model's figure is now multiplied by {factor.value:.3g} ±"
        f" {expanded(factor.u, factor.dof):.2g} (95 %), from {factor.count} measured"
        f" value{'s' if factor.count > 1 else ''}.",
    )
    return redirect(design)


@require_POST
def withdraw(request: Request, pk: int) -> HttpResponse:
    """Take a measured value out of its factor."""
    row = get_object_or_404(MeasuredBack, pk=pk)
    actions.withdraw_measured(request.user, row)
    messages.success(request, f"{row} no longer counts.")
    return redirect("desk:tool", row.tool)


def part_file(request: Request, pk: int) -> HttpResponse:
    """A file of a version, as an attachment, for those who may see its entry."""
    found = get_object_or_404(PartFile.objects.select_related("version__entry__round"), pk=pk)
    round = round_for(request.user, found.version.entry.round.slug)
    entry_for(request.user, round, found.version.entry_id)
    if not found.path:
        raise Http404("The file is gone.")
    response = HttpResponse(read_kept(found.path), content_type="application/octet-stream")
    response["Content-Disposition"] = (
        content_disposition_header(as_attachment=True, filename=found.name) or "attachment"
    )
    return response


@require_POST
def as_measured(request: Request, pk: int) -> HttpResponse:
    """Take the design that foretold a specimen's version, put in the sizes measured on the
    specimen, and show what that changes.
    """
    found = get_object_or_404(Specimen.objects.select_related("version__entry__round"), pk=pk)
    round = round_for(request.user, found.version.entry.round.slug)
    entry_for(request.user, round, found.version.entry_id)
    try:
        design = actions.design_as_measured(request.user, found)
    except ValidationError as problem:
        for text in problem.messages:
            messages.error(request, text)
        return redirect(found)
    messages.success(request, f"{design.name} reckons with what was measured on {found}.")
    return redirect(design)
