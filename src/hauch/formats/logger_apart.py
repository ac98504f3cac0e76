"""Loggers' files of whatever origin: read in a child process, so that a file which is made to hurt
takes nothing else with it.
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import asdict, replace
from datetime import datetime, tzinfo
from pathlib import Path
from typing import Any

import numpy as np

from hauch.formats import apart
from hauch.formats.logger_csv import Log, LogRefused, Problem, glance, inspect, read_log
from hauch.formats.logger_table import Column, Table

LIMITS = apart.Limits(memory=6 * apart.GIB, processor=200)
"""A file of the longest that are read, with five columns, takes 1.7 GB and 10 s."""
SEEN_LINES, SEEN_LENGTH = 500, 2_000
"""Of what a glance holds so many lines come back, and so much of each [characters]."""

apart.preload(__name__)


def glance_apart(source: bytes | Path) -> Table:
    """`glance` at a file, which is handed over by its bytes or its place.

    Raises
    ------
    LogRefused : no table in it, or it is too large
    """
    return _table(_asked(lambda stage: True, glance_at, source)[0])


def read_apart(
    source: bytes | Path,
    mapping: list[Column],
    zone: tzinfo,
    *,
    day_first: bool,
    tell: Callable[[int], bool] = lambda stage: True,
) -> tuple[Table, Log]:
    """`read_log` of a file; its table comes without lines.

    Parameters
    ----------
    tell : called about twice a second; False stops the reading

    Raises
    ------
    LogRefused : with the list of unreadable rows and their reasons
    apart.Stopped : when ``tell`` gave False
    """
    made, blobs = _asked(tell, read, source, mapping, zone, day_first)
    columns = {name: np.frombuffer(blob, dtype=float) for name, blob in blobs.items()}
    start = datetime.fromisoformat(made["start"]) if made["start"] else None
    times = columns.pop("")
    return _table(made), Log(start, times, columns, made["lost"])


def _asked(
    tell: Callable[[int], bool], work: Callable[..., apart.Made], *arguments: Any
) -> apart.Made:
    try:
        made, blobs = apart.apart(work, *arguments, tell=tell, limits=LIMITS)
    except apart.Died as problem:
        raise LogRefused(
            f"The file could not be read: {problem}. Split it, or log at a lower rate."
        ) from problem
    if "refused" in made:
        refusal = LogRefused(made["refused"], [Problem(*row) for row in made["problems"]])
        refusal.total = made["total"]
        raise refusal
    return made, blobs


def _table(made: dict[str, Any]) -> Table:
    told = dict(made["table"])
    return Table(**told | {"header": tuple(told["header"]), "units": tuple(told["units"])})


def _content(source: bytes | Path) -> bytes:
    return source if isinstance(source, bytes) else source.read_bytes()


def _refused(refusal: LogRefused) -> apart.Made:
    rows = [[problem.line, problem.reason] for problem in refusal.problems]
    return {"refused": str(refusal), "problems": rows, "total": refusal.total}, {}


def glance_at(tell: Callable[[int], None], source: bytes | Path) -> apart.Made:
    """The child's part of `glance_apart`."""
    try:
        table = glance(_content(source))
    except LogRefused as refusal:
        return _refused(refusal)
    lines = [line[:SEEN_LENGTH] for line in table.lines[:SEEN_LINES]]
    return {"table": asdict(replace(table, lines=lines, last=table.last[:SEEN_LENGTH]))}, {}


def read(
    tell: Callable[[int], None],
    source: bytes | Path,
    mapping: list[Column],
    zone: tzinfo,
    day_first: bool,
) -> apart.Made:
    """The child's part of `read_apart`; the times stand under no name."""
    try:
        table = inspect(_content(source))
        log = read_log(table, mapping, zone, day_first)
    except LogRefused as refusal:
        return _refused(refusal)
    columns = {"": log.times, **log.channels}
    made = {
        "table": asdict(replace(table, lines=[], last="")),
        "start": log.start and log.start.isoformat(),
        "lost": log.lost,
    }
    return made, {n: np.ascontiguousarray(v, dtype=float).tobytes() for n, v in columns.items()}
