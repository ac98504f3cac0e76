"""A database of the version before is brought up to date, with rows in it.

An empty database lets pass what one with rows refuses, such as changed rows and a changed table in
one transaction.
"""

import json

import numpy as np
from django.db import connection
from django.db.migrations.executor import MigrationExecutor
from django.db.migrations.loader import MigrationLoader
from django.test import SimpleTestCase, TransactionTestCase

from hauch.bench.models import Live, Progress, Recording, Run
from hauch.bench.traces import store, trace_of
from hauch.core.trace.source import Held
from hauch.live.protocol import Cut, Hold, Mounted, Sweep, Throttle, Wave, wanted_of
from hauch.verdict.models import Standing
from tests.builder import START, build

BEFORE = [
    ("entries", "0004_parts_checked"),
    ("workshop", "0002_from_printer_to_bench"),
    ("bench", "0007_waveforms"),
    ("verdict", "0002_schemes"),
]


OLD_WISHES = {
    "wishes": [
        {"n": 1, "at": 0.0, "mounted": ""},
        {"n": 2, "at": 1.0, "throttle": 60.0},
        {"n": 3, "at": 2.0, "task": {"kind": "sweep", "levels": [30.0, 60.0, 90.0], "dwell": 5.0}},
        {
            "n": 4,
            "at": 3.0,
            "task": {"kind": "hold", "channel": "power", "target": 6.0, "tolerance": 0.1},
        },
        {"n": 5, "at": 4.0, "wave": 4.0},
        {"n": 6, "at": 5.0, "cut": True},
    ]
}
"""As they were written before they had kinds."""


class StepByStep(MigrationLoader):
    """The migrations that an older installation runs, without those that replace them for a new
    one.
    """

    def load_disk(self):
        super().load_disk()
        for key, migration in list(self.disk_migrations.items()):
            if migration.replaces:
                del self.disk_migrations[key]


class SquashedTests(SimpleTestCase):
    def test_new_and_old_installations_come_to_the_same_models(self):
        new, old = MigrationLoader(None), StepByStep(None)
        self.assertLess(len(new.graph.nodes), len(old.graph.nodes) - 30)
        self.assertEqual(self.described(new), self.described(old))

    def described(self, loader):
        """Each model with its fields and options, in a fixed order."""
        return {
            "{}.{}".format(*key): {
                name: str(field.deconstruct()[1:]) for name, field in sorted(model.fields.items())
            }
            | {
                f"options: {name}": str(
                    sorted(str(one.deconstruct()) for one in value)
                    if name in {"constraints", "indexes"}
                    else value
                )
                for name, value in sorted(model.options.items())
                if value
            }
            for key, model in sorted(loader.project_state().models.items())
        }


class MigrationTests(TransactionTestCase):
    def executor(self):
        executor = MigrationExecutor(connection)
        executor.loader = StepByStep(connection)
        return executor

    def migrate(self, targets):
        self.executor().migrate(targets)

    def test_from_the_version_before_with_rows(self):
        built = build()
        built.measure_and_judge()
        counted = sorted(
            Progress.objects.values_list("test", "entry", "version", "counted"), key=str
        )
        runs = Run.objects.count()
        times = np.arange(9000) / 50
        log = Recording.objects.create(round=built.round, started_at=START)
        store(log, Held(times, {"speed": 1900 + times}))
        going_on = Live.objects.create(
            round=built.round,
            test=built.tests["air"],
            setting=built.tests["air"].setting,
            reference=built.reference,
            recording=Recording.objects.create(round=built.round, started_at=START, rate=50.0),
            operator=built.operator,
        )
        newest = self.executor().loader.graph.leaf_nodes()
        try:
            self.migrate(BEFORE)
            with connection.cursor() as cursor:
                cursor.execute("update bench_live set wanted = %s", [json.dumps(OLD_WISHES)])
        finally:
            self.migrate(newest)
        self.assertEqual(Run.objects.count(), runs)
        again = sorted(Progress.objects.values_list("test", "entry", "version", "counted"), key=str)
        self.assertEqual(again, counted)
        self.assertTrue(Standing.objects.get().stale)  # to be judged by one version
        np.testing.assert_array_equal(trace_of(log).window(70.0, 150.0).times, times[3500:7501])
        self.assertEqual(trace_of(log).extent, (0.0, times[-1]))
        self.assertEqual(
            [(w.n, w.wish) for w in wanted_of(Live.objects.get(pk=going_on.pk)).wishes],
            [
                (1, Mounted("")),
                (2, Throttle(60.0)),
                (3, Sweep([30.0, 60.0, 90.0], 5.0)),
                (4, Hold("power", 6.0, 0.1)),
                (5, Wave(4.0)),
                (6, Cut()),
            ],
        )
