"""What if: a step of a slider with 1,000 entries in five tests, from the request to the picture."""

from __future__ import annotations

from collections.abc import Iterator

import numpy as np
from django.test import Client
from django.urls import reverse
from django.utils import timezone

from benchmarks.harness import Row, row, seconds
from hauch.core.judge.schemes import WEIGHTED
from hauch.core.judge.standing import Term
from hauch.core.judge.what_if import Wish, ordered, reaches
from hauch.entries.models import Entry
from hauch.rounds.models import RuleTerm
from hauch.verdict.models import Standing, StandingFigures
from tests.builder import Built, build

ENTRIES = 1000
KINDS = ("air", "power", "noise", "rise", "pressure")


def run() -> Iterator[Row]:
    random = np.random.default_rng(141)
    deltas = [random.normal(0, 0.1, ENTRIES) for _ in KINDS]
    terms = tuple(Term(key, 1.0 + k, 1, True) for k, key in enumerate(KINDS))
    wish = Wish(WEIGHTED, terms, (None,) * len(KINDS))

    def step() -> None:
        reaches(wish, deltas, ordered(wish, deltas))

    weights = np.array([t.weight for t in terms])
    percent = np.expm1(np.array(deltas))
    bare = seconds(lambda: np.argsort(-(weights @ percent)), 9)
    ours = seconds(step, 9)
    yield row("what if: order and reaches of 1,000 entries", 1000 * ours, "ms", 50.0)
    yield row("what if: against bare weighing and sorting", ours / bare, "x")
    built = build(kinds=KINDS)
    _standing(built, random)
    yield row("what if: a step, answered", 1000 * _page(built), "ms", 150.0)


def _standing(built: Built, random: np.random.Generator) -> None:
    rules = built.round.rules.get()
    for key, test in built.tests.items():
        RuleTerm.objects.get_or_create(
            rules=rules, test=test, defaults={"weight": 1.0 + len(key) / 10}
        )
    Entry.objects.bulk_create(
        Entry(round=built.round, name=f"Entry {n}", mark=n % 8) for n in range(ENTRIES)
    )
    keys = list(Entry.objects.order_by("pk").values_list("pk", flat=True))
    standing, _ = Standing.objects.update_or_create(
        rules=rules, defaults={"computed_at": timezone.now()}
    )
    StandingFigures.objects.create(
        standing=standing,
        deltas={
            "entries": keys,
            "tests": {
                key: {"ground": 50.0, "delta": random.normal(0, 0.1, len(keys)).tolist()}
                for key in KINDS
            },
        },
    )


def _page(built: Built) -> float:
    client = Client(SERVER_NAME="localhost")
    client.force_login(built.host, backend="django.contrib.auth.backends.ModelBackend")
    at = reverse("verdict:what_if", args=[built.round.slug])
    number = iter(range(1, 1000))

    def step() -> None:
        asked = {f"w_{KINDS[0]}": str(1 + next(number) / 10)}
        answer = client.get(at, asked, headers={"HX-Request": "true"})
        if answer.status_code != 200 or b"slopes" not in answer.content:
            raise RuntimeError("a step was not answered")

    return seconds(step, 15)
