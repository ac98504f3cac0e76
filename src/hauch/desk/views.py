"""The Desk: its tools, each with a drawing, figures and charts that follow the inputs."""

from __future__ import annotations

import base64
from dataclasses import dataclass, field, replace
from typing import Any

from django.core.exceptions import PermissionDenied
from django.http import Http404, HttpResponse, QueryDict
from django.shortcuts import get_object_or_404, render
from django.utils.safestring import SafeString, mark_safe
from django.utils.text import slugify
from django.views.decorators.http import require_POST

from hauch.core.predict.model import CannotBe
from hauch.core.quantity.show import show
from hauch.core.quantity.typed import parse_number
from hauch.desk import queries
from hauch.desk.forms import MeasuredForm, SearchForm, ToolForm
from hauch.desk.models import Around, Design, MeasuredBack, Search
from hauch.desk.show import chart_data, compared, comparison, to_csv, to_json
from hauch.desk.tools import TOOLS
from hauch.desk.tools.base import Answer, Figure, Input, Setting, Tool
from hauch.formats import mesh
from hauch.formats.drawing_dxf import to_dxf
from hauch.formats.drawing_svg import to_svg
from hauch.people.models import User
from hauch.people.permissions import allowed, require
from hauch.people.requests import Request, whole
from hauch.ui.workings import drawer

FILES = {
    "svg": "image/svg+xml",
    "dxf": "image/vnd.dxf",
    "json": "application/json",
    "csv": "text/csv; charset=utf-8",
    "stl": "model/stl",
    "3mf": "model/3mf",
}
SOLIDS = {"stl", "3mf"}


def index(request: Request) -> HttpResponse:
    """All tools, and what the person keeps."""
    require(request.user, "desk.use")
    designs: dict[str, list[Design]] = {}
    for design in Design.objects.filter(owner=request.user)[:200]:
        designs.setdefault(design.tool, []).append(design)
    context = {
        "tools": [(tool, designs.get(tool.key, [])) for tool in TOOLS.values()],
        "searches": Search.objects.filter(owner=request.user)[:5],
    }
    return render(request, "desk/index.html", context)


def tool_of(request: Request, key: str) -> Tool:
    """The tool of an address, for a person who may use the Desk."""
    require(request.user, "desk.use")
    if key not in TOOLS:
        raise Http404("The Desk has no such tool.")
    return TOOLS[key]


@dataclass
class ToolRequest:
    """What a request asks of a tool: inputs, setting, answer or why there is none."""

    tool: Tool
    form: ToolForm
    user: User
    values: dict[str, Any] = field(default_factory=dict)
    problems: dict[str, str] = field(default_factory=dict)
    design: Design | None = None
    answer: Answer | None = None
    setting: Setting = field(default_factory=Setting)
    around: Around = queries.NOTHING
    others: list[tuple[str, Answer]] = field(default_factory=list)
    with_designs: list[Design] = field(default_factory=list)
    moved: list[str] = field(default_factory=list)
    """Designs beside it that were kept for another system, and are shown on this one's."""

    def work(self) -> ToolRequest:
        """Ask the tool, and keep its reasons where it refuses."""
        if not self.problems:
            try:
                self.answer = self.tool.answer(self.values, self.setting)
            except CannotBe as problem:
                self.problems = problem.problems
        return self


def named(tool: Tool, asked: QueryDict) -> dict[str, float]:
    """Inputs that an address names, in SI, such as the whistle that a recording has; what a tool
    does not have or cannot be is left away.
    """
    found = {}
    for one in tool.inputs:
        if not isinstance(one, Input) or one.kind == "choice" or one.points > 1:
            continue
        try:
            value = parse_number(str(asked[one.key])[:40]) if one.key in asked else None
        except ValueError:
            continue
        if value is not None and one.low <= value <= one.high:
            found[one.key] = value
    return found


def tool_request(request: Request, tool: Tool) -> ToolRequest:
    """Inputs as posted, or of a kept design, or the tool's start."""
    design = None
    wanted = whole(request.POST.get("design") or request.GET.get("design"))
    if wanted is not None:
        design = get_object_or_404(
            Design.objects.select_related("rig", "fit", "load__rig"),
            pk=wanted,
            owner=request.user,
            tool=tool.key,
        )
    bound = request.method == "POST"
    start = tool.complete(design.inputs) if design else tool.start() | named(tool, request.GET)
    form = ToolForm(
        tool,
        request.POST if bound else None,
        units=request.user.units,
        initial=start,
        rounded=design is None,
        user=request.user,
    )
    made = ToolRequest(tool, form, request.user, values=start, design=design)
    around = design.around if design else queries.NOTHING
    if bound:
        made.values, made.problems = form.values()
        around = form.around()
    for choice in form.choices():
        choice.field.initial = getattr(around, choice.name)
    made.around, made.setting = around, queries.setting_for(tool.key, around)
    made.with_designs = compared(
        request.user, tool, (request.POST if bound else request.GET).getlist("with")
    )
    for other in made.with_designs:
        around = replace(other.around, rig=made.around.rig)
        inputs = tool.complete(other.inputs)
        here = {key: made.values[key] for key in SYSTEM if key in made.values}
        here = here if "system_pressure" in inputs else {}
        if made.around.rig != other.around.rig or any(
            inputs[key] != value for key, value in here.items()
        ):
            made.moved.append(other.name)
        try:
            setting = queries.setting_for(tool.key, around)
            made.others.append((other.name, tool.answer(inputs | here, setting)))
        except CannotBe:
            continue
    return made.work()


SYSTEM = ("system_pressure", "system_flow", "exponent")
"""Inputs that say against which system a design works: compared are designs on one system."""


def picture(answer: Answer, units: str, width: float = 800, height: float = 300) -> SafeString:
    """The drawing of an answer, lengths in the person's units."""
    return mark_safe(  # noqa: S308 the writer escapes every text
        to_svg(answer.drawing, lambda metres: str(show(metres, "length", units)), width, height)
    )


def answer_context(made: ToolRequest, beside: str) -> dict[str, Any]:
    """What the answer's template shows."""
    answer, units = made.answer, made.user.units
    if answer is None:
        return {"problems": list(made.problems.values())}
    charts = answer.charts
    second = next(
        (c for c in charts[1:] if c.key == beside), charts[1] if len(charts) > 1 else None
    )
    shown = [c for c in (charts[0], second) if c is not None]
    return {
        "answer": answer,
        "tool": made.tool,
        "drawing": picture(answer, units),
        "decide": [f for f in answer.figures if f.decides],
        "problems": [],
        "charts": [(c, chart_data(c, made.others, units)) for c in shown],
        "choices": charts[1:] if len(charts) > 2 else [],
        "second": second,
        "rows": comparison(answer, made.others),
        "others": [name for name, _ in made.others],
        "moved": made.moved,
        "rig": made.setting.rig,
    }


def tool(request: Request, tool: str) -> HttpResponse:
    """One tool. While something is typed only the answer is asked for; a refusal leaves the last
    good drawing where it is.
    """
    what = tool_of(request, tool)
    made = tool_request(request, what)
    if request.htmx:
        context = answer_context(made, request.POST.get("beside", ""))
        if made.answer is None:
            response = render(request, "desk/_problems.html", context, status=422)
            response["HX-Retarget"], response["HX-Reswap"] = "#problems", "outerHTML"
            return response
        return render(request, "desk/_answer.html", context)
    return page(request, made)


def page(request: Request, made: ToolRequest, status: int = 200, **forms: Any) -> HttpResponse:
    """The whole page of a tool."""
    what, user = made.tool, made.user
    if made.answer is None:
        last = ToolRequest(
            what,
            made.form,
            user,
            what.complete(made.design.inputs) if made.design else what.start(),
            setting=made.setting,
        ).work()
        context = answer_context(last, "") | {"problems": list(made.problems.values())}
        status = 422
    else:
        context = answer_context(made, request.POST.get("beside", ""))
    figures = _measurable(made.answer) if made.answer else []
    context |= {
        "tool": what,
        "form": made.form,
        "design": made.design,
        "designs": queries.designs_of(user, what.key),
        "with": {d.pk for d in made.with_designs},
        "entries": list(queries.entries_to_predict(request.user, what.parts)),
        "files": [k for k in FILES if k not in SOLIDS or what.solid],
        "makes_solid": what.solid is not None,
        "back": MeasuredBack.objects.filter(tool=what.key).select_related("rig", "sent_by"),
        "may_measure": allowed(user, "desk.measure") and figures,
        "measured_form": (
            forms.get("measured_form") or MeasuredForm(units=user.units, figures=figures)
        ),
        "search_form": (
            forms.get("search_form")
            or (
                SearchForm(units=user.units, initial={"aim": "efficiency"})
                if what.optimises
                else None
            )
        ),
    }
    return render(request, "desk/tool.html", context, status=status)


def _measurable(answer: Answer) -> list[tuple[str, str, str]]:
    keys = dict.fromkeys(answer.predicts.values())
    return [(k, answer.figure(k).label, answer.figure(k).kind) for k in keys]


def _holds(tool: Tool, figure: Figure) -> str:
    """For what a tool's figure holds."""
    if figure.outside:
        return f"Outside the range of the model, so no interval is told. It holds for: {tool.valid}"
    return tool.valid


@require_POST
def working(request: Request, tool: str, figure: str) -> HttpResponse:
    """How a figure came about, for the side panel."""
    made = tool_request(request, tool_of(request, tool))
    if made.answer is None:
        return render(
            request, "desk/_problems.html", {"problems": list(made.problems.values())}, status=422
        )
    found = next((f for f in made.answer.figures if f.key == figure), None)
    if found is None:
        raise Http404("The tool has no such figure.")
    return render(
        request,
        "parts/drawer.html",
        drawer(found.label, found.kind, found.shown.as_json(), _holds(made.tool, found)),
    )


@require_POST
def file(request: Request, tool: str, kind: str) -> HttpResponse:
    """The drawing, the design with its workings, the curves or the solid as a file."""
    made = tool_request(request, tool_of(request, tool))
    if kind not in FILES or (kind in SOLIDS and made.tool.solid is None):
        raise Http404("There is no such file.")
    if made.answer is None:
        return page(request, made)
    name = made.design.name if made.design else made.tool.label
    try:
        data = _file(kind, made, name)
    except CannotBe as problem:
        made.problems, made.answer = problem.problems, None
        return page(request, made)
    response = HttpResponse(data, content_type=FILES[kind])
    response["Content-Disposition"] = (
        f'attachment; filename="{slugify(name) or made.tool.key}.{kind}"'
    )
    return response


def _file(kind: str, made: ToolRequest, name: str) -> bytes | str:
    assert made.answer is not None  # noqa: S101 asked before
    units = made.user.units
    if kind == "svg":
        return to_svg(
            made.answer.drawing,
            lambda metres: str(show(metres, "length", units)),
            1100,
            600,
            alone=True,
        )
    if kind == "dxf":
        return to_dxf(made.answer.drawing)
    if kind == "json":
        return to_json(made.tool, name, made.values, made.answer)
    if kind == "csv":
        return to_csv(made.answer, units)
    if made.tool.solid is None:
        raise PermissionDenied
    solid = made.tool.solid(made.values)
    return mesh.to_stl(solid) if kind == "stl" else mesh.to_3mf(solid, name)


@require_POST
def preview(request: Request, tool: str) -> HttpResponse:
    """A shaded picture of the print with its size, volume and mass."""
    made = tool_request(request, tool_of(request, tool))
    if made.tool.solid is None:
        raise Http404("This tool makes no solid.")
    context: dict[str, Any] = {"problems": list(made.problems.values())}
    if made.answer is not None:
        try:
            solid = made.tool.solid(made.values)
        except CannotBe as problem:
            context["problems"] = list(problem.problems.values())
        else:
            size = solid.bounds[1] - solid.bounds[0]
            context |= {
                "image": base64.b64encode(mesh.picture(solid)).decode(),
                "size": [float(v) for v in size],
                "volume": float(solid.volume),
                "faces": len(solid.faces),
                "closed": solid.is_watertight,
                "tool": made.tool,
            }
    return render(request, "desk/_print.html", context, status=422 if context["problems"] else 200)
