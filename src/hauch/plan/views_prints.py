"""The print plan with its spools, labels in printing order, and the parts to buy."""

from __future__ import annotations

from decimal import Decimal, InvalidOperation

from django.contrib import messages
from django.core.exceptions import ValidationError
from django.http import HttpResponse
from django.shortcuts import get_object_or_404, redirect, render
from django.views.decorators.http import require_POST

from hauch.core.quantity.typed import typed_figure
from hauch.core.quantity.units import KINDS
from hauch.formats.tables import to_csv
from hauch.people.permissions import allowed, require
from hauch.people.requests import Request, whole
from hauch.plan import actions
from hauch.plan.models import PrototypeMaterial
from hauch.plan.parts import parts_of
from hauch.plan.prints import Prints, prints_of
from hauch.plan.queries import in_force
from hauch.rounds.queries import round_for
from hauch.stores.models import Material
from hauch.workshop.actions import set_print
from hauch.workshop.models import Specimen
from hauch.workshop.views import label_of


def _prints(request: Request) -> Prints:
    known = in_force()
    return prints_of(request.user, known) if known else Prints([], [], [])


def prints(request: Request) -> HttpResponse:
    """What is printed when, on which bed, of which spool."""
    require(request.user, "plan.view")
    row = PrototypeMaterial.objects.first()
    context = {
        "plan": in_force(),
        "prints": _prints(request),
        "materials": Material.objects.filter(retired=False),
        "prototype": row.material_id if row else None,
        "may_change": allowed(request.user, "plan.change"),
        "mass_unit": KINDS["mass"].shown[request.user.units],
    }
    return render(request, "plan/prints.html", context)


def labels(request: Request) -> HttpResponse:
    """Labels of all prints to come, in the order in which they are printed."""
    require(request.user, "plan.view")
    rows = [label_of(request, one) for plate in _prints(request).plates for one in plate.specimens]
    return render(request, "plan/labels.html", {"labels": rows})


def _material(request: Request) -> Material | None:
    return Material.objects.filter(pk=whole(request.POST.get("material")) or 0).first()


@require_POST
def spool(request: Request) -> HttpResponse:
    """Note what a spool weighs without its reel."""
    material = _material(request)
    try:
        if material is None:
            raise ValidationError("Choose a material.")
        unit = KINDS["mass"].shown[request.user.units]
        try:
            left, _, _ = typed_figure(request.POST.get("left", "").strip()[:40], "mass", unit)
        except ValueError as problem:
            raise ValidationError(str(problem)) from problem
        made = actions.weigh_spool(
            request.user, material, request.POST.get("colour", "")[:40], left
        )
    except ValidationError as problem:
        messages.error(request, " ".join(problem.messages))
    else:
        messages.success(request, f"What is left of {made} is noted.")
    return redirect("plan:prints")


@require_POST
def prototype(request: Request) -> HttpResponse:
    """Say in what versions are printed until they are accepted."""
    actions.set_prototype(request.user, _material(request))
    return redirect("plan:prints")


@require_POST
def try_first(request: Request, pk: int) -> HttpResponse:
    """Print one in the material of prototypes first."""
    specimen = get_object_or_404(Specimen.objects.select_related("version__entry__round"), pk=pk)
    round_for(request.user, specimen.version.entry.round.slug, "specimen.change")
    row = PrototypeMaterial.objects.select_related("material").first()
    if row is not None:
        set_print(request.user, specimen, {"printed_in": row.material})
        messages.success(request, f"{specimen} is printed in {row.material} first.")
        actions.again(request.user)
    return redirect("plan:prints")


def parts(request: Request) -> HttpResponse:
    """Parts for all that is still to be put together, what is missing, and by when it is ordered."""
    require(request.user, "plan.view")
    rows = parts_of(request.user)
    missing = [part for part in rows if part.missing]
    context = {
        "parts": rows,
        "missing": missing,
        "cost": sum(part.missing * part.price for part in missing),
        "may_change": allowed(request.user, "plan.change"),
        "plan": in_force(),
    }
    return render(request, "plan/parts.html", context)


@require_POST
def stock(request: Request) -> HttpResponse:
    """Note how many of a part there are."""
    name = request.POST.get("name", "").strip()[:80]
    try:
        if not name:
            raise ValidationError("Say which part.")
        actions.set_stock(
            request.user,
            name,
            _count(request.POST.get("quantity", "")),
            _days(request.POST.get("days", "")),
        )
    except ValidationError as problem:
        messages.error(request, " ".join(problem.messages))
    else:
        messages.success(request, f"The stock of {name} is noted.")
    return redirect("plan:parts")


def _count(text: str) -> Decimal:
    try:
        number = Decimal(text.strip().replace(",", "."))
    except InvalidOperation as problem:
        raise ValidationError(f"“{text.strip()[:12]}” is no count.") from problem
    if not number.is_finite():
        raise ValidationError(f"“{text.strip()[:12]}” is no count.")
    return number.quantize(Decimal("0.01")) if abs(number) < 10**7 else number


def _days(text: str) -> int:
    number = whole(text.strip())
    if number is None:
        raise ValidationError(f"“{text.strip()[:12]}” is no number of days.")
    return min(number, 10_000)


HEADER = ["part", "needed", "in stock", "to buy", "price of one", "needed from", "order by", "for"]


def parts_table(request: Request) -> HttpResponse:
    """The parts to buy as CSV."""
    require(request.user, "plan.view")
    rows = [
        (
            part.name,
            float(part.needed),
            float(part.there),
            float(part.missing),
            float(part.price),
            part.first.isoformat() if part.first else "",
            part.order_by.isoformat() if part.order_by else "",
            ", ".join(sorted(part.entries)),
        )
        for part in parts_of(request.user)
    ]
    answer = HttpResponse(to_csv(HEADER, rows), content_type="text/csv; charset=utf-8")
    answer["Content-Disposition"] = 'attachment; filename="parts.csv"'
    return answer
