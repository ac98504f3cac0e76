"""Read the tables that bench loggers write: comma, semicolon or tab, decimal point or comma, units
in the header.

`inspect` takes a file apart, `logger_names` guesses what its columns are, a person confirms it, and
`read_log` reads it. A file with unreadable rows is refused as a whole with the list of its rows and
reasons.
"""

from __future__ import annotations

import csv
import math
import re
from dataclasses import dataclass, replace
from datetime import UTC, datetime, tzinfo

import numpy as np

from hauch.core.measure.channels import CHANNELS
from hauch.core.quantity.units import KINDS, UnitUnknown, to_si
from hauch.formats.logger_names import unit_of
from hauch.formats.logger_table import SECONDS, TIME, Column, Table

MOST_BYTES = 128 * 1024 * 1024
"""Largest file that is read: a day of eight channels at 10 Hz is about half of it."""

MOST_COLUMNS = 64
MOST_CELL = 200
SHOWN_PROBLEMS = 200
LOST = frozenset({"", "nan"})
"""Cells in which a logger says that it had no reading; they become marked dropouts."""

_LOCAL = re.compile(
    r"\s*(\d{1,2})([./-])(\d{1,2})\2(\d{4})[ T]+(\d{1,2}):(\d{2})(?::(\d{2}(?:[.,]\d+)?))?\s*$"
)


@dataclass(frozen=True, slots=True)
class Problem:
    """A row that cannot be read: its line in the file, counted from 1, and why."""

    line: int
    reason: str


class LogRefused(ValueError):
    """A file that cannot be imported. ``problems`` lists its rows, ``total`` counts all of them."""

    def __init__(self, message: str, problems: list[Problem] | None = None):
        super().__init__(message)
        self.total = len(problems or [])
        self.problems = (problems or [])[:SHOWN_PROBLEMS]


@dataclass(frozen=True)
class Log:
    """A log in SI units: ``start`` (None when the file holds no date), seconds from it, values by
    channel, lost cells.
    """

    start: datetime | None
    times: np.ndarray
    channels: dict[str, np.ndarray]
    lost: int


def decode(data: bytes) -> tuple[str, str]:
    """Text of a file and the encoding it was taken for.

    Raises
    ------
    LogRefused : empty, too large, or not a text file
    """
    if len(data) > MOST_BYTES:
        raise LogRefused(
            f"The file has {len(data) / 1e6:,.0f} MB; at most {MOST_BYTES / 1e6:,.0f} MB are read."
            " Split it, or log at a lower rate."
        )
    if not data.strip():
        raise LogRefused("The file is empty. Export the log again and choose that file.")
    if data[:2] in (b"\xff\xfe", b"\xfe\xff"):
        return data.decode("utf-16", errors="replace"), "UTF-16"
    if b"\x00" in data[:65536]:
        raise LogRefused(
            "The file is not a text table: it holds binary data. Export the log as CSV."
        )
    try:
        return data.decode("utf-8-sig"), "UTF-8"
    except UnicodeDecodeError:
        return data.decode("cp1252", errors="replace"), "Windows-1252"


GLANCE = 256 * 1024
"""So much of a file tells what its columns are [bytes]."""


LEAST_LINES = 100
"""A beginning with fewer lines than this tells little of the rest."""


def glance(data: bytes) -> Table:
    """What `inspect` tells, from the beginning of a large file: its rows are counted, not held.

    Raises
    ------
    LogRefused : no table in it, or it is too large
    """
    cut = data.rfind(b"\n", 0, GLANCE) + 1
    if (
        len(data) <= GLANCE
        or data.count(b"\n", 0, cut) < LEAST_LINES
        or data[:2] in (b"\xff\xfe", b"\xfe\xff")
    ):
        return inspect(data)
    decode(data[:cut] if len(data) <= MOST_BYTES else data)
    table = inspect(data[:cut])
    rest = data[cut:].rstrip()
    last = decode(rest[rest.rfind(b"\n") + 1 :])[0]
    return replace(table, count=table.count + rest.count(b"\n") + 1, last=last)


def inspect(data: bytes) -> Table:
    """Take a file apart without reading its numbers.

    Raises
    ------
    LogRefused : no table in it
    """
    text, encoding = decode(data)
    lines = text.replace("\r\n", "\n").replace("\r", "\n").split("\n")
    while lines and not lines[-1].strip():
        lines.pop()
    start = next(
        (i for i, line in enumerate(lines) if line.strip() and not line.lstrip().startswith("#")), 0
    )
    sample = lines[start : start + 50]
    delimiter = max(
        "\t;,|",
        key=lambda d: (
            (
                min((line.count(d) for line in sample[:2]), default=0) > 0,
                sum(line.count(d) for line in sample),
            )
            if d != ","
            else (
                min((line.count(d) for line in sample[:2]), default=0) > 0
                and not any(";" in line or "\t" in line for line in sample[:2]),
                0,
            )
        ),
    )
    if sample[0].count(delimiter) < 1 or len(sample) < 2:
        raise LogRefused(
            "No table was found: the first line holds no comma, semicolon or tab between column"
            " names, or no row follows it."
        )
    rough = Table(encoding, delimiter, ".", (), (), [])
    header = tuple(rough.cells(lines[start]))
    if len(header) > MOST_COLUMNS:
        raise LogRefused(
            f"The first line has {len(header)} columns; at most {MOST_COLUMNS} are read. Is this a"
            " bench log?"
        )
    if sum(_is_number(cell) for cell in header) > len(header) / 2:
        raise LogRefused(
            "The first line holds numbers where column names should stand. Add a line with the"
            " names and units of the columns."
        )
    second = rough.cells(lines[start + 1])
    has_units = (
        len(second) == len(header)
        and not any(_is_number(cell) for cell in second)
        and _looks_like_units(second)
    )
    body = start + (2 if has_units else 1)
    decimal = "." if delimiter == "," else _decimal(lines[body : body + 50], delimiter)
    header_units = tuple(unit_of(name) for name in header)
    units = (
        tuple(b or a for a, b in zip(header_units, second, strict=True))
        if has_units
        else header_units
    )
    rows = lines[body:]
    return Table(
        encoding,
        delimiter,
        decimal,
        header,
        units,
        rows,
        body + 1,
        len(rows),
        rows[-1] if rows else "",
    )


def _is_number(cell: str) -> bool:
    try:
        float(cell.replace(",", "."))
    except ValueError:
        return False
    return True


def _looks_like_units(cells: list[str]) -> bool:
    known = {spelling for kind in KINDS.values() for spelling in kind.spellings if spelling} | set(
        SECONDS
    )
    return sum(cell.strip("[]()").casefold() in known for cell in cells) >= max(1, len(cells) // 2)


def _decimal(lines: list[str], delimiter: str) -> str:
    cells = [cell for line in lines for cell in line.split(delimiter)]
    commas = sum(bool(re.fullmatch(r"\s*[-+]?\d+,\d+\s*", cell)) for cell in cells)
    points = sum(bool(re.fullmatch(r"\s*[-+]?\d+\.\d+\s*", cell)) for cell in cells)
    return "," if commas > points else "."


def check_mapping(table: Table, mapping: list[Column]) -> None:
    """Raise LogRefused for a mapping that cannot be read: no time, nothing measured, a channel
    twice, an unknown unit.
    """
    used = [column.channel for column in mapping if column.channel]
    if len(mapping) != len(table.header):
        raise LogRefused(
            f"The mapping names {len(mapping)} columns, but the file has {len(table.header)}."
        )
    if used.count(TIME) != 1:
        raise LogRefused("Say which column holds the time. Exactly one must.")
    if len(used) < 2:
        raise LogRefused(
            "No column is taken for a reading. Choose what at least one of them measures."
        )
    for channel in set(used) - {TIME}:
        if channel not in CHANNELS:
            raise LogRefused(f"The channel “{channel}” is not known.")
        if used.count(channel) > 1:
            raise LogRefused(
                f"Two columns are taken for {CHANNELS[channel].label.lower()}. Keep one."
            )
    for column in mapping:
        if column.channel and column.channel != TIME:
            try:
                to_si(0.0, column.unit, CHANNELS[column.channel].kind)
            except UnitUnknown as problem:
                raise LogRefused(str(problem)) from problem


def read_log(
    table: Table, mapping: list[Column], zone: tzinfo = UTC, day_first: bool = True
) -> Log:
    """Read a log by a confirmed mapping.

    Parameters
    ----------
    table : from `inspect`
    mapping : one column description for each column of the file
    zone : time zone of dates without an offset
    day_first : how dates with slashes are read; dates with dots are always day first

    Raises
    ------
    LogRefused : with the list of unreadable rows and their reasons
    """
    check_mapping(table, mapping)
    problems: list[Problem] = []
    columns, good_numbers, total = _columns(table, problems)
    channels: dict[str, np.ndarray] = {}
    lost = 0
    times, start = np.zeros(0), None
    for index, column in enumerate(mapping):
        if column.channel == TIME:
            times, start = _times(
                columns[index], column.unit, table, good_numbers, zone, day_first, problems
            )
        elif column.channel:
            values, gone = _numbers(columns[index], table, good_numbers, column.channel, problems)
            lost += gone
            channels[column.channel] = np.asarray(
                to_si(values, column.unit, CHANNELS[column.channel].kind)
            )
    _check_order(times, good_numbers, problems)
    if not problems:
        _check_ranges(channels, good_numbers, problems)
    if problems:
        problems.sort(key=lambda problem: problem.line)
        raise LogRefused(
            f"{len(problems):,} of {total:,} rows cannot be read, so nothing was imported. Mend them or"
            " export the log again.",
            problems,
        )
    if times.size < 2:
        raise LogRefused("The file holds fewer than two rows of readings.")
    return Log(start, times, channels, lost)


def _columns(table: Table, problems: list[Problem]) -> tuple[list[list[str]], list[int], int]:
    """Cells by column of the rows that are whole, their lines in the file, and how many rows there
    are in all.
    """
    width, mark = len(table.header), table.delimiter
    lines = table.lines
    if any('"' in line for line in lines):
        # Quoted cells are brought to the plain form, with a mark that no cell can hold.
        rows = list(csv.reader(lines, delimiter=mark))
        lines, mark = ["\x1e".join(row) for row in rows], "\x1e"
    header = mark.join(table.header)
    good_lines, good_numbers = [], []
    for number, line in enumerate(lines, start=table.first_line):
        if line.count(mark) == width - 1 and line != header and not line.isspace():
            good_lines.append(line)
            good_numbers.append(number)
        elif not line.replace(mark, "").strip():
            problems.append(Problem(number, "the line is blank"))
        elif line == header:
            problems.append(Problem(number, "the header is repeated here"))
        else:
            problems.append(Problem(number, f"{line.count(mark) + 1} columns instead of {width}"))
    cells = mark.join(good_lines).split(mark) if good_lines else []
    return [cells[index::width] for index in range(width)], good_numbers, len(lines)


def _numbers(
    cells: list[str], table: Table, lines: list[int], channel: str, problems: list[Problem]
) -> tuple[np.ndarray, int]:
    if table.decimal == ",":
        cells = "\x1f".join(cells).replace(",", ".").split("\x1f") if cells else cells
    try:
        values = np.array([float(cell) if cell else math.nan for cell in cells])
        if not np.isinf(values).any():
            return values, int(np.isnan(values).sum())
    except ValueError:
        pass
    values = np.full(len(cells), np.nan)
    lost = 0
    for index, cell in enumerate(cells):
        try:
            value = float(cell)
            if math.isfinite(value):
                values[index] = value
                continue
        except ValueError:
            pass
        if cell.strip().casefold() in LOST:
            lost += 1
        else:
            problems.append(
                Problem(
                    lines[index],
                    f"“{cell.strip()[:MOST_CELL]}” in {CHANNELS[channel].label.lower()} is not a"
                    " number",
                )
            )
    return values, lost


def _times(
    cells: list[str],
    unit: str,
    table: Table,
    lines: list[int],
    zone: tzinfo,
    day_first: bool,
    problems: list[Problem],
) -> tuple[np.ndarray, datetime | None]:
    """Seconds from the first row, and its moment."""
    if unit or (cells and _is_number(cells[0])):
        scale = SECONDS.get(unit.casefold() or "s")
        if scale is None:
            raise LogRefused(
                f"The unit of time “{unit}” is not known. Known are: {', '.join(SECONDS)}."
            )
        seconds = np.full(len(cells), np.nan)
        for index, cell in enumerate(cells):
            if _is_number(cell):
                seconds[index] = float(cell.replace(",", ".")) * scale
            else:
                problems.append(
                    Problem(
                        lines[index], f"“{cell.strip()[:MOST_CELL]}” is not a time in {unit or 's'}"
                    )
                )
        return np.round(seconds - (seconds[0] if seconds.size else 0.0), 6), None
    stamps = np.full(len(cells), np.nan)
    first: datetime | None = None
    for index, cell in enumerate(cells):
        moment = _moment(cell, day_first)
        if moment is None:
            problems.append(
                Problem(lines[index], f"“{cell.strip()[:MOST_CELL]}” is not a date and time")
            )
            continue
        if moment.tzinfo is None:
            moment = moment.replace(tzinfo=zone)
        first = first or moment
        stamps[index] = moment.timestamp()
    origin = first.timestamp() if first else 0.0
    return np.round(stamps - origin, 6), first


def _moment(cell: str, day_first: bool) -> datetime | None:
    """A date and time, ISO 8601 or local; None for anything else."""
    try:
        return datetime.fromisoformat(cell)
    except ValueError:
        pass
    try:
        return _local_date(cell, day_first)
    except ValueError:
        return None


def _local_date(cell: str, day_first: bool) -> datetime | None:
    found = _LOCAL.match(cell)
    if not found:
        return None
    one, mark, two, year, hour, minute, second = found.groups()
    day, month = (one, two) if day_first or mark == "." else (two, one)
    seconds = float((second or "0").replace(",", "."))
    return datetime(
        int(year),
        int(month),
        int(day),
        int(hour),
        int(minute),
        int(seconds),
        round(seconds % 1 * 1e6),
    )


def _check_order(times: np.ndarray, lines: list[int], problems: list[Problem]) -> None:
    """Times must rise from row to row; rows that do not are listed."""
    if times.size < 2 or np.all(np.diff(times) > 0):
        return
    top, seen = -math.inf, set()
    for line, time in zip(lines, times.tolist(), strict=True):
        if math.isnan(time):
            continue
        if time in seen:
            problems.append(Problem(line, "the time repeats an earlier row"))
        elif time < top:
            problems.append(Problem(line, "the time goes backwards"))
        seen.add(time)
        top = max(top, time)


def _check_ranges(
    channels: dict[str, np.ndarray], lines: list[int], problems: list[Problem]
) -> None:
    """Whole columns outside what a bench can read mean a wrong unit or column; single values stay,
    marked as spikes.
    """
    for key, values in channels.items():
        channel = CHANNELS[key]
        there = values[np.isfinite(values)]
        if there.size and not channel.low <= float(np.median(there)) <= channel.high:
            problems.append(
                Problem(
                    lines[0],
                    f"{channel.label}: the middle value {np.median(there):.4g} {channel.unit}"
                    " cannot be; check the column's unit",
                )
            )
