"""Pages that belong to no station: home and search."""

from __future__ import annotations

import math
from dataclasses import dataclass
from typing import Any

import numpy as np
from django.http import HttpResponse
from django.shortcuts import render
from django.utils import timezone

from hauch.bench.models import Live, Result, Run
from hauch.bench.plan import plan_of, why_nothing_due
from hauch.bench.queries import lives_of, runs
from hauch.bench.traces import trace_of
from hauch.core.geometry.kinds import PART_KINDS
from hauch.core.measure.channels import CHANNELS
from hauch.entries.models import Entry
from hauch.live.protocol import status_of
from hauch.live.readiness import main_channel
from hauch.pages.line import lines
from hauch.pages.reference_health import alarms, bench_rounds
from hauch.people.permissions import allowed, require
from hauch.people.requests import Request, whole
from hauch.plan.day import shown
from hauch.plan.queries import in_force
from hauch.rounds.models import Round
from hauch.rounds.queries import rounds_of
from hauch.stores.models import Instrument
from hauch.stores.queries import instruments_due
from hauch.ui.line import Station
from hauch.verdict.queries import leaders, opening, standing_now

FOUND = 20
BUSY = [Round.State.BENCH, Round.State.OPEN, Round.State.BRIEF, Round.State.PUBLISHED]
"""What is on the bench comes first, what is published last."""


def home(request: Request) -> HttpResponse:
    """The day: what each round asks for next, and what needs a decision."""
    rounds = _in_order(rounds_of(request.user))
    rows = [_day_of(request, round) for round in rounds[:1]]
    context: dict[str, Any] = {
        "rows": rows,
        "lives": lives_of(
            [round for round in rounds if allowed(request.user, "bench.view", round)]
        ),
        "more": len(rounds) > 1,
        "may_import": allowed(request.user, "round.import"),
        "may_begin": allowed(request.user, "round.create"),
        "may_plan": bool(rounds) and allowed(request.user, "plan.view"),
    }
    context["planned"] = context["may_plan"] and in_force() is not None
    if context["may_begin"]:
        context["kinds"] = () if rows else PART_KINDS.values()
    return render(request, "pages/home.html", context)


MOST_ROUNDS = 12
"""Other rounds of which Home says what is next."""


@dataclass(frozen=True)
class Other:
    """Another round, and the station of it where something is to be done."""

    round: Round
    station: Station


def _in_order(rounds: list[Round]) -> list[Round]:
    """Rounds as a day takes them: what is on the bench first, what is published last."""
    return sorted(
        (round for round in rounds if not round.archived),
        key=lambda round: (
            BUSY.index(Round.State(round.state)),
            round.number if round.state == Round.State.BENCH else -round.number,
        ),
    )


def next_station(found: list[Station], published: bool = False) -> Station:
    """Where a round waits: what is wrong before what is not done yet, of what the person may open; what
    is published waits nowhere and leads to its verdict.
    """
    reached = [station for station in found if station.open]
    if published:
        return reached[-1]
    wrong = (station for station in reached if station.wrong)
    behind = (station for station in reached if station.done < 1)
    return next(wrong, None) or next(behind, None) or reached[-1]


def _live_figure(live: Live) -> tuple[str, float] | None:
    """What the meter that decides shows now: kind and value [SI], no finer than it scatters; None while
    nothing is there.
    """
    channel, trace = main_channel(live), trace_of(live.recording)
    extent = trace.extent
    if extent is None:
        return None
    last = trace.window(extent[1] - LAST, extent[1], [channel]).channels.get(channel)
    good = last[np.isfinite(last)] if last is not None else np.empty(0)
    if not good.size:
        return None
    mean, spread = float(good.mean()), float(good.std())
    step = 10.0 ** math.floor(math.log10(spread)) if spread > 0 else 0.0
    return CHANNELS[channel].kind, round(mean / step) * step if step else mean


LAST = 2.0
"""Seconds over which a live figure is averaged."""


def on_now(request: Request) -> HttpResponse:
    """What is on the benches now, with what the meters show; Home asks again every few seconds."""
    lives = lives_of([r for r in rounds_of(request.user) if allowed(request.user, "bench.view", r)])
    rows = [(live, _live_figure(live), status_of(live)) for live in lives]
    return render(request, "pages/_on_now.html", {"rows": rows})


AHEAD = 3 * 24 * 60
"""Minutes ahead in which Home looks for what comes next."""


def plan_now(request: Request) -> HttpResponse:
    """What is on each bench and printer now and what comes next, by the plan in force; Home fetches it
    after itself.
    """
    require(request.user, "plan.view")
    known = in_force()
    if known is None:
        return HttpResponse("")
    now = max(known.minute(timezone.now()), 0)
    made = shown(request.user, known, (now, now + AHEAD))
    context = {
        "places": sorted(made.next().items()),
        "since": made.since(),
        "undone": made.left_out_told,
    }
    return render(request, "pages/_plan_now.html", context)


def attention(request: Request) -> HttpResponse:
    """What waits in the other rounds, references that drifted and meters whose calibration is due, in
    all rounds whose bench the person sees; Home fetches it after itself.
    """
    rounds = _in_order(rounds_of(request.user))[1:]
    shown = rounds[:MOST_ROUNDS]
    others = [
        Other(round, next_station(line, round.is_published))
        for round, line in zip(shown, lines(shown, request.user), strict=True)
    ]
    found = alarms([round for round in bench_rounds(request.user) if not round.is_published])
    meters = instruments_due() if allowed(request.user, "stores.change") else []
    begun = request.user.set_ups.filter(round=None) if allowed(request.user, "round.create") else []
    return render(
        request,
        "pages/_attention.html",
        {
            "alarms": found,
            "meters": meters,
            "begun": begun,
            "others": others,
            "rest": rounds[MOST_ROUNDS:],
        },
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
        number = whole(query.removeprefix("run").strip())
        found = runs().with_names().filter(pk=number) if number is not None else runs().none()
        context["runs"] = [run for run in found if any(r.pk == run.test.round_id for r in open_to)]
        context["meters"] = list(Instrument.objects.filter(name__icontains=query)[:FOUND])
    return render(request, "pages/search.html", context)
