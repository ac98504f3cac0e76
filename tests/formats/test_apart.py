"""Files of strangers are read in a child process: whatever they do, only the child dies of it, with
a sentence.
"""

import os
import shutil
import signal
import subprocess
import unittest
from datetime import UTC
from multiprocessing import forkserver
from pathlib import Path
from unittest import mock

import numpy as np

from hauch.formats.apart import Broke, Died, Limits, Refused, Stopped, apart
from hauch.formats.bundle import BundleRefused
from hauch.formats.bundle_apart import opened
from hauch.formats.logger_apart import glance_apart, read_apart
from hauch.formats.logger_csv import LogRefused, inspect, read_log
from hauch.formats.logger_table import Column
from tests.formats import works

GIB = 2**30


def told(stage):
    return True


class ApartTests(unittest.TestCase):
    def test_values_bytes_and_stages_come_back_and_its_folder_is_gone(self):
        stages = []
        made, blobs = apart(works.well, "a", tell=lambda stage: stages.append(stage) or True)
        self.assertEqual((made["words"], blobs), ("a", {"bytes": b"\x00\xff"}))
        self.assertEqual(stages, sorted(stages))
        self.assertEqual(stages[-1], 2)
        self.assertFalse(Path(made["folder"]).exists())

    def test_a_forking_server_that_died_is_no_fault_of_the_file(self):
        apart(works.well, "a", tell=told)
        os.kill(forkserver._forkserver._forkserver_pid, signal.SIGKILL)
        made, _ = apart(works.well, "b", tell=told)
        self.assertEqual(made["words"], "b")

    def test_what_it_dies_of_is_told(self):
        for work, limits, words in (
            (works.crash, Limits(), "SIGSEGV"),
            (works.deep, Limits(), "SIGSEGV"),
            (works.quits, Limits(), "exit 7"),
            (works.busy, Limits(processor=1), "more than 1 seconds of the processor"),
            (works.sleepy, Limits(seconds=0.2), "not done after"),
        ):
            with self.subTest(work.__name__), self.assertRaisesRegex(Died, words):
                apart(work, tell=told, limits=limits)

    def test_limits_hold(self):
        with self.assertRaisesRegex(Died, "more than the 1 GB of memory"):
            apart(works.hungry, tell=told, limits=Limits(memory=GIB))
        with self.assertRaisesRegex(Broke, "Too many open files"):
            apart(works.holds_files, tell=told)

    @unittest.skipUnless(
        shutil.which("unshare") and subprocess.run(["unshare", "-Un", "true"]).returncode == 0,
        "this system lets nobody leave the network",
    )
    def test_it_has_no_network(self):
        made, _ = apart(works.lines, tell=told)
        self.assertEqual(made["lines"], ["lo"])

    def test_a_file_that_kills_its_reader_is_a_sentence_for_each_kind(self):
        for name, reads, raised, words in (
            (
                "hauch.formats.logger_apart.glance_at",
                lambda: glance_apart(b"time,air_speed\n0,1\n"),
                LogRefused,
                "could not be read: it broke the program that reads it",
            ),
            (
                "hauch.formats.bundle_apart.unpack",
                lambda: opened(b"").__enter__(),
                BundleRefused,
                "could not be read: it broke the program that reads it",
            ),
        ):
            with (
                self.subTest(name),
                mock.patch(name, works.crash_with),
                self.assertRaisesRegex(raised, words),
            ):
                reads()

    def test_a_log_comes_back_as_it_is_read_here(self):
        data = b"time [s];air speed [m/s];note\n" + b"".join(
            b"%d;%d,5;x\n" % (i, i) for i in range(9)
        )
        table = inspect(data)
        self.assertEqual(glance_apart(data), table)
        mapping = [Column("time", "s"), Column("air_speed", "m/s"), Column()]
        here = read_log(table, mapping, UTC, day_first=True)
        there_table, there = read_apart(data, mapping, UTC, day_first=True)
        self.assertEqual(there_table.fingerprint, table.fingerprint)
        np.testing.assert_array_equal(there.times, here.times)
        np.testing.assert_array_equal(there.channels["air_speed"], here.channels["air_speed"])
        with self.assertRaises(LogRefused) as caught:
            read_apart(
                data + b"".join(b"%d;x;y\n" % i for i in range(9, 209)),
                mapping,
                UTC,
                day_first=True,
            )
        self.assertEqual((caught.exception.total, caught.exception.problems[0].line), (200, 11))

    def test_what_it_says_and_what_nobody_thought_of(self):
        with self.assertRaisesRegex(Refused, "The file is empty."):
            apart(works.refuses, tell=told)
        with self.assertRaisesRegex(Broke, "ArithmeticError: odd"):
            apart(works.breaks, tell=told)

    def test_it_is_stopped_at_once(self):
        stages = []

        def tell(stage):
            stages.append(stage)
            return stage == 0

        with self.assertRaises(Stopped):
            apart(works.sleepy, tell=tell)
        self.assertEqual(stages[-1], 1)
