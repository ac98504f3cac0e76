"""Back to any minute: PostgreSQL's own log kept beside whole copies of the cluster, and the files.

A folder on another disk holds, for one installation,

- ``wal``: segments of the write-ahead log, as the database hands them over, at least each minute;
- ``base``: copies of the whole cluster, one a night, from which the log is played on;
- ``files``: all kept files under their content hash, copied within seconds;
- ``installation``: whose archive it is. It is as secret as the database: only its owner reads it.

Two installations never share an archive: their logs would overwrite each other. What is had back is
a new installation, which begins an archive of its own.

References
----------
PostgreSQL 15 documentation, chapter 26.3, continuous archiving and point-in-time recovery.
"""

from __future__ import annotations

import json
import os
import re
import shlex
import shutil
import signal
import subprocess
import tempfile
import time
from collections.abc import Iterator
from contextlib import contextmanager, suppress
from dataclasses import asdict, dataclass
from datetime import UTC, datetime, timedelta
from pathlib import Path
from typing import Any

import psycopg
from psycopg import sql

from hauch import __version__
from hauch.ops.backup import LEFT_OUT, NIGHT, Say, counted, kept_files
from hauch.ops.cluster import Cluster, binaries, major
from hauch.ops.data import DataFolder
from hauch.ops.errors import CannotGoOn

FILES_EVERY = 10.0
"""Seconds between two looks at which files are new."""
DAYS = 7
"""Each minute of so many days can be had back."""
STILL_AFTER = 15.0
"""Seconds after which somebody who waits for the log to be played hears how far it is."""
BASE, LABEL = re.compile(r"\d{8}-\d{6}-\d{6}"), "%Y%m%d-%H%M%S-%f"
SEGMENT = re.compile(r"[0-9A-F]{8}([0-9A-F]{16})")
_OWNER, _TOLD = "installation", "base.json"
LAST = "last.json"
"""How the last look went, for the keeper's page."""


@dataclass(frozen=True)
class Base:
    """A copy of the whole cluster: from ``at`` on the log can be played on it."""

    name: str
    at: str
    version: str
    postgresql: int
    first_segment: str
    size: int

    @property
    def moment(self) -> datetime:
        """When it was whole."""
        return datetime.fromisoformat(self.at)


@dataclass(frozen=True)
class Back:
    """What was had back."""

    at: str
    version: str
    file_count: int
    row_count: int


# ---------------------------------------------------------------- the switch


def turn_on(data: DataFolder, folder: Path) -> None:
    """Give an installation an archive, from its next start on.

    Raises
    ------
    CannotGoOn : the folder is another one's, holds other things, or the database cannot write there
    """
    owner, mine = folder / _OWNER, data.secret("archive_id", 8)
    try:
        folder.mkdir(parents=True, exist_ok=True)
        if owner.exists():
            if json.loads(owner.read_text()).get("id") != mine:
                raise CannotGoOn(
                    f"{folder} is the archive of another installation. Name an empty folder."
                )
        elif any(folder.iterdir()):
            raise CannotGoOn(f"{folder} holds other things. Name an empty folder.")
        folder.chmod(0o711 if os.getuid() == 0 else 0o700)  # the database passes through
        for name in ("wal", "base", "files"):
            (folder / name).mkdir(exist_ok=True, mode=0o700)
        _private(owner, json.dumps({"id": mine, "password": data.secret("db_password")}))
        data.cluster().give(folder / "wal")
    except (OSError, ValueError) as problem:
        raise CannotGoOn(f"{folder} cannot be used as an archive: {problem}.") from problem
    data.archive_switch.write_text(str(folder))


def turn_off(data: DataFolder) -> None:
    """Let an installation hand its log over no longer, from its next start on; what is there stays."""
    data.archive_switch.unlink(missing_ok=True)


def _private(path: Path, text: str) -> None:
    with os.fdopen(os.open(path, os.O_WRONLY | os.O_CREAT | os.O_TRUNC, 0o600), "w") as out:
        out.write(text)


# ---------------------------------------------------------------- keeping it


class Keeper:
    """Copies new files, takes the copy of a night, and takes away what is older than a week.
    ``since`` is when the archive was turned on: while it was off, the log was not handed over, so
    that no copy from before can be played over that time.
    """

    def __init__(self, url: str, files: Path, folder: Path, since: datetime):
        self.url, self.files, self.folder, self.since = url, files, folder, since
        self.looked: dict[str, int] = {}

    def run(self, stopping: list[Any], say: Say) -> None:
        """Until it is told to stop. A trouble is noted where the keeper's page reads it."""
        said = ""
        while not stopping:
            try:
                self.turn(datetime.now().astimezone(), say)
                problem = ""
            except (OSError, CannotGoOn, psycopg.Error) as trouble:
                problem = str(trouble).strip()[:300]
            if problem and problem != said:
                say(f"The archive in {self.folder} cannot be kept: {problem}")
            said = problem
            self.note(problem)
            until = time.monotonic() + FILES_EVERY
            while time.monotonic() < until and not stopping:
                time.sleep(0.2)

    def note(self, problem: str, *, copying: bool = False) -> None:
        """Note how it is for the keeper's page."""
        seen = {
            "at": datetime.now(UTC).isoformat(),
            "told": reach(self.folder),
            "problem": problem,
            "copying": copying,
        }
        with suppress(OSError):
            _private(self.folder / LAST, json.dumps(seen))

    def turn(self, now: datetime, say: Say) -> None:
        """One look: what is new is copied; a base where one is due."""
        self.copy_files()
        last = max((base.moment for base in bases(self.folder)), default=None)
        night = now.replace(hour=NIGHT, minute=0, second=0, microsecond=0)
        due = max(night if now >= night else night - timedelta(days=1), self.since)
        if last is None or last < due:
            say(f"A copy of the cluster is taken into {self.folder}.")
            self.note("", copying=True)
            self.take_base()
            self.take_away(now - timedelta(days=DAYS))

    def copy_files(self) -> int:
        """Copy files that are not there yet; how many. Folders that did not change are passed over."""
        count = 0
        for place, _, _ in os.walk(self.files):
            inside = os.path.relpath(place, self.files)
            changed = os.stat(place).st_mtime_ns
            if self.looked.get(inside) == changed:
                continue
            for path in kept_files(self.files, Path(place)):
                target = self.folder / "files" / path.relative_to(self.files)
                if not target.exists():
                    count += _copied(path, target)
            if time.time_ns() - changed > 2_000_000_000:  # its clock has gone on since
                self.looked[inside] = changed
        return count

    def take_base(self) -> Base:
        """Copy the whole cluster while it runs.

        Raises
        ------
        CannotGoOn : it could not be copied
        """
        root = self.folder / "base"
        for killed in root.glob(".coming-*"):
            shutil.rmtree(killed)
        coming = Path(tempfile.mkdtemp(dir=root, prefix=".coming-"))
        parts = psycopg.conninfo.conninfo_to_dict(self.url)
        password = str(parts.pop("password", "") or "")
        parts.pop("dbname", None)
        done = subprocess.run(
            [
                str(binaries() / "pg_basebackup"),
                f"--dbname={psycopg.conninfo.make_conninfo('', **parts)}",  # type: ignore[arg-type]
                f"--pgdata={coming}",
                "--format=tar",
                "--compress=client-gzip:1",
                "--wal-method=fetch",
                "--checkpoint=fast",
                "--no-password",
            ],
            check=False,
            env={"PATH": "/usr/bin:/bin", "PGPASSWORD": password, "LC_ALL": "C.UTF-8"},
            capture_output=True,
            text=True,
        )
        if done.returncode:
            shutil.rmtree(coming, ignore_errors=True)
            raise CannotGoOn(f"the cluster could not be copied: {done.stderr.strip()[:250]}")
        ranges = json.loads((coming / "backup_manifest").read_text())["WAL-Ranges"]
        with psycopg.connect(self.url) as db:
            row = db.execute(
                "select pg_walfile_name(%s), clock_timestamp(),"
                " current_setting('server_version_num')::int / 10000",
                (ranges[0]["Start-LSN"],),
            ).fetchone()
        assert row is not None  # noqa: S101 one row, always
        size = sum(path.stat().st_size for path in coming.iterdir())
        at = row[1].astimezone(UTC)
        base = Base(at.strftime(LABEL), at.isoformat(), __version__, row[2], row[0], size)
        listed = "\n".join(str(path.relative_to(self.files)) for path in kept_files(self.files))
        _private(coming / "files.txt", listed)
        _private(coming / _TOLD, json.dumps(asdict(base)))
        for path in coming.iterdir():
            path.chmod(0o600)
            settle(path)
        coming.rename(root / base.name)
        settle(root)
        return base

    def take_away(self, before: datetime) -> None:
        """Take away what no moment from ``before`` on needs: copies of the cluster, the log before
        the first that stays, files that went before it.
        """
        known = sorted(bases(self.folder), key=lambda base: base.moment)
        older = [base for base in known if base.moment <= before]
        for base in older[:-1]:
            shutil.rmtree(self.folder / "base" / base.name)
        stay = known[max(0, len(older) - 1) :]
        if not stay:
            return
        first = SEGMENT.match(stay[0].first_segment)
        for path in (self.folder / "wal").iterdir():
            found = SEGMENT.match(path.name)
            if first and found and found.group(1) < first.group(1):
                path.unlink()
        named = {
            line
            for base in stay
            for line in (self.folder / "base" / base.name / "files.txt").read_text().split("\n")
        }
        copies = self.folder / "files"
        for path in list(kept_files(copies)):
            inside = str(path.relative_to(copies))
            gone = inside not in named and not (self.files / inside).exists()
            if gone and path.stat().st_mtime < stay[0].moment.timestamp():
                path.unlink()


def _copied(path: Path, target: Path) -> bool:
    """Copy a file so that it stands there whole or not at all; False where it went meanwhile."""
    target.parent.mkdir(parents=True, exist_ok=True, mode=0o700)
    coming = target.with_name(f".coming-{target.name}")
    try:
        shutil.copyfile(path, coming)
    except FileNotFoundError:
        return False
    coming.chmod(0o600)
    settle(coming)
    coming.rename(target)
    return True


def settle(path: Path) -> None:
    """Have a file or folder on the disk, not only in memory."""
    descriptor = os.open(path, os.O_RDONLY)
    try:
        os.fsync(descriptor)
    finally:
        os.close(descriptor)


def bases(folder: Path) -> list[Base]:
    """Copies of the cluster that are whole, newest first."""
    found = []
    for path in (folder / "base").glob("*"):
        if BASE.fullmatch(path.name):
            with suppress(OSError, ValueError, TypeError):
                found.append(Base(**json.loads((path / _TOLD).read_text())))
    return sorted(found, key=lambda base: base.moment, reverse=True)


def reach(folder: Path) -> str:
    """In a sentence how far back it reaches."""
    known = bases(folder)
    if not known:
        return "no copy of the cluster yet"
    return f"back to {known[-1].moment.astimezone():%d %b %Y %H:%M}, copies: {len(known)}"


def keep(data: DataFolder, url: str, files: Path, say: Say) -> None:
    """Keep an installation's archive, of its database and its files, until SIGTERM."""
    folder = data.archive
    if folder is None:
        raise CannotGoOn("This installation has no archive. Give it one: ./hauch archive FOLDER")
    stopping: list[Any] = []
    for number in (signal.SIGINT, signal.SIGTERM):
        signal.signal(number, lambda *_: stopping.append(True))
    since = datetime.fromtimestamp(data.archive_switch.stat().st_mtime, UTC)
    Keeper(url, files, folder, since).run(stopping, say)


# ---------------------------------------------------------------- had back


def typed_moment(text: str) -> datetime:
    """A moment as typed, by the clock of this machine unless it names its zone.

    Raises
    ------
    ValueError : it is none
    """
    return datetime.fromisoformat(text.strip()).astimezone()


@contextmanager
def installed(
    folder: Path, at: datetime | None, data: DataFolder, say: Say, *, fast: bool = False
) -> Iterator[tuple[Back, Cluster]]:
    """An installation as it was at a moment, in an empty folder, its cluster running meanwhile.

    Parameters
    ----------
    folder : the archive
    at : the moment; None for the last one that the archive holds
    data : the empty folder
    fast : leave safety against power cuts out, for one that is thrown away

    Raises
    ------
    CannotGoOn : the archive does not reach to that moment, or is damaged
    """
    base = _before(folder, at)
    if base.postgresql != major():
        raise CannotGoOn(
            f"The archive is of PostgreSQL {base.postgresql}; here is {major()}. Install"
            f" postgresql-{base.postgresql} alone, or have it back where it was."
        )
    try:
        password = str(json.loads((folder / _OWNER).read_text())["password"])
    except (OSError, ValueError, KeyError, TypeError) as problem:
        raise CannotGoOn(f"{folder} is no archive, or cannot be read: {problem}.") from problem
    cluster = Cluster(data.path / "pg", password, fast=fast)
    say(f"The copy of {base.moment.astimezone():%Y-%m-%d %H:%M} is unpacked and checked.")
    cluster.unpack(folder / "base" / base.name)
    say("The log is played on it.")
    try:
        _play(cluster, folder, at, say)
        rows = _made_a_new_one(cluster, data)
        say("The files are copied.")
        count = 0
        for path in kept_files(folder / "files"):
            count += _copied(path, data.path / "files" / path.relative_to(folder / "files"))
        yield Back(_last_transaction(cluster), base.version, count, rows), cluster
    finally:
        cluster.stop()


def _before(folder: Path, at: datetime | None) -> Base:
    known = bases(folder)
    if not known:
        raise CannotGoOn(f"{folder} is no archive, or holds no copy of a cluster yet.")
    found = next((base for base in known if at is None or base.moment <= at), None)
    if found is None:
        raise CannotGoOn(
            f"The archive reaches back to {known[-1].moment.astimezone():%Y-%m-%d %H:%M:%S}, no"
            " further."
        )
    return found


def _play(cluster: Cluster, folder: Path, at: datetime | None, say: Say) -> None:
    wal = str(folder / "wal").replace("%", "%%")
    settings = [
        f"restore_command=gunzip -c {shlex.quote(wal)}/%f.gz > %p",
        "hot_standby=off",  # it answers once the log is played
    ]
    if at is not None:
        settings += [f"recovery_target_time={at.isoformat()}", "recovery_target_action=promote"]
    asked = cluster.folder / "recovery.signal"
    asked.touch(mode=0o600)
    cluster.give(asked)
    try:
        cluster.start(settings)
        _wait(cluster, say)
    except CannotGoOn as problem:
        if "before configured recovery target was reached" not in cluster.log():
            raise
        raise CannotGoOn(
            f"The archive does not reach to that moment: it ends with {_last_transaction(cluster)}."
            " Without --at that is had back."
        ) from problem


def _wait(cluster: Cluster, say: Say) -> None:
    """Until the log is played."""
    url, said = cluster.environment()["HAUCH_DATABASE_URL"], time.monotonic()
    while True:
        try:
            psycopg.connect(url).close()
            return
        except psycopg.OperationalError as problem:
            if "authentication failed" in str(problem):
                raise CannotGoOn(
                    "The log is played, but the password that the archive keeps is not the database's."
                ) from problem
            if not cluster.alive():
                end = cluster.log()[-600:]
                raise CannotGoOn(f"The log could not be played. It ends with:\n{end}") from problem
        if time.monotonic() - said > STILL_AFTER:
            said = time.monotonic()
            pieces = re.findall(r'restored log file "([0-9A-F]+)"', cluster.log())
            say(
                f"Still playing: {len(pieces)} pieces, the last {pieces[-1] if pieces else 'none'}."
            )
        time.sleep(0.1)


def _last_transaction(cluster: Cluster) -> str:
    """When the last transaction was committed that is in it, as the database tells after playing."""
    found = re.findall(r"last completed transaction was at log time (.+)", cluster.log())
    return found[-1].strip() if found else "its copy of the cluster"


def _made_a_new_one(cluster: Cluster, data: DataFolder) -> int:
    """Give it secrets of its own and sign everybody out; how many rows it has."""
    password = data.secret("db_password")
    rows = 0
    with psycopg.connect(cluster.environment()["HAUCH_DATABASE_URL"]) as db:
        for name in LEFT_OUT:
            db.execute(sql.SQL("delete from {}").format(sql.Identifier(name)))
        rows = sum(counted(db).values())
        db.execute(sql.SQL("alter role hauch password {}").format(sql.Literal(password)))
    cluster.password = password
    return rows
