"""CSV tables that a spreadsheet can open without harm."""

from __future__ import annotations

import csv
import io
from collections.abc import Iterable, Sequence


def safe_cell(value: object) -> object:
    """Text that a spreadsheet would take for a formula gets an apostrophe in front; numbers stay
    numbers.
    """
    if isinstance(value, str) and value[:1] in {"=", "+", "-", "@", "\t", "\r"}:
        return "'" + value
    return "" if value is None else value


def to_csv(header: Sequence[str], rows: Iterable[Sequence[object]]) -> str:
    """A CSV table with a header; floats are written with all their digits."""
    out = io.StringIO()
    writer = csv.writer(out, lineterminator="\n")
    writer.writerow(header)
    writer.writerows([safe_cell(cell) for cell in row] for row in rows)
    return out.getvalue()
