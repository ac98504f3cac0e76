"""The Verdict station, and what was published."""

from __future__ import annotations

from typing import Any

from django.contrib import messages
from django.contrib.auth.decorators import login_not_required
from django.core.exceptions import ValidationError
from django.core.paginator import Paginator
from django.http import Http404, HttpRequest, HttpResponse
from django.shortcuts import get_object_or_404, redirect, render
from django.urls import reverse
from django.views.decorators.http import require_POST

from hauch.people.permissions import allowed
from hauch.people.requests import Request
from hauch.rounds.models import Round, RuleVersion
from hauch.rounds.queries import round_for, round_tests
from hauch.verdict import actions, queries
from hauch.verdict.models import Publication, Standing, StandingRow
from hauch.verdict.publishing import shown

PAGE = 30


def standing(request: Request, slug: str) -> HttpResponse:
    """The standing: question, answer in a sentence, table with the chart in its rows, working
    beside.
    """
    round = round_for(request.user, slug)
    if not allowed(request.user, "verdict.view_early", round):
        return render(request, "verdict/not_yet.html", {"round": round})
    versions = list(round.rules.order_by("-number"))
    wanted = request.GET.get("rules", "")
    rules = next(
        (v for v in versions if str(v.number) == wanted), versions[0] if versions else None
    )
    if rules is None:
        return render(request, "verdict/not_yet.html", {"round": round, "no_rules": True})
    rules.round = round
    terms = list(rules.terms.select_related("test"))
    limits = [term for term in terms if term.most_loss is not None]
    stored = queries.standing_of(rules)
    tests = round_tests(round, rules)
    context: dict[str, Any] = {
        "round": round,
        "rules": rules,
        "scored": terms,
        "limits": limits,
        "versions": versions,
        "tests": tests,
        "may_publish": allowed(request.user, "round.publish", round),
    }
    if stored is not None:
        context |= _table(request, round, rules, stored, tests)
    template = (
        "verdict/_standing.html"
        if request.htmx and not request.htmx.boosted
        else "verdict/standing.html"
    )
    return render(request, template, context)


def _table(
    request: Request, round: Round, rules: RuleVersion, stored: Standing, tests: list
) -> dict[str, Any]:
    page = Paginator(stored.rows.select_related("entry"), PAGE).get_page(request.GET.get("page"))
    rows = list(page.object_list)
    first = rows[:2] if page.number == 1 else queries.leaders(stored)[:2]
    first = [row for row in first if row.state == StandingRow.State.RANKED]
    band = stored.ground_expanded
    selected = rows[0] if rows and rows[0].state == StandingRow.State.RANKED else None
    cells_at = reverse("verdict:cell", args=[round.slug, rules.number, 0, "key"])
    cells_at = cells_at.removesuffix("0/key/")
    table = [
        {
            "row": row,
            "doubt": row.expanded or 0.0,
            "cells": [
                (
                    test,
                    row.tests.get(test.key),
                    f"{cells_at}{row.entry_id}/{test.key}/",
                    row is selected and test is tests[0],
                )
                for test in tests
            ],
            "shared": _shared(rows, row),
        }
        for row in rows
    ]
    ranked = [row for row in rows if row.probabilities]
    places = None
    if len(ranked) > 1 and page.number == 1:
        places = {
            "entries": [row.entry.name for row in ranked],
            "cells": [
                {"entry": row.entry.name, "place": i + 1, "p": p}
                for row in ranked
                for i, p in enumerate(row.probabilities)
            ],
        }
    headings = queries.headings(tests)
    at = queries.place_of_reference(rules, rows, stored.ground)
    return {
        "standing": stored,
        "page": page,
        "table": table,
        "columns": [(test, headings[test.key]) for test in tests],
        "many": len(tests) > queries.MOST_COLUMNS,
        "reference_name": queries.reference_name(tests),
        "reference_at": at,
        "scale": queries.scale_of(rows, stored.ground, band, len(tests)),
        "band": band,
        "places": places,
        "opening": queries.opening(rules, first),
        "reference": [(test, stored.reference.get(test.key)) for test in tests],
        "late": queries.runs_since_publication(round),
        "publication": round.publications.first() if round.is_published else None,
        "selected": selected,
    }


def _shared(rows: list[StandingRow], row: StandingRow) -> bool:
    return row.rank is not None and sum(other.rank == row.rank for other in rows) > 1


def cell(request: Request, slug: str, number: int, entry_pk: int, test_key: str) -> HttpResponse:
    """The working of one cell of the standing."""
    round = round_for(request.user, slug, "round.view")
    if not allowed(request.user, "verdict.view_early", round):
        raise Http404("The standing is not published yet.")
    row = get_object_or_404(
        StandingRow.objects.select_related("entry", "standing__rules"),
        standing__rules__round=round,
        standing__rules__number=number,
        entry=entry_pk,
    )
    test = get_object_or_404(round.tests.select_related("rig"), key=test_key)
    found, ground = row.tests.get(test_key), row.standing.reference.get(test_key)
    if found is None or ground is None:
        raise Http404("There is no figure for this entry in this test.")
    context = {
        "round": round,
        "row": row,
        "test": test,
        "cell": found,
        "ground": ground,
        "steps": queries.cell_working(test, found, ground),
        "doubt": queries.cell_doubt(found),
        "unit_of_change": test.how.change_unit,
    }
    template = "verdict/_cell.html" if request.htmx else "verdict/cell.html"
    return render(request, template, context)


@require_POST
def publish(request: Request, slug: str) -> HttpResponse:
    """Publish the standing."""
    round = round_for(request.user, slug, "round.publish")
    try:
        actions.publish(request.user, round)
    except ValidationError as problem:
        messages.error(request, " ".join(problem.messages))
    return redirect("verdict:standing", slug)


@login_not_required
def published(request: HttpRequest, slug: str) -> HttpResponse:
    """The standing as it was published, for anybody."""
    found = (
        Publication.objects.filter(round__slug=slug, round__state=Round.State.PUBLISHED)
        .select_related("round")
        .first()
    )
    if found is None:
        raise Http404("No standing is published at this address.")
    return render(
        request,
        "verdict/published.html",
        {"publication": found, "at": found.at, "shown": shown(found)},
    )
