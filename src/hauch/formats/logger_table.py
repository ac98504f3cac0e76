"""A logger's table taken apart, and what its columns are taken for."""

from __future__ import annotations

import csv
import hashlib
from dataclasses import dataclass, field

TIME = "time"
"""What stands for a channel in the column of the time."""

SECONDS = {"s": 1.0, "sec": 1.0, "ms": 1e-3, "min": 60.0, "h": 3600.0}
"""Seconds in each unit that a column of times is written in."""


@dataclass(frozen=True, slots=True)
class Column:
    """What one column is taken for: a channel key, ``time`` or nothing, and the unit it is written
    in.
    """

    channel: str = ""
    unit: str = ""


@dataclass(frozen=True)
class Table:
    """A file taken apart: header, units, body lines and how they are written."""

    encoding: str
    delimiter: str
    decimal: str
    header: tuple[str, ...]
    units: tuple[str, ...]
    lines: list[str] = field(repr=False)
    first_line: int = 2
    count: int = 0
    """Rows of the file; ``lines`` holds fewer where only its beginning was looked at."""
    last: str = field(default="", repr=False)
    """The last row."""

    @property
    def fingerprint(self) -> str:
        """Identity of the logger's layout, under which a confirmed mapping is remembered."""
        return hashlib.sha256(
            "\x1f".join((self.delimiter, self.decimal, *self.header, *self.units)).encode()
        ).hexdigest()

    def cells(self, line: str) -> list[str]:
        """Cells of one line."""
        if '"' in line:
            return [cell.strip() for cell in next(csv.reader([line], delimiter=self.delimiter))]
        return [cell.strip() for cell in line.split(self.delimiter)]
