"""With and without: the page of what another setting costs."""

from __future__ import annotations

from typing import Any

from django.http import Http404, HttpResponse
from django.shortcuts import render

from hauch.core.quantity.show import show_plain
from hauch.people.permissions import allowed
from hauch.people.requests import Request
from hauch.rounds.queries import round_for, round_tests
from hauch.verdict.with_without import Held, costs_of, sentence, subjects_of


def with_without(request: Request, slug: str) -> HttpResponse:
    """What each other setting of a print, or of the reference, costs by test."""
    round = round_for(request.user, slug)
    if not allowed(request.user, "verdict.view_early", round):
        raise Http404("The standing is not published yet.")
    tests = round_tests(round)
    offered = subjects_of(round, tests)
    chosen = request.GET.get("of", "")
    chosen = chosen if chosen in offered else next(iter(offered), "")
    context: dict[str, Any] = {
        "round": round,
        "offered": [(key, label) for key, (label, _) in offered.items()],
        "chosen": chosen,
        "tests": tests,
    }
    if chosen:
        label, subject = offered[chosen]
        context |= {
            "label": label,
            "held": [(one, _said(one)) for one in costs_of(subject, tests)],
            "mark": subject.specimen.version.entry if subject.specimen else None,
        }
    return render(request, "verdict/with_without.html", context)


def _said(one: Held) -> str:
    return sentence(
        one,
        [
            str(show_plain(line.change, line.test.how.change_unit, line.half, sign=True))
            for line in one.lines
        ],
    )
