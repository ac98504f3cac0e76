"""What a round has to judge, as values: runs of each test, compared with the reference."""

from __future__ import annotations

import math
from collections import defaultdict
from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass, field
from datetime import datetime

import numpy as np

from hauch.core.judge.band import Scatter
from hauch.core.judge.reference import Comparison, Runs, compare
from hauch.core.measure.procedures import Procedure
from hauch.core.quantity import Contribution


@dataclass(frozen=True, slots=True)
class MeasuredRun:
    """A run with a result: of an entry, or of a specimen of the reference.

    ``doubt`` is what each cause contributes; ``part`` the specimen of the entry that was run.
    """

    key: int
    at: datetime
    entry: int | None
    reference: int | None
    value: float
    doubt: Sequence[Contribution]
    rig: int
    part: int = 0


@dataclass(frozen=True, slots=True)
class MeasuredTest:
    """A test with its runs in order of time. ``assigned`` are the specimens of the reference in the
    order in which they were in use; ``history`` is the scatter in y that its rig showed before with
    this procedure, where nothing was repeated in the test.
    """

    key: str
    label: str
    how: Procedure
    runs: Sequence[MeasuredRun]
    assigned: Sequence[int] = ()
    history: Scatter | None = None


def any_repeat(runs: Sequence[MeasuredRun]) -> bool:
    """Whether a part of an entry was run more than once, so that the test tells its own scatter.
    Runs of the reference may all stand in brackets of their own.
    """
    parts = [(run.entry, run.part) for run in runs if run.entry is not None]
    return len(set(parts)) < len(parts)


@dataclass(frozen=True, slots=True)
class Entered:
    """An entry that takes part: its name, the number of the version that does (None before its
    first run), whether that one was named, and why it did not finish, where it did not.
    """

    key: int
    name: str
    version: int | None = None
    named: bool = False
    dnf: str | None = None


@dataclass(frozen=True, slots=True)
class Field:
    """All that a round has to judge. Entries stand in a fixed order, so that draws do not depend on
    the database; ``references`` names specimens of the reference: (serial, name).
    """

    entries: Sequence[Entered]
    tests: Sequence[MeasuredTest]
    references: Mapping[int, tuple[str, str]]


@dataclass(frozen=True)
class TestData:
    """The runs of one test as arrays, compared with the reference; ``specimens`` are those of the
    reference that were run, the base first; ``values`` the figures that are compared, by entry and
    part, ``runs_of`` the runs that they come from.
    """

    __test__ = False  # no test case

    test: MeasuredTest
    entries: Runs
    reference: Runs
    specimens: list[int]
    values: dict[int, dict[int, list[float]]]
    comparison: Comparison | None
    runs_of: dict[int, list[int]] = field(default_factory=dict)
    reference_runs: list[int] = field(default_factory=list)

    base = 0

    @property
    def lacks_doubt(self) -> bool:
        """Whether there is a reference, but no scatter by which a difference could be told."""
        return (
            self.comparison is not None
            and not self.comparison.has_doubt
            and bool(self.entries.size)
        )

    @property
    def base_runs(self) -> np.ndarray:
        """Which reference runs tell the reference's own figure: those of the base specimen, or all
        where it was not run; shape (m,) bool.
        """
        of_base = self.reference.subject == self.base
        return of_base if of_base.any() else np.ones_like(of_base)


def compared(
    test: MeasuredTest, position: Mapping[int, int], references: Mapping[int, tuple[str, str]]
) -> TestData:
    """A test's runs as arrays, and what they come to beside the reference.

    Parameters
    ----------
    position : entry -> index in the order in which entries are judged; runs of others are left out
    """
    log = test.how.log
    of_entries = [run for run in test.runs if run.entry in position]
    of_reference = [run for run in test.runs if run.reference is not None]
    specimens = sorted(
        {run.reference for run in of_reference if run.reference is not None},
        key=lambda pk: (
            test.assigned.index(pk) if pk in test.assigned else len(test.assigned),
            references[pk][0],
        ),
    )
    keys = sorted({one.key for run in test.runs for one in run.doubt if one.scope == "common"})
    column = {key: index for index, key in enumerate(keys)}

    def as_runs(chosen: list[MeasuredRun], subject: list[int]) -> Runs:
        size = len(chosen)
        y, time, own = np.zeros(size), np.zeros(size), np.zeros(size)
        common = np.zeros((size, len(keys)))
        rigs = np.array([run.rig for run in chosen], dtype=int)
        for index, run in enumerate(chosen):
            scale = 1 / run.value if log else 1.0
            y[index] = math.log(run.value) if log else run.value
            time[index] = (run.at - test.runs[0].at).total_seconds()
            for one in run.doubt:
                if one.scope == "common":
                    common[index, column[one.key]] += one.u * scale
                elif one.kind == "B":  # scatter within a run is part of that between repeats
                    own[index] = math.hypot(own[index], one.u * scale)
        pairs = np.array([[s, run.part] for s, run in zip(subject, chosen, strict=True)])
        parts = np.unique(pairs.reshape(-1, 2), axis=0, return_inverse=True)[1].reshape(-1)
        return Runs(np.array(subject, dtype=int), y, time, own, common, rigs, parts)

    entries = as_runs(of_entries, [position[run.entry or 0] for run in of_entries])
    reference = as_runs(of_reference, [specimens.index(run.reference or 0) for run in of_reference])
    comparison = None
    if reference.size:
        comparison = compare(entries, reference, len(position), 0, known=test.history)
    values: dict[int, dict[int, list[float]]] = defaultdict(lambda: defaultdict(list))
    runs_of: dict[int, list[int]] = defaultdict(list)
    left_out = set(comparison.left_out if comparison else ())
    for index, run in enumerate(of_entries):
        if index not in left_out:
            values[run.entry or 0][run.part].append(run.value)
            runs_of[run.entry or 0].append(run.key)
    return TestData(
        test,
        entries,
        reference,
        specimens,
        values,
        comparison,
        runs_of,
        [run.key for run in of_reference],
    )


def mean_value(log: bool, values: Iterable[list[float]]) -> float:
    """Mean over parts of the mean of each one's repeats: levels by plain mean of the levels, as they
    are compared.
    """
    in_y = [np.mean(np.log(repeats) if log else repeats) for repeats in values]
    return float(np.exp(np.mean(in_y)) if log else np.mean(in_y))


def level_of_reference(data: TestData) -> float:
    """Mean figure of the reference in the test."""
    values = np.exp(data.reference.y) if data.test.how.log else data.reference.y
    return float(values.mean())
