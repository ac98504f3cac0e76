"""The page of one recording: what it tells, its pictures, its sound."""

from __future__ import annotations

import struct
from typing import Any

import numpy as np
from django.contrib import messages
from django.core.exceptions import ValidationError
from django.http import FileResponse, Http404, HttpResponse
from django.shortcuts import get_object_or_404, redirect, render
from django.urls import reverse
from django.views.decorators.http import require_POST

from hauch.bench.files import file_place
from hauch.bench.forms import RoomForm, room_initial
from hauch.bench.models import Run
from hauch.bench.runs import Room
from hauch.bench.views import last_room, spread_errors
from hauch.core.quantity.typed import parse_number, typed_figure
from hauch.core.quantity.units import KINDS
from hauch.core.sound.analysis import PERCENTS
from hauch.core.sound.bands import mid_band
from hauch.core.sound.compare import Comparison, hertz, sentence
from hauch.core.sound.level import at_distance
from hauch.core.sound.naming import Kind, Named
from hauch.core.sound.spectrum import HIGHEST, LOWEST, ROWS
from hauch.core.sound.told import Analysis, Pictures
from hauch.people.keep import place_of
from hauch.people.permissions import allowed
from hauch.people.requests import Request, whole
from hauch.rounds.models import Round
from hauch.rounds.queries import round_for, round_tests
from hauch.sound import actions, counting
from hauch.sound.forms import TurnsForm
from hauch.sound.models import SoundAnalysis, SoundRecording
from hauch.sound.queries import Beside, reference_for, silencer_for, visible_to
from hauch.sound.reading import pictures_in
from hauch.ui.worker import worker_away

EXPOSURE = 85.0
"""From this level on hearing is to be protected [dB(A)] (directive 2003/10/EC, article 3)."""

DRAWN = 900
"""So many points of a spectrum are drawn at most."""

MOST_COLUMNS = 2000


def _recording(request: Request, slug: str, pk: int, action: str = "round.view") -> SoundRecording:
    round = round_for(request.user, slug, action)
    found = visible_to(request.user, round).filter(pk=pk).select_related("analysis").first()
    if found is None:
        raise Http404("There is no such recording in this round.")
    found.session.round = round
    return found


def _analysis(found: SoundRecording) -> SoundAnalysis | None:
    """What is stored of it; also of an earlier analysis while a new one runs, and none that an
    earlier version made.
    """
    stored: SoundAnalysis | None = getattr(found, "analysis", None)
    return stored if stored is not None and stored.is_current else None


def recording(request: Request, slug: str, pk: int) -> HttpResponse:
    """What a recording tells; while it is analysed, how far that is."""
    found = _recording(request, slug, pk)
    return _page(request, found)


def _page(
    request: Request,
    found: SoundRecording,
    problems: list[str] | None = None,
    form: RoomForm | None = None,
    turning: TurnsForm | None = None,
) -> HttpResponse:
    stored = _analysis(found)
    round = found.session.round
    context: dict[str, Any] = {
        "round": round,
        "recording": found,
        "session": found.session,
        "stored": stored,
        "problems": problems or [],
        "may_record": allowed(request.user, "run.record", round),
        "away": found.at_work and worker_away(),
        "typed": request.POST,
        "turning": turning
        or TurnsForm(initial={name: getattr(found, name) for name in actions.TURNS}),
    }
    if request.htmx:
        if found.at_work:
            return render(request, "sound/_working.html", context)
        return HttpResponse(headers={"HX-Refresh": "true"})
    if stored is not None and found.state != SoundRecording.State.NEW:
        context |= _told(found, stored) | _elsewhere(request, found, stored)
        if context["may_record"]:
            context |= _counting(request, found, stored, form)
    return render(
        request, "sound/recording.html", context, status=422 if problems or turning else 200
    )


def _counting(
    request: Request, found: SoundRecording, stored: SoundAnalysis, form: RoomForm | None
) -> dict[str, Any]:
    """Tests that it is or can be counted in, and the air of the room where it is not known."""
    units, round = request.user.units, found.session.round
    tests = counting.countable(found, stored, round)
    asks = tests and _room_of(found) is None
    return {
        "countable": tests,
        "open": any(one.run is None or one.stale for one in tests),
        "why_not": counting.why_not(found, stored) if found.subject is not None else "",
        "form": (form or RoomForm(units=units, initial=room_initial(last_room(round), units)))
        if asks
        else None,
    }


def _told(found: SoundRecording, stored: SoundAnalysis) -> dict[str, Any]:
    """Everything that the page says of an analysed recording."""
    told = stored.told
    beside = reference_for(found)
    held = beside.held(told) if beside is not None else None
    pictures = pictures_in(place_of(stored.pictures))
    weighted = told.weighted
    return {
        "told": told,
        "beside": beside,
        "held": held,
        "sentence": sentence(told, held),
        "unit": "dB(A)" if told.calibrated else "dB(A) re full scale",
        "levels": [(name, weighted[name].mean, weighted[name].most) for name in ("A", "C", "Z")],
        "percentiles": list(zip(PERCENTS, weighted["A"].percentiles, strict=True)),
        "tones": [_tone(found.session.round, one) for one in told.heard],
        "unheard": [_tone(found.session.round, one) for one in told.tones if not one.audible],
        "spectrum": _spectrum_chart(told, pictures, beside),
        "bands": _bands_chart(told, beside),
        "changes": _changes_chart(held),
        "level": _level_chart(told, pictures),
        "sketch": _sketch(found, told),
        "hours": _hours(told),
    }


def _elsewhere(request: Request, found: SoundRecording, stored: SoundAnalysis) -> dict[str, Any]:
    """The level at another distance that somebody asks for, with what it assumes."""
    text = request.GET.get("distance", "").strip()[:40]
    measured = found.session.distance
    if not text or measured is None or stored.pascals is None:
        return {"asked": text}
    try:
        wanted, _, _ = typed_figure(
            text, "length", KINDS["length"].shown[request.user.units], difference=False
        )
        return {"asked": text, "elsewhere": at_distance(stored.told.level, measured, wanted)}
    except ValueError as problem:
        return {"asked": text, "elsewhere_problem": str(problem)}


def _hours(told: Analysis) -> float | None:
    """Hours a day at the level of a recording that make up a day's 85 dB(A) (3 dB, half the time:
    ISO 9612:2009, 3.2); None below.
    """
    level = told.weighted["A"].mean
    return 8 / 2 ** ((level - EXPOSURE) / 3.0103) if told.calibrated and level >= EXPOSURE else None


def _tone(round: Round, one: Named) -> dict[str, Any]:
    """A tone with the length of a silencer that meets it, and the way to the Desk."""
    length, address = silencer_for(one)
    return {
        "named": one,
        "tone": one.tone,
        "hertz": hertz(one.tone.frequency),
        "length": length,
        "desk": address,
    }


def _thinned(density: np.ndarray, spacing: float) -> tuple[list[float], list[float]]:
    """The loudest line of each of `DRAWN` even steps of the logarithm of the frequency."""
    frequency = np.arange(density.size) * spacing
    inside = (frequency >= LOWEST) & (frequency <= HIGHEST)
    frequency, density = frequency[inside], density[inside]
    if not frequency.size:
        return [], []
    edges = np.geomspace(LOWEST, frequency[-1] + spacing, DRAWN + 1)
    starts = np.unique(np.searchsorted(frequency, edges[:-1]))
    starts = starts[starts < frequency.size]
    loudest = np.maximum.reduceat(density, starts)
    return [round(float(f), 1) for f in frequency[starts]], [round(float(v), 1) for v in loudest]


def _spectrum_chart(told: Analysis, pictures: Pictures, beside: Beside | None) -> dict[str, Any]:
    frequency, values = _thinned(pictures.density, told.spacing)
    line = {"f": frequency, "v": values}
    reference = None
    if beside is not None and not beside.refused:
        reference = _reference_band(beside)
    marks = [
        {"f": one.tone.frequency, "name": _short(one), "level": one.tone.level}
        for one in told.heard[:8]
    ]
    return {"line": line, "reference": reference, "marks": marks, "unit": "dB in 1 Hz"}


def _reference_band(beside: Beside) -> dict[str, Any]:
    """Lowest and highest of the reference's spectra, on the lines of the nearest one."""
    drawn: list[tuple[list[float], list[float]]] = []
    for stored in beside.stored:
        other = pictures_in(place_of(stored.pictures))
        drawn.append(_thinned(other.density, stored.told.spacing))
    at = drawn[0][0]
    values = [v if f == at else np.interp(at, f, v).tolist() if f else v for f, v in drawn]
    return {
        "f": at,
        "low": [min(each) for each in zip(*values, strict=True)],
        "high": [max(each) for each in zip(*values, strict=True)],
    }


def _changes_chart(held: Comparison | None) -> dict[str, Any] | None:
    """Differences of the bands with their doubt."""
    rows = [
        {
            "f": float(mid_band(number)),
            "v": round(change.value, 2),
            "low": round(change.value - change.doubt, 2),
            "high": round(change.value + change.doubt, 2),
            "clear": change.clear,
        }
        for number, change in (held.bands if held is not None else ())
        if change is not None
    ]
    return {"bands": rows} if rows else None


def _short(one: Named) -> str:
    return f"{one.order}×" if one.kind is Kind.BLADES else one.kind.value


def _bands_chart(told: Analysis, beside: Beside | None) -> dict[str, Any]:
    other: dict[int, list[float]] = {}
    if beside is not None and not beside.refused:
        for one in beside.analyses:
            for band in one.bands:
                other.setdefault(band.number, []).append(band.source)
    return {
        "bands": [
            {
                "f": band.frequency,
                "v": band.source,
                "limit": band.limit,
                "reference": float(np.mean(other[band.number])) if band.number in other else None,
            }
            for band in told.bands
        ],
        "unit": "dB" if told.calibrated else "dB re full scale",
    }


def _level_chart(told: Analysis, pictures: Pictures) -> dict[str, Any]:
    return {
        "step": pictures.level_step,
        "values": [round(float(v), 1) for v in pictures.level],
        "used": list(told.used),
        "marks": [
            {"kind": one.fault.value, "from": one.place[0], "to": one.place[1]}
            for one in told.faults
            if one.place is not None
        ],
        "unit": "dB(A)" if told.calibrated else "dB(A) re full scale",
    }


def _sketch(found: SoundRecording, told: Analysis) -> dict[str, Any]:
    """What the picture of the spectrogram is drawn from in the browser."""
    slug = found.session.round.slug
    return {
        "grid": reverse("sound:grid", args=[slug, found.pk]),
        "copy": reverse("sound:copy", args=[slug, found.pk]),
        "copyFrom": found.analysis.copy_from,
        "seconds": told.seconds,
        "used": list(told.used),
        "tones": [
            {"f": one.tone.frequency, "name": _short(one)} for one in told.heard if one.tone.width
        ][:12],
        "faults": [
            {"kind": one.fault.value, "from": one.place[0], "to": one.place[1]}
            for one in told.faults
            if one.place is not None
        ],
        "lowest": LOWEST,
        "highest": HIGHEST,
    }


def grid(request: Request, slug: str, pk: int) -> HttpResponse:
    """A stretch of the spectrogram, thinned to what is drawn: three 32-bit floats (from, to, seconds
    a column), the number of rows, then a byte a cell, column by column.
    """
    found = _recording(request, slug, pk)
    stored = _analysis(found)
    if stored is None:
        raise Http404("It is not analysed yet.")
    told = pictures_in(place_of(stored.pictures)).grid
    start, end = (
        _number(request.GET.get(name), usual) for name, usual in (("from", 0.0), ("to", 1e9))
    )
    columns = int(min(max(_number(request.GET.get("columns"), 800.0), 1), MOST_COLUMNS))
    part, low, high = told.thinned(start, max(end, start), columns)
    body = struct.pack("<fffI", low, high, part.step, ROWS) + part.cells.tobytes()
    answer = HttpResponse(body, content_type="application/octet-stream")
    answer["Cache-Control"] = "private, max-age=60"
    return answer


def _number(text: str | None, usual: float) -> float:
    try:
        value = parse_number((text or "")[:40])
    except ValueError:
        return usual
    return min(max(value, 0.0), 1e9)


def copy(request: Request, slug: str, pk: int) -> FileResponse:
    """The stretch that is used, to listen to."""
    stored = _analysis(_recording(request, slug, pk))
    if stored is None:
        raise Http404("It is not analysed yet.")
    answer = FileResponse(place_of(stored.copy).open("rb"), content_type="audio/flac")
    answer["Cache-Control"] = "private, max-age=60"
    return answer


def original(request: Request, slug: str, pk: int) -> FileResponse:
    """The file as it was handed in."""
    found = _recording(request, slug, pk)
    return FileResponse(
        file_place(found.source).open("rb"),
        as_attachment=True,
        filename=found.name,
        content_type="application/octet-stream",
    )


@require_POST
def from_meter(request: Request, slug: str, pk: int) -> HttpResponse:
    """Analyse what the meter of a run recorded over its line."""
    round = round_for(request.user, slug, "run.record")
    run = get_object_or_404(
        Run.objects.select_related("test__round", "rig", "recording"), pk=pk, test__round=round
    )
    try:
        made = actions.from_meter(request.user, run)
    except ValidationError as problem:
        messages.error(request, " ".join(problem.messages))
        return redirect(run)
    return redirect(made[0].session)


def of_run(request: Request, slug: str, pk: int) -> HttpResponse:
    """Recordings of a run, for its page."""
    round = round_for(request.user, slug)
    may_record = allowed(request.user, "run.record", round)
    run = Run.objects.select_related("recording").filter(pk=pk, test__round=round).first()
    found = (
        visible_to(request.user, round)
        .filter(run=pk)
        .exclude(state=SoundRecording.State.NEW)
        .select_related("analysis")
        .defer("analysis__figures")
    )
    return render(
        request,
        "sound/_of_run.html",
        {
            "round": round,
            "recordings": found,
            "run": run,
            "waves": len(actions.waveforms_of(run)) if may_record and run is not None else 0,
        },
    )


def _stretch_of(request: Request) -> tuple[float, float] | None:
    if "back" in request.POST:
        return None
    ends = []
    for name, what in (("from", "Beginning"), ("to", "End")):
        try:
            ends.append(parse_number(str(request.POST.get(name, ""))[:40]))
        except ValueError as problem:
            raise ValidationError(f"{what}: {problem}") from problem
    return ends[0], ends[1]


@require_POST
def stretch(request: Request, slug: str, pk: int) -> HttpResponse:
    """Use another stretch, or the one that was found again."""
    found = _recording(request, slug, pk, "run.record")
    try:
        actions.choose_stretch(
            request.user, found, _stretch_of(request), str(request.POST.get("why", ""))
        )
    except ValidationError as problem:
        return _page(request, found, problem.messages)
    return redirect(found)


@require_POST
def turns(request: Request, slug: str, pk: int) -> HttpResponse:
    """Say what turned and switched, and have the tones named anew."""
    found = _recording(request, slug, pk, "run.record")
    form = TurnsForm(request.POST)
    if form.is_valid():
        try:
            actions.say_turns(request.user, found, form.turns())
            return redirect(found)
        except ValidationError as problem:
            form.add_error(None, problem.messages)
    return _page(request, found, turning=form)


@require_POST
def count(request: Request, slug: str, pk: int) -> HttpResponse:
    """Make what it tells runs of tests."""
    found = _recording(request, slug, pk, "run.record")
    chosen = {whole(text) for text in request.POST.getlist("test")}
    tests = [test for test in round_tests(found.session.round) if test.pk in chosen]
    form = RoomForm(request.POST, units=request.user.units)
    room = _room_of(found)
    if room is None:
        if not form.is_valid() or (typed := form.room()) is None or not form.is_valid():
            problems = [f"{form.fields[k].label}: {e[0]}" for k, e in form.errors.items()]
            return _page(request, found, problems, form)
        room = typed
    try:
        made = counting.count(request.user, found, tests, room)
    except ValidationError as problem:
        return _page(request, found, spread_errors(problem, form), form)
    messages.success(
        request,
        "Counted: " + ", ".join(f"run {run.pk} in {run.test.label}" for run in made) + ".",
    )
    return redirect(found)


def _room_of(found: SoundRecording) -> Room | None:
    """The air that was read in the run it was recorded in."""
    run = found.run
    if run is None or run.temperature is None:
        return None
    return Room(run.temperature, run.pressure, run.humidity)


@require_POST
def again(request: Request, slug: str, pk: int) -> HttpResponse:
    """Analyse it once more."""
    found = _recording(request, slug, pk, "run.record")
    try:
        actions.analyse_again(request.user, found)
    except ValidationError as problem:
        messages.error(request, " ".join(problem.messages))
        return redirect(found.session)
    return redirect(found)


@require_POST
def stop(request: Request, slug: str, pk: int) -> HttpResponse:
    """End an analysis that waits or runs."""
    found = _recording(request, slug, pk, "run.record")
    actions.stop(request.user, found)
    return redirect(found)


@require_POST
def take_out(request: Request, slug: str, pk: int) -> HttpResponse:
    """Take it out; the file stays."""
    found = _recording(request, slug, pk, "run.record")
    actions.set_aside(request.user, found)
    messages.success(
        request, f"{found} was taken out. Its file stays, and the audit trail says who did it."
    )
    return redirect(found.session)
