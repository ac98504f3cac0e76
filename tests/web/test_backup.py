"""The whole installation in one file, and had back from it."""

from __future__ import annotations

import io
import itertools
import json
import os
import stat
import subprocess
import sys
import tarfile
import tempfile
from datetime import UTC, datetime, timedelta
from pathlib import Path
from unittest import mock

import psycopg
from django.conf import settings
from django.contrib.sessions.models import Session
from django.db import connection
from django.test import TransactionTestCase, override_settings

from hauch.entries.actions import attach
from hauch.entries.models import PartFile
from hauch.ops import backup as backups
from hauch.ops import start
from hauch.ops.backup import BackupRefused, backup, check, installed, moment_of, name_for, outdated
from hauch.ops.data import DataFolder
from hauch.ops.errors import CannotGoOn
from hauch.rounds.models import Round
from tests.builder import PASSWORD, build
from tests.emptied import Emptied
from tests.processes import database_url

PART = b"solid a\nendsolid a\n"


def quiet(text: str) -> None:
    """Nobody listens."""


class BackupTests(Emptied, TransactionTestCase):
    def setUp(self):
        folder = tempfile.TemporaryDirectory()
        self.addCleanup(folder.cleanup)
        self.folder = Path(folder.name)
        self.folder.chmod(0o711)
        media = self.folder / "media"
        media.mkdir()
        self.enterContext(override_settings(MEDIA_ROOT=media))
        self.media = media
        self.built = build()
        self.built.measure_and_judge()
        Round.objects.update(state="open")
        version = self.built.specimens["Kiebitz"].version
        version.sealed_at = None
        version.save()
        attach(self.built.host, version, "note.txt", b"Mind the tips.")
        self.client.login(username="host", password=PASSWORD)
        (media / "uploads").mkdir(exist_ok=True)
        (media / "uploads" / "piece").write_bytes(b"half a file")
        self.target = self.folder / "all.tar"

    def made(self):
        return backup(database_url(), self.media, self.target, quiet)

    def restore(self, place):
        return backups.restore(place, lambda data: installed(self.target, data, quiet, fast=True))

    def rows(self, url):
        """All rows of all tables, as text."""
        with psycopg.connect(url) as db:
            names = [
                r[0]
                for r in db.execute("select tablename from pg_tables where schemaname='public'")
                if r[0] not in backups.LEFT_OUT
            ]
            return {
                name: sorted(str(row) for row in db.execute(f'select * from "{name}"'))
                for name in names
            }

    def test_out_and_back_digit_for_digit(self):
        said = self.made()
        self.assertEqual(stat.S_IMODE(self.target.stat().st_mode), 0o600)
        self.assertEqual(check(self.target), said)
        self.assertGreater(said.rows["bench_run"], 10)
        self.assertNotIn("django_session", said.rows)
        self.assertFalse([name for name in said.files if "uploads" in name])
        place = self.folder / "aside"
        place.mkdir(mode=0o711)
        place.chmod(0o711)
        with installed(self.target, DataFolder(place), quiet, fast=True) as (again, cluster):
            self.assertEqual(again, said)
            url = cluster.environment()["HAUCH_DATABASE_URL"]
            self.assertEqual(self.rows(url), self.rows(database_url()))
            with psycopg.connect(url) as db:
                self.assertEqual(db.execute("select count(*) from django_session").fetchone(), (0,))
        self.assertGreater(Session.objects.count(), 0)
        kept = PartFile.objects.get(name="note.txt").path
        self.assertEqual((place / "files" / kept).read_bytes(), b"Mind the tips.")
        self.assertFalse((place / backups.DUMP).exists())

    def test_what_is_written_meanwhile_is_in_it_whole_or_not_at_all(self):
        """A run that is recorded while the dump is taken: rows counted are those that were dumped."""
        program = backups._program

        def and_a_run(name, *arguments, **more):
            if name == "pg_dump":
                self.built.air(self.built.reference, 400, (4.0, 4.0))
                connection.close()
            return program(name, *arguments, **more)

        with mock.patch.object(backups, "_program", and_a_run):
            said = self.made()
        later = backup(database_url(), self.media, self.folder / "later.tar", quiet)
        self.assertEqual(later.rows["bench_run"], said.rows["bench_run"] + 1)
        place = self.folder / "aside"
        place.mkdir(mode=0o711)
        place.chmod(0o711)
        with installed(self.target, DataFolder(place), quiet, fast=True) as (again, _):
            self.assertEqual(again.rows, said.rows)

    def test_no_room_leaves_nothing(self):
        for failing in ("hauch.ops.backup._dump", "hauch.ops.backup._pack"):
            with (
                self.subTest(failing),
                mock.patch(failing, side_effect=OSError(28, "No space left on device")),
                self.assertRaisesRegex(CannotGoOn, "No space left on device.*make room"),
            ):
                self.made()
            self.assertEqual(sorted(p.name for p in self.folder.iterdir()), ["media"])
        with self.assertRaisesRegex(CannotGoOn, "does not answer"):
            backup("postgresql://hauch:x@127.0.0.1:9/hauch", self.media, self.target, quiet)
        self.assertEqual(sorted(p.name for p in self.folder.iterdir()), ["media"])

    def test_what_is_no_backup_is_refused_and_leaves_nothing(self):
        self.made()
        whole = self.target.read_bytes()
        flipped = bytearray(whole)
        flipped[whole.index(b"Mind the tips.")] ^= 1
        with tarfile.open(self.target) as tar:
            names = tar.getnames()
            manifest = json.loads(tar.extractfile("manifest.json").read())
        self.assertEqual((names[0], names[-1]), ("database.dump", "manifest.json"))
        for data, words in (
            (b"", "no backup"),
            (b"x" * 5000, "no backup"),
            (whole[:4000], "cut off"),
            (whole[: len(whole) // 2], "cut off|no backup"),
            (bytes(flipped), "is damaged: 1 of 2 parts"),
            (self.packed({"manifest.json": b"{"}), "no backup"),
            (self.packed({"manifest.json": b"[" * 9000}), "no backup"),
            (self.packed({"../evil": b"x"}), "holds what no backup holds: ../evil"),
            (self.packed({"files/../../evil": b"x"}), "holds what no backup holds"),
            (self.packed({"/etc/cron.d/x": b"x"}), "holds what no backup holds"),
            (self.packed({}, link="files/aa"), "holds what no backup holds"),
            (
                self.packed({"manifest.json": json.dumps(manifest | {"format_version": 9})}),
                "Update it first",
            ),
            (self.packed({"manifest.json": json.dumps(manifest)}), "is damaged"),
        ):
            with self.subTest(words):
                self.target.write_bytes(data)
                with self.assertRaisesRegex(BackupRefused, words):
                    check(self.target)
                place = DataFolder(self.folder / "new")
                with self.assertRaisesRegex(BackupRefused, words):
                    self.restore(place)
                left = {p.name for p in place.path.iterdir()} - {"lock", "files"}
                self.assertEqual((left, list((place.path / "files").iterdir())), (set(), []))
        with self.assertRaisesRegex(BackupRefused, "No such file"):
            check(self.folder / "nowhere.tar")
        (place.path / "files" / "aa").write_text("somebody's")
        with self.assertRaisesRegex(CannotGoOn, "There is an installation"):
            self.restore(place)

    def packed(self, members, link=""):
        out = io.BytesIO()
        with tarfile.open(fileobj=out, mode="w") as tar:
            for name, data in members.items():
                one = tarfile.TarInfo(name)
                one.size = len(data)
                tar.addfile(one, io.BytesIO(data.encode() if isinstance(data, str) else data))
            if link:
                one = tarfile.TarInfo(link)
                one.type, one.linkname = tarfile.SYMTYPE, "/etc/passwd"
                tar.addfile(one)
        return out.getvalue()

    def test_by_the_commands(self):
        self.made()
        shell = {k: v for k, v in os.environ.items() if k != "HAUCH_DATABASE_URL"}
        place = self.folder / "home"
        command = [sys.executable, "-m", "hauch.ops"]
        done = subprocess.run(
            [*command, "restore", str(self.target), "--data", str(place)],
            check=False, capture_output=True, text=True, env=shell,
        )  # fmt: skip
        self.assertIn("whoever was signed in signs in anew", done.stdout, done.stderr)
        again = subprocess.run(
            [*command, "nightly", "--data", str(place)],
            check=False, capture_output=True, text=True,
            env=shell | {"HAUCH_BACKUPS": str(self.folder / "nights")},
        )  # fmt: skip
        self.assertIn("is written and checked", again.stdout, again.stderr)
        told = json.loads((self.folder / "nights" / "last.json").read_text())
        self.assertEqual(told["problem"], "")
        first, second = check(self.target), check(self.folder / "nights" / told["file"])
        self.assertEqual((first.rows, first.files), (second.rows, second.files))
        tried = subprocess.run(
            [*command, "restore", "--check", str(self.target)],
            check=False, capture_output=True, text=True, env=shell,
        )  # fmt: skip
        self.assertIn("rows agree", tried.stdout, tried.stderr)
        self.assertIn("0 differ", tried.stdout)
        self.assertEqual(tried.returncode, 0)

    def test_before_the_database_is_changed_it_is_saved(self):
        data = DataFolder(self.folder / "data")
        start.bring_up_to_date(data, database_url())  # nothing outstanding
        self.assertFalse((data.path / "backups").exists())
        outstanding = mock.patch(
            "django.db.migrations.executor.MigrationExecutor.migration_plan",
            return_value=[("people.0009_later", False)],
        )
        with (
            outstanding,
            mock.patch("django.core.management.call_command") as migrate,
            mock.patch("hauch.ops.start.say"),
        ):
            start.bring_up_to_date(data, database_url())
            migrate.side_effect = LookupError("no such table")
            [saved] = (data.path / "backups").iterdir()
            self.assertEqual(check(saved).rows["rounds_round"], 1)
            with self.assertRaisesRegex(CannotGoOn, "It is saved in .*hauch restore"):
                start.bring_up_to_date(data, database_url())


class NightTests(TransactionTestCase):
    def test_which_may_go(self):
        night = datetime(2026, 11, 28, 3, 0, tzinfo=UTC)
        known: list[datetime] = []
        for day in range(500):  # pruned every night, as it happens
            known.append(night + timedelta(days=day))
            gone = set(outdated(known))
            known = [moment for moment in known if moment not in gone]
        ages = [(known[-1] - moment).days for moment in known]
        self.assertEqual(sorted(ages)[:7], [0, 1, 2, 3, 4, 5, 6])
        self.assertLessEqual(len(known), 24)
        self.assertGreater(max(ages), 300)
        gaps = [a - b for a, b in itertools.pairwise(ages)]
        self.assertLessEqual(max(gaps), 32)
        twice = [night, night + timedelta(hours=2)]
        self.assertEqual(outdated(twice), [night])
        self.assertEqual(moment_of(name_for(night)), night)
        self.assertIsNone(moment_of("hauch-notes.tar"))

    def test_it_begins_once_a_night_and_a_failure_is_told(self):
        with (
            mock.patch.dict(os.environ, {"HAUCH_BACKUPS": "/nights"}),
            mock.patch("hauch.ops.start.subprocess.Popen") as popen,
            mock.patch("hauch.ops.start.say") as say,
        ):
            popen.return_value.poll.return_value = None
            one = start.Nightly(mock.Mock(path=settings.MEDIA_ROOT))
            for hour, count in ((1, 0), (3, 1), (4, 1), (23, 1)):
                one.check(datetime(2026, 11, 28, hour, tzinfo=UTC))
                self.assertEqual(popen.call_count, count)
            popen.return_value.poll.return_value = popen.return_value.returncode = 1
            one.check(datetime(2026, 11, 29, 2, tzinfo=UTC))
            self.assertIn("The nightly backup failed", say.call_args[0][0])
            one.check(datetime(2026, 11, 29, 3, tzinfo=UTC))
            self.assertEqual(popen.call_count, 2)
