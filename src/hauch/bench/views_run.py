"""A run: what it came to and why, what it is held against, and what can be done to it."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any

from django.contrib import messages
from django.core.exceptions import ValidationError
from django.http import Http404, HttpResponse
from django.shortcuts import get_object_or_404, redirect, render
from django.views.decorators.http import require_POST

from hauch.bench import exclusions, observations
from hauch.bench.compare import comparisons, orientation_sentence, reference_curve, siblings_of
from hauch.bench.models import Exclusion, Observation, Run, StoredMark
from hauch.bench.queries import observations_by_run, repeats_chart, runs
from hauch.bench.reduction import marks_in
from hauch.bench.runs import void_run
from hauch.bench.traces import trace_of
from hauch.bench.views_import import feeds
from hauch.core.measure.channels import CHANNELS
from hauch.core.measure.curves import gains
from hauch.core.measure.procedures import channels_of
from hauch.core.quantity import contributions
from hauch.core.quantity.typed import parse_number
from hauch.core.trace import trouble
from hauch.core.trace.reduce import STEADY_SHARE
from hauch.core.trace.thin import drawn
from hauch.people.permissions import allowed
from hauch.people.requests import Request, whole
from hauch.rounds.models import Round
from hauch.rounds.queries import round_for
from hauch.stores.pictures import keep_picture


def run_for(request: Request, round: Round, pk: int) -> Run:
    """One run that the person may see."""
    run = (
        runs()
        .visible_to(request.user, round)
        .with_names()
        .select_related("recording__source", "rig")
        .prefetch_related("readings")
        .filter(pk=pk)
        .first()
    )
    if run is None:
        raise Http404("There is no such run in this round.")
    return run


def run_page(request: Request, slug: str, pk: int) -> HttpResponse:
    """What a run came to: figure, evidence, working, raw readings."""
    round = round_for(request.user, slug)
    run = run_for(request, round, pk)
    run.test.round = round
    result = getattr(run, "result", None)
    chart = repeats_chart(run.test, run.specimen, run.reference, run.pk)
    siblings = siblings_of(run)
    order = [one.pk for one in siblings if one.test_id == run.test_id]
    index = order.index(run.pk)
    seen = observations_by_run([run])[run.pk]
    left_out = list(
        (run.carried_from or run).exclusions.select_related("by", "undone_by", "reading")
    )
    context = {
        "round": round,
        "run": run,
        "result": result,
        "curve": _curve(run),
        "kind": run.test.how.kind,
        "readings": _reading_rows(run, left_out),
        "doubt": doubt_split(result.parts) if result else [],
        "chart": chart,
        "traces": _traces(
            run,
            result.found if result else marks_in(run),
            chart["reference"] if chart else None,
            seen,
        ),
        "may_void": allowed(request.user, "run.void", round),
        "may_record": allowed(request.user, "run.record", round),
        "choice": f"s{run.specimen_id}" if run.specimen_id else f"r{run.reference_id}",
        "before": order[index - 1] if index else None,
        "after": order[index + 1] if index + 1 < len(order) else None,
        "against": comparisons(run, siblings),
        "orientation": orientation_sentence(siblings),
        "at_two_settings": allowed(request.user, "verdict.view_early", round)
        and any(s.setting_id != run.setting_id for s in siblings),
        "seen": seen,
        "exclusions": left_out,
        "channels": [(key, CHANNELS[key].label) for key in channels_of(run.test.how)],
        "tags": Observation.Tag.choices,
        "seconds": (
            list(run.recording.seconds.filter(set_aside_at=None).select_related("source"))
            if run.recording
            else []
        ),
        "feeds": (
            feeds(run.recording, round, request.user.units)
            if run.recording and allowed(request.user, "run.record", round)
            else None
        ),
        "suspects": (
            trouble.wrong_unit(result.value, chart["reference"][0], deciding_channels(run))
            if result and result.value and chart and chart["reference"]
            else ""
        ),
    }
    return render(request, "bench/run.html", context)


def _curve(run: Run) -> dict[str, Any] | None:
    """The curve of a run with that of the reference beside it, and what it gains at each point."""
    stored = run.result.curve if hasattr(run, "result") else None
    if not stored:
        return None
    other = reference_curve(run)
    line = other.result.curve["line"] if other is not None and other.result.curve else None
    if line is None:
        return {"data": stored, "gains": [], "other": None}
    rows = [
        {"x": x, "y": y, "other": beside, "change": 100 * (y / beside - 1) if beside > 0 else None}
        for x, y, beside in gains(stored["points"], line)
    ]
    return {"data": stored | {"beside": line}, "gains": rows, "other": other}


def deciding_channels(run: Run) -> list[str]:
    """Channels of a run that its figure is made of."""
    columns = run.recording.columns if run.recording else []
    read = {one if isinstance(one, str) else one[0] for one in columns}
    read |= {reading.channel for reading in (run.carried_from or run).readings.all()}
    groups = [channel for group in run.test.how.needs for channel in group]
    return [channel for channel in dict.fromkeys(groups) if channel in read]


def doubt_split(parts: list[list[Any]]) -> list[dict[str, Any]]:
    """Share of each cause in the doubt, largest first; small ones together."""
    causes = contributions(parts)
    total = sum(one.u**2 for one in causes)
    if not total:
        return []
    rows: list[dict[str, Any]] = sorted(
        (
            {"name": one.name, "scope": one.scope, "kind": one.kind, "share": one.u**2 / total}
            for one in causes
        ),
        key=lambda row: -row["share"],
    )
    large = [row for row in rows if row["share"] >= 0.01]
    rest = sum(row["share"] for row in rows if row["share"] < 0.01)
    return large + (
        [{"name": "all others", "scope": "", "kind": "", "share": rest}] if rest else []
    )


def _reading_rows(run: Run, exclusions: list[Exclusion]) -> list[dict[str, Any]]:
    rows: dict[tuple[str, int, str], dict[str, Any]] = {}
    left_out = {e.reading_id for e in exclusions if e.stands}
    for reading in (run.carried_from or run).readings.all():
        place = f", place {reading.position}" if reading.position else ""
        label = CHANNELS[reading.channel].label + place
        row = rows.setdefault(
            (reading.channel, reading.position, reading.unit),  # each may be typed in its own unit
            {"label": label, "unit": reading.unit, "values": []},
        )
        row["values"].append(
            {"pk": reading.pk, "typed": reading.typed, "out": reading.pk in left_out}
        )
    return list(rows.values())


SHORT_WORDS = {
    "dropout": "lost",
    "gap": "no record",
    "over_range": "over range",
    "excluded": "left out",
    "unit": "other unit",
    "jump": "unit changes",
}


def _traces(
    run: Run, marks: list[StoredMark], band: tuple[float, float] | None, seen: list[Observation]
) -> list[dict[str, Any]]:
    if run.recording is None:
        return []
    trace = trace_of(run.recording)
    extent = trace.extent
    if extent is None:
        return []
    shown = drawn(trace, channels_of(run.test.how))
    windows = run.windows or (
        []
        if run.state == Run.State.DNF or run.test.how.by_point
        else [(extent[1] - STEADY_SHARE * (extent[1] - extent[0]), extent[1])]
    )
    notes = [
        {"kind": "seen", "word": f"seen {n}", "from": o.at_s, "to": o.at_s}
        for n, o in enumerate(seen, 1)
        if o.at_s is not None
    ]
    charts = []
    for key in (key for key in channels_of(run.test.how) if key in shown):
        channel = CHANNELS[key]
        thin_times, values = shown[key]
        own = [m for m in marks if m.channel in {key, "time"}]
        charts.append(
            {
                "key": key,
                "label": channel.label,
                "kind": channel.kind,
                "times": thin_times,
                "values": values,
                "windows": windows,
                "marks": (
                    [
                        {
                            "kind": m.kind,
                            "word": SHORT_WORDS.get(m.kind, m.kind),
                            "from": m.from_s,
                            "to": m.to_s,
                        }
                        for m in own[:MOST_MARKS]
                    ]
                    + notes
                ),
                "reference": _band_on_trace(run, key, shown, band),
                "counted": ", ".join(
                    f"{n:,} {COUNTED[kind]}"
                    for kind in COUNTED
                    if (n := sum(m.samples for m in own if m.kind == kind))
                ),
            }
        )
    return charts


COUNTED = {
    "dropout": "lost",
    "spike": "spiked",
    "stuck": "stuck",
    "unit": "in another unit",
    "excluded": "left out by hand",
}
"""Samples that are counted beside a chart's name."""

MOST_MARKS = 60
"""More marks than this are counted, not drawn."""


def _band_on_trace(
    run: Run, key: str, shown: dict[str, Any], band: tuple[float, float] | None
) -> tuple[float, float] | None:
    """Where the reference would end on this channel: for the load, its rise above this run's room;
    else only for the metric itself.
    """
    if band is None:
        return None
    if key == "load_temperature" and "room_temperature" in shown:
        room = [value for value in shown["room_temperature"][1] if value is not None]
        return (room[-1] + band[0], band[1]) if room else None
    return band if run.test.procedure == key else None


@require_POST
def void(request: Request, slug: str, pk: int) -> HttpResponse:
    """Take a run out of the standing."""
    round = round_for(request.user, slug, "run.void")
    run = run_for(request, round, pk)
    try:
        void_run(request.user, run, request.POST.get("reason", ""))
    except ValidationError as problem:
        messages.error(request, " ".join(problem.messages))
    else:
        messages.success(
            request, f"Run {run.pk} is void. Its readings are kept, and it no longer counts."
        )
    return redirect(run)


def _told(request: Request, run: Run, change: Callable[[], Any], done: str) -> HttpResponse:
    """Do one thing to a run, say how it went, and show the run again."""
    try:
        change()
    except ValidationError as problem:
        messages.error(request, " ".join(problem.messages))
    else:
        messages.success(request, done)
    return redirect(run)


@require_POST
def exclude(request: Request, slug: str, pk: int) -> HttpResponse:
    """Leave a stretch or a typed reading out of a run's figure."""
    round = round_for(request.user, slug, "run.void")
    run = run_for(request, round, pk)
    reading = request.POST.get("reading", "")

    def change() -> None:
        stretch = None
        if not reading:
            try:
                stretch = (
                    parse_number(request.POST.get("from_s", "")),
                    parse_number(request.POST.get("to_s", "")),
                )
            except ValueError as problem:
                raise ValidationError(f"From and to: {problem}") from problem
        exclusions.exclude(
            request.user,
            run,
            request.POST.get("reason", ""),
            request.POST.get("channel", ""),
            stretch,
            whole(reading),
        )

    return _told(
        request,
        run,
        change,
        "It is left out, and the figure is computed again without it. The raw data stays.",
    )


@require_POST
def restore(request: Request, slug: str, pk: int, exclusion_pk: int) -> HttpResponse:
    """Take an exclusion back."""
    round = round_for(request.user, slug, "run.void")
    run = run_for(request, round, pk)
    exclusion = get_object_or_404(Exclusion, pk=exclusion_pk, run=run)
    return _told(
        request, run, lambda: exclusions.restore(request.user, exclusion), "It counts again."
    )


@require_POST
def observe(request: Request, slug: str, pk: int) -> HttpResponse:
    """Write down what was seen in a run, afterwards."""
    round = round_for(request.user, slug, "run.record")
    run = run_for(request, round, pk)

    def change() -> None:
        at = request.POST.get("at_s", "").strip()
        try:
            seconds = parse_number(at) if at else None
        except ValueError as problem:
            raise ValidationError(f"At: {problem}") from problem
        sent = request.FILES.get("picture")
        picture = keep_picture(request.user, sent.read()) if sent else None
        observations.observe(
            request.user,
            round,
            run=run,
            text=request.POST.get("text", ""),
            tags=request.POST.getlist("tags"),
            picture=picture,
            at_s=seconds,
        )

    return _told(request, run, change, "It is kept with the run.")
