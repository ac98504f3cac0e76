"""The Workshop station: the board, a specimen's page, the safety gate, labels."""

from __future__ import annotations

import io
from collections.abc import Callable
from typing import Any

import segno
from django.contrib import messages
from django.core.exceptions import ValidationError
from django.core.paginator import Paginator
from django.db import transaction
from django.http import Http404, HttpResponse
from django.shortcuts import get_object_or_404, redirect, render
from django.views.decorators.http import require_POST

from hauch.core.part.cautions import POWER
from hauch.core.quantity.typed import parse_number
from hauch.people.permissions import allowed
from hauch.people.requests import Request, whole
from hauch.rounds.queries import round_for
from hauch.ui.fields import sent
from hauch.workshop import actions, queries
from hauch.workshop.forms import (
    BalanceForm,
    MeasureForm,
    PrintForm,
    PrintRunForm,
    SpecimenForm,
    StepForm,
)
from hauch.workshop.models import Balance, Specimen, WorkStep

PAGE = 50


def specimen_list(request: Request, slug: str, form: SpecimenForm | None = None) -> HttpResponse:
    """The board: what is to be printed, on the printer, in the oven, glued, ready; what is late. As
    a list with ``?as=list``.
    """
    round = round_for(request.user, slug)
    may = allowed(request.user, "specimen.change", round)
    context: dict[str, Any] = {
        "round": round,
        "may_change": may,
        "as_list": request.GET.get("as") == "list",
    }
    if context["as_list"]:
        rows = queries.specimens_of(request.user, round).order_by("code", "pk")
        context["page"] = Paginator(rows, PAGE).get_page(request.GET.get("page"))
        for row in context["page"]:
            row.version.entry.round = round
    else:
        context["board"] = queries.board(request.user, round)
        context["late"] = queries.late_prints(request.user, round)
    if may:
        context["form"] = form or SpecimenForm(round=round)
    return render(request, "workshop/list.html", context, status=422 if form is not None else 200)


@require_POST
def add(request: Request, slug: str) -> HttpResponse:
    """Add or plan a specimen."""
    round = round_for(request.user, slug, "specimen.change")
    form = SpecimenForm(request.POST, round=round)
    if form.is_valid():
        data = form.cleaned_data
        mass = data["mass_g"] / 1000 if data["mass_g"] else None
        try:
            specimen = actions.add_specimen(
                request.user,
                data["version"],
                data["code"],
                data["material"],
                mass,
                state=data["state"],
                due=data["due"],
                printed_in=data["printed_in"],
            )
        except ValidationError as problem:
            form.add_error(None, problem.messages)
        else:
            messages.success(
                request,
                f"Specimen {specimen} is {specimen.get_state_display()}. It comes to the bench"
                " through its steps and the safety gate.",
            )
            return redirect(specimen)
    return specimen_list(request, slug, form)


def _specimen(request: Request, slug: str, pk: int, action: str | None = None) -> Specimen:
    round = round_for(request.user, slug, action) if action else round_for(request.user, slug)
    return queries.specimen_for(request.user, round, pk)


@require_POST
def move(request: Request, slug: str, pk: int) -> HttpResponse:
    """To the next state, or to the one that was chosen; back to the board or the specimen's page."""
    specimen = _specimen(request, slug, pk, "specimen.change")
    state = request.POST.get("state", "")
    try:
        moved = (
            actions.set_state(request.user, specimen, state)
            if state
            else actions.move_on(request.user, specimen)
        )
        messages.success(request, f"{moved} is {moved.get_state_display()}.")
    except ValidationError as problem:
        messages.error(request, " ".join(problem.messages))
    return redirect(specimen) if request.POST.get("stay") else redirect("workshop:list", slug)


Forms = dict[str, Any]


def specimen(request: Request, slug: str, pk: int, bound: Forms | None = None) -> HttpResponse:
    """A specimen: settings and prints, steps, sizes against the design, balance, and the way to the
    gate.
    """
    found = _specimen(request, slug, pk)
    round, units = found.version.entry.round, request.user.units
    check = queries.main_check(found)
    forms: Forms = {
        "print": PrintForm(instance=found, units=units),
        "log": PrintRunForm(),
        "step": StepForm(),
        "measure": MeasureForm(None, units=units, spins=round.kind.spins),
        "balance": BalanceForm(None, units=units),
    } | (bound or {})
    steps = list(found.steps.select_related("done_by"))
    context = {
        "round": round,
        "specimen": found,
        "entry": found.version.entry,
        "check": check,
        "steps": steps,
        "open": sum(s.done_at is None for s in steps),
        "prints": found.prints.select_related("by")[:20],
        "sizes": queries.measured(found),
        "slot": queries.slot_area(found),
        "balances": queries.balanced(found)[:3],
        "oven": queries.annealing_for(found),
        "told": queries.print_rows(found),
        "material": queries.material_for(found),
        "limit": queries.speed_limit(found),
        "gates": found.gates.select_related("by")[:3],
        "why_no_gate": queries.why_no_gate(found),
        "may_change": allowed(request.user, "specimen.change", round),
        "states": Specimen.State.choices,
        "forms": forms,
        "spins": round.kind.spins,
    }
    return render(request, "workshop/specimen.html", context, status=422 if bound else 200)


def _set_print(request: Request, found: Specimen) -> str | Forms:
    form = PrintForm(request.POST, instance=found, units=request.user.units)
    if not form.is_valid():
        return {"print": form}
    try:
        actions.set_print(
            request.user,
            Specimen.objects.select_related("version__entry__round").get(pk=found.pk),
            form.values(),
        )
    except ValidationError as problem:
        _add(form, problem)
        return {"print": form}
    return f"Kept.{form.taken_over_told}"


def _log(request: Request, found: Specimen) -> str | Forms:
    form = PrintRunForm(request.POST)
    if not form.is_valid():
        return {"log": form}
    row = actions.log_print(request.user, found, **form.cleaned_data)
    return f"The print on {row.machine} is logged."


def _step(request: Request, found: Specimen) -> str | Forms:
    form = StepForm(request.POST)
    if not form.is_valid():
        return {"step": form}
    return f"Step {actions.add_step(request.user, found, **form.cleaned_data).order} is added."


def _tick(request: Request, found: Specimen) -> str | Forms:
    step = get_object_or_404(
        WorkStep.objects.select_related("specimen__version__entry__round"),
        pk=whole(request.POST.get("step")),
        specimen=found,
    )
    step = actions.tick_step(request.user, step, step.done_at is None)
    return f"Step {step.order} is {'done' if step.done_at else 'open again'}."


def _measure(request: Request, found: Specimen) -> str | Forms:
    form = MeasureForm(
        request.POST, units=request.user.units, spins=found.version.entry.round.kind.spins
    )
    if not form.is_valid():
        return {"measure": form}
    rows = actions.add_measures(request.user, found, form.cleaned_data["kind"], form.values())
    return (
        f"{rows[0].get_kind_display().capitalize()} at {len(rows)}"
        f" place{'s' if len(rows) > 1 else ''} is saved."
    )


def _balance(request: Request, found: Specimen) -> str | Forms:
    form = BalanceForm(request.POST, units=request.user.units)
    if not form.is_valid():
        return {"balance": form}
    try:
        actions.add_balance(request.user, found, form.values())
    except ValidationError as problem:
        _add(form, problem)
        return {"balance": form}
    return "The readings are saved; the correction stands below."


def _residual(request: Request, found: Specimen) -> str | Forms:
    row = get_object_or_404(
        Balance.objects.select_related("specimen__version__entry__round"),
        pk=whole(request.POST.get("balance")),
        specimen=found,
    )
    try:
        value = parse_number(request.POST.get("residual", ""))
    except ValueError as problem:
        raise ValidationError(str(problem)) from problem
    actions.set_residual(request.user, row, value)
    return "The reading after the correction is saved."


def _add(form: Any, problem: ValidationError) -> None:
    for name, texts in (
        problem.message_dict if hasattr(problem, "error_dict") else {None: problem.messages}
    ).items():
        form.add_error(name if name in form.fields else None, texts)


CHANGES: dict[str, Callable[[Request, Specimen], str | Forms]] = {
    "print": _set_print,
    "log": _log,
    "step": _step,
    "tick": _tick,
    "measure": _measure,
    "balance": _balance,
    "residual": _residual,
}


@require_POST
def change(request: Request, slug: str, pk: int, what: str) -> HttpResponse:
    """Change something of a specimen; a form that is refused comes back with its sentences."""
    found = _specimen(request, slug, pk, "specimen.change")
    if what not in CHANGES:
        raise Http404("There is nothing of that name to be done with a specimen.")
    try:
        answer = CHANGES[what](request, found)
    except ValidationError as problem:
        messages.error(request, " ".join(problem.messages))
        return redirect(found)
    if isinstance(answer, dict):
        return specimen(request, slug, pk, answer)
    messages.success(request, answer)
    return redirect(found)


def gate(request: Request, slug: str, pk: int) -> HttpResponse:
    """The safety gate: the cautions that apply, each to be confirmed, and the speed limit that goes
    to the bench.
    """
    found = _specimen(request, slug, pk, "specimen.release")
    round = found.version.entry.round
    power = (sent(request) or request.GET).get("power", "")
    if power not in POWER:
        power = "air" if round.kind.pressurised else "supply"
    confirmed = set(request.POST.getlist("confirmed"))
    beside = queries.same_gate(request.user, found, power)
    ticked = set(request.POST.getlist("beside"))
    problems: list[str] = []
    if request.method == "POST" and "pass" in request.POST:
        together = [found, *(one for one in beside if str(one.pk) in ticked)]
        try:
            with transaction.atomic():
                gates = [actions.pass_gate(request.user, s, power, confirmed) for s in together]
        except ValidationError as problem:
            problems = problem.messages
        else:
            for made in gates:
                capped = f", capped at {made.cap:,.0f} 1/min" if made.cap else ""
                messages.success(request, f"{made.specimen} is ready for the bench{capped}.")
            left = len(beside) - len(together) + 1
            return redirect("workshop:list" if left or not round.quick else "bench:overview", slug)
    context = {
        "round": round,
        "beside": [(one, str(one.pk) in ticked) for one in beside],
        "specimen": found,
        "entry": found.version.entry,
        "power": power,
        "powers": POWER.items(),
        "problems": problems,
        "cautions": queries.cautions_for(found, power),
        "confirmed": confirmed,
        "limit": queries.speed_limit(found),
        "why": queries.why_no_gate(found),
    }
    return render(request, "workshop/gate.html", context, status=422 if problems else 200)


def label(request: Request, slug: str, pk: int) -> HttpResponse:
    """A label to print: code, entry, material, and a code that leads to this specimen's page."""
    found = _specimen(request, slug, pk)
    context = label_of(request, found)
    return render(request, "workshop/label.html", context)


def label_of(request: Request, found: Specimen) -> dict[str, Any]:
    """What stands on the label of a specimen."""
    address = request.build_absolute_uri(found.get_absolute_url())
    code = io.BytesIO()
    segno.make(address, error="m").save(
        code,
        kind="svg",
        border=2,
        xmldecl=False,
        svgns=True,
        nl=False,
        dark="#10252e",
        light=None,
        omitsize=True,
    )
    return {
        "round": found.version.entry.round,
        "specimen": found,
        "entry": found.version.entry,
        "code": code.getvalue().decode(),
        "material": queries.material_for(found),
    }
