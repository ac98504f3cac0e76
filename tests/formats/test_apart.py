"""Files of strangers are read in a child process: whatever they do, only the child dies of it, with
a sentence.
"""

import os
import signal
import unittest
from multiprocessing import forkserver
from pathlib import Path

from hauch.formats.apart import Broke, Died, Limits, Refused, Stopped, apart
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
        with self.assertRaisesRegex(Refused, "more than the 1 GB of memory"):
            apart(works.hungry, tell=told, limits=Limits(memory=GIB))
        with self.assertRaisesRegex(Broke, "Too many open files"):
            apart(works.holds_files, tell=told)

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
