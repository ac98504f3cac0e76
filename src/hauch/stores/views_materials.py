"""Materials that are printed with."""

from __future__ import annotations

from django.contrib import messages
from django.core.exceptions import ValidationError
from django.http import HttpResponse
from django.shortcuts import get_object_or_404, redirect, render

from hauch.people.permissions import require
from hauch.people.requests import Request
from hauch.stores import actions
from hauch.stores.forms import MaterialForm
from hauch.stores.models import Material
from hauch.ui.fields import sent


def new_material(request: Request) -> HttpResponse:
    """Take a material into the stores."""
    return _form(request, Material())


def material(request: Request, pk: int) -> HttpResponse:
    """Change what is known of a material."""
    return _form(request, get_object_or_404(Material, pk=pk))


def _form(request: Request, material: Material) -> HttpResponse:
    require(request.user, "stores.change")
    form = MaterialForm(sent(request), instance=material, units=request.user.units)
    if request.method == "POST" and form.is_valid():
        try:
            actions.save_material(request.user, form.instance)
        except ValidationError as problem:
            form.add_error(None, problem.messages)
        else:
            messages.success(
                request,
                f"{form.instance} is saved. Checks made from now on reckon with it.{form.taken_over_told}",
            )
            return redirect("stores:stores")
    return render(
        request,
        "stores/material_form.html",
        {"form": form, "material": material},
        status=422 if form.is_bound else 200,
    )
