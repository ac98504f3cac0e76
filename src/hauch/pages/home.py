"""Pages that belong to no station: home and search."""

from __future__ import annotations

from typing import Any

from django.http import HttpResponse
from django.shortcuts import render

from hauch.bench.models import Result, Run
from hauch.bench.queries import lives_of, plan_of, runs, why_nothing_due
from hauch.core.geometry.kinds import PART_KINDS
from hauch.entries.models import Entry
from hauch.pages.reference_health import alarms, bench_rounds
from hauch.people.permissions import allowed
from hauch.people.requests import Request
from hauch.rounds.models import Round
from hauch.rounds.queries import rounds_of
from hauch.stores.models import Instrument
from hauch.stores.queries import instruments_due
from hauch.verdict.queries import leaders, opening, standing_now

FOUND = 20
BUSY = [Round.State.BENCH, Round.State.OPEN, Round.State.BRIEF, Round.State.PUBLISHED]
"""What is on the bench comes first, what is published last."""


def home(request: Request) -> HttpResponse:
    """The day: what each round asks for next, and what needs a decision."""
    rounds = [round for round in rounds_of(request.user) if not round.archived]
    rounds.sort(
        key=lambda round: (
            BUSY.index(Round.State(round.state)),
            round.number if round.state == Round.State.BENCH else -round.number,
        )
    )
    rows = [_day_of(request, round) for round in rounds[:1]]
    context: dict[str, Any] = {
        "rows": rows,
        "lives": lives_of(
            [round for round in rounds if allowed(request.user, "bench.view", round)]
        ),
        "more": rounds[1:],
        "may_import": allowed(request.user, "round.import"),
        "may_begin": allowed(request.user, "round.create"),
    }
    if context["may_begin"]:
        context["kinds"] = () if rows else PART_KINDS.values()
    return render(request, "pages/home.html", context)


def attention(request: Request) -> HttpResponse:
    """References that drifted and meters whose calibration is due, in all rounds whose bench the
    person sees; Home fetches it after itself.
    """
    found = alarms([round for round in bench_rounds(request.user) if not round.is_published])
    meters = instruments_due() if allowed(request.user, "stores.change") else []
    begun = request.user.set_ups.filter(round=None) if allowed(request.user, "round.create") else []
    return render(
        request, "pages/_attention.html", {"alarms": found, "meters": meters, "begun": begun}
    )


def _day_of(request: Request, round: Round) -> dict[str, object]:
    row: dict[str, object] = {"round": round}
    rules, stored = (
        standing_now(round) if allowed(request.user, "verdict.view_early", round) else (None, None)
    )
    if rules is not None:
        first = leaders(stored) if stored else []
        row |= {"opening": opening(rules, first[:2]), "standing": stored}
    if allowed(request.user, "bench.view", round):
        plan = plan_of(round, 4)
        row |= {"due": plan.due, "total": plan.total, "without": []}
        row["nothing"] = None if plan.due else why_nothing_due(round, plan)
        if plan.without_result:
            missing = Result.objects.filter(
                value__isnull=True, run__state=Run.State.VALID, run__test__in=plan.tests
            )
            first = runs().with_names().filter(pk__in=missing.values("run_id")[:5])
            row["without"] = list(first)
    return row


def search(request: Request) -> HttpResponse:
    """Find an entry, a run by its number, a meter."""
    query = request.GET.get("q", "").strip()
    context: dict[str, object] = {"query": query}
    if query:
        mine = rounds_of(request.user)
        open_to = [r for r in mine if allowed(request.user, "entry.view_all", r)]
        entries = Entry.objects.filter(name__icontains=query).select_related("round")
        context["entries"] = list(
            (
                entries.filter(round__in=open_to)
                | entries.filter(round__in=mine, designer=request.user)
            ).distinct()[:FOUND]
        )
        number = query.removeprefix("run").strip()
        found = (
            runs().with_names().filter(pk=int(number))
            if number.isdigit() and len(number) < 10
            else runs().none()
        )
        context["runs"] = [run for run in found if any(r.pk == run.test.round_id for r in open_to)]
        context["meters"] = list(Instrument.objects.filter(name__icontains=query)[:FOUND])
    return render(request, "pages/search.html", context)
