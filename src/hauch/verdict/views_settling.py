"""What would settle the first place: asked for, worked out, put on the bench."""

from __future__ import annotations

from typing import Any

from django.contrib import messages
from django.core.exceptions import ValidationError
from django.http import Http404, HttpResponse
from django.shortcuts import redirect, render
from django.views.decorators.http import require_POST

from hauch.bench.models import AskedRepeats
from hauch.entries.models import Entry
from hauch.people.permissions import allowed
from hauch.people.requests import Request
from hauch.rounds.models import Round, Test
from hauch.rounds.queries import current_rules, round_for, round_tests
from hauch.ui.worker import worker_away
from hauch.verdict.models import Settling, Standing
from hauch.verdict.queries import standing_of
from hauch.verdict.settling import CHOICES, ask, is_on_bench, put_on_bench, take_off_bench


def _standing(request: Request, slug: str) -> tuple[Round, Standing | None, list[Test]]:
    round = round_for(request.user, slug)
    if not allowed(request.user, "verdict.view_early", round):
        raise Http404("The standing is not published yet.")
    rules = current_rules(round)
    if rules is None:
        raise Http404("The round has no rules yet.")
    rules.round = round
    standing = standing_of(rules)
    if standing is not None:
        standing.rules = rules
    return round, standing, round_tests(round, rules)


def settling(request: Request, slug: str) -> HttpResponse:
    """What would settle it, as far as it was asked for."""
    round, standing, tests = _standing(request, slug)
    row = getattr(standing, "settling", None) if standing is not None else None
    waits = row is not None and row.state == Settling.State.WAITING
    context: dict[str, Any] = {
        "round": round,
        "standing": standing,
        "settling": row,
        "waits": waits,
        "away": waits and worker_away(),
        "choices": CHOICES,
        "asked": row.asked if row else 0.95,
        "may_change": allowed(request.user, "rules.change", round),
        "on_bench": AskedRepeats.objects.filter(test__round=round)
        .open()
        .select_related("entry", "test")
        .order_by("test__order", "entry__name"),
    }
    if row is not None and row.state == Settling.State.DONE:
        context |= _found(row, tests)
    if request.htmx and not waits:
        return HttpResponse(headers={"HX-Refresh": "true"})
    template = "verdict/_settling.html" if request.htmx else "verdict/settling.html"
    return render(request, template, context)


def _found(row: Settling, tests: list[Test]) -> dict[str, Any]:
    result, by_key = row.result, {test.key: test for test in tests}
    keys = [step["entry"] for step in result.get("steps", [])]
    entries = Entry.objects.in_bulk([k for k in (*keys, result.get("leader")) if k is not None])
    steps = [
        {
            "entry": entries[step["entry"]],
            "test": by_key[step["test"]],
            "repeats": step["repeats"],
            "minutes": step["minutes"],
        }
        for step in result.get("steps", [])
        if step["entry"] in entries and step["test"] in by_key
    ]
    return {
        "result": result,
        "leader": entries.get(result.get("leader")),
        "steps": steps,
        "repeats": sum(step["repeats"] for step in steps),
        "hours": result.get("minutes", 0.0) / 60,
        "put": bool(steps) and row.current and is_on_bench(row),
    }


@require_POST
def ask_for(request: Request, slug: str) -> HttpResponse:
    """Have it worked out."""
    _, standing, _ = _standing(request, slug)
    if standing is None:
        raise Http404("There is no standing yet.")
    try:
        wanted = float(str(request.POST.get("asked", ""))[:10])
    except ValueError:
        wanted = 0.0
    try:
        ask(request.user, standing, wanted)
    except ValidationError as problem:
        messages.error(request, " ".join(problem.messages))
    return redirect("verdict:settling", slug)


@require_POST
def to_bench(request: Request, slug: str) -> HttpResponse:
    """Ask for the repeats at the bench, or for no more than the rules do."""
    round, standing, _ = _standing(request, slug)
    row = getattr(standing, "settling", None)
    try:
        if "off" in request.POST:
            take_off_bench(request.user, round)
            messages.success(request, "The bench asks for what the rules ask for, and no more.")
        elif row is not None:
            count = put_on_bench(request.user, row)
            messages.success(
                request, f"{count} repeat{'s are' if count > 1 else ' is'} due at the bench."
            )
    except ValidationError as problem:
        messages.error(request, " ".join(problem.messages))
    return redirect("verdict:settling", slug)
