"""The control chart over 10,000 runs of a reference: the computation alone, and the page from the
database.
"""

from __future__ import annotations

import time
import uuid
from collections.abc import Iterator
from datetime import timedelta

import numpy as np
from django.test import Client
from scipy.signal import lfilter

from benchmarks.harness import Row, row, seconds
from hauch.bench.models import Result, Run
from hauch.core.judge.control import control_chart
from hauch.demo.load import load_demo
from hauch.pages.reference_health import series_of
from hauch.people.first import DEMO_PEOPLE, add_person
from hauch.people.models import User
from hauch.rounds.models import Round

RUNS = 10_000
REQUESTS = 20


def run() -> Iterator[Row]:
    y = np.random.default_rng(140).normal(0.0, 0.01, RUNS)
    plain = seconds(
        lambda: (lfilter([0.2], [1.0, -0.8], y), y.mean(), np.abs(np.diff(y[:20])).mean()), 9
    )
    chart = seconds(lambda: control_chart(y), 9)
    yield row(f"control chart of {RUNS:,} runs", 1000 * chart, "ms")
    yield row("control chart against a bare filter and means", chart / plain, "x", 5.0)

    for username, (name, _) in DEMO_PEOPLE.items():
        add_person(username, name, staff=username == "runa")
    load_demo()
    round = Round.objects.get(slug="hushed-inlet")
    model = (
        Run.objects.filter(test__round=round, test__key="air", reference__isnull=False)
        .select_related("result")
        .first()
    )
    first = Run.objects.filter(test=model.test, reference=model.reference).count()
    common = {
        "test": model.test,
        "rig_id": model.rig_id,
        "setting_id": model.setting_id,
        "operator_id": model.operator_id,
        "reference_id": model.reference_id,
        "temperature": 21.0,
        "pressure": 96_500.0,
        "humidity": 48.0,
    }
    runs = Run.objects.bulk_create(
        (
            Run(
                replicate=first + 1 + n,
                started_at=model.started_at + timedelta(minutes=n),
                form_key=uuid.uuid4(),
                **common,
            )
            for n in range(RUNS)
        ),
        batch_size=2000,
    )
    like = model.result
    Result.objects.bulk_create(
        (
            Result(
                run=run,
                value=like.value * (1 + y[n]),
                u=like.u,
                dof=like.dof,
                unit=like.unit,
                parts=like.parts,
                working=[],
                core_version=like.core_version,
            )
            for n, run in enumerate(runs)
        ),
        batch_size=2000,
    )
    yield row(
        "series of the round from the database", 1000 * seconds(lambda: series_of([round])), "ms"
    )
    client = Client(SERVER_NAME="localhost")
    client.force_login(
        User.objects.get(username="runa"), backend="django.contrib.auth.backends.ModelBackend"
    )
    for name, url in (
        ("page of the reference", model.reference.get_absolute_url()),
        ("what home fetches", "/attention/"),
    ):
        client.get(url)
        taken = []
        for _ in range(REQUESTS):
            start = time.perf_counter()
            if client.get(url).status_code != 200:
                raise RuntimeError(url)
            taken.append(1000 * (time.perf_counter() - start))
        yield row(f"{name}, {RUNS:,} runs, p95", float(np.percentile(taken, 95)), "ms", 500.0)
