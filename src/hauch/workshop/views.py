"""The Workshop station."""

from __future__ import annotations

from django.contrib import messages
from django.core.exceptions import ValidationError
from django.core.paginator import Paginator
from django.http import HttpRequest, HttpResponse
from django.shortcuts import get_object_or_404, redirect, render
from django.views.decorators.http import require_POST

from hauch.entries.queries import visible_to
from hauch.people.permissions import allowed
from hauch.rounds.queries import round_for
from hauch.workshop import actions
from hauch.workshop.forms import SpecimenForm
from hauch.workshop.models import Specimen

PAGE = 50


def specimen_list(request: HttpRequest, slug: str, form: SpecimenForm | None = None) -> HttpResponse:
    """The specimens of a round: what is printed, weighed and ready."""
    round = round_for(request.user, slug)
    specimens = Specimen.objects.filter(version__entry__in=visible_to(request.user, round)).select_related("version__entry")
    page = Paginator(specimens.order_by("code", "pk"), PAGE).get_page(request.GET.get("page"))
    may = allowed(request.user, "specimen.change", round)
    context = {"round": round, "page": page, "states": Specimen.State.choices, "may_change": may}
    if may:
        context["form"] = form or SpecimenForm(round=round)
    return render(request, "workshop/list.html", context, status=422 if form is not None else 200)


@require_POST
def add(request: HttpRequest, slug: str) -> HttpResponse:
    """Add a specimen."""
    round = round_for(request.user, slug, "specimen.change")
    form = SpecimenForm(request.POST, round=round)
    if form.is_valid():
        data = form.cleaned_data
        mass = data["mass_g"] / 1000 if data["mass_g"] else None
        try:
            specimen = actions.add_specimen(request.user, data["version"], data["code"], data["material"], mass)
        except ValidationError as problem:
            form.add_error(None, problem.messages)
        else:
            messages.success(request, f"Specimen {specimen} is printed. Mark it ready once it is mounted and its balance checked.")
            return redirect("workshop:list", slug)
    return specimen_list(request, slug, form)


@require_POST
def set_state(request: HttpRequest, slug: str, pk: int) -> HttpResponse:
    """Change the state of a specimen; htmx gets the row back."""
    round = round_for(request.user, slug, "specimen.change")
    specimen = get_object_or_404(Specimen.objects.select_related("version__entry__round"), pk=pk, version__entry__round=round)
    try:
        actions.set_state(request.user, specimen, request.POST.get("state", ""))
    except ValidationError as problem:
        messages.error(request, " ".join(problem.messages))
    if request.htmx:
        return render(request, "workshop/_row.html", {"round": round, "specimen": specimen, "states": Specimen.State.choices, "may_change": True})
    return redirect("workshop:list", slug)
