"""Guesses: opened by the host, made by one link, told when all is run."""

from __future__ import annotations

from typing import Any

from django.contrib import messages
from django.contrib.auth.decorators import login_not_required
from django.core.exceptions import ValidationError
from django.http import Http404, HttpRequest, HttpResponse
from django.shortcuts import redirect, render
from django.urls import reverse
from django.views.decorators.cache import never_cache
from django.views.decorators.http import require_POST

from hauch.people.permissions import allowed
from hauch.people.requests import Request
from hauch.rounds.queries import round_for, round_tests
from hauch.verdict import guessing as actions
from hauch.verdict.models import Guess, Guessing


def guesses(request: Request, slug: str) -> HttpResponse:
    """The round's guesses: how many, the link, and what they were worth."""
    round = round_for(request.user, slug)
    found = Guessing.objects.filter(round=round).select_related("test").first()
    early = allowed(request.user, "verdict.view_early", round)
    context: dict[str, Any] = {
        "round": round,
        "guessing": found,
        "sealed": actions.sealed(round),
        "may_open": allowed(request.user, "people.invite", round),
        "tests": round_tests(round),
    }
    if found is not None:
        found.round = round
        context["count"] = found.guesses.count()
        context["link"] = request.build_absolute_uri(reverse("guess", args=[found.secret]))
        if early and context["sealed"]:
            outcome = actions.outcome(found)
            context["outcome"] = outcome
            context["chart"] = _chart(found, outcome) if outcome is not None else None
    return render(request, "verdict/guesses.html", context)


MOST_DRAWN = 40
"""So many entries are drawn, in the order of the result."""


def _chart(found: Guessing, outcome: actions.Outcome) -> dict[str, Any]:
    """What was measured, and what everybody, the designers and the Desk said, entry by entry."""
    rows = outcome.rows[:MOST_DRAWN]
    names = {row["entry"].pk: row["entry"].name for row in rows}
    points = [
        {"name": names[row["entry"].pk], "who": MEASURED, "value": row["truth"]} for row in rows
    ]
    for who, given in outcome.said.items():
        points += [
            {"name": names[entry], "who": who, "value": value}
            for entry, value in given.items()
            if entry in names
        ]
    return {
        "kind": found.test.how.kind if found.test is not None else "",
        "label": found.test.label if found.test is not None else "place",
        "entries": list(names.values()),
        "who": [MEASURED, *outcome.said],
        "points": points,
        "spread": [
            {"name": names[entry], "low": low, "high": high}
            for entry, (low, high) in outcome.middle.items()
            if entry in names
        ],
    }


MEASURED = "measured"


@require_POST
def open_guesses(request: Request, slug: str) -> HttpResponse:
    """Open them."""
    round = round_for(request.user, slug)
    key = str(request.POST.get("test", ""))
    test = next((t for t in round_tests(round) if t.key == key), None)
    try:
        actions.open_guessing(request.user, round, test)
    except ValidationError as problem:
        messages.error(request, " ".join(problem.messages))
    return redirect("verdict:guesses", slug)


@login_not_required
@never_cache
def take_guess(request: HttpRequest, secret: str) -> HttpResponse:
    """The page behind the link: a place or a value for each entry."""
    found = Guessing.objects.filter(secret=secret[:64]).select_related("round", "test__rig").first()
    if found is None:
        raise Http404("This link opens no guesses. Ask the host for a new one.")
    entries = list(actions.entries_of(found.round))
    mine = Guess.objects.filter(
        pk=request.session.get(f"guess-{found.pk}") or 0, guessing=found
    ).first()
    units = getattr(request.user, "units", None) or "workshop"
    problems: list[str] = []
    if request.method == "POST":
        try:
            given = actions.read_given(found, request.POST, entries, units)
            made = actions.guess(found, str(request.POST.get("name", "")), given, mine)
            request.session[f"guess-{found.pk}"] = made.pk
            return redirect("guess", secret)
        except ValidationError as problem:
            problems = problem.messages
    typed = request.POST if request.method == "POST" else {}
    return render(
        request,
        "verdict/guess.html",
        {
            "guessing": found,
            "round": found.round,
            "sealed": actions.sealed(found.round),
            "mine": mine,
            "name": typed.get("name", getattr(request.user, "first_name", "")),
            "problems": problems,
            "rows": [
                (entry, typed.get(f"g-{entry.pk}", ""), mine and mine.given.get(str(entry.pk)))
                for entry in entries
            ],
        },
        status=422 if problems else 200,
    )
