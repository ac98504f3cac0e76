"""Databases of the last versions, as they were dumped by them, are brought up to date: nothing is
lost, results are computed again as what was published stays, and pages open.

`tests/data/older/VERSION.sql.gz` holds the tests' round with its runs and standing as that version
stored it (`make.py` beside them). With each new version the oldest goes and the one before comes.
"""

import gzip
import json
import subprocess
import sys
from pathlib import Path

import psycopg
from django.db import connection
from django.test import TransactionTestCase

from hauch.ops.cluster import binaries
from tests.emptied import Emptied
from tests.processes import database_url, environment

OLDER = sorted((Path(__file__).parents[1] / "data" / "older").glob("*.sql.gz"))

CHECK = """
import json
import django
django.setup()
from django.conf import settings
from django.test import Client
from django.urls import reverse
from hauch.bench.jobs import older, recompute_older
from hauch.bench.models import Result, Run
from hauch.bench.queries import runs
from hauch.bench.results import recompute
from hauch.people.models import User
from hauch.rounds.models import Round
from hauch.verdict.judging import refresh
from hauch.verdict.models import StandingRow

settings.ALLOWED_HOSTS = ["*"]

def figures():
    return {str(r.run_id): [r.value, r.u] for r in Result.objects.order_by("run")}

def standing():
    rows = StandingRow.objects.order_by("place").values_list("entry__name", "rank", "score")
    return [list(row) for row in rows]

before = {"figures": figures(), "standing": standing(), "older": older().count()}
recompute_older()
round = Round.objects.get()
refresh(round.rules.get())
after = {"figures": figures(), "standing": standing(), "older": older().count()}
client = Client()
client.force_login(
    User.objects.get(username="host"), backend="django.contrib.auth.backends.ModelBackend"
)
run = Run.objects.filter(specimen__isnull=False).first()
pages = [
    "/", reverse("keeper"), reverse("stores:stores"), reverse("people:people"),
    *(reverse(name, args=[round.slug]) for name in (
        "rounds:brief", "entries:list", "workshop:list", "bench:overview", "verdict:standing",
        "change_rules", "rounds:audit",
    )),
    reverse("entry", args=[round.slug, round.entries.first().pk]),
    reverse("bench:run", args=[round.slug, run.pk]),
    run.rig.get_absolute_url(), run.specimen.get_absolute_url(),
]
wrong = [url for url in pages if client.get(url).status_code != 200]
print(json.dumps({
    "before": before, "after": after, "runs": Run.objects.count(), "wrong": wrong,
    "differ": len(recompute(runs().filter(state="valid"), write=False).changed),
}))
"""


class OlderTests(Emptied, TransactionTestCase):
    def database(self, version):
        """A database of its own with what a version dumped; its address."""
        name = f"older_{version.replace('.', '_')}_{connection.settings_dict['NAME']}"
        url, _, _ = database_url().rpartition("/")
        with psycopg.connect(f"{url}/postgres", autocommit=True) as admin:
            admin.execute(f'DROP DATABASE IF EXISTS "{name}"')
            admin.execute(f'CREATE DATABASE "{name}"')

        def drop():
            with psycopg.connect(f"{url}/postgres", autocommit=True) as admin:
                admin.execute(f'DROP DATABASE IF EXISTS "{name}" WITH (FORCE)')

        self.addCleanup(drop)
        dump = gzip.decompress(next(p for p in OLDER if p.name.startswith(version)).read_bytes())
        loaded = subprocess.run(
            [str(binaries() / "psql"), "-q", "-v", "ON_ERROR_STOP=1", f"{url}/{name}"],
            input=dump,
            capture_output=True,
        )
        self.assertEqual(loaded.returncode, 0, loaded.stderr.decode()[-2000:])
        return f"{url}/{name}"

    def run_in(self, url, *command):
        """What a command says on a database."""
        done = subprocess.run(
            [sys.executable, *command],
            env=environment() | {"HAUCH_DATABASE_URL": url},
            capture_output=True,
            text=True,
        )
        self.assertEqual(done.returncode, 0, done.stderr[-3000:])
        return done.stdout

    def test_each_comes_to_this_version(self):
        self.assertEqual(len(OLDER), 3)
        for path in OLDER:
            version = path.name.removesuffix(".sql.gz")
            with self.subTest(version):
                url = self.database(version)
                self.run_in(url, "-m", "hauch.ops.manage", "migrate", "--no-input", "-v", "0")
                said = json.loads(self.run_in(url, "-c", CHECK).splitlines()[-1])
                self.assertEqual((said["runs"], said["wrong"], said["differ"]), (26, [], 0))
                self.assertEqual(said["after"]["older"], 0)
                self.assertEqual(said["before"]["figures"], said["after"]["figures"])
                self.assertEqual(said["before"]["standing"], said["after"]["standing"])
