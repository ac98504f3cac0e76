"""Parts of an entry: the check with its views, a part beside its earlier self, and what its
designer says of it.
"""

from __future__ import annotations

import json
from collections.abc import Callable
from typing import Any

from django.contrib import messages
from django.core.exceptions import ValidationError
from django.http import Http404, HttpResponse
from django.shortcuts import redirect, render
from django.utils.safestring import SafeString, mark_safe
from django.views.decorators.http import require_POST

from hauch.core.geometry.envelope import Envelope
from hauch.core.part.drawing import section_drawing
from hauch.core.part.findings import WORDS
from hauch.core.part.report import STAGES
from hauch.core.quantity.show import show
from hauch.entries import actions, queries
from hauch.entries.forms import PartForm
from hauch.entries.models import PartCheck, PartFile, Version
from hauch.formats.drawing_svg import to_svg
from hauch.people.keep import read_kept
from hauch.people.models import User
from hauch.people.requests import Request, whole
from hauch.rounds.queries import round_for
from hauch.ui.worker import worker_away
from hauch.ui.workings import drawer


def _file(request: Request, slug: str, pk: int, file_pk: int) -> PartFile:
    round = round_for(request.user, slug)
    return queries.part_for(request.user, round, pk, file_pk)


def section(check: PartCheck, envelope: Envelope, units: str) -> SafeString:
    """The part cut open in its place, as SVG; lengths in the person's units."""
    beside = check.data.get("section_beside", 0.0)
    drawing = section_drawing(check.data["section"], envelope, beside)
    return mark_safe(to_svg(drawing, lambda metres: str(show(metres, "length", units)), 800, 240))  # noqa: S308 the writer escapes every text


def place_of(envelope: Envelope) -> dict[str, Any]:
    """What the turning view draws of the envelope [mm]."""
    keep_outs = [
        [*(1000 * v for v in k.box.at), *(1000 * v for v in k.box.size)] for k in envelope.keep_outs
    ]
    if envelope.family == "rotor":
        return {
            "cylinder": [1000 * envelope.swept_radius, 1000 * envelope["depth"]],
            "keep_outs": keep_outs,
        }
    if envelope.family == "ring":
        half = 500 * envelope["outer"]
        return {
            "box": [-half, -1000 * envelope["neck_drop"], 0, half, half, 1000 * envelope["depth"]],
            "keep_outs": keep_outs,
        }
    w, h, length = (1000 * envelope[k] for k in ("width", "height", "length"))
    return {"box": [-w / 2, -h / 2, 0, w / 2, h / 2, length], "keep_outs": keep_outs}


def check_context(check: PartCheck | None) -> dict[str, Any]:
    """What templates say of a check."""
    if check is None:
        return {"check": None}
    stage = min(check.stage, len(STAGES) - 1)
    return {
        "check": check,
        "stage": STAGES[stage],
        "share": round(100 * (check.stage + 0.5) / len(STAGES)),
        "word": WORDS.get(check.verdict, ""),
        "reasons": [r for r in check.reasons if r[0] != "well"],
        "well": [r for r in check.reasons if r[0] == "well"],
        "worker_away": check.at_work and worker_away(),
    }


def view_context(
    file: PartFile, check: PartCheck | None, envelope: Envelope
) -> dict[str, Any] | None:
    """What the turning view is given."""
    if check is None or not check.view:
        return None
    balance, blades = check.data.get("balance"), check.data.get("blades")
    about = {
        "place": place_of(envelope),
        "least": 1000 * envelope["wall"],
        "rotor": envelope.family == "rotor",
        "centre": [balance["offset"], balance["towards"]] if balance else None,
        "blades": blades["outlines"] if blades else [],
    }
    return {"file": file, "check": check, "about": json.dumps(about)}


def _curves(
    y: tuple[str, str], lines: list[tuple[str, list[float], list[float]]], x: tuple[str, str]
) -> dict[str, Any]:
    styles = ("first", "second", "third")
    made = [
        {"label": label, "xs": xs, "ys": ys, "style": style}
        for (label, xs, ys), style in zip(lines, styles, strict=False)
    ]
    return {
        "x": x,
        "y": y,
        "lines": made,
        "points": [],
        "marks": [],
        "bars": (),
        "add_up": False,
        "others": [],
    }


def charts_of(check: PartCheck) -> list[tuple[str, dict[str, Any]]]:
    """Charts of a check: blades along the radius, or the free area along the axis."""
    found = []
    stations = check.data.get("blades", {}).get("stations") or []
    if stations:
        radius, chord, thickness, pitch = (list(column) for column in zip(*stations, strict=True))
        at = ("length", "radius")
        found.append(
            (
                "Chord and thickness of the blades",
                _curves(
                    ("length", "chord, thickness"),
                    [("chord", radius, chord), ("thickness", radius, thickness)],
                    at,
                ),
            )
        )
        found.append(
            ("Pitch of the blades", _curves(("angle", "pitch"), [("pitch", radius, pitch)], at))
        )
    if areas := check.data.get("areas"):
        places, values = [1e-3 * a for a, _ in areas], [1e-6 * v for _, v in areas]
        found.append(
            (
                "Free area in cuts across the axis",
                _curves(
                    ("area", "free area"),
                    [("free area", places, values)],
                    ("length", "from the mounting side"),
                ),
            )
        )
    return found


def part(request: Request, slug: str, pk: int, file_pk: int) -> HttpResponse:
    """A part: turning view, verdict in sentences, section, figures with their workings."""
    file = _file(request, slug, pk, file_pk)
    if not file.is_mesh:
        raise Http404("This file is no part.")
    entry, check = file.version.entry, queries.check_of(file)
    may = actions.may_change(request.user, entry)
    done = check is not None and check.state == PartCheck.State.DONE
    context = {
        "round": entry.round,
        "entry": entry,
        "version": file.version,
        "file": file,
        "may_change": may,
        "may_describe": may and file.version.sealed_at is None,
        "form": PartForm(instance=file),
        "view": view_context(file, check, entry.round.what) if done else None,
        "groups": queries.grouped(check) if check and done else [],
        "section": (
            section(check, entry.round.what, request.user.units)
            if check and done and check.data.get("section")
            else ""
        ),
        "charts": charts_of(check) if check and done else [],
        "earlier": queries.earlier_checks(file),
        **check_context(check),
    }
    return render(request, "entries/part.html", context)


def check(request: Request, slug: str, pk: int, file_pk: int) -> HttpResponse:
    """How far the check is, asked for while it is at work; the page is loaded anew when it is done."""
    file = _file(request, slug, pk, file_pk)
    row = queries.check_of(file)
    if row is not None and not row.at_work and request.htmx:
        answer = HttpResponse(status=204)
        answer["HX-Refresh"] = "true"
        return answer
    context = {
        "round": file.version.entry.round,
        "entry": file.version.entry,
        "file": file,
        "may_change": actions.may_change(request.user, file.version.entry),
    }
    return render(request, "entries/_check.html", {**context, **check_context(row)})


def _kept_file(
    request: Request, slug: str, pk: int, file_pk: int, field: str, kind: str
) -> HttpResponse:
    row = queries.check_of(_file(request, slug, pk, file_pk))
    path = getattr(row, field, "")
    if not path:
        raise Http404("There is no such view.")
    answer = HttpResponse(read_kept(path), content_type=kind)
    answer["Cache-Control"] = "private, max-age=60"
    return answer


def turning_view(request: Request, slug: str, pk: int, file_pk: int) -> HttpResponse:
    """The part as GLB, for the turning view."""
    return _kept_file(request, slug, pk, file_pk, "view", "model/gltf-binary")


def still(request: Request, slug: str, pk: int, file_pk: int) -> HttpResponse:
    """The part as a picture."""
    return _kept_file(request, slug, pk, file_pk, "still", "image/png")


def working(request: Request, slug: str, pk: int, file_pk: int, key: str) -> HttpResponse:
    """How a figure of the check came about."""
    row = queries.check_of(_file(request, slug, pk, file_pk))
    figure = row.figure(key) if row else None
    if figure is None:
        raise Http404("The check has no such figure.")
    return render(
        request, "parts/drawer.html", drawer(figure["label"], figure["kind"], figure["quantity"])
    )


def _describe(request: Request, file: PartFile) -> str:
    form = PartForm(request.POST, instance=file)
    if not form.is_valid():
        raise ValidationError([t for errors in form.errors.values() for t in errors])
    before = PartFile.objects.select_related("version__entry__round").get(pk=file.pk)
    actions.describe_part(request.user, before, **form.cleaned_data)
    return f"What you say of {file.name} is saved."


def _say_unit(request: Request, file: PartFile) -> str:
    actions.describe_part(
        request.user,
        file,
        place=file.place,
        count=file.count,
        unit=request.POST.get("unit", ""),
        axis=file.axis,
    )
    return "The unit is saved; the part is checked anew with it."


def _again(request: Request, file: PartFile) -> str:
    actions.check_again(request.user, file)
    return f"{file.name} is checked anew."


def _stop(request: Request, file: PartFile) -> str:
    actions.stop_check(request.user, file)
    return "The check stops."


def _mended(request: Request, file: PartFile) -> str:
    return (
        f"{actions.take_mended(request.user, file).name} is handed in beside the original, and is"
        " being checked."
    )


def _remove(request: Request, file: PartFile) -> str:
    actions.remove_file(request.user, file)
    return f"{file.name} is taken out of {file.version}."


CHANGES: dict[str, Callable[[Request, PartFile], str]] = {
    "describe": _describe,
    "unit": _say_unit,
    "again": _again,
    "stop": _stop,
    "mended": _mended,
    "remove": _remove,
}


@require_POST
def change(request: Request, slug: str, pk: int, file_pk: int, what: str) -> HttpResponse:
    """Change something of a part: what is said of it, its check, whether it is handed in at all."""
    file = _file(request, slug, pk, file_pk)
    if what not in CHANGES:
        raise Http404("There is nothing of that name to be done with a part.")
    try:
        messages.success(request, CHANGES[what](request, file))
    except ValidationError as problem:
        for text in problem.messages:
            messages.error(request, text)
    if what in {"remove", "mended"} or not file.is_mesh:
        return redirect("entries:edit", slug, pk)
    return redirect(file)


def parts(request: Request, slug: str, pk: int) -> HttpResponse:
    """The parts of an entry's newest version, for its page."""
    round = round_for(request.user, slug)
    entry = queries.entry_for(request.user, round, pk)
    version = entry.versions.order_by("-number").prefetch_related("bill", "steps__picture").first()
    rows = []
    if version is not None:
        version.entry = entry
        for file in queries.parts_of(version):
            file.version = version
            rows.append({"file": file, **check_context(queries.check_of(file))})
    others = [r for r in targets(request.user, entry) if r.pk != round.pk]
    context = {
        "round": round,
        "entry": entry,
        "version": version,
        "parts": rows,
        "may_change": actions.may_change(request.user, entry),
        "targets": others,
        "versions": entry.versions.count(),
        "view": view_context(rows[0]["file"], rows[0]["check"], round.what) if rows else None,
    }
    return render(request, "entries/_parts.html", context)


def targets(user: User, entry: Any) -> list[Any]:
    """Open rounds for the same kind of part to which the person may hand in."""
    from hauch.rounds.models import Round

    rounds = Round.objects.filter(
        memberships__user=user,
        memberships__role__in=["host", "designer"],
        part=entry.round.part,
        state=Round.State.OPEN,
    )
    return [r for r in rounds.distinct()[:20] if entry.designer_id == user.pk or user.is_staff]


def compare(request: Request, slug: str, pk: int) -> HttpResponse:
    """Two versions of an entry side by side, turning together, with the differences of their
    figures.
    """
    round = round_for(request.user, slug)
    entry = queries.entry_for(request.user, round, pk)
    versions = {v.number: v for v in entry.versions.order_by("number")}
    numbers = list(versions)
    if not numbers:
        raise Http404("The entry has no version.")
    chosen = [
        _number(request.GET.get(k, ""), numbers, default)
        for k, default in (("a", numbers[max(len(numbers) - 2, 0)]), ("b", numbers[-1]))
    ]
    sides = [_side(versions[n], entry, round.what) for n in chosen]
    rows = queries.differences(sides[0]["check"], sides[1]["check"])
    return render(
        request,
        "entries/compare.html",
        {
            "round": round,
            "entry": entry,
            "numbers": numbers,
            "sides": sides,
            "rows": rows,
            "chosen": chosen,
        },
    )


def _number(text: str, numbers: list[int], default: int) -> int:
    wanted = whole(text)
    return wanted if wanted in numbers else default


def _side(version: Version, entry: Any, envelope: Envelope) -> dict[str, Any]:
    version.entry = entry
    found = queries.parts_of(version)
    file = found[0] if found else None
    if file is not None:
        file.version = version
    check = queries.check_of(file) if file else None
    done = check if check is not None and check.state == PartCheck.State.DONE else None
    return {
        "version": version,
        "file": file,
        "check": done,
        "view": view_context(file, done, envelope) if file else None,
    }
