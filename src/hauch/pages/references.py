"""The care of the reference: health of one specimen, and the references of a round."""

from __future__ import annotations

from django.contrib import messages
from django.core.exceptions import ValidationError
from django.http import HttpResponse
from django.shortcuts import get_object_or_404, redirect, render
from django.urls import reverse
from django.views.decorators.http import require_POST

from hauch.pages.reference_health import bench_rounds, care_of, hours_of, series_of
from hauch.people.permissions import allowed
from hauch.people.requests import Request, whole
from hauch.rounds import references
from hauch.rounds.models import Round, Test
from hauch.rounds.queries import round_for
from hauch.stores.forms import NoteForm
from hauch.stores.models import ReferenceSpecimen
from hauch.ui.back import back_or, next_of


def specimen(request: Request, pk: int) -> HttpResponse:
    """One reference specimen: hours, state, and its control charts over all rounds whose bench the
    person may see.
    """
    found = get_object_or_404(ReferenceSpecimen.objects.select_related("type", "picture"), pk=pk)
    rounds = bench_rounds(request.user)
    as_read = request.GET.get("figures") == "read"
    series = series_of(rounds, [found.pk], as_read=as_read) if rounds else []
    wanted = whole(request.GET.get("series"))
    at = wanted if wanted is not None and wanted < len(series) else 0
    context = {
        "specimen": found,
        "note_form": NoteForm(specimen=found),
        "hours": hours_of(found),
        "series": list(enumerate(series)),
        "at": at,
        "as_read": as_read,
        "shown": series[at] if series else None,
        "alarms": sum(s.chart.alarm for s in series),
        "may_see": bool(rounds),
        "may_change": allowed(request.user, "stores.change"),
        "tests": (
            found.tests.filter(test__round__in=rounds)
            .select_related("test__round")
            .order_by("-since")
        ),
    }
    return render(request, "pages/specimen.html", context)


def care(request: Request, slug: str) -> HttpResponse:
    """The references of a round, test by test, and what can be done with them."""
    round = round_for(request.user, slug, "bench.view")
    rows = care_of(round)
    usable = ReferenceSpecimen.objects.filter(state__in=["new", "in_use"]).select_related("type")
    present = {
        row.specimen.pk: row.specimen
        for c in rows
        for row in [c.active, *c.beside]
        if row is not None
    }
    context = {
        "round": round,
        "rows": rows,
        "usable": usable,
        "present": list(present.values()),
        "may_change": allowed(request.user, "reference.change", round),
        "in_use": any(c.active for c in rows),
        "left_out": sum(c.left_out for c in rows),
        "runs": sum(c.runs for c in rows),
        "back": next_of(request),
    }
    return render(request, "pages/care.html", context)


def _chosen(request: Request, round: Round) -> tuple[ReferenceSpecimen, list[Test]]:
    pk = whole(request.POST.get("specimen")) or 0
    found = ReferenceSpecimen.objects.select_related("type").filter(pk=pk).first()
    if found is None:
        raise ValidationError("Choose a reference specimen.")
    wanted = [whole(t) or 0 for t in request.POST.getlist("tests")]
    return found, list(round.tests.current().filter(pk__in=wanted))


@require_POST
def change(request: Request, slug: str) -> HttpResponse:
    """Bring a specimen in, change to it, retire it or note that it broke."""
    round = round_for(request.user, slug, "reference.change")
    what, reason = request.POST.get("what", ""), request.POST.get("reason", "")[:500]
    try:
        found, tests = _chosen(request, round)
        if what == "bring_in":
            references.bring_in(request.user, round, found, tests)
            text = (
                f"{found} is the reference from now on. Run it until it repeats, before the first"
                " entry."
            )
            if found.tests.filter(test__in=tests, until=None, bridging=True).exists():
                text = (
                    f"{found} can be run beside the reference in use. Run the two in turn, both in"
                    " one bracket, until the bridge is known well enough."
                )
        elif what == "change_to":
            references.change_to(request.user, round, found, tests, reason)
            text = f"{found} is the reference from now on."
        elif what in {"retire", "broken"}:
            references.take_out(request.user, round, found, reason, broken=what == "broken")
            text = f"{found} is out. Its runs stay and count; below is what can still be compared."
        else:
            raise ValidationError("Choose what is to be done.")
        messages.success(request, text)
    except ValidationError as problem:
        messages.error(request, " ".join(problem.messages))
    return redirect(back_or(request, reverse("care", args=[slug])))
