"""The Brief station."""

from __future__ import annotations

from django.http import HttpRequest, HttpResponse
from django.shortcuts import render

from hauch.rounds.models import TestReference
from hauch.rounds.queries import round_for, rules_of


def brief(request: HttpRequest, slug: str) -> HttpResponse:
    """The question, the tests and the rules of a round."""
    round = round_for(request.user, slug)
    tests = list(round.tests.select_related("rig", "setting"))
    rows = TestReference.objects.filter(test__in=tests).select_related("specimen__type").order_by("since")
    specimens = {row.specimen_id: {"specimen": row.specimen, "since": row.since, "until": row.until} for row in rows}
    return render(request, "rounds/brief.html", {"round": round, "tests": tests, "rules": rules_of(round), "references": list(specimens.values())})
