"""The Entries station."""

from __future__ import annotations

from django.contrib import messages
from django.core.exceptions import ValidationError
from django.core.paginator import Paginator
from django.db.models import Prefetch
from django.http import HttpResponse
from django.shortcuts import redirect, render
from django.views.decorators.http import require_POST

from hauch.entries import actions, uploads
from hauch.entries.forms import EntryForm, EntryVersionForm, PapersForm
from hauch.entries.models import Entry, Version
from hauch.entries.queries import checked, entry_for, newest_version, visible_to
from hauch.formats.mesh_in import MOST_BYTES
from hauch.people.permissions import allowed
from hauch.people.requests import Request, whole
from hauch.rounds.queries import round_for

PAGE = 50


def entry_list(request: Request, slug: str, form: EntryForm | None = None) -> HttpResponse:
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
    checks = checked(round)
    for entry in page:
        entry.__dict__["checked"] = checks.get(entry.pk)
    context = {
        "round": round,
        "page": page,
        "query": query,
        "form": form or EntryForm(),
        "may_add": allowed(request.user, "entry.add", round),
        "closed": actions.why_closed(request.user, round),
        "all_shown": allowed(request.user, "entry.view_all", round),
        "may_invite": allowed(request.user, "people.invite", round),
    }
    template = (
        "entries/_list.html"
        if request.htmx and not request.htmx.boosted and form is None
        else "entries/list.html"
    )
    return render(request, template, context, status=422 if form is not None else 200)


@require_POST
def add(request: Request, slug: str) -> HttpResponse:
    """Hand in an entry."""
    round = round_for(request.user, slug, "entry.add")
    form = EntryForm(request.POST)
    if form.is_valid():
        try:
            entry = actions.add_entry(request.user, round, **form.cleaned_data)
        except ValidationError as problem:
            form.add_error(None, problem.messages)
        else:
            messages.success(
                request,
                f"{entry.name} is in. Now hand in its files; they are checked while you write.",
            )
            return redirect("entries:edit", slug, entry.pk)
    return entry_list(request, slug, form)


@require_POST
def withdraw(request: Request, slug: str, pk: int) -> HttpResponse:
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


@require_POST
def name_version(request: Request, slug: str, pk: int) -> HttpResponse:
    """Say by which version an entry takes part."""
    entry = entry_for(request.user, round_for(request.user, slug), pk)
    try:
        chosen = actions.name_version(request.user, entry, whole(request.POST.get("version")))
        told = f"Version {chosen.number}" if chosen else "The newest version that was run"
        messages.success(request, f"{told} takes part.")
    except ValidationError as problem:
        messages.error(request, " ".join(problem.messages))
    return redirect(entry)


def edit(request: Request, slug: str, pk: int) -> HttpResponse:
    """Files and papers of an entry's newest version: what its designer hands in."""
    version = newest_version(request.user, slug, pk)
    entry = version.entry
    form = (
        PapersForm(version, request.POST, request.FILES)
        if request.method == "POST"
        else PapersForm(version)
    )
    if request.method == "POST" and form.is_valid():
        bill, steps = form.bill(), form.steps(request.user)
        try:
            if not form.line_problems:
                actions.set_papers(
                    request.user, version, **form.cleaned_data, bill=bill, steps=steps
                )
                messages.success(
                    request, f"The papers of {version} are saved.{form.taken_over_told}"
                )
                return redirect("entries:edit", slug, pk)
        except ValidationError as problem:
            form.line_problems += problem.messages
    context = {
        **_files_of(request, version),
        "version": version,
        "form": form,
        "most_bytes": MOST_BYTES,
        "piece": uploads.PIECE,
        "next_form": EntryVersionForm(),
        "may_add_version": actions.may_change(request.user, entry),
    }
    return render(
        request, "entries/edit.html", context, status=422 if request.method == "POST" else 200
    )


def files(request: Request, slug: str, pk: int) -> HttpResponse:
    """The files of an entry's newest version, asked for after an upload and while one is checked."""
    return render(
        request, "entries/_files.html", _files_of(request, newest_version(request.user, slug, pk))
    )


def _files_of(request: Request, version: Version) -> dict[str, object]:
    handed_in = list(version.files.select_related("newest_check"))
    return {
        "round": version.entry.round,
        "entry": version.entry,
        "files": handed_in,
        "checking": any(f.newest_check and f.newest_check.at_work for f in handed_in),
        "may_change": actions.may_change(request.user, version.entry) and version.sealed_at is None,
    }


@require_POST
def add_version(request: Request, slug: str, pk: int) -> HttpResponse:
    """Begin the next version of an entry."""
    entry = entry_for(request.user, round_for(request.user, slug), pk)
    form = EntryVersionForm(request.POST)
    if not form.is_valid():
        messages.error(request, "Say in a few words what the next version changes.")
        return redirect("entries:edit", slug, pk)
    try:
        version = actions.add_version(
            request.user, entry, form.cleaned_data["changed"], form.cleaned_data["why"]
        )
    except ValidationError as problem:
        messages.error(request, " ".join(problem.messages))
    else:
        messages.success(
            request, f"{version} is begun. Bill and steps are taken over; hand in its files."
        )
    return redirect("entries:edit", slug, pk)


@require_POST
def copy(request: Request, slug: str, pk: int) -> HttpResponse:
    """Hand an entry in to another round."""
    entry = entry_for(request.user, round_for(request.user, slug), pk)
    target = round_for(request.user, request.POST.get("to", ""), "entry.add")
    try:
        made = actions.copy_entry(request.user, entry, target)
    except ValidationError as problem:
        messages.error(request, " ".join(problem.messages))
        return redirect(entry)
    messages.success(
        request,
        f"{made.name} is in {target.title}, with its files. Predict anew: another rig gives other"
        " figures.",
    )
    return redirect(made)
