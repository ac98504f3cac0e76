"""An entry's page with its evidence, and its report to print."""

from __future__ import annotations

from django.http import HttpResponse
from django.shortcuts import render
from django.utils import timezone

from hauch.bench.queries import observations_of, runs, was_run
from hauch.desk.suggesting import may_ask
from hauch.entries.actions import may_name
from hauch.entries.queries import entry_for
from hauch.pages.report import sections_of
from hauch.people.permissions import allowed
from hauch.people.requests import Request
from hauch.rounds.queries import round_for
from hauch.verdict import queries


def entry(request: Request, slug: str, pk: int) -> HttpResponse:
    """An entry's page: story, versions, specimens, and what the bench found."""
    round = round_for(request.user, slug)
    found = entry_for(request.user, round, pk)
    names = (
        list(round.entries.order_by("name", "id").values_list("pk", flat=True))
        if allowed(request.user, "entry.view_all", round)
        else [found.pk]
    )
    at = names.index(found.pk)
    versions = list(
        found.versions.annotate(was_run=was_run()).order_by("number").prefetch_related("specimens")
    )
    context = queries.evidence(request.user, round, found) | {
        "round": round,
        "entry": found,
        "versions": versions,
        "taking_part": next(
            (v for v in versions if v.named),
            next((v for v in reversed(versions) if v.was_run), None),
        ),
        "may_ask_next": may_ask(request.user, found),
        "may_name": len(versions) > 1 and may_name(request.user, found),
        "runs": (
            runs()
            .with_names()
            .filter(specimen__version__entry=found)
            .order_by("test__order", "started_at")[:60]
        ),
        "seen": observations_of(found),
        "before": names[at - 1] if at else None,
        "after": names[at + 1] if at + 1 < len(names) else None,
        "may_withdraw": (
            allowed(request.user, "entry.withdraw", round)
            or (found.designer_id == request.user.pk and allowed(request.user, "entry.add", round))
        ),
    }
    return render(request, "pages/entry.html", context)


def report(request: Request, slug: str, pk: int) -> HttpResponse:
    """All that the bench found of an entry, to be read or printed."""
    round = round_for(request.user, slug)
    found = entry_for(request.user, round, pk)
    known = queries.evidence(request.user, round, found)
    context = known | {
        "round": round,
        "entry": found,
        "sections": sections_of(request.user, round, found, known),
        "now": timezone.now(),
    }
    return render(request, "pages/report.html", context)
