"""Pages of sound: sessions, handing in, confirming what recordings are of."""

from __future__ import annotations

from datetime import UTC, datetime
from typing import Any

from django.contrib import messages
from django.core.exceptions import ValidationError
from django.core.paginator import Paginator
from django.db.models import Count, Q
from django.http import HttpResponse
from django.shortcuts import get_object_or_404, redirect, render
from django.views.decorators.http import require_POST

from hauch.core.measure.rigs import sound_spot
from hauch.formats.sound import MOST_BYTES
from hauch.people.permissions import allowed
from hauch.people.requests import Request, whole
from hauch.rounds.models import Round
from hauch.rounds.queries import round_for, round_tests
from hauch.sound import actions
from hauch.sound.analysing import NotCalibrated, pascals_of
from hauch.sound.forms import Parts, SessionForm, label_of, read_said
from hauch.sound.models import Calibration, RecordingSession, SoundRecording
from hauch.sound.queries import sessions_of, side_by_side, visible_to
from hauch.ui.fields import sent
from hauch.ui.worker import worker_away

PAGE = 50


def overview(request: Request, slug: str) -> HttpResponse:
    """Recordings of a round, and the sessions they were made in."""
    round = round_for(request.user, slug)
    found = (
        visible_to(request.user, round)
        .select_related("analysis")
        .defer("analysis__figures")
        .order_by("-recorded_at", "-pk")
    )
    may_record = allowed(request.user, "run.record", round)
    sessions = (
        sessions_of(round).annotate(
            count=Count("recordings", filter=Q(recordings__set_aside_at=None)),
            new=Count(
                "recordings",
                filter=Q(recordings__set_aside_at=None, recordings__state=SoundRecording.State.NEW),
            ),
        )[:PAGE]
        if may_record
        else []
    )
    return render(
        request,
        "sound/overview.html",
        {
            "round": round,
            "page": Paginator(found, PAGE).get_page(request.GET.get("page")),
            "sessions": sessions,
            "listenings": round.listenings.all()[:PAGE] if may_record else [],
            "may_record": may_record,
        },
    )


def begin(request: Request, slug: str) -> HttpResponse:
    """How the recordings of a session are made, before the first is handed in."""
    round = round_for(request.user, slug, "run.record")
    last = sessions_of(round).first()
    form = SessionForm(sent(request), units=request.user.units, initial=_as_before(round, last))
    if request.method == "POST" and form.is_valid():
        try:
            return redirect(actions.open_session(request.user, round, form.values()))
        except ValidationError as problem:
            form.add_error(None, problem.messages)
    status = 422 if form.errors else 200
    return render(request, "sound/begin.html", {"round": round, "form": form}, status=status)


def _as_before(round: Round, last: RecordingSession | None) -> dict[str, Any]:
    """What the last session had, as far as it is likely the same; never its calibration."""
    if last is None:
        return _as_on_rig(round)
    return {
        "mounting": last.mounting,
        "distance": last.distance,
        "spacing": last.spacing,
        "room": last.room,
        "microphone": last.microphone_id,
        "device": last.device,
        "mains": last.mains,
    }


def _as_on_rig(round: Round) -> dict[str, Any]:
    """The distance that the round's sound spot is read at."""
    for test in round_tests(round):
        if test.how.rig == sound_spot.RIG.key:
            return {"distance": test.rig.pairs.get("distance", (None, 0.0))[0]}
    return {}


def _session(request: Request, slug: str, pk: int) -> RecordingSession:
    round = round_for(request.user, slug, "run.record")
    found: RecordingSession = get_object_or_404(sessions_of(round), pk=pk)
    found.round = round
    return found


def session(request: Request, slug: str, pk: int) -> HttpResponse:
    """A session: how it was held, what was handed in, what is still to be confirmed."""
    found = _session(request, slug, pk)
    form = SessionForm(sent(request), units=request.user.units, session=found)
    if request.method == "POST" and form.is_valid():
        try:
            count = actions.change_session(request.user, found, form.values())
        except ValidationError as problem:
            form.add_error(None, problem.messages)
        else:
            told = f" {count} recordings are analysed anew." if count else ""
            messages.success(request, f"Saved.{told}{form.taken_over_told}")
            return redirect(found)
    return _session_page(request, found, form)


def _session_page(
    request: Request,
    found: RecordingSession,
    form: SessionForm | None = None,
    problems: list[str] | None = None,
) -> HttpResponse:
    new = list(_recordings(found).filter(state=SoundRecording.State.NEW))
    form = form or SessionForm(units=request.user.units, session=found)
    parts = Parts(found.round) if new else None
    context = {
        "round": found.round,
        "session": found,
        "form": form,
        "problems": problems or [],
        "new": [_row(one, request) for one in new],
        "parts": list(parts.by_label) if parts else [],
        "kinds": SoundRecording.Kind.choices,
        "most": MOST_BYTES,
        "may_allow": allowed(request.user, "rules.change", found.round),
        **_told(found),
    }
    failed = problems or form.errors
    return render(request, "sound/session.html", context, status=422 if failed else 200)


def _row(one: SoundRecording, request: Request) -> dict[str, Any]:
    """What is asked of a new recording: the guess, or what was typed."""
    typed = request.POST

    def value(name: str, usual: Any) -> Any:
        return typed.get(f"{name}-{one.pk}", "" if usual is None else usual)

    return {
        "recording": one,
        "kind": value("kind", one.kind),
        "part": value("part", label_of(one.subject)),
        "run": value("run", one.run_id),
        "speed": value("speed", None),
        "blades": value("blades", None),
        "channel": str(value("channel", 1)),
        "channels": [str(n) for n in range(1, one.channels + 1)] if one.channels > 1 else [],
    }


def _recordings(found: RecordingSession):
    return (
        found.recordings.standing()
        .select_related("specimen__version__entry", "reference__type", "run__test", "analysis")
        .defer("analysis__figures")
    )


def _told(found: RecordingSession) -> dict[str, Any]:
    """Recordings that are confirmed, and how the session stands with its calibration."""
    recordings = list(_recordings(found).exclude(state=SoundRecording.State.NEW))
    for one in recordings:
        one.session = found
    lacks = ""
    waits = found.recordings.standing().filter(state=SoundRecording.State.NEW).exists()
    if found.calibration != Calibration.NONE:
        try:
            pascals_of(found)
        except NotCalibrated as problem:
            lacks = str(problem)
    busy = any(one.at_work for one in recordings)
    return {
        "recordings": recordings,
        "lacks": "" if waits else lacks,
        "busy": busy,
        "parts_heard": [] if busy else side_by_side(found),
        "away": busy and worker_away(),
        "no_room": recordings
        and not any(one.kind == SoundRecording.Kind.BACKGROUND for one in recordings),
    }


def rows(request: Request, slug: str, pk: int) -> HttpResponse:
    """The confirmed recordings alone, asked for again while one is analysed."""
    found = _session(request, slug, pk)
    return render(
        request, "sound/_rows.html", {"round": found.round, "session": found, **_told(found)}
    )


def microphone(request: Request, slug: str, pk: int) -> HttpResponse:
    """Record with the microphone of the device that shows the page."""
    found = _session(request, slug, pk)
    return render(
        request,
        "sound/microphone.html",
        {
            "round": found.round,
            "session": found,
            "parts": list(Parts(found.round).by_label),
            "most": MOST_BYTES,
        },
    )


@require_POST
def hand_in(request: Request, slug: str, pk: int) -> HttpResponse:
    """Take files in, each by itself: what cannot be read is told, all others stay."""
    found = _session(request, slug, pk)
    files = request.FILES.getlist("sound")
    if getattr(request, "upload_too_large", False):
        return _session_page(
            request,
            found,
            problems=[
                f"Together the files are larger than {MOST_BYTES / 1e6:,.0f} MB and were not read. Hand"
                " fewer in at once; of a film only the sound is of use: save its sound track alone, or"
                " cut out the minute that matters."
            ],
        )
    if not files:
        return _session_page(request, found, problems=["Choose a sound file first."])
    if len(files) > actions.MOST_FILES:
        return _session_page(
            request, found, problems=[f"At most {actions.MOST_FILES} files are taken at once."]
        )
    changed = request.POST.getlist("changed")
    problems, taken = [], 0
    for i, file in enumerate(files):
        moment = whole(changed[i]) if i < len(changed) else None
        one = actions.HandedIn(
            file.name or "",
            file,
            datetime.fromtimestamp(moment / 1000, UTC) if moment and moment < 4e12 else None,
        )
        try:
            actions.hand_in(request.user, found, one)
            taken += 1
        except ValidationError as problem:
            problems += [f"{file.name}: {sentence}" for sentence in problem.messages]
    if problems:
        if taken:
            problems.append(f"The other {taken} {'is' if taken == 1 else 'are'} in.")
        return _session_page(request, found, problems=problems)
    if "one_of" in request.POST:  # the page sends several one by one, and asks for no page between
        return HttpResponse(status=204)
    messages.success(
        request,
        f"{taken} recording{'s are' if taken > 1 else ' is'} in. Look at what each was taken for, and"
        " confirm it.",
    )
    return redirect(found)


@require_POST
def allow(request: Request, slug: str, pk: int) -> HttpResponse:
    """A host has the session compared with others that were held in another way."""
    found = _session(request, slug, pk)
    why = str(request.POST.get("why", ""))
    actions.allow(request.user, found, why)
    messages.success(
        request,
        "It is compared with sessions that were held in another way; the reason stands beside."
        if why.strip()
        else "It is no longer compared with sessions that were held in another way.",
    )
    return redirect(found)


@require_POST
def confirm(request: Request, slug: str, pk: int) -> HttpResponse:
    """Say what the new recordings are of, and have them analysed."""
    found = _session(request, slug, pk)
    new = list(_recordings(found).filter(state=SoundRecording.State.NEW))
    if (out := whole(request.POST.get("out"))) is not None:
        for one in new:
            if one.pk == out:
                one.session = found
                actions.set_aside(request.user, one)
                messages.success(request, f"{one} was taken out.")
        return redirect(found)
    parts = Parts(found.round)
    problems: list[str] = []
    said = []
    for one in new:
        if f"kind-{one.pk}" not in request.POST:
            continue  # it came in while the page stood open
        one.session = found
        try:
            said.append((one, read_said(request.POST, one, parts)))
        except ValidationError as problem:
            problems += [f"{one.name}: {sentence}" for sentence in problem.messages]
    if not problems and not said:
        return redirect(found)
    if not problems:
        try:
            actions.confirm(request.user, said)
            return redirect(found)
        except ValidationError as problem:
            problems = problem.messages
    return _session_page(request, found, problems=problems)
