"""Stores: what there is, reference specimens, pictures."""

from __future__ import annotations

from django.contrib import messages
from django.core.exceptions import ValidationError
from django.http import HttpResponse
from django.shortcuts import get_object_or_404, redirect, render
from django.views.decorators.http import require_POST

from hauch.core.measure.channels import CHANNELS
from hauch.people.permissions import allowed
from hauch.people.requests import Request
from hauch.stores import actions, actions_rigs
from hauch.stores.forms import (
    NewInstrumentForm,
    NewRigForm,
    NoteForm,
    ReferenceForm,
)
from hauch.stores.models import Instrument, Material, Picture, ReferenceSpecimen, Rig
from hauch.stores.queries import instruments_due, rigs_now
from hauch.ui.back import back_or


def stores(request: Request) -> HttpResponse:
    """What there is to measure with, and what is due."""
    context = {
        "rigs": [
            {
                "rig": rig,
                "meters": [(CHANNELS[m.channel].label, m.instrument) for m in rig.meters.all()],
            }
            for rig in rigs_now()
        ],
        "instruments": instruments_due(all_of_them=True),
        "references": ReferenceSpecimen.objects.select_related("type"),
        "materials": Material.objects.filter(retired=False),
        "may_change": allowed(request.user, "stores.change"),
        "new_rig": NewRigForm(),
        "new_instrument": NewInstrumentForm(),
        "new_reference": ReferenceForm(),
    }
    return render(request, "stores/stores.html", context)


@require_POST
def delete_rig(request: Request, pk: int) -> HttpResponse:
    """Delete a rig that nothing was measured on."""
    return _delete(request, get_object_or_404(Rig, pk=pk))


@require_POST
def delete_instrument(request: Request, pk: int) -> HttpResponse:
    """Delete a meter that reads on no rig."""
    return _delete(request, get_object_or_404(Instrument, pk=pk))


def _delete(request: Request, thing: Rig | Instrument) -> HttpResponse:
    name = str(thing)
    try:
        actions_rigs.delete_unused(request.user, thing)
    except ValidationError as problem:
        messages.error(request, " ".join(problem.messages))
        return redirect(thing)
    messages.success(request, f"{name} is deleted.")
    return redirect("stores:stores")


@require_POST
def new_reference(request: Request) -> HttpResponse:
    """Take a reference specimen into the stores."""
    form = ReferenceForm(request.POST)
    if form.is_valid():
        data = form.cleaned_data
        try:
            made = actions.add_reference(
                request.user, data["type_name"], data["serial"], data["hours"] or 0.0, data["note"]
            )
            messages.success(request, f"{made} is in the stores.")
            return redirect(back_or(request, made))
        except ValidationError as problem:
            for name, errors in (
                problem.error_dict.items()
                if hasattr(problem, "error_dict")
                else {None: problem.messages}.items()
            ):
                form.add_error(name if name in form.fields else None, errors)
    return render(request, "stores/reference_form.html", {"form": form}, status=422)


@require_POST
def note_reference(request: Request, pk: int) -> HttpResponse:
    """Change a reference specimen's note or picture."""
    specimen = get_object_or_404(ReferenceSpecimen.objects.select_related("type"), pk=pk)
    picture_file = request.FILES.get("picture")
    note, both = NoteForm(request.POST, specimen=specimen).to_keep()
    try:
        data = picture_file.read() if picture_file else None
        actions.change_reference(request.user, specimen, note=note, picture=data)
        messages.success(
            request,
            "Somebody changed the note while you wrote; both stand in it now." if both else "Kept.",
        )
    except ValidationError as problem:
        messages.error(request, " ".join(problem.messages))
    return redirect(specimen)


def picture(request: Request, sha256: str) -> HttpResponse:
    """A picture, which was written anew when it came in."""
    from hauch.people.keep import read_kept

    found = get_object_or_404(Picture, sha256=sha256)
    answer = HttpResponse(read_kept(found.path), content_type="image/jpeg")
    answer["Cache-Control"] = "private, max-age=31536000, immutable"
    return answer
