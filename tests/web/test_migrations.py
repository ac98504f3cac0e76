"""A database of the version before is brought up to date, with rows in it.

An empty database lets pass what one with rows refuses, such as changed rows and a changed table in
one transaction.
"""

from django.db import connection
from django.db.migrations.executor import MigrationExecutor
from django.test import TransactionTestCase

from hauch.bench.models import Progress, Run
from hauch.verdict.models import Standing
from tests.builder import build

BEFORE = [
    ("entries", "0004_parts_checked"),
    ("workshop", "0002_from_printer_to_bench"),
    ("bench", "0007_waveforms"),
    ("verdict", "0002_schemes"),
]


class MigrationTests(TransactionTestCase):
    def migrate(self, targets):
        executor = MigrationExecutor(connection)
        executor.migrate(targets)

    def test_from_the_version_before_with_rows(self):
        built = build()
        built.measure_and_judge()
        counted = sorted(
            Progress.objects.values_list("test", "entry", "version", "counted"), key=str
        )
        runs = Run.objects.count()
        newest = MigrationExecutor(connection).loader.graph.leaf_nodes()
        try:
            self.migrate(BEFORE)
        finally:
            self.migrate(newest)
        self.assertEqual(Run.objects.count(), runs)
        again = sorted(Progress.objects.values_list("test", "entry", "version", "counted"), key=str)
        self.assertEqual(again, counted)
        self.assertTrue(Standing.objects.get().stale)  # to be judged by one version
