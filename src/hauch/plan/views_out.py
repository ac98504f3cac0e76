"""The plan in open formats: a calendar, a table, a sheet for the wall."""

from __future__ import annotations

import icalendar
from django.http import Http404, HttpResponse
from django.template.loader import render_to_string
from django.utils import timezone

from hauch.formats.tables import to_csv
from hauch.people.permissions import require
from hauch.people.requests import Request, whole
from hauch.plan.day import Shown, first_day, shown
from hauch.plan.queries import in_force


def _shown(request: Request) -> Shown:
    require(request.user, "plan.view")
    known = in_force()
    if known is None:
        raise Http404("There is no plan yet.")
    return shown(request.user, known)


def _as_file(content: bytes, kind: str, name: str) -> HttpResponse:
    answer = HttpResponse(content, content_type=kind)
    answer["Content-Disposition"] = f'attachment; filename="{name}"'
    return answer


def calendar(request: Request) -> HttpResponse:
    """The steps as events of an iCalendar file (RFC 5545); with ``mine`` those of the person only."""
    made, mine = _shown(request), "mine" in request.GET
    book = icalendar.Calendar()
    book.add("prodid", "-//Hauch//plan//EN")
    book.add("version", "2.0")
    stamp = made.plan.made_at or made.plan.asked_at
    for line in made.lines():
        who = {piece[3] for piece in line.step.pieces if piece[3] is not None}
        if mine and request.user.pk not in who:
            continue
        event = icalendar.Event()
        event.add("uid", f"{line.step.key}@{made.plan.uid}")
        event.add("dtstamp", stamp)
        event.add("dtstart", line.begin)
        event.add("dtend", line.end)
        event.add("summary", f"{line.name}: {line.label}" if line.label else line.name)
        if line.place:
            event.add("location", line.place)
        if line.who:
            event.add("description", line.who)
        book.add_component(event)
    return _as_file(book.to_ical(), "text/calendar; charset=utf-8", "plan.ics")


HEADER = ["begin", "end", "place", "who", "what", "part", "runs by itself", "minutes", "state"]


def table(request: Request) -> HttpResponse:
    """The steps as CSV, in the order of their begin."""
    made = _shown(request)
    rows = [
        (
            timezone.localtime(line.begin).isoformat(timespec="minutes"),
            timezone.localtime(line.end).isoformat(timespec="minutes"),
            line.place,
            line.who,
            line.label,
            line.name,
            line.waits,
            round((line.end - line.begin).total_seconds() / 60),
            line.state,
        )
        for line in made.lines()
    ]
    return _as_file(to_csv(HEADER, rows).encode(), "text/csv; charset=utf-8", "plan.csv")


def sheet(request: Request) -> HttpResponse:
    """A day as a PDF for the wall: strip and list."""
    # Its libraries take two seconds to load, which only this page needs.
    from hauch.plan.sheet import pdf_of

    made = _shown(request)
    day = whole(request.GET.get("day"))
    day = first_day(made.plan) if day is None else min(day, made.plan.days - 1)
    page = render_to_string(
        "plan/sheet.html",
        {
            "strip": made.strip(day),
            "lines": made.lines(day),
            "date": made.days[day],
            "plan": made.plan,
        },
    )
    return _as_file(pdf_of(page), "application/pdf", "plan.pdf")
