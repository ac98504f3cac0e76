"""Practice: a session at the virtual bench with hidden faults, told afterwards. It touches no data; what
was answered stays in the person's session.
"""

from __future__ import annotations

import secrets
from typing import Any

from django.http import HttpResponse
from django.shortcuts import redirect, render

from hauch.core.rig.practice import DRIFT, ORDER
from hauch.people.requests import Request
from hauch.practice.exercise import (
    DRIFTS,
    STEADY,
    WORDS,
    answers_to,
    charts,
    name_of,
    plain_mean,
    session_of,
)

KEPT = "practice"


def practice(request: Request) -> HttpResponse:
    """The run that is next, the question on the reference, or what was there."""
    if request.method == "POST":
        _answer(request)
        return redirect("practice:practice")
    kept = request.session.get(KEPT)
    if kept is None:
        return render(request, "practice/begin.html", {"count": len(ORDER)})
    session, answers = session_of(kept["seed"]), kept["answers"]
    context: dict[str, Any] = {"count": len(ORDER), "number": len(answers) + 1}
    if len(answers) < len(ORDER):
        run = session.runs[len(answers)]
        context |= {"name": name_of(run), "charts": charts(run), "mean": plain_mean(run)}
        context |= {"faults": WORDS.items(), "before": _means(session, len(answers))}
        return render(request, "practice/run.html", context)
    context["references"] = [row for row in _means(session, len(ORDER)) if row[0] == 0]
    if "reference" not in kept:
        return render(request, "practice/reference.html", context)
    rows = answers_to(session, answers)
    caught = kept["reference"] == (DRIFTS if session.drifts else STEADY)
    context |= {
        "rows": rows,
        "right": sum(row.right for row in rows) + caught,
        "asked": len(ORDER) + 1,
        "drifts": session.drifts,
        "drift": f"{100 * DRIFT:.2g}",
        "caught": caught,
    }
    return render(request, "practice/told.html", context)


def _means(session: Any, count: int) -> list[tuple[int, int, str, float]]:
    """What was read so far: place among the parts, number, name and plain mean [m/s]."""
    return [
        (0 if run.subject == "reference" else 1, number, name_of(run), plain_mean(run))
        for number, run in enumerate(session.runs[:count], 1)
    ]


def _answer(request: Request) -> None:
    """Keep an answer: begin, a fault for the run that was shown, or drift."""
    kept = request.session.get(KEPT)
    if "begin" in request.POST or kept is None:
        request.session[KEPT] = {"seed": secrets.randbelow(1_000_000), "answers": []}
        return
    said, number = request.POST.get("said", ""), request.POST.get("number", "")
    answers = kept["answers"]
    if len(answers) < len(ORDER):
        # A page that was sent twice, or an older one by Back, answers nothing again.
        if said in WORDS and number == str(len(answers) + 1):
            request.session[KEPT] = kept | {"answers": [*answers, said]}
    elif said in {DRIFTS, STEADY} and "reference" not in kept:
        request.session[KEPT] = kept | {"reference": said}
