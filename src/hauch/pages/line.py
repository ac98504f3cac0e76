"""What each station of the line shows of a round: done, waiting, wrong."""

from __future__ import annotations

import json
from collections.abc import Sequence
from datetime import date
from functools import cache
from typing import Any

from django.db import connection
from django.db.models import (
    Count,
    Exists,
    F,
    IntegerField,
    JSONField,
    OuterRef,
    Q,
    QuerySet,
    Subquery,
    Sum,
)
from django.db.models.functions import Coalesce, JSONObject, Least
from django.urls import reverse

from hauch.bench.models import AskedRepeats, Progress
from hauch.entries.models import Entry, PartCheck, Version
from hauch.people.clock import house_day
from hauch.people.permissions import allowed
from hauch.rounds.models import Round, RuleVersion, Test
from hauch.ui.line import Station
from hauch.verdict.models import Standing
from hauch.workshop.models import Specimen


def _counted(query: QuerySet, by: str, **expressions: Any) -> Subquery:
    """Several counts of the rows of a round, in one look at them; null where there is none."""
    rows = query.order_by().annotate(_=F(by)).values("_")
    return Subquery(rows.annotate(n=JSONObject(**expressions)).values("n"), JSONField())


ANY_ROUND, ANY_DAY = -(2**31), date.min
"""Stand for the round and for today in the query that is kept."""


@cache
def _query() -> tuple[str, tuple[Any, ...]]:
    """All counts of the line as SQL with its parameters. Each page asks it, and to write it takes
    the ORM longer than to answer it takes the database: it is written once.
    """
    sql, parameters = _counts(ANY_ROUND, ANY_DAY).query.sql_with_params()
    return sql, parameters


KEYS = (
    "in_",
    "withdrawn",
    "back",
    "late",
    "specimens",
    "ready",
    "broken",
    "asked",
    "done",
    "more",
    "dnf",
    "no_result",
    "stale",
)


def counts(rounds: Sequence[Round]) -> list[dict[str, int]]:
    """All counts of the lines of some rounds, in one query."""
    sql, parameters = _query()
    if not rounds:
        return []
    today, values = house_day(), []
    for round in rounds:
        stands_for: dict[Any, Any] = {ANY_ROUND: round.pk, ANY_DAY: today}
        values += [stands_for.get(value, value) for value in parameters]
    with connection.cursor() as cursor:
        cursor.execute(" union all ".join([f"({sql})"] * len(rounds)), values)
        found = {pk: _named(*row) for pk, *row in cursor.fetchall()}  # in no promised order
    return [found[round.pk] for round in rounds]


def _named(rules_number: int, *groups: str | None) -> dict[str, int]:
    found = {"rules_number": rules_number} | dict.fromkeys(KEYS, 0)
    for group in groups:
        found |= {key: n or 0 for key, n in json.loads(group or "{}").items()}
    return found


def _counts(round_pk: int, today: date) -> QuerySet:
    """The query of all counts of the line: the number of the rules, and a group for each table."""
    entries = Entry.objects.filter(round=OuterRef("pk"))
    current = Test.objects.current().filter(round=OuterRef("pk"))
    steps = Progress.objects.filter(
        test__round=OuterRef("pk"), test__successor__isnull=True, test__dropped=False
    )
    prints = Specimen.objects.filter(version__entry__round=OuterRef("pk"))
    newer = Version.objects.filter(
        entry=OuterRef("file__version__entry"), number__gt=OuterRef("file__version__number")
    )
    sent_back = PartCheck.objects.newest().filter(
        ~Exists(newer),
        file__version__entry__round=OuterRef("pk"),
        file__version__entry__state=Entry.State.IN,
        verdict=PartCheck.Verdict.BACK,
    )
    stale = Standing.objects.stale().filter(rules__round=OuterRef("pk"), failure="")
    in_ = Q(entry__state=Entry.State.IN)
    ready, broken = Q(state=Specimen.State.READY), Q(state=Specimen.State.BROKEN)
    return (
        Round.objects.filter(pk=round_pk)
        .annotate(
            rules_number=Coalesce(
                Subquery(
                    RuleVersion.objects.filter(round=OuterRef("pk"))
                    .order_by("-number")
                    .values("number")[:1]
                ),
                0,
            ),
            of_entries=_counted(
                entries,
                "round",
                in_=Count("pk", filter=Q(state=Entry.State.IN)),
                withdrawn=Count("pk", filter=Q(state=Entry.State.WITHDRAWN)),
            ),
            of_checks=_counted(
                sent_back,
                "file__version__entry__round",
                back=Count("file__version__entry", distinct=True),
            ),
            of_prints=_counted(
                prints,
                "version__entry__round",
                specimens=Count("pk"),
                ready=Count("pk", filter=ready),
                broken=Count("pk", filter=broken),
                late=Count("pk", filter=Q(due__lt=today) & ~ready & ~broken),
            ),
            of_tests=_counted(current, "round", asked=Sum("repeats")),
            of_steps=_counted(
                steps,
                "test__round",
                done=Sum(
                    Least("counted", "test__repeats", output_field=IntegerField()), filter=in_
                ),
                dnf=Count("entry", distinct=True, filter=in_ & Q(dnf__gt=0)),
                no_result=Sum("missing"),
            ),
            of_more=_counted(
                AskedRepeats.objects.filter(test__round=OuterRef("pk")).open(),
                "test__round",
                more=Sum("left"),
            ),
            of_standings=_counted(stale, "rules__round", stale=Count("pk")),
        )
        .values_list(
            "pk",
            "rules_number",
            "of_entries",
            "of_checks",
            "of_prints",
            "of_tests",
            "of_steps",
            "of_more",
            "of_standings",
        )
    )


def stations(round: Round, user) -> list[Station]:
    """The five stations of a round as a person sees them."""
    return lines([round], user)[0]


def lines(rounds: Sequence[Round], user) -> list[list[Station]]:
    """The stations of each of some rounds as a person sees them."""
    found = counts(rounds)
    return [_stations(round, user, n) for round, n in zip(rounds, found, strict=True)]


def _stations(round: Round, user, n: dict[str, int]) -> list[Station]:
    racing = max(n["in_"] - n["dnf"], 0)
    wanted = racing * n["asked"]
    done = min(n["done"], wanted)
    bench = f"{done:,} of {wanted:,} runs" if wanted else "no entries yet"
    if n["more"]:
        bench += f", {n['more']} more asked for"
    if n["no_result"]:
        bench += f", {n['no_result']} without result"
    entries = (
        f"{n['in_']} in"
        + (f", {n['back']} sent back" if n["back"] else "")
        + (f", {n['withdrawn']} withdrawn" if n["withdrawn"] else "")
    )
    whole = n["specimens"] - n["broken"]
    workshop = (
        "no specimen yet"
        if not n["specimens"]
        else "all ready"
        if whole and n["ready"] == whole
        else f"{n['ready']} of {whole} ready"
    ) + (f", {n['late']} late" if n["late"] else f", {n['broken']} broken" if n["broken"] else "")
    verdict = (
        "published"
        if round.is_published
        else "being computed"
        if n["stale"]
        else "provisional"
        if n["done"]
        else "too early"
    )
    benchable, early = (
        allowed(user, "bench.view", round),
        allowed(user, "verdict.view_early", round),
    )

    def at(name):
        return reverse(name, args=[round.slug])

    return [
        Station(
            "brief",
            "Brief",
            at("rounds:brief"),
            f"rules v{n['rules_number']}" if n["rules_number"] else "no rules yet",
            float(n["rules_number"] > 0),
        ),
        Station(
            "entries", "Entries", at("entries:list"), entries, float(n["in_"] > 0), bool(n["back"])
        ),
        Station(
            "workshop",
            "Workshop",
            at("workshop:list"),
            workshop,
            n["ready"] / whole if whole else 0.0,
            bool(n["late"]),
        ),
        Station(
            "bench",
            "Bench",
            at("bench:overview"),
            bench,
            done / wanted if wanted else 0.0,
            bool(n["no_result"]),
            benchable,
        ),
        Station(
            "verdict",
            "Verdict",
            at("verdict:standing"),
            verdict,
            1.0 if round.is_published else (done / wanted * 0.9 if wanted else 0.0),
            False,
            early,
        ),
    ]
