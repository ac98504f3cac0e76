"""Back to any minute: the log of a running database and its files, and an installation made of them."""

from __future__ import annotations

import argparse
import contextlib
import io
import json
import os
import shutil
import subprocess
import sys
import tempfile
import time
from datetime import UTC, datetime, timedelta
from pathlib import Path
from unittest import mock

import psycopg
from django.test import SimpleTestCase, TestCase, override_settings

from hauch.ops import archive, backup, maintenance
from hauch.ops.archive import Keeper, bases, installed, turn_off, turn_on, typed_moment
from hauch.ops.data import DataFolder
from hauch.ops.errors import CannotGoOn
from hauch.site import state


def quiet(text: str) -> None:
    """Nobody listens."""


def folder_of(test: SimpleTestCase) -> Path:
    """A folder that the database's own user may pass through."""
    made = tempfile.TemporaryDirectory()
    test.addCleanup(made.cleanup)
    path = Path(made.name)
    path.chmod(0o711)
    return path


class ArchiveTests(SimpleTestCase):
    """One cluster for all of them; each begins with an archive that holds no copy yet."""

    @classmethod
    def setUpClass(cls):
        super().setUpClass()
        cls.home = Path(cls.enterClassContext(tempfile.TemporaryDirectory()))
        cls.home.chmod(0o711)
        cls.archive = cls.home / 'it\'s 100% "safe"'  # every character that a shell knows
        cls.data = DataFolder(cls.home / "data")
        turn_on(cls.data, cls.archive)
        cls.cluster = cls.data.cluster()
        cls.cluster.fast = True
        cls.cluster.start()
        cls.addClassCleanup(cls.cluster.stop)
        cls.cluster.ensure_database()
        cls.url = cls.cluster.environment()["HAUCH_DATABASE_URL"]
        cls.db = psycopg.connect(cls.url, autocommit=True)
        cls.addClassCleanup(cls.db.close)
        for name in backup.LEFT_OUT:
            cls.db.execute(f"create table {name} (secret text)")
            cls.db.execute(f"insert into {name} values ('signed in')")
        cls.db.execute("create table reading (number int)")

    def setUp(self):
        self.folder = folder_of(self)
        turn_on(self.data, self.archive)
        (self.archive / archive.LAST).unlink(missing_ok=True)
        self.db.execute("delete from reading")
        for kept in (self.data.path / "files", self.archive / "files", self.archive / "base"):
            for path in kept.iterdir():
                shutil.rmtree(path)
        began = datetime.now(UTC) - timedelta(days=30)
        self.keeper = Keeper(self.url, self.data.path / "files", self.archive, began)

    def read(self, number: int) -> datetime:
        """One reading, and a file that belongs to it; the moment after it."""
        self.db.execute("insert into reading values (%s)", (number,))
        place = self.data.path / "files" / f"{number:02}"
        place.mkdir()
        (place / "whole").write_text(f"file of {number}")
        (place / ".coming-x").write_text("half")
        row = self.db.execute("select clock_timestamp()").fetchone()
        return row[0]

    def hand_over(self):
        """Have the database hand its log over now, as it does each minute."""
        row = self.db.execute("select pg_walfile_name(pg_switch_wal())").fetchone()
        deadline = time.monotonic() + 60
        while not (self.archive / "wal" / f"{row[0]}.gz").exists():
            self.assertLess(time.monotonic(), deadline, self.cluster.log()[-500:])
            time.sleep(0.05)

    def had_back(self, at, place):
        """Readings and files as they were at a moment."""
        place = DataFolder(self.folder / place)
        with installed(self.archive, at, place, quiet, fast=True) as (told, cluster):
            self.assertNotEqual(cluster.password, self.cluster.password)
            with psycopg.connect(cluster.environment()["HAUCH_DATABASE_URL"]) as db:
                for name in backup.LEFT_OUT:
                    self.assertEqual(db.execute(f"select count(*) from {name}").fetchone(), (0,))
                numbers = [row[0] for row in db.execute("select number from reading order by 1")]
                row = db.execute("select current_setting('archive_mode')").fetchone()
        self.assertEqual(row, ("off",), "it would write over the first one's log")
        self.assertEqual(told.row_count, len(numbers))
        files = sorted(path.read_text() for path in (place.path / "files").rglob("whole"))
        return numbers, files

    def test_back_to_a_moment(self):
        self.read(1)
        self.keeper.turn(datetime.now().astimezone(), quiet)
        [base] = bases(self.archive)
        moments = [self.read(number) for number in (2, 3, 4)]
        self.assertEqual(self.keeper.copy_files(), 3)
        self.assertEqual(self.keeper.copy_files(), 0)
        self.hand_over()
        self.read(5)
        self.db.execute("delete from reading where number < 3")  # what somebody regrets
        self.hand_over()
        self.keeper.copy_files()
        numbers, files = self.had_back(moments[1], "second")
        self.assertEqual(numbers, [1, 2, 3])
        self.assertLess({"file of 1", "file of 2", "file of 3"}, set(files))
        self.assertEqual(self.had_back(None, "last")[0], [3, 4, 5])
        for at, words in (
            (base.moment - timedelta(seconds=1), "reaches back to"),
            (datetime.now(UTC) + timedelta(days=1), "it ends with 20.*Without --at"),
        ):
            with self.assertRaisesRegex(CannotGoOn, words):
                self.had_back(at, f"never {words}")

    def test_a_damaged_copy_is_refused_by_name(self):
        self.keeper.take_base()
        [base] = bases(self.archive)
        packed = self.archive / "base" / base.name / "base.tar.gz"
        whole = packed.read_bytes()
        packed.write_bytes(whole[: len(whole) // 2])
        with self.assertRaisesRegex(CannotGoOn, f"{base.name} is damaged"):
            self.had_back(None, "cut off")
        packed.write_bytes(whole)
        manifest = packed.with_name("backup_manifest")
        manifest.write_text(manifest.read_text().replace('"Size": 3', '"Size": 4', 1))
        with self.assertRaisesRegex(CannotGoOn, f"{base.name} is damaged"):
            self.had_back(None, "changed")

    def segments(self):
        """Names of the pieces of the log that are there."""
        return {path.name for path in (self.archive / "wal").glob("*.gz")}

    def test_what_was_not_handed_over_while_it_was_off_is_not_passed_over(self):
        """No copy from before it was turned on again is good for a moment after that."""
        self.keeper.turn(datetime.now().astimezone(), quiet)
        self.keeper.turn(datetime.now().astimezone(), quiet)
        self.assertEqual(len(bases(self.archive)), 1)
        turn_off(self.data)
        turn_on(self.data, self.archive)
        since = datetime.fromtimestamp(self.data.archive_switch.stat().st_mtime, UTC)
        again = Keeper(self.url, self.data.path / "files", self.archive, since)
        again.turn(datetime.now().astimezone(), quiet)
        again.turn(datetime.now().astimezone(), quiet)
        self.assertEqual(len(bases(self.archive)), 2)
        self.assertGreater(bases(self.archive)[0].moment, since)

    def test_what_the_first_one_wrote_in_its_log_is_not_taken_for_news(self):
        log = self.cluster.folder / "server.log"
        said = "last completed transaction was at log time 1999-01-01 00:00:00 UTC\n"
        with log.open("a") as out:
            out.write(said)
        self.keeper.take_base()
        self.hand_over()
        with self.assertRaises(CannotGoOn) as refused:
            self.had_back(datetime.now(UTC) + timedelta(days=1), "log")
        self.assertNotIn("1999", str(refused.exception))

    def test_what_no_moment_needs_goes(self):
        self.read(1)
        self.keeper.turn(datetime.now().astimezone(), quiet)
        self.read(2)
        self.keeper.copy_files()
        shutil.rmtree(self.data.path / "files" / "02")
        self.hand_over()
        later = self.keeper.take_base()
        self.keeper.turn(datetime.now().astimezone(), quiet)
        self.assertEqual(len(bases(self.archive)), 2, "one a night is enough")
        before = self.segments()
        self.keeper.take_away(later.moment - timedelta(seconds=1))
        self.assertEqual((len(bases(self.archive)), self.segments()), (2, before))
        self.keeper.take_away(later.moment + timedelta(seconds=1))
        self.assertEqual(bases(self.archive), [later])
        needless = {name for name in before if name[:24] < later.first_segment}
        self.assertTrue(needless)
        self.assertEqual(needless & self.segments(), set())
        self.assertLessEqual(before - needless, self.segments())
        kept = sorted(path.parent.name for path in (self.archive / "files").rglob("whole"))
        self.assertEqual(kept, ["01"])
        self.assertEqual(self.had_back(None, "after")[0], [1, 2])

    def test_a_second_installation_and_other_things_are_refused(self):
        other = DataFolder(self.folder / "other")
        with self.assertRaisesRegex(CannotGoOn, "of another installation"):
            turn_on(other, self.archive)
        full = self.folder / "full"
        full.mkdir()
        (full / "letters").write_text("mine")
        with self.assertRaisesRegex(CannotGoOn, "holds other things"):
            turn_on(other, full)
        self.assertIsNone(other.archive)
        turn_on(self.data, self.archive)  # twice is once
        turn_off(self.data)
        self.assertIsNone(self.data.archive)
        turn_off(self.data)

    def test_a_disk_that_went_is_told_and_comes_back(self):
        said = []
        shutil.move(self.archive, self.home / "gone")
        stopping = []

        def listen(text):
            said.append(text)
            stopping.extend(["cannot be kept"] * ("cannot be kept" in text))

        self.keeper.run(stopping, listen)
        self.assertIn("cannot be kept", said[-1])
        shutil.move(self.home / "gone", self.archive)
        self.read(1)
        self.keeper.turn(datetime.now().astimezone(), quiet)
        self.hand_over()
        self.assertEqual(self.had_back(None, "again")[0], [1])

    def test_by_the_commands(self):
        self.read(1)
        self.keeper.take_base()
        self.keeper.copy_files()
        self.hand_over()
        place = self.folder / "home"
        for source, at, words in (
            (self.archive, "noon", "is no moment"),
            (self.folder / "x.tar", "2026-01-01", "belongs to an archive"),
            (self.folder, "", "is no archive"),
        ):
            with self.subTest(words), self.assertRaisesRegex(CannotGoOn, words):
                self.run_here("restore", file=source, at=at, check=False, data=self.folder / "no")
        shell = {k: v for k, v in os.environ.items() if k != "HAUCH_DATABASE_URL"}
        command = [sys.executable, "-m", "hauch.ops", "restore", self.archive, "--data", place]
        done = subprocess.run(
            list(map(str, command)), check=False, capture_output=True, text=True, env=shell
        )
        self.assertIn("whoever was signed in signs in anew", done.stdout, done.stderr)
        self.assertEqual((place / "files" / "01" / "whole").read_text(), "file of 1")
        with self.assertRaisesRegex(CannotGoOn, "There is an installation"):
            self.run_here("restore", file=self.archive, at="", check=False, data=place)
        own = self.folder / "own"
        for folder, off, words in (
            (None, False, "has no archive"),
            (own, False, "can be had back"),
            (None, False, "no copy of the cluster"),
            (None, True, "no longer"),
        ):
            told = self.run_here("archive", folder=folder, off=off, data=place)
            self.assertIn(words, told)

    def test_it_is_kept_by_a_process_of_its_own_wherever_the_files_are(self):
        shared = self.folder / "share"
        (shared / "aa").mkdir(parents=True)
        (shared / "aa" / "whole").write_text("on a share")
        command = [sys.executable, "-m", "hauch.ops", "archiving", "--data", str(self.data.path)]
        more = {"HAUCH_DATABASE_URL": self.url, "HAUCH_FILES_URL": f"file://{shared}"}
        child = subprocess.Popen(
            command, env=os.environ | more, stdout=subprocess.PIPE, stderr=subprocess.STDOUT
        )
        deadline = time.monotonic() + 90
        while not (bases(self.archive) and (self.archive / archive.LAST).exists()):
            self.assertLess(time.monotonic(), deadline)
            self.assertIsNone(child.poll())
            time.sleep(0.1)
        child.terminate()
        said, _ = child.communicate(timeout=30)
        self.assertEqual((child.returncode, b"Traceback" in said), (0, False), said)
        self.assertEqual((self.archive / "files" / "aa" / "whole").read_text(), "on a share")
        self.assertEqual(json.loads((self.archive / archive.LAST).read_text())["problem"], "")

    def run_here(self, command, **options):
        """A command in this process; what it says."""
        said = io.StringIO()
        with contextlib.redirect_stdout(said):
            getattr(maintenance, command)(argparse.Namespace(command=command, **options))
        return said.getvalue()


class MomentTests(SimpleTestCase):
    def test_as_typed(self):
        here = datetime.now().astimezone().tzinfo
        self.assertEqual(
            typed_moment(" 2026-11-29 14:05 ").replace(tzinfo=None), datetime(2026, 11, 29, 14, 5)
        )
        self.assertEqual(typed_moment("2026-11-29 14:05").tzinfo, here)
        self.assertEqual(
            typed_moment("2026-11-29T14:05+02:00"), datetime(2026, 11, 29, 12, 5, tzinfo=UTC)
        )
        with self.assertRaises(ValueError):
            typed_moment("yesterday")


class ToldTests(TestCase):
    def line(self, row):
        with mock.patch("hauch.site.state.connection") as connection:
            cursor = connection.cursor.return_value.__enter__.return_value
            cursor.fetchone.return_value = row
            return state._archive()

    def test_the_keeper_is_told(self):
        folder = folder_of(self)
        self.enterContext(override_settings(DATA=folder))
        at = datetime(2026, 11, 29, 14, 5, tzinfo=UTC)
        self.assertEqual(self.line(("off", None, None, False)), [])
        [line] = self.line(("on", at, None, False))
        self.assertTrue(line.well)
        self.assertIn("29 Nov 2026 14:05", line.told)
        [line] = self.line(("on", at, "0001", True))
        self.assertIn("0001 could not be written", line.told)
        self.assertIn("has room", line.do)
        (folder / "archive").write_text(str(folder / "a"))
        [line] = self.line(("on", at, None, False))
        self.assertIn("cannot be read", line.told)
        (folder / "a").mkdir()
        now = datetime.now(UTC)
        for seen, problem, copying, do in (
            (now, "", False, ""),
            (now, "no room", False, "today"),
            (now - timedelta(hours=1), "", False, "Nobody looks after it"),
            (now - timedelta(hours=1), "", True, ""),
            (now - timedelta(days=2), "", True, "Nobody looks after it"),
        ):
            told = {"at": seen.isoformat(), "told": "back to Monday", "problem": problem}
            told |= {"copying": copying}
            (folder / "a" / archive.LAST).write_text(json.dumps(told))
            [line] = self.line(("on", at, None, False))
            self.assertIn("back to Monday", line.told)
            self.assertIn(do, line.do)
            self.assertEqual(line.well, not do)
