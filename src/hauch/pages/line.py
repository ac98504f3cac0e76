"""What each station of the line shows of a round: done, waiting, wrong."""

from __future__ import annotations

from datetime import date
from functools import cache
from typing import Any

from django.db import connection
from django.db.models import Count, Exists, F, IntegerField, OuterRef, QuerySet, Subquery, Sum
from django.db.models.functions import Coalesce
from django.urls import reverse
from django.utils import timezone

from hauch.bench.models import Progress
from hauch.entries.models import Entry, PartCheck, Version
from hauch.people.permissions import allowed
from hauch.rounds.models import Round, RuleVersion, Test
from hauch.ui.line import Station
from hauch.verdict.models import Standing
from hauch.workshop.models import Specimen


def _count(query, expression) -> Coalesce:
    return Coalesce(
        Subquery(
            query.order_by().values("_").annotate(n=expression).values("n"),
            output_field=IntegerField(),
        ),
        0,
    )


ANY_ROUND, ANY_DAY = -(2**31), date.min
"""Stand for the round and for today in the query that is kept."""


@cache
def _query() -> tuple[str, tuple[Any, ...]]:
    """All counts of the line as SQL with its parameters. Each page asks it, and to write it takes
    the ORM longer than to answer it takes the database: it is written once.
    """
    sql, parameters = _counts(ANY_ROUND, ANY_DAY).query.sql_with_params()
    return sql, parameters


def counts(round: Round) -> dict[str, int]:
    """All counts of the line, in one query."""
    sql, parameters = _query()
    stands_for: dict[Any, Any] = {ANY_ROUND: round.pk, ANY_DAY: timezone.localdate()}
    with connection.cursor() as cursor:
        cursor.execute(sql, [stands_for.get(value, value) for value in parameters])
        row = cursor.fetchone()
        return dict(zip((column.name for column in cursor.description), row, strict=True))


def _counts(round_pk: int, today: date) -> QuerySet:
    """The query of all counts of the line."""
    entries = Entry.objects.filter(round=OuterRef("pk")).annotate(_=F("round"))
    current = Test.objects.current().filter(round=OuterRef("pk"))
    steps = Progress.objects.filter(
        test__round=OuterRef("pk"), test__successor__isnull=True, test__dropped=False
    ).annotate(_=F("test__round"))
    prints = Specimen.objects.filter(version__entry__round=OuterRef("pk")).annotate(
        _=F("version__entry__round")
    )
    newer = Version.objects.filter(
        entry=OuterRef("file__version__entry"), number__gt=OuterRef("file__version__number")
    )
    sent_back = PartCheck.objects.newest().filter(
        ~Exists(newer), file__version__entry__round=OuterRef("pk"), verdict=PartCheck.Verdict.BACK
    )
    sent_back = sent_back.filter(file__version__entry__state=Entry.State.IN).annotate(
        _=F("file__version__entry__round")
    )
    racing = steps.filter(entry__state=Entry.State.IN)
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
            in_=_count(entries.filter(state=Entry.State.IN), Count("pk")),
            withdrawn=_count(entries.filter(state=Entry.State.WITHDRAWN), Count("pk")),
            back=_count(sent_back, Count("file__version__entry", distinct=True)),
            late=_count(
                prints.filter(due__lt=today).exclude(
                    state__in=[Specimen.State.READY, Specimen.State.BROKEN]
                ),
                Count("pk"),
            ),
            specimens=_count(prints, Count("pk")),
            ready=_count(prints.filter(state=Specimen.State.READY), Count("pk")),
            broken=_count(prints.filter(state=Specimen.State.BROKEN), Count("pk")),
            asked=_count(current.annotate(_=F("round")), Sum("repeats")),
            done=_count(racing, Sum("counted")),
            dnf=_count(racing.filter(dnf__gt=0), Count("entry", distinct=True)),
            no_result=_count(steps, Sum("missing")),
            stale=_count(
                Standing.objects.stale()
                .filter(rules__round=OuterRef("pk"), failure="")
                .annotate(_=F("rules__round")),
                Count("pk"),
            ),
        )
        .values(
            "rules_number",
            "in_",
            "withdrawn",
            "back",
            "late",
            "specimens",
            "ready",
            "broken",
            "asked",
            "done",
            "dnf",
            "no_result",
            "stale",
        )
    )


def stations(round: Round, user) -> list[Station]:
    """The five stations of a round as a person sees them."""
    n = counts(round)
    racing = max(n["in_"] - n["dnf"], 0)
    wanted = racing * n["asked"]
    done = min(n["done"], wanted)
    bench = f"{done:,} of {wanted:,} runs" if wanted else "no entries yet"
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
