"""Pages of seasons: all that a person may see, and one of them."""

from __future__ import annotations

from typing import Any

from django.contrib import messages
from django.core.exceptions import ValidationError
from django.http import Http404, HttpResponse
from django.shortcuts import get_object_or_404, redirect, render
from django.views.decorators.http import require_POST

from hauch.people.permissions import allowed
from hauch.people.requests import Request, whole
from hauch.rounds.models import Round
from hauch.rounds.queries import rounds_of
from hauch.season import actions, queries
from hauch.season.models import Season
from hauch.workshop.models import Specimen

MOST_BEST = 60


def seasons(request: Request) -> HttpResponse:
    """Seasons that the person may see; a host begins one here."""
    context: dict[str, Any] = {
        "seasons": queries.visible_to(request.user).prefetch_related("places__round"),
        "may_begin": allowed(request.user, "season.change"),
        "title": request.POST.get("title", ""),
        "best": request.POST.get("best", ""),
    }
    if request.method == "POST":
        try:
            made = actions.begin(request.user, context["title"][:200], _best(context["best"]))
        except ValidationError as problem:
            context["problems"] = problem.messages
        else:
            return redirect(made)
    status = 422 if context.get("problems") else 200
    return render(request, "season/seasons.html", context, status=status)


def _best(text: str) -> int | None:
    """How many rounds of each count; None for all."""
    if not text.strip():
        return None
    number = whole(text)
    if number is None or not 1 <= number <= MOST_BEST:
        raise ValidationError(
            f"“{text.strip()[:20]}” rounds cannot count: a whole number from 1 to {MOST_BEST}, or"
            " nothing for all."
        )
    return number


def _season(request: Request, slug: str) -> Season:
    found = queries.visible_to(request.user).filter(slug=slug).first()
    if found is None:
        raise Http404("There is no such season, or you are in none of its rounds.")
    return found


def season(request: Request, slug: str) -> HttpResponse:
    """The overall table, the records with what they rest on, the rounds; POST changes title or rule."""
    found = _season(request, slug)
    if request.method == "POST":
        best = request.POST.get("best", "")
        try:
            actions.change(request.user, found, request.POST.get("title", "")[:200], _best(best))
        except ValidationError as problem:
            found.refresh_from_db()
            return _page(request, found, problem.messages)
        return redirect(found)
    return _page(request, found)


def _page(request: Request, found: Season, problems: list[str] | None = None) -> HttpResponse:
    rounds = queries.rounds_in(request.user, found)
    may_change = queries.may_change(request.user, found)
    context: dict[str, Any] = {
        "season": found,
        "rounds": rounds,
        "lines": queries.table_of(rounds.shown, found.best),
        "records": queries.records_of(found, rounds.shown),
        "champions": queries.champions_of(found, rounds),
        "may_change": may_change,
        "problems": problems or [],
        "typed": request.POST,
    }
    if may_change:
        inside = set(found.places.values_list("round", flat=True))
        context |= {
            "offered": [
                round
                for round in rounds_of(request.user)
                if round.pk not in inside and allowed(request.user, "round.change", round)
            ],
            **_to_carry(request, found, rounds),
        }
    return render(request, "season/season.html", context, status=422 if problems else 200)


def _to_carry(request: Request, found: Season, rounds: queries.Rounds) -> dict[str, Any]:
    """Prints of winners, and the rounds after theirs that they can be run in."""
    prints = [one for place in rounds.shown for one in actions.prints_to_carry(place.round)]
    orders = dict(found.places.values_list("round", "order"))
    first = min((orders[one.version.entry.round_id] for one in prints), default=0)
    later = [
        round
        for round in [*(place.round for place in rounds.shown), *rounds.waiting]
        if not round.is_published
        and orders[round.pk] > first
        and allowed(request.user, "reference.change", round)
    ]
    return {"prints": prints, "later": later}


def _posted_round(request: Request, name: str) -> Round:
    wanted = whole(request.POST.get(name)) or 0
    found = next((round for round in rounds_of(request.user) if round.pk == wanted), None)
    if found is None:
        raise ValidationError("Choose a round.")
    return found


@require_POST
def put_in(request: Request, slug: str) -> HttpResponse:
    """Put a round behind the last one."""
    found = _season(request, slug)
    try:
        actions.put_in(request.user, found, _posted_round(request, "round"))
    except ValidationError as problem:
        return _page(request, found, problem.messages)
    return redirect(found)


@require_POST
def take_out(request: Request, slug: str, pk: int) -> HttpResponse:
    """Take a round out."""
    found = _season(request, slug)
    place = get_object_or_404(found.places.select_related("round"), round=pk)
    actions.take_out(request.user, found, place.round)
    return redirect(found)


@require_POST
def carry_on(request: Request, slug: str) -> HttpResponse:
    """Run a winner's print in a later round as a second reference."""
    found = _season(request, slug)
    wanted = whole(request.POST.get("print")) or 0
    specimen = (
        Specimen.objects.select_related("version__entry__round")
        .filter(pk=wanted, version__entry__round__seasons__season=found)
        .first()
    )
    try:
        if specimen is None:
            raise ValidationError("Choose a print of a winner.")
        into = _posted_round(request, "into")
        made = actions.carry_on(
            request.user, found, specimen, into, bool(request.POST.get("confirmed"))
        )
    except ValidationError as problem:
        return _page(request, found, problem.messages)
    messages.success(
        request,
        f"{made.entry} is a second reference of {into}. Run it in turn with the round's own, both in"
        " one bracket.",
    )
    return redirect(found)
