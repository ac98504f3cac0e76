"""The Bench station: what is due, capture by hand, a run's result. Files are in `views_import`."""

from __future__ import annotations

import math
from datetime import timedelta
from typing import Any

import numpy as np
from django.contrib import messages
from django.core.exceptions import ValidationError
from django.core.paginator import Paginator
from django.db.models import Q
from django.http import Http404, HttpRequest, HttpResponse
from django.shortcuts import get_object_or_404, redirect, render
from django.urls import reverse
from django.utils import timezone
from django.views.decorators.http import require_POST

from hauch.bench import actions
from hauch.bench.actions import NewRun, Room, Subject
from hauch.bench.forms import RoomForm, room_initial, subject_choices, subject_of, typed_readings
from hauch.bench.models import Run
from hauch.bench.queries import Plan, plan_of, runs
from hauch.core.measure.channels import CHANNELS
from hauch.core.measure.procedures import channels_of
from hauch.core.quantity import coverage_factor
from hauch.core.quantity.show import show
from hauch.core.quantity.units import KINDS
from hauch.core.trace.thin import thinned
from hauch.people.permissions import allowed
from hauch.rounds.models import Round, Test
from hauch.rounds.queries import round_for

PAGE = 25
ROOM_HOLDS = timedelta(hours=2)
"""Room readings of the last run are offered again for this long."""


def overview(request: HttpRequest, slug: str) -> HttpResponse:
    """What is due next, and what was run last."""
    round = round_for(request.user, slug, "bench.view")
    plan = plan_of(round)
    recent = runs().with_names().filter(test__in=plan.tests).order_by("-started_at", "-pk")
    page = Paginator(recent, PAGE).get_page(request.GET.get("page"))
    context = {
        "round": round,
        "due": plan.due,
        "total": plan.total,
        "page": page,
        "choices": subject_choices(plan),
        "many": plan.many,
        "tests": plan.tests,
    }
    return render(request, "bench/overview.html", context)


def pick(request: HttpRequest, slug: str) -> HttpResponse:
    """Go to the capture of what was chosen by hand."""
    round = round_for(request.user, slug, "run.record")
    if not request.GET.get("subject") or not request.GET.get("test", "").isdigit():
        messages.error(request, "Choose a test and what is run.")
        return redirect("bench:overview", slug)
    try:
        subject = subject_of(round, request.GET["subject"])
    except ValidationError as problem:
        messages.error(request, " ".join(problem.messages))
        return redirect("bench:overview", slug)
    return redirect(capture_url(round, get_object_or_404(Test, pk=request.GET["test"], round=round), subject))


def last_room(round: Round) -> Room | None:
    """Room readings of the last run, if they are fresh."""
    run = (
        Run.objects.filter(test__round=round, temperature__isnull=False, created_at__gte=timezone.now() - ROOM_HOLDS).order_by("-created_at").first()
    )
    if run is None or timezone.now() - run.started_at > ROOM_HOLDS:
        return None
    return Room(run.temperature, run.pressure, run.humidity)


SHOWN_REPEATS = 12
BAND_OF = 8
"""How many of the last reference runs make the band."""


def band_of(values: list[float]) -> tuple[float, float] | None:
    """Mean of reference figures and the 95 % half-width from their scatter, without the rig's own doubt."""
    if not values:
        return None
    mean = sum(values) / len(values)
    if len(values) == 1:
        return mean, 0.0
    spread = math.sqrt(sum((v - mean) ** 2 for v in values) / (len(values) - 1))
    return mean, coverage_factor(len(values) - 1) * spread / math.sqrt(len(values))


def repeats_chart(test: Test, subject: Subject, this: int | None = None) -> dict[str, Any] | None:
    """Data of the repeats chart: runs of the subject over the last runs of the reference."""
    rows = runs().filter(test=test, setting=test.setting_id, state=Run.State.VALID, result__value__isnull=False)
    mine = Q(specimen__version__entry=subject.specimen.version.entry_id) if subject.specimen else Q(reference=subject.reference)
    found = list(rows.filter(mine | Q(reference__isnull=False)).select_related("result").order_by("-started_at")[: 5 * SHOWN_REPEATS])
    band = band_of([run.result.value for run in found if run.reference_id is not None][:BAND_OF])
    own = [run for run in found if (subject.specimen is None and run.reference_id == subject.reference.pk) or (subject.specimen and run.specimen_id)]
    points = [
        {"label": f"run {run.pk}", "value": run.result.value, "expanded": 2 * own_u(run.result.parts), "this": run.pk == this}
        for run in reversed(own[:SHOWN_REPEATS])
    ]
    if not points and band is None:
        return None
    return {"kind": test.how.kind, "points": points, "reference": band}


def own_u(parts: list[list[Any]]) -> float:
    """Standard uncertainty from the causes that are a run's own."""
    return math.sqrt(sum(part[5] ** 2 for part in parts if part[2] == "own"))


def _repeat(plan: Plan, test: Test, subject: Subject) -> int | None:
    """Which repeat of an entry comes now; the reference is run as often as it is due."""
    if subject.specimen is None:
        return None
    return plan.counts.get((test.pk, subject.specimen.version.entry_id), 0) + 1


def _channel_rows(test: Test, units: str, data: Any = None) -> list[dict[str, Any]]:
    """Channels of the test that its rig has a meter for."""
    rows = []
    metered = set(test.rig.meters.values_list("channel", flat=True))
    for key in channels_of(test.how):
        if key not in metered:
            continue
        channel = CHANNELS[key]
        needed = any(key in group for group in test.how.needs)
        rows.append(
            {
                "key": key,
                "label": channel.label,
                "unit": KINDS[channel.kind].shown[units],
                "needed": needed,
                "values": data.getlist(f"r-{key}") if data else [],
            }
        )
    return rows


def capture(request: HttpRequest, slug: str, test_pk: int) -> HttpResponse:
    """Take a run by hand: readings on the left, what came before on the right."""
    round = round_for(request.user, slug, "run.record")
    choice = request.GET.get("subject", "")
    plan = plan_of(round, 5, int(choice[1:]) if choice[:1] == "s" and choice[1:].isdigit() else None)
    test = plan.test(test_pk)
    if test is None:
        return _no_longer_measured(request, round, test_pk, choice)
    try:
        subject = subject_of(round, choice, plan)
    except ValidationError as problem:
        messages.error(request, " ".join(problem.messages))
        return redirect("bench:overview", slug)
    units = request.user.units
    problems: list[str] = []
    if request.method == "POST":
        form = RoomForm(request.POST, units=units)
        readings, problems = typed_readings(request.POST, channels_of(test.how), units, places_of(test))
        if form.is_valid():
            room = form.room()
            if not problems and form.is_valid():
                try:
                    run = actions.record_run(
                        request.user,
                        NewRun(test, subject, room, form.moment(), readings, note=form.cleaned_data["note"], form_key=form.cleaned_data["form_key"]),
                    )
                except ValidationError as problem:
                    problems += spread_errors(problem, form)
                else:
                    return _accepted(request, round, run)
        problems += (
            []
            if form.is_valid()
            else [f"{form.fields[name].label}: {' '.join(errors)}" for name, errors in form.errors.items() if name not in form.fields]
        )
    else:
        form = RoomForm(units=units, initial=room_initial(last_room(round), units))
    context = {
        "round": round, "test": test, "subject": subject, "form": form, "problems": problems, "repeat": _repeat(plan, test, subject),
        "channels": _channel_rows(test, units, request.POST if request.method == "POST" else None), "chart": repeats_chart(test, subject),
        "reference": plan.references.get(test.pk), "choice": choice, "due": plan.due, "kind": test.how.kind, "places": places_of(test),
    }  # fmt: skip
    template = "bench/_capture.html" if request.htmx else "bench/capture.html"
    return render(request, template, context, status=422 if request.method == "POST" else 200)


def _no_longer_measured(request: HttpRequest, round: Round, test_pk: int, choice: str) -> HttpResponse:
    """The rules changed while somebody measured: say so and lead on; nothing is recorded, and what was typed stays in the browser."""
    old = round.tests.filter(pk=test_pk).first()
    if old is None:
        raise Http404("There is no such test in this round.")
    now = old
    while hasattr(now, "successor"):
        now = now.successor
    where = "is no longer measured" if now.dropped else f"is measured in another way now, as “{now.label}”"
    messages.warning(request, f"The rules have changed: “{old.label}” {where}. Nothing was recorded. Look at the Brief before you go on.")
    target = (
        reverse("bench:overview", args=[round.slug]) if now.dropped else f"{reverse('bench:capture', args=[round.slug, now.pk])}?subject={choice}"
    )
    if request.htmx:
        answer = HttpResponse(status=409)
        answer["HX-Redirect"] = target
        return answer
    return redirect(target)


def spread_errors(problem: ValidationError, form: RoomForm) -> list[str]:
    """Field errors onto the room form, all others as sentences."""
    if not hasattr(problem, "message_dict"):
        return list(problem.messages)
    rest = []
    for name, sentences in problem.message_dict.items():
        if name in form.fields:
            form.add_error(name, sentences)
        else:
            rest += sentences
    return rest


def _accepted(request: HttpRequest, round: Round, run: Run) -> HttpResponse:
    """Say what the run came to, and go on to the next one or to its result."""
    result = run.result
    if result.value is None:
        messages.warning(request, f"Run {run.pk} is recorded, but has no result. {result.missing}")
        target = run.get_absolute_url()
    else:
        shown = show(result.value, run.test.how.kind, request.user.units, result.expanded)
        messages.success(request, f"Run {run.pk}, {run}: {shown}.", extra_tags=run.get_absolute_url())
        due = plan_of(round, 1).due
        target = run.get_absolute_url()
        if "next" in request.POST and due:
            target = capture_url(round, due[0].test, Subject(due[0].specimen, due[0].reference))
    if request.htmx:
        answer = HttpResponse(status=204)
        answer["HX-Redirect"] = target
        return answer
    return redirect(target)


def places_of(test: Test) -> int:
    """How many places a run of a test reads in turn; 0 where it reads one."""
    return int(test.rig.pairs.get("places", (0, 0))[0]) if test.how.places else 0


def capture_url(round: Round, test: Test, subject: Subject) -> str:
    """Address of the capture of a subject in a test."""
    choice = f"s{subject.specimen.pk}" if subject.specimen else f"r{subject.reference.pk}"
    return f"{reverse('bench:capture', args=[round.slug, test.pk])}?subject={choice}"


@require_POST
def dnf(request: HttpRequest, slug: str, test_pk: int) -> HttpResponse:
    """Record that the subject did not finish."""
    round = round_for(request.user, slug, "run.record")
    test = get_object_or_404(Test.objects.select_related("round", "setting"), pk=test_pk, round=round)
    choice = request.POST.get("subject", "")
    try:
        run = actions.record_dnf(request.user, test, subject_of(round, choice), request.POST.get("reason", ""), timezone.now())
    except ValidationError as problem:
        messages.error(request, " ".join(problem.messages))
        return redirect(f"{reverse('bench:capture', args=[slug, test_pk])}?subject={choice}")
    messages.success(request, f"{run.subject} did not finish: {run.reason} It keeps its row, last.")
    return redirect("bench:overview", slug)


def run_for(request: HttpRequest, round: Round, pk: int) -> Run:
    """One run that the person may see."""
    run = runs().visible_to(request.user, round).with_names().select_related("recording__source").filter(pk=pk).first()
    if run is None:
        raise Http404("There is no such run in this round.")
    return run


def run_page(request: HttpRequest, slug: str, pk: int) -> HttpResponse:
    """What a run came to: figure, evidence, working, raw readings."""
    round = round_for(request.user, slug)
    run = run_for(request, round, pk)
    run.test.round = round
    result = getattr(run, "result", None)
    subject = Subject(run.specimen, run.reference)
    around = (
        runs()
        .visible_to(request.user, round)
        .filter(test=run.test_id, specimen=run.specimen_id, reference=run.reference_id)
        .order_by("started_at", "pk")
    )
    chart = repeats_chart(run.test, subject, run.pk)
    order = list(around.values_list("pk", flat=True))
    index = order.index(run.pk)
    context = {
        "round": round, "run": run, "result": result, "kind": run.test.how.kind, "readings": _reading_rows(run),
        "doubt": doubt_split(result.parts) if result else [], "chart": chart,
        "traces": _traces(run, result.marks if result else [], chart["reference"] if chart else None), "may_void": allowed(request.user, "run.void", round),
        "may_record": allowed(request.user, "run.record", round), "choice": f"s{run.specimen_id}" if run.specimen_id else f"r{run.reference_id}",
        "before": order[index - 1] if index else None, "after": order[index + 1] if index + 1 < len(order) else None,
    }  # fmt: skip
    return render(request, "bench/run.html", context)


def doubt_split(parts: list[list[Any]]) -> list[dict[str, Any]]:
    """Share of each cause in the doubt, largest first; small ones together."""
    total = sum(part[5] ** 2 for part in parts)
    if not total:
        return []
    rows = sorted(({"name": p[1], "scope": p[2], "kind": p[3], "share": p[5] ** 2 / total} for p in parts), key=lambda row: -row["share"])
    large = [row for row in rows if row["share"] >= 0.01]
    rest = sum(row["share"] for row in rows if row["share"] < 0.01)
    return large + ([{"name": "all others", "scope": "", "kind": "", "share": rest}] if rest else [])


def _reading_rows(run: Run) -> list[dict[str, Any]]:
    rows: dict[tuple[str, int], dict[str, Any]] = {}
    for reading in (run.carried_from or run).readings.all():
        place = f", place {reading.position}" if reading.position else ""
        label = CHANNELS[reading.channel].label + place
        row = rows.setdefault((reading.channel, reading.position), {"label": label, "unit": reading.unit, "values": []})
        row["values"].append(reading.typed)
    return list(rows.values())


def _traces(run: Run, marks: list[list[Any]], band: tuple[float, float] | None) -> list[dict[str, Any]]:
    if run.recording is None:
        return []
    times, channels = run.recording.arrays()
    if not times.size:
        return []
    used = [key for key in channels_of(run.test.how) if key in channels]
    charts = []
    for key in used:
        channel = CHANNELS[key]
        thin_times, values = thinned(times.tolist(), channels[key].tolist())
        charts.append(
            {
                "label": channel.label, "kind": channel.kind, "times": thin_times, "values": values,
                "window": (times[-1] - 0.25 * (times[-1] - times[0]), times[-1]),
                "marks": [{"kind": m[1], "from": m[2], "to": m[3]} for m in marks if m[0] == key],
                "reference": _band_on_trace(run, key, channels, band),
                "counts": {kind: sum(m[4] for m in marks if m[0] == key and m[1] == kind) for kind in ("dropout", "spike")},
            }
        )  # fmt: skip
    return charts


def _band_on_trace(run: Run, key: str, channels: dict, band: tuple[float, float] | None) -> tuple[float, float] | None:
    """Where the reference would end on this channel: for the load, its rise above this run's room; else only for the metric itself."""
    if band is None:
        return None
    if key == "load_temperature" and "room_temperature" in channels:
        room = channels["room_temperature"]
        room = room[np.isfinite(room)]
        return (float(room[-1]) + band[0], band[1]) if room.size else None
    return band if run.test.procedure == key else None


@require_POST
def void(request: HttpRequest, slug: str, pk: int) -> HttpResponse:
    """Take a run out of the standing."""
    round = round_for(request.user, slug, "run.void")
    run = run_for(request, round, pk)
    try:
        actions.void_run(request.user, run, request.POST.get("reason", ""))
    except ValidationError as problem:
        messages.error(request, " ".join(problem.messages))
    else:
        messages.success(request, f"Run {run.pk} is void. Its readings are kept, and it no longer counts.")
    return redirect(run)
