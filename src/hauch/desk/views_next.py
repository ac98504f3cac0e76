"""What to change next at an entry's part, and the version that begins with it."""

from __future__ import annotations

from django.contrib import messages
from django.core.exceptions import PermissionDenied, ValidationError
from django.http import HttpResponse
from django.shortcuts import get_object_or_404, redirect, render
from django.views.decorators.http import require_POST

from hauch.desk import suggesting
from hauch.entries.actions import may_change
from hauch.entries.models import Entry
from hauch.entries.queries import entry_for
from hauch.people.requests import Request
from hauch.rounds.queries import round_for


def _entry(request: Request, pk: int) -> Entry:
    """An entry that the person may change: what its designer keeps to himself is told here."""
    row = get_object_or_404(Entry.objects.select_related("round"), pk=pk)
    round = round_for(request.user, row.round.slug)
    found = entry_for(request.user, round, pk)
    found.round = round
    if not suggesting.may_ask(request.user, found):
        raise PermissionDenied("Only the host and the entry's designer see what to change next.")
    return found


def change(request: Request, pk: int) -> HttpResponse:
    """Changes to try next; what the models say comes after the page, since they take a moment."""
    entry = _entry(request, pk)
    may_begin = may_change(request.user, entry)
    context = {"round": entry.round, "entry": entry, "may_begin": may_begin}
    if not request.htmx or request.htmx.boosted:
        return render(request, "desk/next.html", context)
    return render(
        request,
        "desk/_next.html",
        context | {"next": suggesting.next_of(entry, request.user.units)},
    )


@require_POST
def begin(request: Request, pk: int) -> HttpResponse:
    """Begin the next version with one of them."""
    entry = _entry(request, pk)
    key, make = str(request.POST.get("key", "")), request.POST.get("make") == "yes"
    try:
        version = suggesting.begin(request.user, entry, key, make)
    except ValidationError as problem:
        messages.error(request, " ".join(problem.messages))
        return redirect("desk:next", pk)
    said = "with its part and what the model foretells" if make else "hand in its files"
    messages.success(request, f"{version} is begun: {said}.")
    return redirect("entries:edit", entry.round.slug, entry.pk)
