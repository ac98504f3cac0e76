"""How an installation is: what its keeper looks at first, on a page and on the shell alike."""

from __future__ import annotations

import json
import os
import shutil
from dataclasses import dataclass, field
from datetime import UTC, datetime, timedelta
from pathlib import Path
from typing import Any

from django.conf import settings
from django.db import connection
from django.utils import timezone
from procrastinate.contrib.django.models import ProcrastinateJob

from hauch import __version__
from hauch.bench.jobs import older
from hauch.bench.models import Live, Run
from hauch.bench.queries import runs
from hauch.core import CORE_VERSION
from hauch.people.models import User
from hauch.site.models import Trouble
from hauch.ui.worker import GONE_AFTER, worker_heard

LITTLE_ROOM = 2e9
"""Bytes free on the disk below which it is told."""
OLD_BACKUP = timedelta(hours=36)
UNKEPT = timedelta(minutes=30)
"""An archive that nobody looked after for so long is told; while a large cluster is being copied,
after `OLD_BACKUP`.
"""
MOST_JOBS = 50
SHOWN_TROUBLES = 20


@dataclass(frozen=True)
class Line:
    """One thing: what, how it is, and what to do where it is not well."""

    what: str
    told: str
    do: str = ""

    @property
    def well(self) -> bool:
        """Whether there is nothing to do."""
        return not self.do


@dataclass
class State:
    """All of it."""

    lines: list[Line] = field(default_factory=list)
    failed: list[Any] = field(default_factory=list)
    troubles: list[Trouble] = field(default_factory=list)
    """The last pages that ended in an error; nothing to do but to know."""
    waiting: int = 0

    @property
    def well(self) -> bool:
        """Whether nothing has to be done."""
        return all(line.well for line in self.lines) and not self.failed


def state() -> State:
    """Ask everything once.

    Raises
    ------
    DatabaseError : the database does not answer
    """
    found = State()
    found.lines = [
        _versions(),
        _database(),
        _disk(),
        _worker(),
        _results(),
        _benches(),
        _backups(),
        *_archive(),
        _people(),
    ]
    jobs = ProcrastinateJob.objects
    found.failed = list(jobs.filter(status="failed").order_by("-id")[:MOST_JOBS])
    found.troubles = list(Trouble.objects.all()[:SHOWN_TROUBLES])
    found.waiting = jobs.filter(status="todo", scheduled_at=None).count()
    return found


def _versions() -> Line:
    return Line("Hauch", f"{__version__}, core {CORE_VERSION}")


def _megabytes(size: float) -> str:
    return f"{size / 1e9:,.1f} GB" if size >= 1e9 else f"{size / 1e6:,.0f} MB"


def _database() -> Line:
    with connection.cursor() as cursor:
        cursor.execute(
            "select pg_database_size(current_database()), current_setting('server_version'),"
            " extract(epoch from clock_timestamp())"
        )
        size, version, clock = cursor.fetchone()
    apart = float(clock) - timezone.now().timestamp()
    told = f"{_megabytes(size)}, PostgreSQL {version.split()[0]}"
    if abs(apart) > 1.0:
        return Line(
            "Database",
            f"{told}; its clock is {apart:+.0f} s from this host's",
            "Let both set their clocks by the same time server: recordings are timed by them.",
        )
    return Line("Database", told)


def _disk() -> Line:
    Path(settings.MEDIA_ROOT).mkdir(parents=True, exist_ok=True)
    free = shutil.disk_usage(settings.MEDIA_ROOT).free
    told = f"{_megabytes(free)} free where files are kept"
    return Line(
        "Disk", told, "Make room: nothing can be recorded on a full disk." * (free < LITTLE_ROOM)
    )


def _worker() -> Line:
    heard = worker_heard()
    if heard is None:
        return Line(
            "Worker", "none was ever there", "It runs with ./hauch start, or ./hauch worker."
        )
    if heard > GONE_AFTER:
        return Line(
            "Worker",
            f"last heard of {heard:.0f} s ago",
            "Checks, imports and standings wait. It runs with ./hauch start, or ./hauch worker.",
        )
    return Line("Worker", "works")


def _results() -> Line:
    all_of_them = runs().filter(state=Run.State.VALID).count()
    behind = older().count()
    if not behind:
        return Line("Results", f"{all_of_them:,}, all of core {CORE_VERSION}")
    return Line(
        "Results",
        f"{behind:,} of {all_of_them:,} are of another version of the core",
        "The worker computes them again after an update. At once: ./hauch recompute.",
    )


def _benches() -> Line:
    running = list(Live.objects.filter(ended_at=None).select_related("test__rig"))
    if not running:
        return Line("Live benches", "none is recording")
    old = timezone.now() - timedelta(seconds=30)
    mute = [one for one in running if one.heard_at is None or one.heard_at < old]
    told = ", ".join(str(one.test.rig) for one in running)
    if mute:
        return Line(
            "Live benches",
            f"{told}; nothing is heard of {', '.join(str(one.test.rig) for one in mute)}",
            "No recorder answers for it: look at the bench first. ./hauch recorder starts one.",
        )
    return Line("Live benches", told)


def _backups() -> Line:
    folder = os.environ.get("HAUCH_BACKUPS", "")
    if not folder:
        return Line(
            "Backups",
            "none by rule",
            "Set HAUCH_BACKUPS to a folder on another disk: one is written and read through each"
            " night. At once: ./hauch backup FILE.",
        )
    try:
        last = json.loads((Path(folder) / "last.json").read_text())
        at = datetime.fromisoformat(last["at"])
    except (OSError, ValueError, KeyError):
        return Line("Backups", f"none yet in {folder}", "The first is due tonight at 3.")
    told = f"{at.astimezone(timezone.get_current_timezone()):%d %b %Y %H:%M} in {folder}"
    if last.get("problem"):
        return Line("Backups", f"failed, {told}: {last['problem']}", "See to it today.")
    count = len(list(Path(folder).glob("hauch-*.tar")))
    told = f"{told}, {_megabytes(float(last['size']))}, read through; {count} kept"
    late = datetime.now(UTC) - at > OLD_BACKUP
    return Line("Backups", told, "The last night is missing: look whether Hauch ran." * late)


def _archive() -> list[Line]:
    """How the database's log is archived; nothing where it is not."""
    with connection.cursor() as cursor:
        cursor.execute(
            "select current_setting('archive_mode'), last_archived_time, last_failed_wal,"
            " coalesce(last_failed_time > coalesce(last_archived_time, '-infinity'), false)"
            " from pg_stat_archiver"
        )
        mode, handed_over, piece, failing = cursor.fetchone()
    if mode == "off":
        return []
    told, do = "no piece of the log yet", ""
    if handed_over is not None:
        at = handed_over.astimezone(timezone.get_current_timezone())
        told = f"last piece of the log at {at:%d %b %Y %H:%M}"
    if failing:
        told = f"{told}; {piece} could not be written"
        do = (
            "Look whether its disk is there and has room: the log waits on the database's own disk."
        )
    switch = Path(settings.DATA) / "archive"
    if switch.exists():
        told, do = _looked_after(Path(switch.read_text()), told, do)
    return [Line("Archive", told, do)]


def _looked_after(folder: Path, told: str, do: str) -> tuple[str, str]:
    try:
        last = json.loads((folder / "last.json").read_text())
        most = OLD_BACKUP if last.get("copying") else UNKEPT
        late = datetime.now(UTC) - datetime.fromisoformat(last["at"]) > most
    except (OSError, ValueError, KeyError):
        return f"{told}, {folder} cannot be read", do or "Look whether its disk is there."
    told = f"{last['told']}, {told}, in {folder}"
    if last["problem"]:
        return f"{told}: {last['problem']}", do or "See to it today."
    if late:
        return told, do or "Nobody looks after it: it is kept while ./hauch start runs."
    return told, do


def _people() -> Line:
    people = User.objects.filter(is_active=True).count()
    return Line(
        "People", f"{people}, {User.objects.filter(is_active=True, is_staff=True).count()} keep it"
    )
