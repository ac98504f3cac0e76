"""Rigs: their drawing, their constants, and how these are found."""

from __future__ import annotations

from typing import Any

from django.contrib import messages
from django.core.exceptions import ValidationError
from django.http import Http404, HttpResponse
from django.shortcuts import get_object_or_404, redirect, render
from django.utils.safestring import SafeString, mark_safe
from django.views.decorators.http import require_POST

from hauch.core.geometry import tube
from hauch.core.measure.calibration import TRAVERSES, Profile
from hauch.core.measure.channels import CHANNELS
from hauch.core.measure.rigs import RIGS, RigKind, check_constants, rig_drawing
from hauch.core.predict.model import CannotBe
from hauch.core.quantity import expanded
from hauch.core.quantity.show import show
from hauch.core.quantity.typed import typed_figure
from hauch.formats import mesh
from hauch.formats.drawing_svg import to_svg
from hauch.people.permissions import allowed, require
from hauch.people.requests import Request, whole
from hauch.stores import actions_rigs
from hauch.stores.forms import (
    RigForm,
    typed_points,
)
from hauch.stores.models import (
    Rig,
    RigCalibration,
)
from hauch.stores.queries import due_of, states_of
from hauch.ui.back import back_or, next_of
from hauch.ui.fields import sent

EMPTY_ROWS = 5


def diagram(
    kind: RigKind,
    constants: dict[str, tuple[float, float]],
    units: str,
    width: float = 800,
    height: float = 330,
) -> SafeString:
    """A rig's diagram; lengths in the person's units."""
    svg = to_svg(
        rig_drawing(kind, constants),
        lambda metres: str(show(metres, "length", units)),
        width,
        height,
    )
    return mark_safe(svg)  # noqa: S308 the writer escapes every text


def _constant_rows(rig: Rig) -> list[dict[str, Any]]:
    return [
        (
            {"constant": c, "value": rig.pairs[c.key][0], "doubt": expanded(rig.pairs[c.key][1])}
            if c.key in rig.pairs
            else {"constant": c, "value": None}
        )
        for c in rig.how.constants
    ]


def _rig_context(request: Request, rig: Rig) -> dict[str, Any]:
    kind = rig.how
    problems = check_constants(kind, rig.pairs)
    drawing = rig_drawing(kind, {k: v for k, v in rig.pairs.items() if k not in problems})
    meters = {
        m.channel: m.instrument
        for m in rig.meters.select_related("instrument").prefetch_related(
            "instrument__calibrations"
        )
    }
    sensors = {s.label: s.letter for s in drawing.sensors}
    return {
        "rig": rig,
        "kind": kind,
        "states": states_of(rig),
        "is_now": not hasattr(rig, "next"),
        "constants": _constant_rows(rig),
        "problems": list(problems.values()),
        "drawing": diagram(
            kind, {k: v for k, v in rig.pairs.items() if k not in problems}, request.user.units
        ),
        "channels": [
            (
                CHANNELS[key],
                sensors.get(CHANNELS[key].label, ""),
                due_of(meters[key]) if key in meters else None,
            )
            for key in kind.offered
            if key in kind.channels or key in meters
        ],
        "calibrations": rig.calibrations.select_related("by"),
        "may_change": allowed(request.user, "stores.change"),
        "guided": sorted({c.found for c in kind.constants if c.found}),
        "typical": any(c.key not in rig.pairs and c.kind == "length" for c in kind.constants),
    }


def rig(request: Request, pk: int) -> HttpResponse:
    """A rig in one state: diagram, constants, sensors and meters, calibrations, states."""
    found = get_object_or_404(Rig.objects.select_related("next"), pk=pk)
    context = _rig_context(request, found)
    context["runs"] = found.runs.count()
    context["used"] = actions_rigs.why_used(found)
    if found.kind == "tunnel":
        made = _tube_of(found)
        context["tube"], context["tube_problems"] = made, made.problems()
        context["tube_parts"] = TUBE_PARTS.items()
    return render(request, "stores/rig.html", context)


TUBE_PARTS = {
    tube.SEGMENT: "Segment",
    tube.PROBED: "Segment with the hole for the probe",
    tube.STRAIGHTENER: "Straightener",
}
MESHES = {"stl": "model/stl", "3mf": "model/3mf"}


def _tube_of(found: Rig) -> tube.Tube:
    """The tube of a tunnel in its own sizes, those that are not known in typical ones."""
    sizes = {c.key: found.pairs.get(c.key, (c.typical, 0.0))[0] for c in found.how.constants}
    return tube.Tube(sizes["bore"], sizes["length"], sizes["cell"], sizes["straightener_length"])


def tube_file(request: Request, pk: int, part: str, kind: str) -> HttpResponse:
    """A part of a tunnel's tube to print, in millimetres."""
    found = get_object_or_404(Rig, pk=pk, kind="tunnel")
    if part not in TUBE_PARTS or kind not in MESHES:
        raise Http404("There is no such part of a tube.")
    try:
        solid = tube.tube_solid(_tube_of(found), part)
    except CannotBe as problem:
        messages.error(request, next(iter(problem.problems.values())))
        return redirect(found)
    data = mesh.to_stl(solid) if kind == "stl" else mesh.to_3mf(solid, part)
    answer = HttpResponse(data, content_type=MESHES[kind])
    answer["Content-Disposition"] = f'attachment; filename="tube-{part}.{kind}"'
    return answer


def new_rig(request: Request) -> HttpResponse:
    """Put up a rig of a kind."""
    require(request.user, "stores.change")
    kind = RIGS.get(request.GET.get("kind", ""))
    if kind is None:
        messages.error(request, "Choose a kind of rig first.")
        return redirect("stores:stores")
    form = RigForm(sent(request), kind=kind, units=request.user.units)
    if request.method == "POST" and form.is_valid():
        made = Rig(name=form.cleaned_data["name"], kind=kind.key, note=form.cleaned_data["note"])
        try:
            actions_rigs.add_rig(request.user, made, form.constants(), form.meters())
        except ValidationError as problem:
            form.take_errors(problem)
        else:
            messages.success(request, f"{made} is in the stores.")
            return redirect(back_or(request, made))
    return _rig_form(request, form, kind, None)


def change_rig(request: Request, pk: int) -> HttpResponse:
    """Change a rig; once it has runs that is its next state."""
    require(request.user, "stores.change")
    found = get_object_or_404(Rig.objects.prefetch_related("meters"), pk=pk)
    form = RigForm(
        sent(request),
        kind=found.how,
        units=request.user.units,
        rig=found,
        initial={"note": found.note},
    )
    if request.method == "POST" and form.is_valid():
        try:
            now = actions_rigs.change_rig(
                request.user,
                found,
                form.constants(),
                form.meters(),
                form.cleaned_data["change"],
                form.cleaned_data["note"],
            )
        except ValidationError as problem:
            form.take_errors(problem)
        else:
            text = (
                f"{now} holds from now on; runs so far keep the state before."
                if now.pk != found.pk
                else f"{now} is changed."
            )
            messages.success(request, text + form.taken_over_told)
            return redirect(back_or(request, now))
    return _rig_form(request, form, found.how, found)


def _rig_form(request: Request, form: RigForm, kind: RigKind, found: Rig | None) -> HttpResponse:
    """The form beside its drawing; while somebody types (htmx) the drawing alone, and nothing is
    saved.
    """
    constants, problems = dict(found.pairs) if found else {}, []
    if form.is_bound:
        form.is_valid()
        constants = form.constants()
        impossible = check_constants(kind, constants)
        problems = list(impossible.values())
        constants = {key: pair for key, pair in constants.items() if key not in impossible}
    context = {
        "form": form,
        "kind": kind,
        "rig": found,
        "back": next_of(request),
        "here": request.get_full_path(),
        "has_runs": found is not None and actions_rigs.has_runs(found),
        "drawing": diagram(kind, constants, request.user.units),
        "problems": problems if request.htmx else form.non_field_errors(),
    }
    if request.htmx:
        return render(request, "stores/_drawing.html", context)
    return render(request, "stores/rig_form.html", context, status=422 if form.is_bound else 200)


@require_POST
def rig_drawing_now(request: Request, kind: str) -> HttpResponse:
    """The drawing of what stands in the form, while it is typed; saves nothing."""
    require(request.user, "stores.change")
    if kind not in RIGS:
        return redirect("stores:stores")
    return _rig_form(
        request, RigForm(request.POST, kind=RIGS[kind], units=request.user.units), RIGS[kind], None
    )


def calibrate_rig(request: Request, pk: int, kind: str) -> HttpResponse:
    """Guided calibration: a traverse of the tube, or a blank plate. Shows the result while it is
    typed, keeps it on request.
    """
    require(request.user, "stores.change")
    found = get_object_or_404(Rig, pk=pk)
    if kind not in {c.found for c in found.how.constants if c.found}:
        return redirect(found)
    guide = (
        _Traverse(request, found)
        if kind == RigCalibration.Kind.TRAVERSE
        else _BlankPlate(request, found)
    )
    problems: list[str] = []
    result: dict[str, Any] = {}
    if request.method == "POST":
        try:
            readings = guide.readings()
            if "keep" in request.POST and not request.htmx:
                now = actions_rigs.calibrate_rig(
                    request.user, found, kind, readings, request.POST.get("note", "")[:2000]
                )
                messages.success(
                    request, f"{now} is calibrated. The new constants hold for runs from now on."
                )
                return redirect(now)
            constants, text, result_of = actions_rigs.find_constants(found, kind, readings)
            rows = [
                (found.how.constant(name), value, expanded(u))
                for name, (value, u) in constants.items()
            ]
            result = {"text": text, "rows": rows, "profile": guide.profile(result_of)}
        except ValidationError as problem:
            problems = problem.messages
    context = {
        "rig": found,
        "guide": guide,
        "kind": kind,
        "problems": problems,
        "result": result,
        "note": request.POST.get("note", ""),
    }
    template = "stores/_calibration_result.html" if request.htmx else f"stores/{kind}.html"
    return render(request, template, context, status=422 if problems and not request.htmx else 200)


class _Traverse:
    """The form of a traverse: radii by points, and the centre beside each."""

    def __init__(self, request: Request, rig: Rig):
        self.request, self.units = request, request.user.units
        data = request.POST or request.GET
        method = data.get("method", "")
        self.method = method if method in TRAVERSES else "log_linear"
        count = whole(data.get("points"))
        self.points = count if count in TRAVERSES[self.method] else 5
        self.radii = 4
        self.counts = sorted({*TRAVERSES["log_linear"], *TRAVERSES["log_tchebycheff"]})
        bore = rig.pairs.get("bore", (None, 0))[0]
        self.places = [
            {
                "ratio": ratio,
                "from_axis": bore / 2 * ratio if bore else None,
                "from_wall": bore / 2 * (1 - ratio) if bore else None,
            }
            for ratio in TRAVERSES[self.method][self.points]
        ]

    def rows(self) -> list[dict[str, Any]]:
        """The fields with what was typed."""
        return [
            {
                "number": r + 1,
                "centre": self._typed(f"centre-{r}"),
                "cells": [(f"v-{r}-{p}", self._typed(f"v-{r}-{p}")) for p in range(self.points)],
            }
            for r in range(self.radii)
        ]

    def _typed(self, name: str) -> str:
        return self.request.POST.get(name, "").strip()

    def readings(self) -> dict[str, Any]:
        """What was typed, SI. Raises ValidationError with the place of what is missing."""
        speeds, centre = [], []
        for row in self.rows():
            texts = [row["centre"], *(text for _, text in row["cells"])]
            if not any(texts):
                continue
            if not all(texts):
                raise ValidationError(
                    f"Radius {row['number']}: a speed is missing. Read every point and the centre,"
                    " or empty the row."
                )
            values = _figures(texts, "air_speed", self.units, f"Radius {row['number']}")
            centre.append(values[0])
            speeds.append(values[1:])
        return {"method": self.method, "speeds": speeds, "centre": centre}

    def profile(self, found: Any) -> dict[str, Any] | None:
        """Data of the chart."""
        return (
            {
                "points": list(zip(found.radii, found.speeds, strict=True)),
                "factor": found.factor.value,
            }
            if isinstance(found, Profile)
            else None
        )


class _BlankPlate:
    """The form of a blank-plate test: pressures and the flows that still pass."""

    def __init__(self, request: Request, rig: Rig):
        self.request, self.units = request, request.user.units

    def rows(self) -> list[tuple[str, str]]:
        """The fields with what was typed, and empty ones."""
        typed = list(
            zip(
                self.request.POST.getlist("pressure"),
                self.request.POST.getlist("flow"),
                strict=False,
            )
        )
        return typed + [("", "")] * max(EMPTY_ROWS - len(typed), 1)

    def readings(self) -> dict[str, Any]:
        """What was typed, SI. Raises ValidationError with the place of what is missing."""
        points = typed_points(
            self.request.POST, "pressure", "flow", ("pressure", "volume_flow"), self.units
        )
        return {"pressures": [p for p, _ in points], "flows": [q for _, q in points]}

    def profile(self, found: Any) -> None:
        """No chart."""


def _figures(texts: list[str], kind: str, units: str, where: str) -> list[float]:
    from hauch.core.quantity.units import KINDS

    try:
        return [typed_figure(text, kind, KINDS[kind].shown[units])[0] for text in texts]
    except ValueError as problem:
        raise ValidationError(f"{where}: {problem}") from problem
