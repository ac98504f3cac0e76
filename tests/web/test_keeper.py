"""The keeper's page and the same on the shell; numbers of requests; what the log says."""

from __future__ import annotations

import errno
import itertools
import json
import logging
import os
import shutil
import tempfile
from datetime import UTC, datetime, timedelta
from pathlib import Path
from unittest import mock

import psycopg
from asgiref.sync import async_to_sync
from django.db import OperationalError, connection
from django.test import Client, RequestFactory, TestCase
from django.urls import reverse
from django.utils import timezone
from procrastinate.contrib.django import app
from procrastinate.contrib.django.models import ProcrastinateJob
from procrastinate.jobs import Job
from psycopg_pool import PoolTimeout

from hauch.bench import files as bench_files
from hauch.bench import jobs as bench_jobs
from hauch.bench.models import Live, LogImport, Result
from hauch.bench.runs import Subject
from hauch.live import actions as live
from hauch.site import jobs
from hauch.site import state as states
from hauch.site.models import Trouble
from hauch.site.state import state
from hauch.site.trace import HEADER, AsJson, WithNumber, number, remember
from hauch.stores.models import Instrument
from tests.builder import PASSWORD, build

JOB = (
    "insert into procrastinate_jobs (queue_name, task_name, priority, args, status, attempts)"
    " values ('default', 'entries.check', 0, '{\"check\": 7}', %s, 3) returning id"
)


class KeeperCase(TestCase):
    @classmethod
    def setUpTestData(cls):
        cls.built = build()

    def setUp(self):
        self.client.login(username="host", password=PASSWORD)

    def line(self, what):
        return next(line for line in state().lines if line.what == what)

    def job(self, status="failed"):
        with connection.cursor() as cursor:
            cursor.execute(JOB, [status])
            return cursor.fetchone()[0]


class StateTests(KeeperCase):
    def test_a_new_installation(self):
        found = state()
        self.assertFalse(found.well)
        self.assertIn("none was ever there", self.line("Worker").told)
        self.assertIn("PostgreSQL", self.line("Database").told)
        self.assertTrue(self.line("Database").well)
        page = self.client.get(reverse("keeper"))
        self.assertContains(page, "Something waits for you")
        self.assertContains(page, "none by rule")

    def test_little_room_and_clocks_apart(self):
        with mock.patch.object(shutil, "disk_usage", return_value=mock.Mock(free=3e8)):
            self.assertIn("Make room", self.line("Disk").do)
        later = timezone.now() + timedelta(seconds=90)
        with mock.patch.object(states.timezone, "now", return_value=later):
            line = self.line("Database")
        self.assertIn("its clock is -90 s from this host's", line.told)

    def test_a_worker_that_was_there(self):
        with connection.cursor() as cursor:
            cursor.execute("insert into procrastinate_workers (last_heartbeat) values (now())")
            self.assertTrue(self.line("Worker").well)
            cursor.execute(
                "update procrastinate_workers set last_heartbeat = now() - interval '90 s'"
            )
        self.assertIn("last heard of 90 s ago", self.line("Worker").told)

    def test_a_bench_without_a_recorder(self):
        self.assertEqual(self.line("Live benches").told, "none is recording")
        Instrument.objects.filter(channel="air_speed").update(
            resource="TCPIP0::127.0.0.1::9::SOCKET", profile={"query": "X?", "unit": "m/s"}
        )
        subject = Subject(specimen=self.built.specimens["Amsel"])
        live.begin(self.built.operator, self.built.tests["air"], subject)
        self.assertIn("nothing is heard of Rack rig", self.line("Live benches").told)
        Live.objects.update(heard_at=timezone.now())
        self.assertTrue(self.line("Live benches").well)

    def test_results_of_an_earlier_core_are_computed_again_in_the_background(self):
        self.built.measure_and_judge()
        self.assertTrue(self.line("Results").well)
        count = Result.objects.count()
        right = dict(Result.objects.values_list("run", "value"))
        Result.objects.update(core_version="3", value=1.0)
        self.assertIn(f"{count} of {count} are of another", self.line("Results").told)
        self.assertEqual((bench_jobs.defer_older(), bench_jobs.defer_older()), (count, count))
        waiting = ProcrastinateJob.objects.filter(task_name="bench.recompute_older")
        self.assertEqual(waiting.count(), 1)
        after, pieces = 0, 0
        with mock.patch.object(bench_jobs, "OLDER_AT_ONCE", 5):
            while after is not None:
                waiting.delete()
                bench_jobs.recompute_older(after=after)
                after, pieces = next((j.args["after"] for j in waiting.all()), None), pieces + 1
        self.assertEqual(pieces, 1 + -(-count // 5))
        self.assertEqual(dict(Result.objects.values_list("run", "value")), right)
        self.assertTrue(self.line("Results").well)

    def test_backups(self):
        folder = tempfile.TemporaryDirectory()
        self.addCleanup(folder.cleanup)
        path = Path(folder.name)
        with mock.patch.dict(os.environ, {"HAUCH_BACKUPS": folder.name}):
            self.assertIn("none yet", self.line("Backups").told)
            for age, problem, words, well in (
                (1, "", "read through; 1 kept", True),
                (50, "", "read through", False),
                (1, "There is no room.", "failed", False),
            ):
                (path / "hauch-20261128-0300.tar").touch()
                at = datetime.now(UTC) - timedelta(hours=age)
                told = {"at": at.isoformat(), "size": "5e6", "problem": problem}
                (path / "last.json").write_text(json.dumps(told))
                line = self.line("Backups")
                self.assertIn(words, line.told)
                self.assertEqual(line.well, well)
            (path / "last.json").write_text("{")
            self.assertIn("none yet", self.line("Backups").told)

    def test_a_failed_job_is_tried_again_or_dropped(self):
        first, second, doing = self.job(), self.job(), self.job("doing")
        page = self.client.get(reverse("keeper"))
        self.assertContains(page, "entries.check", count=2)
        self.client.post(reverse("keeper_job", args=[first]), {"do": "retry"})
        self.client.post(reverse("keeper_job", args=[second]), {"do": "drop"})
        answer = self.client.post(reverse("keeper_job", args=[doing]), {"do": "drop"})
        self.assertEqual(answer.status_code, 404)
        made = ProcrastinateJob.objects.filter(pk__in=[first, second, doing])
        left = dict(made.values_list("pk", "status"))
        self.assertEqual(left, {first: "todo", doing: "doing"})


class SetAsideTests(KeeperCase):
    def stalled(self, task, attempts, **arguments):
        job = Job(
            id=7, queue="default", lock=None, queueing_lock=None, task_name=task,
            task_kwargs=arguments, attempts=attempts,
        )  # fmt: skip
        manager = mock.AsyncMock()
        manager.get_stalled_jobs.return_value = [job]
        context = mock.Mock(app=mock.Mock(job_manager=manager))
        async_to_sync(jobs.retry_stalled.func)(context, 0)
        return manager

    def test_what_three_workers_died_of_is_set_aside_and_told(self):
        with mock.patch.object(bench_files, "keep", return_value=("0" * 64, "00/0")):
            source = bench_files.keep_file(self.built.operator, "day.csv", b"x")
        one = LogImport.objects.create(
            round=self.built.round, source=source, by=self.built.operator, asked={}
        )
        manager = self.stalled("bench.import_log", 1, import_id=one.pk)
        manager.retry_job.assert_awaited_once()
        one.refresh_from_db()
        self.assertFalse(one.ended)
        manager = self.stalled("bench.import_log", 2, import_id=one.pk)
        manager.retry_job.assert_not_awaited()
        self.assertEqual(manager.finish_job.await_args.args[1].value, "failed")
        one.refresh_from_db()
        self.assertTrue(one.ended)
        self.assertIn("cut off again and again", one.problems[0])

    def test_jobs_that_succeeded_long_ago_are_forgotten(self):
        old, failed, young = self.job("succeeded"), self.job(), self.job("succeeded")
        with connection.cursor() as cursor:
            cursor.execute("delete from procrastinate_events")
            for job, kind, hours in ((old, "succeeded", 73), (failed, "failed", 99),
                                     (young, "succeeded", 71)):  # fmt: skip
                cursor.execute(
                    "insert into procrastinate_events (job_id, type, at)"
                    " values (%s, %s, now() - %s * interval '1 hour')",
                    [job, kind, hours],
                )
        context = mock.Mock(app=mock.Mock(job_manager=app.job_manager))
        async_to_sync(jobs.forget_jobs.func)(context, 0)
        left = set(ProcrastinateJob.objects.values_list("pk", flat=True))
        self.assertEqual(left & {old, failed, young}, {failed, young})

    def test_it_is_looked_for_every_ten_seconds(self):
        (mine,) = [
            one
            for one in app.periodic_registry.periodic_tasks.values()
            if one.task.name == "web.retry_stalled"
        ]
        times = [mine.croniter.get_next(float) for _ in range(8)]
        self.assertEqual({b - a for a, b in itertools.pairwise(times)}, {10.0})

    def test_every_job_that_is_told_of_is_there(self):
        self.assertLessEqual(set(jobs.GIVE_UP), set(app.tasks))


class NumberTests(KeeperCase):
    def test_an_error_shows_the_number_of_its_log_lines(self):
        client = Client(raise_request_exception=False)
        client.login(username="host", password=PASSWORD)
        with (
            mock.patch("hauch.site.keeper.state", side_effect=RuntimeError("boom")),
            self.assertLogs("django.request", "ERROR") as logs,
        ):
            logs.output.clear()
            answer = client.get(reverse("keeper"))
            shown = answer[HEADER]
            WithNumber().filter(logs.records[-1])
        self.assertContains(answer, shown, status_code=500)
        self.assertEqual(logs.records[-1].request_id, shown)
        self.assertNotEqual(self.client.get("/")[HEADER], self.client.get("/")[HEADER])
        page = self.client.get(reverse("keeper"))
        self.assertContains(page, shown)
        self.assertContains(page, "RuntimeError: boom")
        self.assertContains(page, "GET /installation/")
        self.assertTrue(state().troubles)

    def test_only_the_last_errors_are_kept(self):
        for count in range(5):
            with mock.patch("hauch.site.models.MOST_KEPT", 3):
                remember(RequestFactory().get(f"/{count}/"), ValueError("x"))
        self.assertEqual(
            list(Trouble.objects.values_list("where", flat=True)), ["GET /4/", "GET /3/", "GET /2/"]
        )

    def test_a_full_disk_and_a_database_that_is_away_have_a_way_out(self):
        client = Client(raise_request_exception=False)
        client.login(username="host", password=PASSWORD)
        full = OperationalError("could not extend file")
        full.__cause__ = psycopg.errors.DiskFull()
        for problem, status, words in (
            (OSError(errno.ENOSPC, "No space left on device"), 507, "disk cannot be written"),
            (full, 507, "disk cannot be written"),
            (OSError(errno.EROFS, "Read-only file system"), 507, "or read-only"),
            (OperationalError("server closed the connection"), 503, "send it again in a minute"),
            (PoolTimeout(), 503, "does not answer at the moment"),
            (OSError(errno.ENOENT, "x"), 500, "Something went wrong"),
        ):
            with (
                self.subTest(repr(problem)),
                mock.patch("hauch.site.keeper.state", side_effect=problem),
                self.assertLogs("django.request", "ERROR"),
            ):
                self.assertContains(client.get(reverse("keeper")), words, status_code=status)
        self.assertEqual(Trouble.objects.count(), 1)

    def test_one_json_object_a_line(self):
        number.set("ab12")
        try:
            raise ValueError("no\nsuch")
        except ValueError:
            record = logging.getLogger("x").makeRecord(
                "x", logging.ERROR, "f", 1, "a %s", ("b\n",), logging.sys.exc_info()
            )
        WithNumber().filter(record)
        text = AsJson().format(record)
        self.assertNotIn("\n", text)
        said = json.loads(text)
        self.assertEqual((said["request"], said["text"], said["level"]), ("ab12", "a b\n", "ERROR"))
        self.assertIn("ValueError", said["raised"])
