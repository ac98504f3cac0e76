"""A whole installation in one file, taken while it runs, checked, and had back digit for digit.

The file is a tar: the database as `pg_dump` writes it, all files under their content hash, and last a
manifest with a checksum of each and the number of rows of each table. Rows are counted in the very
snapshot that is dumped. Files are never changed once they are kept, so that those of a moment later
hold all that the snapshot names.

Left out are who is signed in and the installation's secrets: whoever gets hold of a backup cannot
act in anybody's name, and a restored installation makes secrets of its own.
"""

from __future__ import annotations

import hashlib
import io
import json
import os
import re
import shutil
import subprocess
import tarfile
import tempfile
import time
from collections.abc import Callable, Iterable, Iterator
from contextlib import AbstractContextManager, contextmanager
from dataclasses import dataclass
from datetime import UTC, datetime
from pathlib import Path
from typing import IO, Any

import psycopg
from psycopg import sql

from hauch import __version__
from hauch.core import CORE_VERSION
from hauch.formats.json_in import read_json
from hauch.ops.cluster import Cluster, binaries
from hauch.ops.data import DataFolder
from hauch.ops.errors import CannotGoOn

FORMAT, FORMAT_VERSION = "hauch-backup", 1
DUMP, MANIFEST = "database.dump", "manifest.json"
LEFT_OUT = ("django_session", "people_signin", "axes_accessattempt", "axes_accesslog")
"""Tables whose rows stay behind."""
ON_THEIR_WAY = "uploads"
"""Folder of pieces of files that are still coming in."""
NAME = re.compile(r"files(/[A-Za-z0-9_-][A-Za-z0-9._-]*)+")
"""Of a kept file: no part begins with a dot, so that none leads out of the folder."""
NIGHT = 3
"""From this hour on, by the clock of this machine, the copies of a night are taken."""
PIECE = 1 << 20
TOLD_EVERY = 5.0

Say = Callable[[str], None]


class BackupRefused(CannotGoOn):
    """A file that is no backup, or a damaged one."""


@dataclass(frozen=True)
class Manifest:
    """What a backup says of itself."""

    at: str
    version: str
    core_version: str
    dump: dict[str, Any]
    files: dict[str, dict[str, Any]]
    rows: dict[str, int]

    @property
    def size(self) -> int:
        """Bytes of the database's dump and all files."""
        return int(self.dump["size"]) + sum(int(one["size"]) for one in self.files.values())

    @property
    def file_count(self) -> int:
        """How many files."""
        return len(self.files)

    @property
    def row_count(self) -> int:
        """How many rows in all tables."""
        return sum(self.rows.values())


# ---------------------------------------------------------------- out


def backup(url: str, files: Path, target: Path, say: Say = lambda text: None) -> Manifest:
    """Write a backup.

    Parameters
    ----------
    url : of the database, ``postgresql://…``
    files : the folder of kept files
    target : the file; it appears whole, or not at all
    say : is told how far it is

    Raises
    ------
    CannotGoOn : the database does not answer, or there is no room
    """
    target.parent.mkdir(parents=True, exist_ok=True)
    unfinished = target.with_name(f".{target.name}.part")
    try:
        with tempfile.TemporaryDirectory(dir=target.parent, prefix=".dump-") as folder:
            dump = Path(folder) / DUMP
            rows = _dump(url, dump, say)
            descriptor = os.open(unfinished, os.O_WRONLY | os.O_CREAT | os.O_TRUNC, 0o600)
            with os.fdopen(descriptor, "wb") as out, tarfile.open(fileobj=out, mode="w|") as tar:
                manifest = _pack(tar, dump, files, rows, say)
                out.flush()
            with unfinished.open("rb") as handle:
                os.fsync(handle.fileno())
        unfinished.replace(target)
    except OSError as problem:
        raise CannotGoOn(
            f"The backup {target} could not be written: {problem.strerror or problem}. Nothing was"
            " changed; make room, or choose another place."
        ) from problem
    finally:
        unfinished.unlink(missing_ok=True)
    return manifest


def _dump(url: str, target: Path, say: Say) -> dict[str, int]:
    """Dump the database; rows of each table in the snapshot that was dumped."""
    say("The database is being dumped.")
    try:
        with psycopg.connect(url) as db:
            db.isolation_level = psycopg.IsolationLevel.REPEATABLE_READ
            snapshot = db.execute("select pg_export_snapshot()").fetchone()
            assert snapshot is not None  # noqa: S101 one row, always
            done = _program(
                "pg_dump",
                "--format=custom",
                "--compress=1",
                "--no-owner",
                "--no-privileges",
                f"--snapshot={snapshot[0]}",
                *(f"--exclude-table-data=public.{table}" for table in LEFT_OUT),
                f"--file={target}",
                url=url,
            )
            if done.returncode:
                raise CannotGoOn(f"The database could not be dumped: {done.stderr.strip()[:400]}")
            return counted(db)
    except psycopg.Error as problem:
        raise CannotGoOn(f"The database does not answer: {str(problem).strip()[:200]}") from problem


def counted(db: psycopg.Connection[Any]) -> dict[str, int]:
    """Rows of each table, but of those that stay behind."""
    names = [
        row[0]
        for row in db.execute(
            "select tablename from pg_tables where schemaname = 'public' order by tablename"
        ).fetchall()
        if row[0] not in LEFT_OUT
    ]
    found = {}
    for name in names:
        row = db.execute(sql.SQL("select count(*) from {}").format(sql.Identifier(name))).fetchone()
        found[name] = int(row[0]) if row else 0
    return found


def _program(
    name: str, *arguments: str, url: str, stdin: IO[bytes] | None = None
) -> subprocess.CompletedProcess[str]:
    """One of PostgreSQL's programs on a database; the password stands in no list of processes."""
    parts = psycopg.conninfo.conninfo_to_dict(url)
    password = str(parts.pop("password", "") or "")
    plain = psycopg.conninfo.make_conninfo("", **parts)  # type: ignore[arg-type]
    return subprocess.run(
        [str(binaries() / name), f"--dbname={plain}", *arguments],
        check=False,
        env={"PATH": "/usr/bin:/bin", "PGPASSWORD": password, "LC_ALL": "C.UTF-8"},
        capture_output=True,
        text=True,
        stdin=stdin,
    )


class _Summed:
    """A file that is read once, with the checksum and length of what was read."""

    def __init__(self, source: IO[bytes]):
        self.source, self.sum, self.size = source, hashlib.sha256(), 0

    def read(self, size: int = -1) -> bytes:
        """The next bytes."""
        piece = self.source.read(size)
        self.sum.update(piece)
        self.size += len(piece)
        return piece

    @property
    def entry(self) -> dict[str, Any]:
        """As it stands in the manifest."""
        return {"size": self.size, "sha256": self.sum.hexdigest()}


def _pack(
    tar: tarfile.TarFile, dump: Path, files: Path, rows: dict[str, int], say: Say
) -> Manifest:
    now = time.time()

    def add(path: Path, name: str) -> dict[str, Any]:
        with path.open("rb") as handle:
            one = tarfile.TarInfo(name)
            one.size, one.mtime, one.mode = os.fstat(handle.fileno()).st_size, int(now), 0o600
            read = _Summed(handle)
            tar.addfile(one, read)  # type: ignore[arg-type]  # it is only read
            return read.entry

    dumped = add(dump, DUMP)
    kept, told = {}, time.monotonic()
    for number, path in enumerate(kept_files(files), start=1):
        name = f"files/{path.relative_to(files).as_posix()}"
        try:
            kept[name] = add(path, name)
        except FileNotFoundError:
            continue  # taken away since the folder was read; nothing in the snapshot names it
        if time.monotonic() - told > TOLD_EVERY:
            told = time.monotonic()
            say(f"{number} files are packed.")
    manifest = Manifest(
        datetime.now(UTC).isoformat(timespec="seconds"),
        __version__,
        CORE_VERSION,
        dumped,
        kept,
        rows,
    )
    content = {"format": FORMAT, "format_version": FORMAT_VERSION, **manifest.__dict__}
    text = json.dumps(content, indent=1, sort_keys=True).encode()
    one = tarfile.TarInfo(MANIFEST)
    one.size, one.mtime, one.mode = len(text), int(now), 0o600
    tar.addfile(one, io.BytesIO(text))
    return manifest


def kept_files(folder: Path, below: Path | None = None) -> Iterator[Path]:
    """All files that are whole; with ``below`` those of one folder in it alone."""
    for path in sorted(folder.rglob("*") if below is None else below.iterdir()):
        inside = path.relative_to(folder)
        whole = inside.parts[0] != ON_THEIR_WAY and not path.name.startswith(".")
        if whole and path.is_file() and not path.is_symlink():
            yield path


# ---------------------------------------------------------------- looked at


def check(source: Path, say: Say = lambda text: None) -> Manifest:
    """Read a backup through and compare all checksums.

    Raises
    ------
    BackupRefused : no backup, cut off, damaged, or of a later version
    """
    return _through(source, lambda name, piece: None, say)


def _through(source: Path, take: Callable[[str, bytes], None], say: Say) -> Manifest:
    """Read all members once, handing on their pieces; the manifest, if everything agrees with it."""
    sums: dict[str, dict[str, Any]] = {}
    content: Any = None
    told = time.monotonic()
    try:
        with tarfile.open(source, mode="r|") as tar:
            for member in tar:
                body = tar.extractfile(member) if member.isreg() else None
                if body is None or content is not None:
                    raise BackupRefused(f"{source} holds what no backup holds: {member.name[:80]}.")
                if member.name == MANIFEST:
                    content = read_json(body.read(200_000_000))
                    continue
                if member.name != DUMP and not NAME.fullmatch(member.name):
                    raise BackupRefused(f"{source} holds what no backup holds: {member.name[:80]}.")
                read = _Summed(body)
                while piece := read.read(PIECE):
                    take(member.name, piece)
                sums[member.name] = read.entry
                if time.monotonic() - told > TOLD_EVERY:
                    told = time.monotonic()
                    say(f"{len(sums)} files are read.")
    except (tarfile.TarError, EOFError, ValueError) as problem:
        raise BackupRefused(f"{source} is no backup, or was cut off: {problem}.") from problem
    except OSError as problem:
        raise BackupRefused(f"{source} cannot be read: {problem.strerror or problem}.") from problem
    if not isinstance(content, dict) or content.get("format") != FORMAT:
        raise BackupRefused(f"{source} is no backup, or was cut off: its manifest is missing.")
    if content.get("format_version") != FORMAT_VERSION:
        raise BackupRefused(
            f"{source} was written by Hauch {content.get('version')}; this one is {__version__}."
            " Update it first."
        )
    names = set(Manifest.__dataclass_fields__)
    manifest = Manifest(**{name: content[name] for name in names})
    expected = {DUMP: manifest.dump, **manifest.files}
    wrong = [n for n in sorted(expected.keys() | sums.keys()) if expected.get(n) != sums.get(n)]
    if wrong:
        raise BackupRefused(
            f"{source} is damaged: {len(wrong)} of {len(expected)} parts do not agree with their"
            f" checksum, first {wrong[0]}."
        )
    return manifest


# ---------------------------------------------------------------- in


MadeIn = Callable[[DataFolder], AbstractContextManager[tuple[Any, Cluster]]]
"""Makes an installation in an empty folder and runs its cluster meanwhile; tells ``at``,
``version``, ``file_count`` and ``row_count`` of it.
"""


def restore(data: DataFolder, made_in: MadeIn) -> Any:
    """Make an installation in a folder that has none; ``made_in`` makes it in an empty one and runs
    its cluster meanwhile. It is there whole, or not at all. Gives what that tells.

    Raises
    ------
    CannotGoOn : there is an installation already; BackupRefused : the file is damaged
    """
    held = data.lock()
    try:
        if (data.path / "pg").exists() or any((data.path / "files").iterdir()):
            raise CannotGoOn(
                f"There is an installation in {data.path} already. Name an empty folder with --data."
            )
        with tempfile.TemporaryDirectory(dir=data.path, prefix=".restoring-") as folder:
            made = Path(folder)
            made.chmod(0o711 if os.getuid() == 0 else 0o700)
            with made_in(DataFolder(made)) as (told, _):
                pass
            (data.path / "files").rmdir()
            for name in ("files", "db_password", "secret_key", "pg"):  # the cluster last: it counts
                if (made / name).exists():
                    shutil.move(made / name, data.path / name)
    finally:
        held.close()
    return told


@contextmanager
def installed(
    source: Path, data: DataFolder, say: Say, *, fast: bool = False
) -> Iterator[tuple[Manifest, Cluster]]:
    """An installation of a backup in an empty folder, its cluster running meanwhile."""
    dump = data.path / DUMP
    at: list[Any] = ["", None]

    def take(name: str, piece: bytes) -> None:
        if name != at[0]:
            if at[1] is not None:
                at[1].close()
            path = dump if name == DUMP else data.path / name
            path.parent.mkdir(parents=True, exist_ok=True, mode=0o700)
            at[:] = [name, os.fdopen(os.open(path, os.O_WRONLY | os.O_CREAT, 0o600), "wb")]
        at[1].write(piece)

    say("The backup is read.")
    try:
        manifest = _through(source, take, say)
    finally:
        if at[1] is not None:
            at[1].close()
    for name, one in manifest.files.items():
        if not one["size"]:
            path = data.path / name
            path.parent.mkdir(parents=True, exist_ok=True, mode=0o700)
            path.touch(mode=0o600)
    cluster = data.cluster()
    cluster.fast = fast
    cluster.start()
    try:
        cluster.ensure_database()
        say("The database is filled.")
        _fill(cluster, dump, manifest)
        dump.unlink()
        yield manifest, cluster
    finally:
        cluster.stop()


def _fill(cluster: Cluster, dump: Path, manifest: Manifest) -> None:
    url = cluster.environment()["HAUCH_DATABASE_URL"]
    with dump.open("rb") as handle:
        done = _program(
            "pg_restore",
            "--no-owner",
            "--no-privileges",
            "--exit-on-error",
            "--single-transaction",
            url=url,
            stdin=handle,
        )
    if done.returncode:
        raise BackupRefused(f"The database could not be filled: {done.stderr.strip()[:400]}")
    with psycopg.connect(url) as db:
        rows = counted(db)
    if rows != manifest.rows:
        wrong = sorted(
            t for t in rows.keys() | manifest.rows.keys() if rows.get(t) != manifest.rows.get(t)
        )
        raise BackupRefused(f"Rows are missing after the restore, in: {', '.join(wrong[:5])}.")


# ---------------------------------------------------------------- by rule


def name_for(moment: datetime) -> str:
    """The name of a nightly backup."""
    return f"hauch-{moment:%Y%m%d-%H%M}.tar"


def moment_of(name: str) -> datetime | None:
    """The moment of a nightly backup; None for any other file."""
    found = re.fullmatch(r"hauch-(\d{8}-\d{4})\.tar", name)
    return datetime.strptime(found.group(1), "%Y%m%d-%H%M").replace(tzinfo=UTC) if found else None


def outdated(
    moments: Iterable[datetime], days: int = 7, weeks: int = 5, months: int = 12
) -> list[datetime]:
    """Which nightly backups may go: all but the newest of each of the last days, weeks and months
    that have one.
    """
    newest = sorted(moments, reverse=True)
    stay: set[datetime] = set()
    for most, same in (
        (days, lambda m: m.date()),
        (weeks, lambda m: m.isocalendar()[:2]),
        (months, lambda m: (m.year, m.month)),
    ):
        seen: list[Any] = []
        for moment in newest:
            if same(moment) not in seen:
                seen.append(same(moment))
                if len(seen) <= most:
                    stay.add(moment)
    return [moment for moment in newest if moment not in stay]


def nightly(url: str, files: Path, folder: Path, now: datetime) -> Manifest:
    """Write a nightly backup, read it through, and take away what is outdated."""
    for killed in (*folder.glob(".hauch-*.part"), *folder.glob(".dump-*/*")):
        killed.unlink()
    for killed in folder.glob(".dump-*"):
        killed.rmdir()
    target = folder / name_for(now)
    backup(url, files, target)
    manifest = check(target)
    known = {m: p for p in folder.glob("hauch-*.tar") if (m := moment_of(p.name)) is not None}
    for moment in outdated(known):
        known[moment].unlink()
    return manifest
