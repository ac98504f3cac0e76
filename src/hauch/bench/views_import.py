"""A logger's file comes in: upload, preview with the guessed columns, confirm."""

from __future__ import annotations

from pathlib import Path
from typing import Any

from django.contrib import messages
from django.core.exceptions import ValidationError
from django.core.files.uploadedfile import TemporaryUploadedFile
from django.http import HttpResponse
from django.shortcuts import get_object_or_404, redirect, render
from django.urls import reverse
from django.utils import timezone
from django.views.decorators.http import require_POST

from hauch.bench import logs
from hauch.bench.files import file_place, keep_file
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
from hauch.bench.importing import (
    AT_ONCE,
    Confirmed,
    Second,
    read_confirmed,
    store_confirmed,
    summary,
)
from hauch.bench.imports import ask_import, stop_import
from hauch.bench.logs import imported_before, may_feed
from hauch.bench.models import LogImport, LogMapping, Recording, SourceFile
from hauch.bench.plan import plan_of
from hauch.bench.runs import Subject
from hauch.bench.views import last_room, spread_errors
from hauch.core.measure.channels import CHANNELS
from hauch.core.measure.procedures import channels_of, fed_by
from hauch.core.quantity.typed import parse_number
from hauch.core.quantity.units import KINDS, UnitUnknown, to_si
from hauch.formats.logger_apart import glance_apart
from hauch.formats.logger_csv import MOST_BYTES, LogRefused, check_mapping
from hauch.formats.logger_names import guess_mapping
from hauch.formats.logger_table import TIME, Column, Table
from hauch.people.requests import Request, whole
from hauch.rounds.models import Round, Test
from hauch.rounds.queries import round_for, round_tests
from hauch.stores.models import RigMeter

BY_HAND = {"background_level": "sound_level"}
"""Channels that a log seldom holds and that may be typed beside it, by the channel that they go
with.
"""
SHOWN_ROWS = 4


def feeds(recording: Recording, round: Round, units: str) -> dict[str, Any] | None:
    """What the form asks by which a file that is in feeds further tests; None where it can feed
    none.
    """
    if recording.source_id is None or recording.beside_id is not None:
        return None
    read = {c for one in [recording, *recording.loggers_beside] for c, _ in one.columns if c}
    at_hand = read | {key for key, beside in BY_HAND.items() if beside in read}
    tests = [t for t in may_feed(recording, round_tests(round)) if fed_by(t.how, at_hand)]
    if not tests or recording.set_aside_at is not None:
        return None
    asked = {c for test in tests for c in channels_of(test.how)}
    extra = [key for key, beside in BY_HAND.items() if beside in read - {key} and key in asked]
    return {
        "recording": recording,
        "tests": tests,
        "extra": [
            {
                "key": key,
                "label": CHANNELS[key].label,
                "unit": KINDS[CHANNELS[key].kind].shown[units],
            }
            for key in extra
        ],
    }


@require_POST
def feed(request: Request, slug: str, pk: int) -> HttpResponse:
    """Runs in further tests from a file that is in already."""
    round = round_for(request.user, slug, "run.record")
    recording = get_object_or_404(Recording, pk=pk, round=round)
    chosen = [whole(one) for one in request.POST.getlist("tests")]
    tests = [test for test in round_tests(round) if test.pk in chosen]
    last = recording.runs.order_by("state", "-pk").first()
    try:
        extra, problems = typed_readings(_split(request), tuple(BY_HAND), request.user.units)
        if problems:
            raise ValidationError(problems)
        made = logs.feed(request.user, recording, tests, extra)
    except ValidationError as problem:
        messages.error(request, " ".join(problem.messages))
        return redirect(last or reverse("bench:overview", args=[slug]))
    name = recording.source.name if recording.source else ""
    messages.success(request, f"{name} now feeds {', '.join(one.test.label for one in made)} too.")
    return redirect(made[0])


@require_POST
def take_out(request: Request, slug: str, pk: int) -> HttpResponse:
    """Take the file of a second logger out again."""
    round = round_for(request.user, slug, "run.record")
    second = get_object_or_404(Recording, pk=pk, round=round)
    try:
        first = logs.take_out(request.user, second)
    except ValidationError as problem:
        messages.error(request, " ".join(problem.messages))
        return redirect("bench:overview", slug)
    messages.success(
        request,
        f"{second.source} was taken out: the runs beside which it stood are computed without it."
        " Its rows stay, and the audit trail says who did it.",
    )
    return redirect(first.runs.order_by("state", "-pk").first() or first.round)


@require_POST
def upload(request: Request, slug: str) -> HttpResponse:
    """Keep the file and show what is in it; refuse what is no log."""
    round = round_for(request.user, slug, "run.record")
    problem = ""
    sent = request.FILES.get("log")
    if getattr(request, "upload_too_large", False) or (sent and (sent.size or 0) > MOST_BYTES):
        problem = (
            f"The file is larger than {MOST_BYTES / 1e6:,.0f} MB and was not read. Split it, or log"
            " at a lower rate."
        )
    elif sent is None:
        problem = "Choose a file first."
    if problem or sent is None:
        return refused(request, round, problem)
    name = sent.name or ""
    try:
        glance_apart(
            Path(sent.temporary_file_path())
            if isinstance(sent, TemporaryUploadedFile)
            else sent.read()
        )
    except LogRefused as reason:
        return refused(request, round, f"{name}: {reason}")
    source = keep_file(request.user, name, sent)
    if (before := imported_before(round, source.sha256)) is not None:
        return render(
            request,
            "bench/imported_before.html",
            {
                "round": round,
                "recording": before,
                "source": source,
                "name": name,
                "feeds": feeds(before, round, request.user.units),
            },
            status=409,
        )
    beside = whole(request.POST.get("beside"))
    target = reverse("bench:preview", args=[round.slug, source.sha256])
    return redirect(f"{target}?beside={beside}" if beside is not None else target)


def refused(
    request: Request, round: Round, problem: str, refusal: LogRefused | None = None
) -> HttpResponse:
    """Say what is wrong with a file, with its rows."""
    return render(
        request,
        "bench/refused.html",
        {"round": round, "problem": problem, "refusal": refusal},
        status=422,
    )


def preview(request: Request, slug: str, sha256: str) -> HttpResponse:
    """The guessed meaning of each column to confirm, what was run, the room; then the import."""
    round = round_for(request.user, slug, "run.record")
    source = get_object_or_404(SourceFile, sha256=sha256)  # only who has the content knows its hash
    if (under_way := LogImport.under_way(round, source)) is not None:
        return redirect(under_way)
    table = glance_apart(file_place(source))
    remembered = LogMapping.objects.filter(fingerprint=table.fingerprint).first()
    beside = _beside(request, round)
    plan = plan_of(round, 0)
    tests = plan.tests
    units = request.user.units
    problems: list[str] = []
    if request.method == "POST":
        mapping = mapping_of(request.POST, table)
        form = RoomForm(request.POST, units=units)
        if form.is_valid():
            try:
                check_mapping(table, mapping)
                asked = _asked(request, round, mapping, form, beside)
                answer, problems = _import(request, round, source, asked)
                if answer is not None:
                    return answer
            except LogRefused as problem:
                problems = [str(problem)]
            except ValidationError as problem:
                problems = spread_errors(problem, form)
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
        "tests": [
            (t, str(t.pk) in chosen, lacking)
            for t, lacking in _without_meter(tests, {c.channel for c in mapping})
        ],
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
        "count": f"{table.count:,}",
        "slashes": (
            any("/" in cell for cell in table.cells(table.lines[0])) if table.lines else False
        ),
        "zone": timezone.get_current_timezone_name(),
        "elapsed": any(c.channel == TIME and c.unit for c in mapping),
    }
    return render(
        request, "bench/preview.html", context, status=422 if request.method == "POST" else 200
    )


def _beside(request: Request, round: Round) -> Recording | None:
    """The recording that a second logger ran beside, where the file is one."""
    pk = whole(request.GET.get("beside"))
    return get_object_or_404(Recording, pk=pk, round=round) if pk is not None else None


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


def _without_meter(tests: list[Test], read: set[str]) -> list[tuple[Test, list[str]]]:
    """Each test with the columns that it could use, were their meter on its rig known."""
    known = set(
        RigMeter.objects.filter(rig__in={t.rig_id for t in tests}).values_list("rig_id", "channel")
    )
    return [
        (
            test,
            [
                CHANNELS[c].label.lower()
                for c in channels_of(test.how)
                if c in read and (test.rig_id, c) not in known
            ],
        )
        for test in tests
    ]


def _room_from(table: Table, mapping: list[Column], round: Round, units: str) -> dict[str, str]:
    """The room's temperature from the file where it was logged, the rest from the last run if that
    is fresh.
    """
    initial = room_initial(last_room(round), units)
    for index, column in enumerate(mapping):
        if column.channel == "room_temperature" and table.lines:
            try:
                text = table.cells(table.last)[index].replace(",", ".")
                kind = CHANNELS["room_temperature"].kind
                celsius = float(to_si(float(text), column.unit, kind))
            except (ValueError, IndexError):
                continue
            initial["temperature"] = f"{celsius if units != 'inch' else celsius * 1.8 + 32:.1f}"
    return initial


def _asked(
    request: Request,
    round: Round,
    mapping: list[Column],
    form: RoomForm,
    beside: Recording | None,
) -> Confirmed:
    """What was confirmed of a file.

    Raises
    ------
    ValidationError : with a sentence for each thing that is missing or no number
    """
    room, second = form.room(), None
    extra, problems = typed_readings(_split(request), tuple(BY_HAND), request.user.units)
    if problems:
        raise ValidationError(problems)
    if not form.is_valid():
        raise ValidationError([])  # the form tells its own
    subject = Subject()
    if beside is not None:
        typed = request.POST.get("seconds", "").strip()
        try:
            seconds = parse_number(typed) if typed else 0.0
        except ValueError as problem:
            raise ValidationError(f"Seconds to move it by: {problem}") from problem
        second = Second(beside.pk, request.POST.get("by", "traces"), seconds)
    else:
        subject = subject_of(round, request.POST.get("subject", ""))
    return Confirmed(
        columns=[(column.channel, column.unit) for column in mapping],
        day_first=request.POST.get("day_first", "yes") == "yes",
        started_at=form.moment(),
        room=room,
        tests=[whole(pk) or 0 for pk in request.POST.getlist("tests")],
        specimen=subject.specimen.pk if subject.specimen else None,
        reference=subject.reference.pk if subject.reference else None,
        extra=extra,
        note=form.cleaned_data["note"],
        beside=second,
        zone=timezone.get_current_timezone_name(),
    )


def _import(
    request: Request, round: Round, source: SourceFile, asked: Confirmed
) -> tuple[HttpResponse | None, list[str]]:
    """Import a file, or leave a large one to the worker; else say in sentences why not."""
    if source.size > AT_ONCE:
        return redirect(ask_import(request.user, round, source, asked)), []
    try:
        table, log = read_confirmed(source, asked)
        recording, made = store_confirmed(request.user, round, source, asked, table, log)
    except LogRefused as refusal:
        if refusal.problems:
            return refused(request, round, f"{source.name}: {refusal}", refusal), []
        return None, [str(refusal)]
    messages.success(request, summary(source, recording, made))
    return (redirect(made[0]) if made else redirect("bench:overview", round.slug)), []


def importing(request: Request, slug: str, pk: int) -> HttpResponse:
    """How far the import of a large file is, and what became of it; a POST stops it."""
    round = round_for(request.user, slug, "run.record")
    one = get_object_or_404(LogImport.objects.select_related("source"), pk=pk, round=round)
    if request.method == "POST":
        stop_import(request.user, one)
        return redirect(one)
    recording = one.recording and (one.recording.beside or one.recording)
    context = {
        "round": round,
        "import": one,
        "runs": recording.runs.select_related("test").order_by("pk") if recording else [],
    }
    return render(
        request, "bench/_importing.html" if request.htmx else "bench/importing.html", context
    )


def _split(request: Request):
    """Readings typed in one field, apart by spaces."""
    data = request.POST.copy()
    for key in BY_HAND:
        data.setlist(
            f"r-{key}", " ".join(request.POST.getlist(f"r-{key}")).replace(";", " ").split()
        )
    return data
