"""Work on an installation's data: recompute, export, import, people."""

from __future__ import annotations

import argparse
import json
import os
import signal
import subprocess
import sys
import tempfile
import time
from collections.abc import Iterator
from contextlib import contextmanager, suppress
from datetime import UTC, datetime
from pathlib import Path

from hauch.ops import backup as backups
from hauch.ops.data import SETTINGS, DataFolder
from hauch.ops.errors import CannotGoOn
from hauch.ops.start import DEFAULT_PORT, WORKER, collect_static, say, web_server


@contextmanager
def database(options: argparse.Namespace) -> Iterator[DataFolder]:
    """The installation's database: the one that the environment names, on whatever host, else this
    machine's own, started for this command where Hauch does not run.
    """
    import django

    data = DataFolder(options.data)
    with _elsewhere(data) if os.environ.get("HAUCH_DATABASE_URL") else _here(data):
        django.setup()
        from django.db import connection, connections

        try:
            if options.command != "manage" and not connection.introspection.table_names():
                raise CannotGoOn("The database is empty. Run ./hauch manage migrate first.")
            yield data
        finally:
            connections.close_all()


@contextmanager
def _elsewhere(data: DataFolder) -> Iterator[None]:
    if "HAUCH_SECRET_KEY" not in os.environ:
        raise CannotGoOn(
            "HAUCH_DATABASE_URL is set, but HAUCH_SECRET_KEY is not. Give all hosts of an"
            " installation the same one."
        )
    os.environ.update({"HAUCH_DATA": str(data.path), "DJANGO_SETTINGS_MODULE": SETTINGS})
    yield


@contextmanager
def _here(data: DataFolder) -> Iterator[None]:
    cluster = data.cluster()
    if not (cluster.folder / "PG_VERSION").exists():
        raise CannotGoOn(
            f"There is no installation in {data.path}. Run ./hauch start first, or name it with"
            " --data."
        )
    ran_before = cluster.running_port() is not None
    cluster.start()
    try:
        os.environ.update(data.environment(cluster))
        yield
    finally:
        if not ran_before:
            cluster.stop()


def keeper():
    """The person in whose name this machine's keeper works."""
    from hauch.people.models import User

    found = User.objects.filter(is_staff=True, is_active=True).order_by("pk").first()
    if found is None:
        raise CannotGoOn(
            "No person with staff rights exists. Make one: ./hauch adduser NAME --staff"
        )
    return found


def recompute(options: argparse.Namespace) -> int:
    """Compute all results again and compare them digit for digit."""
    with database(options):
        from hauch.bench.queries import runs
        from hauch.bench.results import recompute as again
        from hauch.core import CORE_VERSION

        done = again(runs().filter(state="valid"), write=not options.check)
        print(
            f"{done.count} results computed with core version {CORE_VERSION}; {len(done.changed)}"
            " differ."
        )
        if done.changed:
            print("Runs that differ:", ", ".join(map(str, done.changed[:50])))
        return 1 if done.changed and options.check else 0


def export(options: argparse.Namespace) -> int:
    """Write a round to a ZIP file."""
    with database(options):
        from hauch.exchange.exporting import export_round
        from hauch.formats.bundle import BundleRefused
        from hauch.rounds.models import Round

        round = Round.objects.filter(slug=options.round).first()
        if round is None:
            raise CannotGoOn(
                f"There is no round “{options.round}”. There are:"
                f" {', '.join(Round.objects.values_list('slug', flat=True)) or 'none'}."
            )
        try:
            with options.file.open("wb") as out:
                export_round(keeper(), round, out)
        except BundleRefused as problem:
            options.file.unlink()
            raise CannotGoOn(f"{round.title} was not exported. {problem}") from problem
        print(f"Wrote {options.file} ({options.file.stat().st_size / 1e6:.1f} MB).")
        return 0


def import_(options: argparse.Namespace) -> int:
    """Read a round from a ZIP file."""
    from hauch.formats.bundle import BundleRefused

    with database(options):
        from hauch.exchange.importing import import_round

        try:
            with options.file.open("rb") as source:
                round = import_round(keeper(), source)
        except (BundleRefused, OSError) as problem:
            raise CannotGoOn(str(problem)) from problem
        print(f"Imported round “{round.title}” as {round.slug}.")
        return 0


def backup(options: argparse.Namespace) -> int:
    """Write the whole installation to one file."""
    with database(options):
        from django.conf import settings

        began = time.monotonic()
        url = os.environ["HAUCH_DATABASE_URL"]
        made = backups.backup(url, settings.MEDIA_ROOT, options.file.resolve(), say)
        print(
            f"Wrote {options.file} ({options.file.stat().st_size / 1e6:.1f} MB, {len(made.files)}"
            f" files, {sum(made.rows.values()):,} rows) in {time.monotonic() - began:.1f} s."
        )
        return 0


def doctor(options: argparse.Namespace) -> int:
    """Tell how the installation is."""
    with database(options):
        from hauch.site.state import state

        found = state()
        for line in found.lines:
            print(f"{'  ' if line.well else '! '}{line.what}: {line.told}")
            if line.do:
                print(f"    {line.do}")
        print(
            f"{'! ' if found.failed else '  '}Jobs: {found.waiting} waiting, {len(found.failed)} failed"
        )
        for job in found.failed:
            print(f"    {job.pk} {job.task_name}, {job.attempts} tries")
        for one in found.troubles:
            print(f"  {one.at:%Y-%m-%d %H:%M} {one.number} {one.what} at {one.where}")
        return 0 if found.well else 1


def nightly(options: argparse.Namespace) -> int:
    """Write the backup of a night, and note how it went where the keeper's page reads it."""
    named = os.environ.get("HAUCH_BACKUPS", "")
    if not named:
        raise CannotGoOn("HAUCH_BACKUPS names no folder. Set it, or run ./hauch backup FILE.")
    signal.signal(signal.SIGTERM, lambda *_: sys.exit(1))  # what is unfinished goes on the way out
    folder, now = Path(named).resolve(), datetime.now(UTC)
    told = {"at": now.isoformat(timespec="seconds")}
    try:
        with database(options):
            from django.conf import settings

            url = os.environ["HAUCH_DATABASE_URL"]
            made = backups.nightly(url, settings.MEDIA_ROOT, folder, now)
            told |= {"file": backups.name_for(now), "size": str(made.size), "problem": ""}
            print(f"Nightly backup {folder / backups.name_for(now)} is written and checked.")
            return 0
    except CannotGoOn as problem:
        told |= {"problem": str(problem)}
        raise
    finally:
        with suppress(OSError):
            folder.mkdir(parents=True, exist_ok=True)
            (folder / "last.json").write_text(json.dumps(told))


def archive(options: argparse.Namespace) -> int:
    """Turn an installation's archive on or off, or tell how it is."""
    from hauch.ops import archive as archives

    data = DataFolder(options.data)
    if options.off:
        archives.turn_off(data)
        print("The log is archived no longer from the next start on. What was archived stays.")
    elif options.folder is not None:
        archives.turn_on(data, options.folder.resolve())
        print(
            f"From the next start on each minute of {archives.DAYS} days can be had back from"
            f" {options.folder.resolve()}: ./hauch restore FOLDER --at '2026-11-29 14:05' --data NEW"
        )
    elif (folder := data.archive) is None:
        print("This installation has no archive. Give it one: ./hauch archive FOLDER")
    else:
        print(f"{folder}: {archives.reach(folder)}. ./hauch doctor tells how its log goes out.")
    return 0


def archiving(options: argparse.Namespace) -> int:
    """Keep the archive until stopped; `start` runs this where there is one."""
    from hauch.ops import archive as archives
    from hauch.site.settings import places

    data = DataFolder(options.data)
    kept = places.files(os.environ.get("HAUCH_FILES_URL", ""), data.path / "files")
    archives.keep(data, os.environ["HAUCH_DATABASE_URL"], kept, say)
    return 0


def _had_back(options: argparse.Namespace, *, fast: bool) -> backups.MadeIn:
    """How an installation is made of what was named: a backup, or an archive."""
    source = options.file.resolve()
    if not source.is_dir():
        if options.at:
            raise CannotGoOn(
                f"{source} is a backup of one moment; --at belongs to an archive's folder."
            )
        return lambda data: backups.installed(source, data, say, fast=fast)
    from hauch.ops import archive as archives

    try:
        at = archives.typed_moment(options.at) if options.at else None
    except ValueError as problem:
        raise CannotGoOn(
            f"“{options.at}” is no moment. Write it as 2026-11-29 14:05, by this machine's clock."
        ) from problem
    return lambda data: archives.installed(source, at, data, say, fast=fast)


def restore(options: argparse.Namespace) -> int:
    """Make an installation of a backup or an archive, or only try whether it could be made."""
    made_in = _had_back(options, fast=options.check)
    if not options.check:
        data = DataFolder(options.data)
        made = backups.restore(data, made_in)
        print(
            f"The installation of {made.at} (Hauch {made.version}) is in {data.path}:"
            f" {made.file_count} files, {made.row_count:,} rows. Run ./hauch start; whoever was"
            " signed in signs in anew."
        )
        return 0
    with tempfile.TemporaryDirectory(prefix="hauch-restore-") as folder:
        path = Path(folder)
        path.chmod(0o711 if os.getuid() == 0 else 0o700)
        data = DataFolder(path)
        with made_in(data) as (made, cluster):
            environment = {**os.environ, **data.environment(cluster)}
            say("All results are computed again.")
            again = [sys.executable, "-m", "hauch.ops", "recompute", "--check", "--data", folder]
            environment.pop("HAUCH_DATABASE_URL")
            done = subprocess.run(
                again, check=False, env=environment, capture_output=True, text=True
            )
        print(
            f"What is of {made.at} (Hauch {made.version}) can be restored: {made.file_count} files"
            f" and {made.row_count:,} rows agree."
        )
        print((done.stdout + done.stderr).strip())
        return done.returncode


def adduser(options: argparse.Namespace) -> int:
    """Make a person."""
    with database(options) as data:
        from hauch.people.first import add_person
        from hauch.people.models import User

        if User.objects.filter(username=options.username).exists():
            raise CannotGoOn(f"There is a person “{options.username}” already.")
        password = add_person(options.username, options.username.capitalize(), staff=options.staff)
        print(f"{options.username}  {password}  (data in {data.path})")
        return 0


def recorder(options: argparse.Namespace) -> int:
    """Record what the meters show until stopped."""
    os.environ["HAUCH_POOL"] = "0"  # one line to the database, which must be seen to break
    with database(options):
        from django.core.management import call_command

        call_command("record")
        return 0


def web(options: argparse.Namespace) -> int:
    """Serve pages until stopped; any number of these may run, on any host."""
    with database(options) as data:
        collect_static(data)
        return _run(
            options, web_server(options.host, options.port or DEFAULT_PORT, options.processes)
        )


def worker(options: argparse.Namespace) -> int:
    """Do background work until stopped; any number of these may run, on any host."""
    with database(options):
        return _run(options, WORKER)


def _run(options: argparse.Namespace, command: list[str]) -> int:
    """One role as a process of its own, which ends with us."""
    child = subprocess.Popen(command)
    for number in (signal.SIGINT, signal.SIGTERM):
        signal.signal(number, lambda *_: child.terminate())
    return child.wait()


def manage(options: argparse.Namespace) -> int:
    """Run one of Django's own commands."""
    with database(options):
        from django.core.management import execute_from_command_line

        execute_from_command_line(["hauch", *options.arguments])
        return 0
