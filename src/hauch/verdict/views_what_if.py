"""What if: other weights, schemes and limits on the same figures."""

from __future__ import annotations

from typing import Any
from urllib.parse import urlencode

from django.contrib import messages
from django.core.exceptions import ValidationError
from django.http import Http404, HttpResponse
from django.shortcuts import get_object_or_404, redirect, render
from django.urls import reverse
from django.views.decorators.http import require_POST

from hauch.people.permissions import allowed
from hauch.people.requests import Request
from hauch.rounds.models import Round, RuleVersion, Test
from hauch.rounds.queries import current_rules, round_for, round_tests
from hauch.verdict.queries import standing_of
from hauch.verdict.what_if import Figures, Wondered, drop, keep, kept_as, told


def _round(request: Request, slug: str) -> tuple[Round, RuleVersion, list[Test]]:
    round = round_for(request.user, slug)
    if not allowed(request.user, "verdict.view_early", round):
        raise Http404("The standing is not published yet.")
    rules = current_rules(round)
    if rules is None:
        raise Http404("The round has no rules yet.")
    rules.round = round
    return round, rules, round_tests(round, rules)


def what_if(request: Request, slug: str) -> HttpResponse:
    """Sliders for the weights, and what they would do to the order."""
    round, rules, tests = _round(request, slug)
    now, standing = Wondered.of(rules), standing_of(rules)
    problems: list[str] = []
    then = now
    try:
        then = now.changed(request.GET, tests)
    except ValidationError as problem:
        problems = problem.messages
    asked = then.asked(tests)
    context: dict[str, Any] = {
        "round": round,
        "rules": rules,
        "then": then,
        "same": then == now,
        "problems": problems,
        "schemes": RuleVersion.Scheme.choices,
        "noises": RuleVersion.LevelAs.choices,
        "asked": asked,
        "address": urlencode(asked),
        "may_change": allowed(request.user, "rules.change", round),
        "scenarios": [(one, urlencode(kept_as(one).asked(tests))) for one in round.scenarios.all()],
        "none": standing is None or standing.computed_at is None,
        "stale": standing is not None and standing.stale,
    }
    if standing is not None and standing.computed_at is not None:
        standing.rules = rules
        figures = Figures.of(standing, tests)
        context["lacking"] = figures.missing(then, tests)
        if not problems:
            try:
                context |= told(
                    figures,
                    now,
                    then,
                    round.entries.only("round", "name", "mark").in_bulk(figures.entries),
                )
            except ValueError as problem:
                context["problems"] = [str(problem)]
        context["weights"] = _sliders(figures.tests, then, now, context.get("reaches", {}))
    template = "verdict/_what_if.html" if request.htmx else "verdict/what_if.html"
    return render(request, template, context)


def _sliders(
    tests: list[Test], then: Wondered, now: Wondered, reach: dict[str, Any]
) -> list[dict[str, Any]]:
    """A slider for each test, with the stretch on which the first place stays."""
    whole = sum(then.weights.get(test.key, 0.0) for test in tests)
    largest = max([*now.weights.values(), *then.weights.values(), 1.0])
    most = 5 * largest if largest <= 1 else 2 * largest
    found = []
    for test in tests:
        weight = then.weights.get(test.key, 0.0)
        one = reach.get(test.key)
        high = most if one is None or one["high"] is None else min(one["high"], most)
        found.append(
            {
                "test": test,
                "weight": f"{weight:.12g}",
                "was": now.weights.get(test.key),
                "limit": "" if test.key not in then.limits else f"{then.limits[test.key]:.12g}",
                "share": weight / whole if whole else 0.0,
                "most": f"{most:g}",
                "step": f"{most / 100:g}",
                "reach": one,
                "from": 0 if one is None else 100 * min(one["low"], most) / most,
                "wide": 0 if one is None else max(100 * (high - min(one["low"], most)) / most, 0.5),
                "at": 100 * min(weight, most) / most,
            }
        )
    return found


@require_POST
def keep_scenario(request: Request, slug: str) -> HttpResponse:
    """Keep what is wondered about under a name."""
    round, rules, tests = _round(request, slug)
    address = reverse("verdict:what_if", args=[slug])
    try:
        then = Wondered.of(rules).changed(request.POST, tests)
        made = keep(request.user, round, str(request.POST.get("name", "")), then)
    except ValidationError as problem:
        messages.error(request, " ".join(problem.messages))
        names = {"scheme", "noise", *(f"{p}{t.key}" for t in tests for p in ("w_", "l_"))}
        asked = {name: request.POST[name] for name in names if name in request.POST}
        return redirect(f"{address}?{urlencode(asked)}")
    messages.success(request, f"Kept as “{made}”.")
    return redirect(f"{address}?{urlencode(then.asked(tests))}")


@require_POST
def drop_scenario(request: Request, slug: str, pk: int) -> HttpResponse:
    """Drop a kept scenario."""
    round, _, _ = _round(request, slug)
    scenario = get_object_or_404(round.scenarios, pk=pk)
    drop(request.user, scenario)
    messages.success(request, f"“{scenario}” was dropped.")
    return redirect("verdict:what_if", slug)
