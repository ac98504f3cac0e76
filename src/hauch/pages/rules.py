"""Changing the rules: what a change would do to the standing is shown before it is made."""

from __future__ import annotations

import hashlib
from contextlib import suppress
from dataclasses import dataclass
from typing import Any

from django.contrib import messages
from django.core.exceptions import ValidationError
from django.db import transaction
from django.http import HttpResponse, QueryDict
from django.shortcuts import redirect, render
from django.urls import reverse

from hauch.bench.results import runs_by_test
from hauch.people.requests import Request
from hauch.rounds.actions import change_rules
from hauch.rounds.checks import problems_of_rules
from hauch.rounds.drafts import RuleDraft, draft_of, effects
from hauch.rounds.forms_rules import RulesForm
from hauch.rounds.models import Round, RuleVersion
from hauch.rounds.queries import current_rules, round_for, round_tests
from hauch.ui.fields import sent
from hauch.ui.missing import Missing
from hauch.verdict.actions import AT_ONCE_UP_TO
from hauch.verdict.compute import judge_draft
from hauch.verdict.queries import standing_of
from hauch.verdict.what_if import Wondered


@dataclass(frozen=True)
class Moved:
    """An entry in both standings: rank before and after, None where it is not ranked."""

    name: str
    entry_id: int
    mark: int
    before: int | None
    after: int | None
    score: float | None
    reason: str


def what_if(round: Round, draft: RuleDraft, runs: dict[int, int]) -> list[Moved] | None:
    """The standing as the changed rules would make it, held against the present one; nothing is
    written.

    Gives None where the round has too many runs to judge it in a request.
    """
    if sum(runs.values()) > AT_ONCE_UP_TO:
        return None
    rules = current_rules(round)
    stored = standing_of(rules) if rules else None
    before = {row.entry_id: row.rank for row in stored.rows.all()} if stored else {}
    drawn = rules or RuleVersion(round=round)
    judged = judge_draft(round, draft, drawn.draws, drawn.seed)
    entries = round.entries.in_bulk()
    return [
        Moved(
            entries[row["entry_id"]].name,
            row["entry_id"],
            entries[row["entry_id"]].mark,
            before.get(row["entry_id"]),
            row.get("rank"),
            row.get("score"),
            row.get("reason", ""),
        )
        for row in judged.rows
    ]


def swaps(moved: list[Moved]) -> str:
    """What the change does at the top, in a sentence."""
    was = sorted((m for m in moved if m.before is not None), key=lambda m: m.before or 0)
    now = [m for m in moved if m.after is not None]
    if not was or not now:
        return "There is no standing to compare with yet."
    if [m.name for m in was if m.before == was[0].before] == [
        m.name for m in now if m.after == now[0].after
    ] and all(m.before == m.after for m in moved):
        return "No rank changes."
    first_was, first_now = (
        {m.name for m in was if m.before == 1},
        {m.name for m in now if m.after == 1},
    )
    if first_was == first_now:
        changed = sum(m.before != m.after for m in moved)
        return (
            f"The first place stays with {' and '.join(sorted(first_now))}; {changed}"
            f" {'rank changes' if changed == 1 else 'ranks change'} below it."
        )
    return (
        f"The first place goes from {' and '.join(sorted(first_was))} to"
        f" {' and '.join(sorted(first_now))}."
    )


def change(request: Request, slug: str) -> HttpResponse:
    """Change the rules: in place while the brief is written; afterwards with a look at what it
    does, and as a new version.
    """
    round = round_for(request.user, slug, "rules.change")
    present, runs = draft_of(round), runs_by_test(round)
    based_on = hashlib.sha256(repr(present).encode()).hexdigest()[:16]
    kept, data = f"rules-{round.pk}", sent(request)
    wondered = data is None and "scheme" in request.GET
    if wondered and (rules := current_rules(round)) is not None:
        tests = round_tests(round, rules)
        with suppress(ValidationError):  # an address that somebody typed
            present = Wondered.of(rules).changed(request.GET, tests).into(present)
    if data is None and "resume" in request.GET and kept in request.session:
        data = QueryDict(
            request.session[kept]
        )  # as it was typed before somebody went to the stores
    form = RulesForm(data, round=round, present=present, units=request.user.units)
    context: dict[str, Any] = {
        "round": round,
        "form": form,
        "rules": current_rules(round),
        "in_place": round.is_draft and not runs,
        "based_on": based_on,
        "wondered": wondered,
        "problems": [],
    }
    if data is not None:
        if data.get("based_on", context["based_on"]) != context["based_on"]:
            context["problems"] = [
                Missing(
                    "Somebody changed the rules while you wrote. Yours stand below; hold them"
                    " against the sheet, then go on to put them in its place.",
                    reverse("rounds:sheet", args=[slug]),
                    "the sheet",
                )
            ]
        elif not form.is_valid():
            context["problems"] = [Missing(text) for text in form.problems]
        elif "add_test" not in data:
            draft = form.wanted()
            here = f"{request.path}?resume=1"
            context["problems"] = [
                one.back_to(here) if one.url != request.path else Missing(one.text)
                for one in problems_of_rules(round, draft, round.equal_agreed)
            ]
            if not context["problems"] and request.method == "POST":
                try:
                    if "accept" in request.POST or context["in_place"]:
                        with transaction.atomic():
                            made = change_rules(request.user, round, draft, runs)
                        request.session.pop(kept, None)
                        messages.success(request, f"The rules are at version {made.number}.")
                        return redirect("rounds:brief", slug)
                    context |= _look(round, draft, runs)
                except ValidationError as problem:
                    context["problems"] = [Missing(text) for text in problem.messages]
        if context["problems"]:
            request.session[kept] = data.urlencode()
    status = 422 if context["problems"] else 200
    return render(request, "pages/rules.html", context, status=status)


def _look(round: Round, draft: RuleDraft, runs: dict[int, int]) -> dict[str, Any]:
    """What a change would do, before it is made."""
    moved = what_if(round, draft, runs)
    return {
        "looked": True,
        "effects": effects(draft, runs),
        "moved": moved,
        "swaps": swaps(moved) if moved is not None else "",
        "too_many": moved is None,
    }
