"""A person's own page; signing in and out is Django's."""

from __future__ import annotations

from django.contrib import messages
from django.http import HttpResponse
from django.shortcuts import redirect, render

from hauch.people.forms import UnitsForm
from hauch.people.requests import Request


def person(request: Request) -> HttpResponse:
    """Units, roles, signing out."""
    form = UnitsForm(request.POST or None, instance=request.user)
    if request.method == "POST" and form.is_valid():
        form.save()
        messages.success(request, "Figures are shown in these units from now on.")
        return redirect("people:person")
    memberships = request.user.memberships.select_related("round")
    return render(request, "people/person.html", {"form": form, "memberships": memberships})
