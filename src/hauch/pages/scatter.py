"""What the figures of a rig scatter by, from its own record."""

from __future__ import annotations

import math
from typing import Any

from django.http import Http404, HttpResponse
from django.shortcuts import get_object_or_404, render

from hauch.bench.models import Run
from hauch.bench.scatter import components_of
from hauch.core.judge.components import DAY, PART_DAY, PRINT, RUN, Component
from hauch.core.measure.procedures import PROCEDURES, Procedure
from hauch.people.permissions import allowed
from hauch.people.requests import Request
from hauch.rounds.queries import round_for, round_tests
from hauch.stores.models import Rig

WORDS = {
    RUN: "from run to run, each mounted anew",
    PART_DAY: "of one part from day to day",
    DAY: "of the rig from day to day, alike for all parts: cancels against the reference",
    PRINT: "from print to print of one version",
}


def rig_scatter(request: Request, pk: int) -> HttpResponse:
    """Parts of the scatter, procedure by procedure; a fragment of the rig's page."""
    rig = get_object_or_404(Rig, pk=pk)
    keys = (
        Run.objects.filter(rig__name=rig.name, state=Run.State.VALID)
        .order_by()
        .values_list("test__procedure", flat=True)
        .distinct()
    )
    rows = []
    for key in sorted(keys):
        how = PROCEDURES.get(key)
        if how is not None and (found := components_of(rig, how)):
            rows.append((how, [_told(one, how) for one in found]))
    return render(request, "pages/_scatter.html", {"rows": rows})


def round_scatter(request: Request, slug: str) -> HttpResponse:
    """The same for the tests of a round, each on its rig; a fragment of its verdict."""
    round = round_for(request.user, slug)
    if not allowed(request.user, "verdict.view_early", round):
        raise Http404("The standing is not published yet.")
    rows = [
        (test, [_told(one, test.how) for one in found])
        for test in round_tests(round)
        if (found := components_of(test.rig, test.how))
    ]
    return render(request, "pages/_scatter.html", {"rows": rows, "of_round": True})


def _told(one: Component, how: Procedure) -> dict[str, Any]:
    """A component in the unit of a change."""

    def unit(sd: float) -> float:
        return 100 * math.expm1(sd) if how.log else sd

    return {
        "what": WORDS[one.name],
        "found": one.sd > 0,
        "sd": unit(one.sd),
        "low": unit(one.low),
        "high": unit(one.high),
        "dof": one.dof,
        "levels": one.levels,
        "unit": how.change_unit,
    }
