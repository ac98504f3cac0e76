"""The Entries station."""

from __future__ import annotations

from django.contrib import messages
from django.core.exceptions import ValidationError
from django.core.paginator import Paginator
from django.db.models import Prefetch
from django.http import HttpRequest, HttpResponse
from django.shortcuts import redirect, render
from django.views.decorators.http import require_POST

from hauch.entries import actions
from hauch.entries.forms import EntryForm
from hauch.entries.models import Entry, Version
from hauch.entries.queries import entry_for, visible_to
from hauch.people.permissions import allowed
from hauch.rounds.queries import round_for

PAGE = 50


def entry_list(request: HttpRequest, slug: str, form: EntryForm | None = None) -> HttpResponse:
    """All entries that the person may see, with a short form to hand one in."""
    round = round_for(request.user, slug)
    query = request.GET.get("q", "").strip()
    entries = (
        visible_to(request.user, round)
        .select_related("designer")
        .prefetch_related(Prefetch("versions", Version.objects.prefetch_related("specimens")))
    )
    if query:
        entries = entries.filter(name__icontains=query)
    page = Paginator(entries, PAGE).get_page(request.GET.get("page"))
    context = {
        "round": round, "page": page, "query": query, "form": form or EntryForm(), "may_add": allowed(request.user, "entry.add", round),
        "closed": actions.why_closed(request.user, round), "all_shown": allowed(request.user, "entry.view_all", round),
    }  # fmt: skip
    template = "entries/_list.html" if request.htmx and not request.htmx.boosted and form is None else "entries/list.html"
    return render(request, template, context, status=422 if form is not None else 200)


@require_POST
def add(request: HttpRequest, slug: str) -> HttpResponse:
    """Hand in an entry."""
    round = round_for(request.user, slug, "entry.add")
    form = EntryForm(request.POST)
    if form.is_valid():
        try:
            entry = actions.add_entry(request.user, round, **form.cleaned_data)
        except ValidationError as problem:
            form.add_error(None, problem.messages)
        else:
            messages.success(request, f"{entry.name} is in. Add its specimen in the workshop once it is printed.")
            return redirect(entry)
    return entry_list(request, slug, form)


@require_POST
def withdraw(request: HttpRequest, slug: str, pk: int) -> HttpResponse:
    """Withdraw an entry, or take it back in."""
    entry = entry_for(request.user, round_for(request.user, slug), pk)
    try:
        if entry.state == Entry.State.WITHDRAWN:
            actions.take_back_in(request.user, entry)
            messages.success(request, f"{entry.name} is in again.")
        else:
            actions.withdraw(request.user, entry, request.POST.get("reason", ""))
            messages.success(request, f"{entry.name} is withdrawn. Its runs are kept.")
    except ValidationError as problem:
        messages.error(request, " ".join(problem.messages))
    return redirect(entry)
