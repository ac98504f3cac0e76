"""Server time and queries of each page, at demo size and with 100,000 runs in the database."""

from __future__ import annotations

import time
import uuid
from collections.abc import Iterator
from datetime import timedelta

import numpy as np
from django.db import connection
from django.http import HttpRequest, HttpResponse
from django.template import Context, Engine
from django.test import Client
from django.test.utils import CaptureQueriesContext, override_settings
from django.urls import include, path, reverse

from benchmarks.harness import Row, row, stolen
from hauch.bench import progress
from hauch.bench.models import Result, Run
from hauch.demo.load import load_demo
from hauch.entries.models import Entry, Version
from hauch.people.first import DEMO_PEOPLE, add_person
from hauch.people.models import User
from hauch.rounds.models import (
    Membership,
    Round,
    RuleTerm,
    RuleVersion,
    Setting,
    Test,
    TestReference,
)
from hauch.verdict.judging import refresh
from hauch.workshop.models import Specimen

REQUESTS = 40
MOST_QUERIES = {"run": 14, "side by side": 16, "accept": 18}
"""A run is held against the reference, earlier versions, other settings and the rig's history; versions
against each other, with their prints, bills, checks and recordings, or limits and decisions.
"""
LARGE_ROUNDS, ENTRIES, REPEATS = 4, 1000, 5  # 4 x 1,000 x 5 tests x 5 repeats = 100,000 runs


def pages_of(round: Round) -> dict[str, str]:
    entry = round.entries.filter(versions__specimens__runs__isnull=False).order_by("name").first()
    specimen = Specimen.objects.filter(version__entry=entry).first()
    run = Run.objects.filter(test__round=round, specimen=specimen).first()
    test = round.tests.first()
    slug = round.slug
    return {
        "home": reverse("home"),
        "search": reverse("search") + "?q=dis",
        "stores": reverse("stores:stores"),
        "brief": reverse("rounds:brief", args=[slug]),
        "entries": reverse("entries:list", args=[slug]),
        "entry": reverse("entry", args=[slug, entry.pk]),
        "workshop": reverse("workshop:list", args=[slug]),
        "bench": reverse("bench:overview", args=[slug]),
        "capture": reverse("bench:capture", args=[slug, test.pk]) + f"?subject=s{specimen.pk}",
        "run": reverse("bench:run", args=[slug, run.pk]),
        "verdict": reverse("verdict:standing", args=[slug]),
        "what if": reverse("verdict:what_if", args=[slug]),
        "side by side": reverse("verdict:beside", args=[slug]),
        "accept": reverse("verdict:accept", args=[slug, entry.pk]),
        "envelope": reverse("rounds:envelope", args=[slug]),
        "rules": reverse("change_rules", args=[slug]),
        "sheet": reverse("rounds:sheet", args=[slug]),
        "people": reverse("rounds:people", args=[slug]),
        "audit": reverse("rounds:audit", args=[slug]),
        "rig": test.rig.get_absolute_url(),
        "instrument": test.rig.meters.first().instrument.get_absolute_url(),
        "attention": reverse("attention"),
        "cell": reverse(
            "verdict:cell", args=[slug, round.rules.first().number, entry.pk, test.key]
        ),
    }


PLAIN = Engine(builtins=["django.template.defaulttags"]).from_string(
    """<!doctype html><html lang="en"><head><title>Runs</title></head><body><table>
{% for run in runs %}
<tr><td>{{ run.pk }}</td><td>{{ run.test.label }}</td><td>{{ run.started_at|date:"j M Y H:i" }}</td>
<td>{{ run.result.value|floatformat:2 }}</td><td>{{ run.operator.first_name }}</td></tr>
{% endfor %}</table></body></html>"""
)


def plain_list(request: HttpRequest) -> HttpResponse:
    """A list of 50 rows as Django makes it, behind the same sign-in and middleware."""
    rows = Run.objects.select_related("test", "result", "operator").order_by("-pk")[:50]
    return HttpResponse(PLAIN.render(Context({"runs": rows})))


urlpatterns = [path("plain/", plain_list), path("", include("hauch.site.urls"))]


def processor_ms(client: Client, url: str) -> float:
    """Processor time of a page, in the middle of many [ms]."""
    taken = []
    for _ in range(REQUESTS):
        start = time.process_time()
        client.get(url)
        taken.append(1000 * (time.process_time() - start))
    return float(np.median(taken))


def measure(label: str, round: Round) -> Iterator[Row]:
    client = Client(SERVER_NAME="localhost")
    client.force_login(
        User.objects.get(username="runa"), backend="django.contrib.auth.backends.ModelBackend"
    )
    with override_settings(ROOT_URLCONF="benchmarks.pages"):
        client.get("/plain/")
        bare = processor_ms(client, "/plain/")
        yield row(f"{label}: plain list of 50 rows, processor time", bare, "ms")
        for name, url in pages_of(round).items():
            client.get(url)
            ratio = processor_ms(client, url) / bare
            yield row(f"{label}: {name}, processor time over it", ratio, "x")
    for name, url in pages_of(round).items():
        client.get(url)
        taken = []
        for _ in range(REQUESTS):
            start = time.perf_counter()
            answer = client.get(url)
            taken.append(1000 * (time.perf_counter() - start))
            if answer.status_code != 200:
                raise RuntimeError(f"{url}: {answer.status_code}")
        with CaptureQueriesContext(connection) as queries:
            client.get(url)
        yield row(f"{label}: {name}, median", float(np.median(taken)), "ms")
        yield row(f"{label}: {name}, p95", float(np.percentile(taken, 95)), "ms", 100.0)
        yield row(f"{label}: {name}, queries", len(queries), "queries", MOST_QUERIES.get(name, 12))
        asked = sum(
            "rounds_membership" in query["sql"] and "rounds_round" in query["sql"]
            for query in queries.captured_queries
        )
        yield row(f"{label}: {name}, of them for permission", asked, "queries", 1)


def enlarge(pattern: Round) -> Round:
    """Large rounds shaped like the demo's, made in bulk; gives the last."""
    random = np.random.default_rng(100)
    user = User.objects.get(username="runa")
    sample = {
        test.key: Result.objects.filter(run__test=test, value__isnull=False).first()
        for test in pattern.tests.all()
    }
    large = pattern
    for number in range(LARGE_ROUNDS):
        large = Round.objects.create(
            slug=f"open-call-{number}",
            number=10 + number,
            title=f"Open call {number}",
            question="Which of a thousand?",
            part="rotor",
            state="bench",
        )
        Membership.objects.create(round=large, user=user, role="host")
        setting = Setting.objects.create(round=large, label="Full throttle")
        entries = Entry.objects.bulk_create(
            Entry(round=large, name=f"Entry {i:04}", mark=i) for i in range(ENTRIES)
        )
        versions = Version.objects.bulk_create(Version(entry=entry) for entry in entries)
        specimens = Specimen.objects.bulk_create(
            Specimen(version=v, code=f"X-{i:04}", state="ready") for i, v in enumerate(versions)
        )
        rules = RuleVersion.objects.create(round=large, number=1, created_by=user)
        quality = np.exp(random.normal(0, 0.06, ENTRIES))
        for old in pattern.tests.select_related("rig"):
            test = Test.objects.create(
                round=large,
                key=old.key,
                label=old.label,
                procedure=old.procedure,
                rig=old.rig,
                setting=setting,
                order=old.order,
                repeats=REPEATS,
            )
            rules.tests.add(test)
            RuleTerm.objects.create(rules=rules, test=test, weight=1)
            specimen = old.references.last().specimen
            TestReference.objects.create(test=test, specimen=specimen, since=pattern.created_at)
            made = []
            common = {
                "test": test,
                "rig": old.rig,
                "setting": setting,
                "operator": user,
                "temperature": 21.0,
                "pressure": 96_500.0,
                "humidity": 48.0,
            }
            for repeat in range(REPEATS):
                for index, part in enumerate(specimens):
                    moment = pattern.created_at + timedelta(minutes=repeat * ENTRIES + index)
                    made.append(
                        (
                            Run(
                                specimen=part,
                                replicate=repeat + 1,
                                started_at=moment,
                                form_key=uuid.uuid4(),
                                **common,
                            ),
                            quality[index],
                        )
                    )
                    if index % 100 == 50:
                        count = repeat * 10 + index // 100 + 1
                        made.append(
                            (
                                Run(
                                    reference=specimen,
                                    replicate=count,
                                    started_at=moment + timedelta(seconds=30),
                                    **common,
                                ),
                                1.0,
                            )
                        )
            Run.objects.bulk_create([run for run, _ in made], batch_size=2000)
            like = sample[old.key]
            Result.objects.bulk_create(
                [
                    Result(
                        run=run,
                        value=like.value * (q * random.normal(1, 0.01) if old.how.log else 1)
                        + (0 if old.how.log else random.normal(0, 0.5)),
                        u=like.u,
                        dof=like.dof,
                        unit=like.unit,
                        parts=like.parts,
                        working=like.working,
                        core_version=like.core_version,
                    )
                    for run, q in made
                ],
                batch_size=2000,
            )
        progress.rebuild(large)
    with connection.cursor() as cursor:
        cursor.execute("analyze")
    return large


def run() -> Iterator[Row]:
    before, began = stolen(), time.perf_counter()
    for username, (name, _) in DEMO_PEOPLE.items():
        add_person(username, name, staff=username == "runa")
    demo = load_demo()
    yield from measure("demo", demo)
    large = enlarge(demo)
    yield row("runs in the database", Run.objects.count(), "runs")
    start = time.perf_counter()
    refresh(large.rules.get())
    yield row("standing of 1,000 entries from the database", time.perf_counter() - start, "s")
    yield from measure("100,000 runs", large)
    yield row(
        "processor time that the host took meanwhile",
        100 * (stolen() - before) / (time.perf_counter() - began),
        "%",
    )
