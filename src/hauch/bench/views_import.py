"""A logger's file comes in: upload, preview with the guessed columns, confirm."""

from __future__ import annotations

from typing import Any

from django.contrib import messages
from django.core.exceptions import ValidationError
from django.http import HttpRequest, HttpResponse
from django.shortcuts import get_object_or_404, redirect, render
from django.urls import reverse
from django.utils import timezone
from django.views.decorators.http import require_POST

from hauch.bench import actions
from hauch.bench.actions import NewRecording, imported_before
from hauch.bench.files import file_content, keep_file
from hauch.bench.forms import (
    RoomForm,
    column_choices,
    mapping_of,
    room_initial,
    subject_choices,
    subject_of,
    typed_readings,
    unit_choices,
)
from hauch.bench.models import LogMapping, Recording, SourceFile
from hauch.bench.queries import plan_of
from hauch.bench.views import last_room, spread_errors
from hauch.core.measure.channels import CHANNELS
from hauch.core.measure.procedures import fed_by
from hauch.core.quantity.units import KINDS, UnitUnknown, to_si
from hauch.formats.logger_csv import (
    MOST_BYTES,
    TIME,
    Column,
    LogRefused,
    Table,
    guess_mapping,
    inspect,
    read_log,
)
from hauch.people.models import User
from hauch.rounds.models import Round, Test
from hauch.rounds.queries import round_for
from hauch.ui.fields import parse_number

BY_HAND = {"background_level": "sound_level"}
"""Channels that a log seldom holds and that may be typed beside it, by the channel that they go
with.
"""
SHOWN_ROWS = 4


@require_POST
def upload(request: HttpRequest, slug: str) -> HttpResponse:
    """Keep the file and show what is in it; refuse what is no log."""
    round = round_for(request.user, slug, "run.record")
    problem = ""
    sent = request.FILES.get("log")
    if getattr(request, "upload_too_large", False) or (sent and sent.size > MOST_BYTES):
        problem = (
            f"The file is larger than {MOST_BYTES / 1e6:,.0f} MB and was not read. Split it, or log"
            " at a lower rate."
        )
    elif sent is None:
        problem = "Choose a file first."
    if problem:
        return refused(request, round, problem)
    data = sent.read()
    try:
        inspect(data)
    except LogRefused as reason:
        return refused(request, round, f"{sent.name}: {reason}")
    source = keep_file(request.user, sent.name, data)
    if (before := imported_before(round, source.sha256)) is not None:
        return render(
            request,
            "bench/imported_before.html",
            {"round": round, "recording": before, "source": source, "name": sent.name},
            status=409,
        )
    beside = request.POST.get("beside", "")
    target = reverse("bench:preview", args=[round.slug, source.sha256])
    return redirect(f"{target}?beside={beside}" if beside.isdigit() else target)


def refused(
    request: HttpRequest, round: Round, problem: str, refusal: LogRefused | None = None
) -> HttpResponse:
    """Say what is wrong with a file, with its rows."""
    return render(
        request,
        "bench/refused.html",
        {"round": round, "problem": problem, "refusal": refusal},
        status=422,
    )


def preview(request: HttpRequest, slug: str, sha256: str) -> HttpResponse:
    """The guessed meaning of each column to confirm, what was run, the room; then the import."""
    round = round_for(request.user, slug, "run.record")
    source = get_object_or_404(SourceFile, sha256=sha256)  # only who has the content knows its hash
    table = inspect(file_content(source))
    remembered = LogMapping.objects.filter(fingerprint=table.fingerprint).first()
    beside = _beside(request, round)
    plan = plan_of(round, 0)
    tests = plan.tests
    units = request.user.units
    problems: list[str] = []
    if request.method == "POST":
        mapping = mapping_of(request.POST, table)
        form = RoomForm(request.POST, units=units)
        day_first = request.POST.get("day_first", "yes") == "yes"
        if form.is_valid():
            if beside is not None:
                answer, problems = _import_second(
                    request, round, beside, source, table, mapping, day_first
                )
            else:
                answer, problems = _import(
                    request, round, source, table, mapping, form, tests, day_first
                )
            if answer is not None:
                return answer
        chosen = set(request.POST.getlist("tests"))
    else:
        mapping = (
            [Column(*pair) for pair in remembered.columns] if remembered else guess_mapping(table)
        )
        form = RoomForm(units=units, initial=_room_from(table, mapping, round, units))
        at_hand = {c.channel for c in mapping if c.channel} | set(BY_HAND)
        chosen = {str(test.pk) for test in tests if fed_by(test.how, at_hand)}
    context = {
        "round": round,
        "source": source,
        "table": table,
        "form": form,
        "problems": problems,
        "remembered": remembered,
        "columns": _columns(table, mapping),
        "channel_choices": column_choices(),
        "subjects": subject_choices(plan),
        "many": plan.many,
        "beside": beside,
        "subject": request.POST.get("subject") or request.GET.get("subject", ""),
        "tests": [(t, str(t.pk) in chosen) for t in tests],
        "extra": [
            {
                "key": key,
                "label": CHANNELS[key].label,
                "unit": KINDS[CHANNELS[key].kind].shown[units],
                "value": " ".join(request.POST.getlist(f"r-{key}")),
            }
            for key, beside in BY_HAND.items()
            if beside in {c.channel for c in mapping} - {key}
        ],
        "rows": [table.cells(line) for line in table.lines[:SHOWN_ROWS]],
        "count": len(table.lines),
        "slashes": (
            any("/" in cell for cell in table.cells(table.lines[0])) if table.lines else False
        ),
        "elapsed": any(c.channel == TIME and c.unit for c in mapping),
    }
    return render(
        request, "bench/preview.html", context, status=422 if request.method == "POST" else 200
    )


def _beside(request: HttpRequest, round: Round) -> Recording | None:
    """The recording that a second logger ran beside, where the file is one."""
    pk = request.GET.get("beside", "")
    return get_object_or_404(Recording, pk=pk, round=round) if pk.isdigit() else None


def _import_second(
    request: HttpRequest,
    round: Round,
    first: Recording,
    source: SourceFile,
    table: Table,
    mapping: list[Column],
    day_first: bool,
) -> tuple[HttpResponse | None, list[str]]:
    """Add a second logger's file to a recording, or say in sentences why not."""
    by, typed = request.POST.get("by", "traces"), request.POST.get("seconds", "").strip()
    try:
        seconds = parse_number(typed) if typed else 0.0
        log = read_log(table, mapping, timezone.get_current_timezone(), day_first)
        second = actions.add_second(request.user, first, source, log, mapping, by, seconds)
    except LogRefused as refusal:
        return (
            (refused(request, round, f"{source.name}: {refusal}", refusal), [])
            if refusal.problems
            else (None, [str(refusal)])
        )
    except ValidationError as problem:
        return None, list(problem.messages)
    except ValueError as problem:
        return None, [f"Seconds to move it by: {problem}"]
    actions.remember_mapping(request.user, table.fingerprint, mapping, day_first)
    messages.success(
        request,
        f"{source.name} runs beside the first recording now, moved by {second.shift:+.2f} s"
        f" {second.shift_note}. Its runs were computed again.",
    )
    run = first.runs.order_by("pk").first()
    return (redirect(run) if run else redirect("bench:overview", round.slug)), []


def _columns(table: Table, mapping: list[Column]) -> list[dict[str, Any]]:
    rows = []
    for index, (name, column) in enumerate(zip(table.header, mapping, strict=True)):
        kind = CHANNELS[column.channel].kind if column.channel in CHANNELS else ""
        problem = ""
        if kind:
            try:
                to_si(0.0, column.unit, kind)
            except UnitUnknown as unknown:
                problem = str(unknown)
        rows.append(
            {
                "index": index,
                "name": name,
                "channel": column.channel,
                "unit": column.unit,
                "problem": problem,
                "assumed": bool(kind) and not table.units[index],
                "units": unit_choices(kind, column.unit),
            }
        )
    return rows


def _room_from(table: Table, mapping: list[Column], round: Round, units: str) -> dict[str, str]:
    """The room's temperature from the file where it was logged, the rest from the last run if that
    is fresh.
    """
    initial = room_initial(last_room(round), units)
    for index, column in enumerate(mapping):
        if column.channel == "room_temperature" and table.lines:
            try:
                text = table.cells(table.lines[-1])[index].replace(",", ".")
                kind = CHANNELS["room_temperature"].kind
                celsius = float(to_si(float(text), column.unit, kind))
            except (ValueError, IndexError):
                continue
            initial["temperature"] = f"{celsius if units != 'inch' else celsius * 1.8 + 32:.1f}"
    return initial


def _import(
    request: HttpRequest,
    round: Round,
    source: SourceFile,
    table: Table,
    mapping: list[Column],
    form: RoomForm,
    tests: list[Test],
    day_first: bool,
) -> tuple[HttpResponse | None, list[str]]:
    """Import, or say in sentences why not."""
    user: User = request.user
    room = form.room()
    extra, problems = typed_readings(_split(request), tuple(BY_HAND), user.units)
    if problems or not form.is_valid():
        return None, problems
    try:
        log = read_log(table, mapping, timezone.get_current_timezone(), day_first)
    except LogRefused as refusal:
        if refusal.problems:
            return refused(request, round, f"{source.name}: {refusal}", refusal), []
        return None, [str(refusal)]
    try:
        subject = subject_of(round, request.POST.get("subject", ""))
        chosen = [test for test in tests if str(test.pk) in request.POST.getlist("tests")]
        started = log.start or form.moment()
        recorded = actions.import_log(
            user,
            NewRecording(
                round,
                source,
                log,
                chosen,
                subject,
                room,
                started,
                mapping,
                extra,
                note=form.cleaned_data["note"],
            ),
        )
    except ValidationError as problem:
        return None, spread_errors(problem, form)
    actions.remember_mapping(user, table.fingerprint, mapping, day_first)
    figures = ", ".join(
        f"{run.test.how.short.lower()}{'' if run.result.value is not None else ' (no result)'}"
        for run in recorded
    )
    messages.success(
        request,
        f"{source.name}: {len(log.times):,} rows imported as {len(recorded)} runs: {figures}.",
    )
    return redirect(recorded[0]), []


def _split(request: HttpRequest):
    """Readings typed in one field, apart by spaces."""
    data = request.POST.copy()
    for key in BY_HAND:
        data.setlist(
            f"r-{key}", " ".join(request.POST.getlist(f"r-{key}")).replace(";", " ").split()
        )
    return data
