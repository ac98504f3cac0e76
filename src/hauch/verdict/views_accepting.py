"""Accept or reject: the page of an entry's versions, the criteria, the decisions, the brackets."""

from __future__ import annotations

from typing import Any

from django.contrib import messages
from django.core.exceptions import ValidationError
from django.http import HttpResponse
from django.shortcuts import get_object_or_404, redirect, render
from django.views.decorators.http import require_POST

from hauch.core.judge.accept import Bracket
from hauch.entries.actions import may_name
from hauch.entries.models import Entry
from hauch.entries.queries import entry_for
from hauch.people.permissions import allowed
from hauch.people.requests import Request
from hauch.rounds.models import Round, Test
from hauch.rounds.queries import round_for, round_tests
from hauch.verdict import accepting
from hauch.verdict.accepting import MASS, bracketed, judgements, sizes_of
from hauch.verdict.models import Criterion, Decision
from hauch.workshop.models import Measure


def _entry(request: Request, slug: str, pk: int) -> tuple[Round, Entry, list[Test]]:
    round = round_for(request.user, slug)
    return round, entry_for(request.user, round, pk), round_tests(round)


def accept(request: Request, slug: str, pk: int) -> HttpResponse:
    """Versions of an entry with what the criteria make of each, what was decided, and brackets."""
    round, entry, tests = _entry(request, slug, pk)
    return _page(request, round, entry, tests)


def _page(
    request: Request,
    round: Round,
    entry: Entry,
    tests: list[Test],
    problems: list[str] | None = None,
    deciding: int | None = None,
) -> HttpResponse:
    known = {(c.test_id, c.against): c for c in Criterion.objects.filter(test__in=tests)}
    typed = request.POST if problems and "criteria" in request.path else {}
    found = judgements(entry, tests)
    decisions = Decision.objects.filter(version__entry=entry).select_related("version", "by")
    context: dict[str, Any] = {
        "round": round,
        "entry": entry,
        "judgements": found,
        "decisions": decisions,
        "may_decide": may_name(request.user, entry),
        "may_set": allowed(request.user, "rules.change", round),
        "criteria": [
            {
                "test": test,
                "limits": [
                    {
                        "name": f"{against}_{test.key}",
                        "label": label,
                        "value": typed.get(
                            f"{against}_{test.key}",
                            f"{known[test.pk, against].most:.12g}"
                            if (test.pk, against) in known
                            else "",
                        ),
                    }
                    for against, label in Criterion.Against.choices
                ],
            }
            for test in tests
        ],
        "any_criterion": bool(known),
        "problems": problems or [],
        "deciding": deciding,
        "typed": request.POST if deciding is not None else {},
        **_bracket(request, entry, tests),
    }
    return render(request, "verdict/accept.html", context, status=422 if problems else 200)


KINDS = dict(Measure.Kind.choices) | {MASS: "mass"}


def _bracket(request: Request, entry: Entry, tests: list[Test]) -> dict[str, Any]:
    """The bracket that is asked for: a size and a test."""
    sizes = sizes_of(entry)
    if not sizes or not tests:
        return {"sizes": []}
    size = request.GET.get("size", "")
    size = size if size in sizes else next(iter(sizes))
    test = next((t for t in tests if t.key == request.GET.get("test")), tests[0])
    found, rows = bracketed(entry, test, sizes[size])
    kind = "mass" if size == MASS else "length"
    return {
        "sizes": [(key, KINDS[key]) for key in sizes],
        "size": size,
        "size_kind": kind,
        "size_name": KINDS[size],
        "bracket_test": test,
        "tests": tests,
        "bracket": found,
        "tries": rows,
        "bracket_chart": _chart(found, rows, test, kind, KINDS[size]) if found else None,
    }


def _chart(
    found: Bracket, rows: list[dict[str, Any]], test: Test, kind: str, name: str
) -> dict[str, Any]:
    return {
        "kind": kind,
        "name": name,
        "unit": test.how.change_unit,
        "points": [
            {
                "size": row["size"],
                "value": row["change"].value,
                "half": row["change"].half,
                "label": f"v{row['version']}",
            }
            for row in rows
        ],
        "next": found.next,
        "best": found.best,
    }


def design(request: Request, slug: str, pk: int, number: int) -> HttpResponse:
    """What a version's changes say of its design; a fragment, since it takes a moment."""
    _, entry, tests = _entry(request, slug, pk)
    version = get_object_or_404(entry.versions, number=number)
    return render(
        request, "verdict/_design.html", {"rows": accepting.of_design(entry, version, tests)}
    )


@require_POST
def criteria(request: Request, slug: str, pk: int) -> HttpResponse:
    """Set the limits of the round."""
    round, entry, tests = _entry(request, slug, pk)
    try:
        count = accepting.set_criteria(request.user, round, request.POST, tests)
    except ValidationError as problem:
        return _page(request, round, entry, tests, problem.messages)
    messages.success(request, f"{count} limit{'' if count == 1 else 's'} changed.")
    return redirect("verdict:accept", slug, pk)


@require_POST
def decide(request: Request, slug: str, pk: int, number: int) -> HttpResponse:
    """Accept or reject a version."""
    round, entry, tests = _entry(request, slug, pk)
    said = next((j.sentence for j in judgements(entry, tests) if j.version.number == number), "")
    try:
        made = accepting.decide(
            request.user,
            entry,
            number,
            str(request.POST.get("word", "")),
            str(request.POST.get("reason", "")),
            said,
        )
    except ValidationError as problem:
        return _page(request, round, entry, tests, problem.messages, number)
    messages.success(request, f"Version {number} is {made.get_word_display()}.")
    return redirect("verdict:accept", slug, pk)
