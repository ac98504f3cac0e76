"""Django's test runner with a plain closing line, and the slowest tests when they are asked for."""

from __future__ import annotations

import multiprocessing
import time
import unittest
from typing import Any

from django.test import TestCase, TransactionTestCase
from django.test.runner import (  # type: ignore[attr-defined]  # _init_worker is its own
    DiscoverRunner,
    ParallelTestSuite,
    RemoteTestResult,
    RemoteTestRunner,
    _init_worker,
)


def _begin(*args: Any, **kwargs: Any) -> None:
    """Begin a process of a parallel run. Pools forbid their processes to have children; the check
    of a part is one.
    """
    multiprocessing.current_process()._config["daemon"] = False  # type: ignore[attr-defined]
    _init_worker(*args, **kwargs)


class RemoteTimed(RemoteTestResult):
    """Tells from a process of a parallel run how long each test took."""

    def startTest(self, test):
        """Begin to count."""
        super().startTest(test)
        self.began = time.perf_counter()

    def addSubTest(self, test, subtest, err):
        """Pass a part of a test that failed on as its test: the part holds the test's browser by
        then, which does not go from one process to another.
        """
        if err is None:
            return
        err[1].add_note(f"In {subtest}")
        failed = issubclass(err[0], test.failureException)
        (self.addFailure if failed else self.addError)(test, err)

    def stopTest(self, test):
        """Pass the time on."""
        self.events.append(("note", self.test_index, time.perf_counter() - self.began))
        super().stopTest(test)


class RemoteRunner(RemoteTestRunner):
    """Runs tests in a process of a parallel run."""

    resultclass = RemoteTimed


class Parallel(ParallelTestSuite):
    """Tests in several processes, which may have children."""

    init_worker = _begin
    runner_class = RemoteRunner

    def __init__(
        self, subsuites: list[unittest.TestSuite], processes: int, *args: Any, **kwargs: Any
    ):
        super().__init__(mixed(subsuites, processes), processes, *args, **kwargs)


def mixed(subsuites: list[unittest.TestSuite], processes: int = 2) -> list[unittest.TestSuite]:
    """Classes in an order in which those that wait for real time (recorders, live benches) stand
    among those that reckon, so that while one process waits another one works. Those that drive a
    browser come first among the rest: a long one last would be waited for by all.
    """
    waiting = sorted((s for s in subsuites if _waits(s)), key=_seconds)
    rest = [suite for suite in subsuites if not _waits(suite)]
    working = sorted((s for s in rest if not _drives(s)), key=_seconds)
    working += sorted((s for s in rest if _drives(s)), key=_seconds)
    free = [(0.0, index) for index in range(processes)]
    waits_until = [0.0] * processes
    order = []
    while waiting or working:
        now, process = min(free)
        others = [until for index, until in enumerate(waits_until) if index != process]
        may_wait = waiting and (not working or max(others, default=0.0) <= now)
        taken = (waiting if may_wait else working or waiting).pop()
        order.append(taken)
        free[process] = (now + _seconds(taken), process)
        waits_until[process] = free[process][0] if _waits(taken) else 0.0
    return order


def _waits(suite: unittest.TestSuite) -> bool:
    """Whether a class's tests wait for what goes by the clock, as its ``real_time`` says."""
    return getattr(next(iter(suite), None), "real_time", False)


def _seconds(suite: unittest.TestSuite) -> float:
    """About how long a class takes [s]."""
    each = 10.0 if _waits(suite) else 4.0 if _drives(suite) else 0.4
    return each * suite.countTestCases()


def _drives(suite: unittest.TestSuite) -> bool:
    first = next(iter(suite), None)
    return isinstance(first, TransactionTestCase) and not isinstance(first, TestCase)


class Timed(unittest.TextTestResult):
    """Notes how long each test took [s], set-up of its class apart."""

    def __init__(self, *args, **kwargs):
        super().__init__(*args, **kwargs)
        self.took: dict[str, float] = {}

    def note(self, test, seconds: float) -> None:
        """Note the time of a test; one that ran in another process tells its own."""
        self.took[str(test)] = max(seconds, self.took.get(str(test), 0.0))

    def startTest(self, test):
        """Begin to count."""
        self.began = time.perf_counter()
        super().startTest(test)

    def stopTest(self, test):
        """Note the time."""
        super().stopTest(test)
        self.note(test, time.perf_counter() - self.began)


class Runner(DiscoverRunner):
    """Ends with `N passed, N failed` (and what was skipped)."""

    parallel_test_suite = Parallel

    def __init__(self, *args, durations: int = 0, **kwargs):
        super().__init__(*args, **kwargs)
        self.slowest = durations

    @classmethod
    def add_arguments(cls, parser):
        """Django's own, and how many of the slowest tests are told."""
        super().add_arguments(parser)
        parser.add_argument(
            "--durations",
            type=int,
            default=0,
            metavar="N",
            help="tell the slowest tests",
        )

    def get_resultclass(self):
        """One that counts time where that is asked for."""
        return Timed if self.slowest else super().get_resultclass()

    def suite_result(self, suite, result, **kwargs) -> int:
        """Count, print, and fail when no test ran."""
        took = getattr(result, "took", {})
        for name in sorted(took, key=took.__getitem__, reverse=True)[: self.slowest]:
            print(f"{took[name]:8.2f} s  {name}")
        failed = len(result.failures) + len(result.errors) + len(result.unexpectedSuccesses)
        skipped = len(result.skipped)
        passed = max(
            result.testsRun - failed - skipped, 0
        )  # a class that could not be set up counts as failed and ran no test
        self.closing = f"{passed} passed, {failed} failed" + (
            f", {skipped} skipped" if skipped else ""
        )
        return failed if result.testsRun else 1

    def run_tests(self, test_labels, **kwargs) -> int:
        """Print the closing line last, after the databases are gone."""
        outcome = super().run_tests(test_labels, **kwargs)
        print(getattr(self, "closing", "0 passed, 1 failed"), flush=True)
        return outcome
