"""Pages of blind listening: the host's, and the listeners' by one link without an account."""

from __future__ import annotations

import re
from typing import Any

from django.contrib import messages
from django.contrib.auth.decorators import login_not_required
from django.core.exceptions import ValidationError
from django.http import FileResponse, Http404, HttpRequest, HttpResponse
from django.shortcuts import get_object_or_404, redirect, render
from django.urls import reverse
from django.views.decorators.cache import never_cache
from django.views.decorators.http import require_POST

from hauch.bench.forms import RoomForm, room_initial
from hauch.bench.runs import Room
from hauch.bench.views import last_room, spread_errors
from hauch.people.keep import place_of
from hauch.people.requests import Request, whole
from hauch.rounds.models import Round, Test
from hauch.rounds.queries import round_for, round_tests
from hauch.sound import blind
from hauch.sound.listening import sounds_of
from hauch.sound.models import Listener, Listening, SoundAnalysis, SoundRecording
from hauch.sound.queries import visible_to

MOST_OFFERED = 200
PLACE = re.compile(r"place-(\d{1,12})")


def begin(request: Request, slug: str) -> HttpResponse:
    """Open a blind listening: what is asked, of which recordings."""
    round = round_for(request.user, slug, "run.record")
    offered = list(
        visible_to(request.user, round)
        .filter(state=SoundRecording.State.DONE, kind=SoundRecording.Kind.PART)
        .order_by("-recorded_at", "pk")[:MOST_OFFERED]
    )
    problems: list[str] = []
    chosen = {whole(text) for text in request.POST.getlist("recording")}
    if request.method == "POST":
        try:
            made = blind.open_listening(
                request.user,
                round,
                request.POST.get("kind", ""),
                request.POST.get("equal", ""),
                [one for one in offered if one.pk in chosen],
                trials=whole(request.POST.get("trials")) or 0,
                test=_test(round, request.POST.get("test")),
            )
            return redirect(made)
        except ValidationError as problem:
            problems = problem.messages
    context = {
        "round": round,
        "offered": offered,
        "chosen": chosen,
        "kinds": Listening.Kind.choices,
        "equals": Listening.Equal.choices,
        "tests": [t for t in round_tests(round) if t.how.key == "listeners"],
        "typed": request.POST,
        "problems": problems,
    }
    return render(request, "sound/blind_begin.html", context, status=422 if problems else 200)


def _test(round: Round, text: str | None) -> Test | None:
    pk = whole(text)
    return next((t for t in round_tests(round) if t.pk == pk and t.how.key == "listeners"), None)


def _listening(request: Request, slug: str, pk: int) -> Listening:
    round = round_for(request.user, slug, "run.record")
    found: Listening = get_object_or_404(
        Listening.objects.select_related("test"), pk=pk, round=round
    )
    found.round = round
    return found


def listening(request: Request, slug: str, pk: int) -> HttpResponse:
    """A listening for those who run it: the link, who has listened, what it comes to."""
    return _page(request, _listening(request, slug, pk))


def _page(
    request: Request,
    found: Listening,
    problems: list[str] | None = None,
    form: RoomForm | None = None,
) -> HttpResponse:
    units = request.user.units
    asks = found.open and found.test is not None
    played = list(
        found.played.select_related(
            "recording__specimen__version__entry",
            "recording__reference__type",
            "recording__session",
        )
    )
    context: dict[str, Any] = {
        "round": found.round,
        "listening": found,
        "played": played,
        "listeners": found.listeners.all(),
        "link": request.build_absolute_uri(reverse("sound:take_part", args=[found.secret])),
        "problems": problems or [],
        "form": (form or RoomForm(units=units, initial=room_initial(last_room(found.round), units)))
        if asks
        else None,
    }
    if found.kind == Listening.Kind.ABX:
        context["heard"] = blind.heard(found)
    else:
        context |= _ranked(found, played)
    return render(request, "sound/blind.html", context, status=422 if problems else 200)


def _ranked(found: Listening, played: list[Any]) -> dict[str, Any]:
    told = blind.ranked(found)
    rows = [
        {
            "one": one,
            "place": 100 * told.places[one.code] if one.code in told.places else None,
            "u": 200 * told.u.get(one.code, 0.0),
            "listeners": told.judges[one.code],
        }
        for one in played
    ]
    rows.sort(key=lambda row: (row["place"] is None, row["place"] or 0.0))
    return {"ranked": rows, "agreement": told}


@require_POST
def close(request: Request, slug: str, pk: int) -> HttpResponse:
    """End it, into runs where it counts in a test."""
    found = _listening(request, slug, pk)
    form, room = None, None
    if found.test is not None:
        form = RoomForm(request.POST, units=request.user.units)
        room = _room(form)
        if room is None:
            problems = [f"{form.fields[k].label}: {e[0]}" for k, e in form.errors.items()]
            return _page(request, found, problems, form)
    try:
        made = blind.close(request.user, found, room)
    except ValidationError as problem:
        problems = spread_errors(problem, form) if form is not None else problem.messages
        return _page(request, found, problems or ["Look at the air of the room."], form)
    told = f" {len(made)} runs were recorded." if made else ""
    messages.success(request, f"The listening is closed.{told}")
    return redirect(found)


def _room(form: RoomForm) -> Room | None:
    if not form.is_valid():
        return None
    room = form.room()
    return room if form.is_valid() else None


def _by_link(secret: str) -> Listening:
    found = Listening.objects.select_related("round").filter(secret=secret[:64]).first()
    if found is None:
        raise Http404("This link opens no listening. Ask the host for a new one.")
    return found


def _listener(request: HttpRequest, found: Listening) -> Listener | None:
    pk = request.session.get(f"listener-{found.pk}")
    listener = Listener.objects.filter(pk=pk, listening=found).first() if pk else None
    if listener is not None:
        listener.listening = found
    return listener


@login_not_required
@never_cache
def take_part(request: HttpRequest, secret: str) -> HttpResponse:
    """A listener's page: the name, then trial by trial, or the places."""
    found = _by_link(secret)
    listener, problems = _listener(request, found), []
    if request.method == "POST":
        try:
            if listener is None:
                made = blind.take_part(found, str(request.POST.get("name", "")))
                request.session[f"listener-{found.pk}"] = made.pk
            elif found.kind == Listening.Kind.ABX:
                trial = whole(request.POST.get("trial")) or 0
                blind.answer(listener, trial, str(request.POST.get("said", "")))
            else:
                blind.rank(listener, _places(request))
            return redirect("sound:take_part", secret)
        except ValidationError as problem:
            problems = problem.messages
    context: dict[str, Any] = {
        "listening": found,
        "listener": listener,
        "secret": secret,
        "problems": problems,
    }
    if listener is not None and found.open and not blind.ready(found):
        context["waiting"] = True
    elif listener is not None and found.open:
        context |= (
            _trial(listener, secret)
            if found.kind == Listening.Kind.ABX
            else _ranking(listener, secret, request)
        )
    return render(request, "sound/blind_listen.html", context, status=422 if problems else 200)


def _places(request: HttpRequest) -> dict[int, int]:
    given = {}
    for key, text in request.POST.items():
        if (field := PLACE.fullmatch(key)) and (place := whole(str(text))) is not None:
            given[int(field[1])] = place
    return given


def _urls(secret: str, count: int) -> list[str]:
    return [reverse("sound:played", args=[secret, n]) for n in range(count)]


def _trial(listener: Listener, secret: str) -> dict[str, Any]:
    """The next trial: A, B, and X, which is one of them."""
    found = listener.listening
    given = {one.trial for one in listener.answers.all()}
    trial = next((n for n in range(1, found.trials + 1) if n not in given), None)
    if trial is None:
        right = sum(one.right for one in listener.answers.all())
        return {"done": True, "right": right, "p": blind.guessed(right, found.trials)}
    first, second = blind.playable(found)
    x = (first, second)[blind.x_of(listener, trial)]
    urls = [f"{url}?trial={trial}" for url in _urls(secret, 3)]
    return {
        "trial": trial,
        "hears": [(name, name.lower(), "") for name in "ABX"],
        "sounds": sounds_of([first, second, x], list("ABX"), urls, found.equal),
    }


def _ranking(listener: Listener, secret: str, request: HttpRequest) -> dict[str, Any]:
    """All that is played, in the listener's own order, with the places given so far."""
    found, played = listener.listening, blind.in_own_order(listener)
    known = {one.pk: one for one in found.played.select_related("recording__analysis")}
    analyses: list[SoundAnalysis] = [known[one.pk].recording.analysis for one in played]
    given = {place.played_id: place.place for place in listener.places.all()}
    typed = _places(request) if request.method == "POST" else given
    return {
        "done": bool(given),
        "hears": [(one.code, str(n), "") for n, one in enumerate(played, start=1)],
        "rows": [(one, typed.get(one.pk)) for one in played],
        "numbers": range(1, len(played) + 1),
        "sounds": sounds_of(
            analyses, [one.code for one in played], _urls(secret, len(played)), found.equal
        ),
    }


@login_not_required
@never_cache
def played(request: HttpRequest, secret: str, number: int) -> FileResponse:
    """One of the sounds, for a listener: by its place in the own order; 2 is X of a trial."""
    found = _by_link(secret)
    listener = _listener(request, found)
    if listener is None or not found.open:
        raise Http404("Say first who listens.")
    if found.kind == Listening.Kind.ABX:
        trial = whole(request.GET.get("trial")) or 0
        index = blind.x_of(listener, trial) if number == 2 else number
        analyses = blind.playable(found)
    else:
        known = {one.pk: one for one in found.played.select_related("recording__analysis")}
        analyses = [known[one.pk].recording.analysis for one in blind.in_own_order(listener)]
        index = number
    if not 0 <= index < len(analyses):
        raise Http404("There is no such sound.")
    return FileResponse(place_of(analyses[index].copy).open("rb"), content_type="audio/flac")
