"""The file in which a round travels: one ZIP with round.json, traces as CSV, source files and
tables.

``round.json`` has ``schema`` = ``hauch.round`` and ``schema_version``; traces are
``traces/UID.csv`` in SI units with every digit; source files are ``files/SHA256``. Tables
(``results.csv``, ``standing.csv``) are for people and are not read back.
"""

from __future__ import annotations

import csv
import hashlib
import io
import json
import lzma
import math
import re
import zipfile
import zlib
from collections.abc import Callable, Iterable, Iterator, Mapping
from dataclasses import dataclass, field
from functools import partial
from itertools import islice
from typing import Any, BinaryIO, TypeVar

import numpy as np

from hauch.formats.bundle_older import STEPS
from hauch.formats.json_in import read_json

T = TypeVar("T")

SCHEMA = "hauch.round"
SCHEMA_VERSION = 14
MOST_MEMBERS = 20_000
MOST_BYTES = 1_000_000_000
MOST_ROUND = 300_000_000
"""Bytes of round.json."""
MOST_RATIO = 200
"""A member that unpacks to more than this many times its size is a trap."""

_TRACE = re.compile(r"traces/[0-9a-f-]{36}\.csv")
_FILE = re.compile(r"files/[0-9a-f]{64}")
_DATE = (1980, 1, 1, 0, 0, 0)


class BundleRefused(ValueError):
    """A bundle that cannot be imported, with the reason."""


@dataclass
class Bundle:
    """A round as plain data, its traces by recording (seconds under ``time``), and its source files
    by SHA-256.
    """

    content: dict[str, Any]
    traces: Mapping[str, dict[str, np.ndarray]] = field(default_factory=dict)
    files: Mapping[str, bytes] = field(default_factory=dict)
    tables: dict[str, str] = field(default_factory=dict)


BLOCK = 1 << 20
"""Bytes of a member that are read at once where all of it is not needed."""


def write(bundle: Bundle, out: BinaryIO) -> None:
    """Pack a bundle into a file; the same content gives the same bytes. One trace or file is held at
    a time.
    """
    content = {"schema": SCHEMA, "schema_version": SCHEMA_VERSION, **bundle.content}
    said = json.dumps(content, ensure_ascii=False, indent=1, sort_keys=True, allow_nan=False)
    if len(said.encode()) > MOST_ROUND:
        raise BundleRefused(
            f"Its data take more than the {MOST_ROUND / 1e6:.0f} MB that are read back. A backup of"
            " the installation holds it."
        )
    members: dict[str, Callable[[], bytes]] = {"round.json": said.encode}
    members |= {
        f"traces/{uid}.csv": partial(_trace_member, bundle.traces, uid) for uid in bundle.traces
    }
    members |= {
        f"files/{digest}": partial(bundle.files.__getitem__, digest) for digest in bundle.files
    }
    members |= {name: text.encode for name, text in bundle.tables.items()}
    with zipfile.ZipFile(out, "w", zipfile.ZIP_DEFLATED, compresslevel=6) as archive:
        for name in sorted(members):
            info = zipfile.ZipInfo(name, _DATE)
            info.compress_type = zipfile.ZIP_DEFLATED
            archive.writestr(info, members[name]())


def packed(bundle: Bundle) -> bytes:
    """A bundle as bytes."""
    out = io.BytesIO()
    write(bundle, out)
    return out.getvalue()


def _trace_member(traces: Mapping[str, dict[str, np.ndarray]], uid: str) -> bytes:
    return _trace_csv(traces[uid])


class Lazily(Mapping[str, T]):
    """Something by name, made when it is asked for and not held."""

    def __init__(self, names: Iterable[str], make: Callable[[str], T]):
        self.names, self.make = dict.fromkeys(names), make

    def __getitem__(self, name: str) -> T:
        if name not in self.names:
            raise KeyError(name)
        return self.make(name)

    def __iter__(self) -> Iterator[str]:
        return iter(self.names)

    def __len__(self) -> int:
        return len(self.names)


def _readable(work: Callable[[], T]) -> T:
    """What some reading gives; a damaged file is a sentence."""
    try:
        return work()
    except BundleRefused:
        raise
    except (
        zipfile.BadZipFile,
        zlib.error,
        lzma.LZMAError,
        EOFError,
        ValueError,
        NotImplementedError,
        RuntimeError,
        OSError,
    ) as problem:
        raise BundleRefused(
            "The file is not a readable ZIP of an exported round. Export the round again."
        ) from problem


def read(source: bytes | BinaryIO) -> Bundle:
    """Unpack a bundle, trusting nothing in it. Its traces and files are read when they are asked
    for, so that one of them is held at a time.

    Raises
    ------
    BundleRefused : not a bundle, damaged, too large, of a later schema, or with a wrong checksum
    """
    return _readable(lambda: _read(io.BytesIO(source) if isinstance(source, bytes) else source))


def _read(source: BinaryIO) -> Bundle:
    archive = zipfile.ZipFile(source)
    members = archive.infolist()
    if len(members) > MOST_MEMBERS or sum(m.file_size for m in members) > MOST_BYTES:
        raise BundleRefused("The bundle unpacks to more than 1 GB or 20,000 files; it is not read.")
    if any(
        m.file_size > MOST_RATIO * max(m.compress_size, 1) and m.file_size > 10_000_000
        for m in members
    ):
        raise BundleRefused("A file in the bundle unpacks to many times its size; it is not read.")
    if "round.json" not in archive.namelist():
        raise BundleRefused("The ZIP file holds no round.json, so it is not an exported round.")
    try:
        if archive.getinfo("round.json").file_size > MOST_ROUND:
            raise ValueError(f"it has more than {MOST_ROUND / 1e6:.0f} MB")
        content = read_json(archive.read("round.json"))
    except json.JSONDecodeError:
        raise
    except ValueError as problem:
        raise BundleRefused(f"round.json cannot be read: {problem}") from problem
    if not isinstance(content, dict) or content.get("schema") != SCHEMA:
        raise BundleRefused("round.json does not describe a round.")
    version = content.get("schema_version")
    if not isinstance(version, int) or not 1 <= version <= SCHEMA_VERSION:
        raise BundleRefused(
            f"The bundle has schema version {version}; this installation reads up to"
            f" {SCHEMA_VERSION}. Update it first."
        )
    for member in members:
        if _FILE.fullmatch(member.filename) and _digest(archive, member) != member.filename[6:]:
            raise BundleRefused(
                f"{member.filename} does not match its checksum; the bundle is damaged."
            )
    names = [member.filename for member in members]
    return Bundle(
        upgraded(content, version),
        Lazily(
            [name[7:-4] for name in names if _TRACE.fullmatch(name)],
            lambda uid: _readable(lambda: _trace_in(archive, f"traces/{uid}.csv")),
        ),
        Lazily(
            [name[6:] for name in names if _FILE.fullmatch(name)],
            lambda digest: _readable(lambda: archive.read(f"files/{digest}")),
        ),
    )


def _digest(archive: zipfile.ZipFile, member: zipfile.ZipInfo) -> str:
    found = hashlib.sha256()
    with archive.open(member) as handle:
        while block := handle.read(BLOCK):
            found.update(block)
    return found.hexdigest()


def _trace_in(archive: zipfile.ZipFile, name: str) -> dict[str, np.ndarray]:
    with archive.open(name) as member, io.TextIOWrapper(member, "utf-8", newline="") as text:
        return _read_trace(text, name)


def upgraded(content: dict[str, Any], version: int) -> dict[str, Any]:
    """Content of an older version as one of today's."""
    for number in range(version, SCHEMA_VERSION):
        try:
            content = STEPS[number](content)
        except (LookupError, TypeError, AttributeError) as problem:
            raise BundleRefused(
                f"round.json of version {number} cannot be read: {type(problem).__name__}: {problem}"
            ) from problem
    return content


def _trace_csv(channels: dict[str, np.ndarray]) -> bytes:
    columns = [
        ["" if math.isnan(v) else repr(v) for v in values.tolist()] for values in channels.values()
    ]
    return "\n".join([",".join(channels), *map(",".join, zip(*columns, strict=True))]).encode()


ROWS_AT_ONCE = 100_000


def _read_trace(text: Iterable[str], name: str) -> dict[str, np.ndarray]:
    """Columns of a table; so many rows of it are held as text at a time."""
    rows = csv.reader(text)
    header = next(rows, [])
    blocks = [np.zeros((0, len(header)))]
    try:
        if "time" not in header:
            raise ValueError("no time")
        while block := list(islice(rows, ROWS_AT_ONCE)):
            if any(len(row) != len(header) for row in block):
                raise ValueError("rows of another length")
            values = [[float(cell) if cell else math.nan for cell in row] for row in block]
            blocks.append(np.array(values))
    except (ValueError, csv.Error) as problem:
        raise BundleRefused(f"{name} is not a table of numbers with a column “time”.") from problem
    table = np.concatenate(blocks)
    return {key: table[:, i].copy() for i, key in enumerate(header)}
