"""Pages of a panel: the operator's, to open and close a sitting, and the judges', each by a link of the
own.
"""

from __future__ import annotations

import re
from typing import Any

from django.contrib import messages
from django.contrib.auth.decorators import login_not_required
from django.core.exceptions import ValidationError
from django.db.models import Count
from django.http import Http404, HttpRequest, HttpResponse
from django.shortcuts import get_object_or_404, redirect, render
from django.urls import reverse
from django.views.decorators.cache import never_cache
from django.views.decorators.http import require_POST

from hauch.bench.forms import RoomForm, room_initial
from hauch.bench.plan import plan_of
from hauch.bench.reduction import places_of
from hauch.bench.views import last_room, spread_errors
from hauch.core.quantity.typed import parse_number
from hauch.panel import actions
from hauch.panel.models import BY_PLACES, FacePicture, Judge, Sample, Sitting
from hauch.panel.queries import judgeable
from hauch.panel.results import Told, rows, told
from hauch.people.keep import read_kept
from hauch.people.requests import Request, whole
from hauch.rounds.models import Test
from hauch.rounds.queries import round_for

FIELD = re.compile(r"p-(\d{1,9})-(\d{1,2})-(\d{1,2})")


def begin(request: Request, slug: str, test_pk: int) -> HttpResponse:
    """Open a sitting: who judges, by what, and which samples."""
    round = round_for(request.user, slug, "run.record")
    test = get_object_or_404(
        Test.objects.select_related("round", "rig", "setting"), pk=test_pk, round=round
    )
    offered = judgeable(round, plan_of(round, 1))
    subjects = [(key, label) for key, (label, _) in offered.items()]
    places = places_of(test)
    context: dict[str, Any] = {
        "round": round,
        "test": test,
        "subjects": subjects,
        "chosen": [key for key, _ in subjects],
        "judges": [""] * places,
        "criteria": _criteria([]),
        "faces": "",
        "face_count": int(test.rig.pairs.get("faces", (1.0, 0.0))[0]),
        "by_places": test.procedure == BY_PLACES,
        "sittings": test.sittings.select_related("round", "test"),
    }
    if request.method == "POST":
        chosen, judges = request.POST.getlist("sample"), request.POST.getlist("judge")
        typed = list(
            zip(request.POST.getlist("criterion"), request.POST.getlist("weight"), strict=False)
        )
        context |= {
            "chosen": chosen,
            "judges": judges[:places],
            "criteria": _criteria(typed),
            "faces": request.POST.get("faces", ""),
        }
        try:
            sitting, links = actions.open_sitting(
                request.user,
                test,
                [offered[key][1] for key in chosen if key in offered],
                judges,
                [(name, _weight(name, text)) for name, text in typed],
                re.split(r"[,;\n]", context["faces"]),
            )
        except ValidationError as problem:
            context["problems"] = problem.messages
        else:
            request.session[_links_key(sitting)] = {
                name: _link(request, secret) for name, secret in links.items()
            }
            return redirect(sitting)
    status = 422 if context.get("problems") else 200
    return render(request, "panel/begin.html", context, status=status)


def _criteria(typed: list[tuple[str, str]]) -> list[tuple[int, str, str]]:
    """Lines for criteria with what each counts, by number: those that are typed, and empty ones."""
    rest = [("", "1")] * (actions.MOST_CRITERIA - len(typed))
    return [
        (n, name, weight)
        for n, (name, weight) in enumerate([*typed, *rest][: actions.MOST_CRITERIA], 1)
    ]


def _weight(name: str, text: str) -> float:
    """What a criterion counts; 1 where nothing is typed."""
    if not text.strip() or not name.strip():
        return 1.0
    try:
        return parse_number(text[:20])
    except ValueError as problem:
        raise ValidationError(f"{name.strip()}: {problem}") from problem


def _links_key(sitting: Sitting) -> str:
    return f"panel-links-{sitting.pk}"


def _link(request: HttpRequest, secret: str) -> str:
    return request.build_absolute_uri(reverse("panel:judge", args=[secret]))


def _sitting(request: Request, slug: str, pk: int) -> Sitting:
    round = round_for(request.user, slug, "run.record")
    found: Sitting = get_object_or_404(
        Sitting.objects.select_related("round", "test__rig"), pk=pk, round=round
    )
    found.round = round
    return found


def sitting(request: Request, slug: str, pk: int) -> HttpResponse:
    """A sitting for those who run it: links, how far each judge is, codes, photographs, closing."""
    found = _sitting(request, slug, pk)
    return _sitting_page(request, found)


def _sitting_page(
    request: Request,
    found: Sitting,
    form: RoomForm | None = None,
    problems: list[str] | None = None,
) -> HttpResponse:
    units = request.user.units
    judges = list(found.judges.annotate(given=Count("marks")).order_by("pk"))
    samples = found.samples.select_related(
        "specimen__version__entry", "reference__type"
    ).prefetch_related("pictures__picture")
    results = _results(found, list(samples))
    correlations = results.get("correlations", {})
    context = {
        "round": found.round,
        "sitting": found,
        "judges": [(judge, correlations.get(judge.pk)) for judge in judges],
        "wanted": found.points_expected * found.samples.count(),
        "all_done": all(judge.done_at for judge in judges),
        "links": request.session.get(_links_key(found), {}),
        "samples": samples,
        "faces": [(n, found.face(n)) for n in range(1, found.faces + 1)],
        **results,
        "form": form or RoomForm(units=units, initial=room_initial(last_room(found.round), units)),
        "problems": problems or [],
    }
    return render(request, "panel/sitting.html", context, status=422 if problems else 200)


def _results(found: Sitting, samples: list[Sample]) -> dict[str, Any]:
    """What the judges have given so far, as tables and as a chart."""
    result = told(found)
    if not result.total.means:
        return {}
    names = {one.pk: one for one in samples}
    ordered = rows(result, samples, found.by_places)
    columns = [result.total, *(result.criteria if len(result.criteria) > 1 else [])]
    apart = next((judge for judge, one in result.judges if one.apart), None)
    return {
        "columns": columns,
        "unit": "%" if found.by_places else "points",
        "rows": [
            {
                "sample": one,
                "cells": [(c.means.get(one.pk), c.u.get(one.pk)) for c in columns],
                "judges": result.total.agreement.judges[one.pk],
            }
            for one in ordered
        ],
        "items": [(item, _order(item.agreement.places, names)) for item in result.items],
        "agreement": result.total.agreement,
        "correlations": {judge.pk: one.correlation for judge, one in result.judges},
        "apart": apart,
        "chart": _chart(found, result, ordered, apart),
        "complete": len(names) == len(result.total.means),
    }


def _order(places: dict[int, float], names: dict[int, Sample]) -> str:
    """Samples from the best on, by their codes; those of one place with an equals sign."""
    found = sorted(places, key=lambda pk: (places[pk], names[pk].code))
    words = ""
    for before, pk in zip([None, *found], found, strict=False):
        joint = "" if before is None else " = " if places[before] == places[pk] else ", "
        words += f"{joint}{names[pk].code}"
    return words


def _chart(
    found: Sitting, result: Told, ordered: list[Sample], apart: Judge | None
) -> dict[str, Any]:
    """What each judge gave each sample, and the mean."""
    return {
        "unit": "%" if found.by_places else "points",
        "title": "mean place, 0 % the best end" if found.by_places else "points",
        "most": 100 if found.by_places else found.most,
        "samples": [
            {
                "name": f"{one.code} {one.short_name}",
                "mean": result.total.means[one.pk],
                "u": result.total.u[one.pk],
            }
            for one in ordered
            if one.pk in result.total.means
        ],
        "points": [
            {
                "name": f"{one.code} {one.short_name}",
                "value": result.by_judge[judge.pk][one.pk],
                "judge": judge.name,
                "apart": judge == apart,
            }
            for one in ordered
            for judge, _ in result.judges
            if one.pk in result.by_judge[judge.pk]
        ],
    }


@require_POST
def new_link(request: Request, slug: str, pk: int, judge_pk: int) -> HttpResponse:
    """Another link for a judge who lost the first."""
    found = _sitting(request, slug, pk)
    judge = get_object_or_404(
        Judge.objects.select_related("sitting__round"), pk=judge_pk, sitting=found
    )
    try:
        secret = actions.new_link(request.user, judge)
    except ValidationError as problem:
        messages.error(request, " ".join(problem.messages))
    else:
        known = request.session.get(_links_key(found), {})
        request.session[_links_key(found)] = known | {judge.name: _link(request, secret)}
        messages.success(request, f"{judge.name} has a new link; the one before no longer opens.")
    return redirect(found)


@require_POST
def add_picture(request: Request, slug: str, pk: int, sample_pk: int) -> HttpResponse:
    """A photograph of a face of a sample."""
    found = _sitting(request, slug, pk)
    sample = get_object_or_404(Sample, pk=sample_pk, sitting=found)
    sample.sitting = found
    sent, face = request.FILES.get("picture"), whole(request.POST.get("face"))
    if sent is None or face is None:
        messages.error(request, "Choose a face and a picture of it.")
        return redirect(found)
    try:
        actions.add_picture(request.user, sample, face, sent.read())
    except ValidationError as problem:
        messages.error(request, " ".join(problem.messages))
    return redirect(found)


@require_POST
def close(request: Request, slug: str, pk: int) -> HttpResponse:
    """Close a sitting into runs."""
    found = _sitting(request, slug, pk)
    form = RoomForm(request.POST, units=request.user.units)
    problems: list[str] = []
    if form.is_valid():
        room = form.room()
        if form.is_valid():
            try:
                made = actions.close(request.user, found, room)
            except ValidationError as problem:
                problems = spread_errors(problem, form) or ["Look at the room's readings."]
            else:
                messages.success(request, f"The sitting is closed: {len(made)} runs were recorded.")
                return redirect("bench:overview", slug)
    problems = problems or [f"{form.fields[k].label}: {e[0]}" for k, e in form.errors.items()]
    return _sitting_page(request, found, form, problems)


def _judge(secret: str) -> Judge:
    found = actions.judge_of(secret)
    if found is None:
        raise Http404("This link opens no sitting. Ask the host for a new one.")
    return found


@login_not_required
@never_cache
def judge(request: HttpRequest, secret: str) -> HttpResponse:
    """The page of one judge: samples by their codes in the own order, with faces and criteria."""
    found = _judge(secret)
    sitting, problems = found.sitting, []
    if request.method == "POST":
        try:
            actions.give(found, _points(request))
            if "finish" in request.POST:
                actions.finish(found)
                return redirect("panel:judge", secret)
        except ValidationError as problem:
            problems = problem.messages
        if request.headers.get("HX-Request"):
            return _progress(request, found, problems)
    context = {
        "judge": found,
        "sitting": sitting,
        "sections": _sections(found),
        "problems": problems,
        "secret": secret,
        **_counts(found),
    }
    return render(request, "panel/judge.html", context, status=422 if problems else 200)


def _sections(found: Judge) -> list[dict[str, Any]]:
    """What a judge fills in: sample by sample where points are given, else what is ranked one after
    the other with all samples.
    """
    sitting, samples = found.sitting, actions.in_own_order(found)
    given = {(m.sample_id, m.face, m.criterion): f"{m.points:g}" for m in found.marks.all()}

    def field(sample: Sample, face: int, n: int, label: str, shown: bool) -> dict[str, Any]:
        pictures = [p for p in sample.pictures.all() if p.face == face]
        return {
            "name": f"p-{sample.pk}-{face}-{n}",
            "label": label,
            "value": given.get((sample.pk, face, n), ""),
            "picture": pictures[0] if pictures and shown else None,
            "alt": f"{sitting.face(face).capitalize()} of sample {sample.code}",
        }

    faces, places = range(1, sitting.faces + 1), range(len(sitting.criteria))
    if sitting.by_places:
        return [
            {
                "heading": sitting.item(face, n).capitalize(),
                "fields": [field(s, face, n, f"Sample {s.code}", True) for s in samples],
            }
            for n in places
            for face in faces
        ]
    return [
        {
            "heading": f"Sample {sample.code}",
            "fields": [
                field(sample, face, n, _label(sitting, face, n), n == 0)
                for face in faces
                for n in places
            ],
        }
        for sample in samples
    ]


def _label(sitting: Sitting, face: int, n: int) -> str:
    """What one number is of, within a sample."""
    criterion = sitting.criteria[n].lower()
    return f"{sitting.face(face)}, {criterion}".capitalize() if sitting.faces > 1 else criterion


def _counts(found: Judge) -> dict[str, int]:
    sitting = found.sitting
    return {
        "given": found.marks.count(),
        "wanted": sitting.points_expected * sitting.samples.count(),
    }


def _progress(request: HttpRequest, found: Judge, problems: list[str]) -> HttpResponse:
    context = {"judge": found, "sitting": found.sitting, "problems": problems, **_counts(found)}
    return render(request, "panel/_progress.html", context)


def _points(request: HttpRequest) -> dict[tuple[int, int, int], float | None]:
    """Points as typed, by sample, face and criterion."""
    found: dict[tuple[int, int, int], float | None] = {}
    for key, text in request.POST.items():
        place = FIELD.fullmatch(key)
        if place is None:
            continue
        numbers = (int(place[1]), int(place[2]), int(place[3]))
        try:
            found[numbers] = parse_number(str(text)[:20]) if str(text).strip() else None
        except ValueError as problem:
            raise ValidationError(str(problem)) from problem
    return found


@login_not_required
def picture(request: HttpRequest, secret: str, pk: int) -> HttpResponse:
    """A photograph, for a judge of its sitting."""
    found = _judge(secret)
    row = get_object_or_404(
        FacePicture.objects.select_related("picture"), pk=pk, sample__sitting=found.sitting_id
    )
    answer = HttpResponse(read_kept(row.picture.path), content_type="image/jpeg")
    answer["Cache-Control"] = "private, max-age=3600"
    return answer
