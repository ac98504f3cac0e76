"""Work on an installation's data: recompute, export, import, people."""

from __future__ import annotations

import argparse
import os
import signal
import subprocess
from collections.abc import Iterator
from contextlib import contextmanager

from hauch.ops.data import SETTINGS, DataFolder
from hauch.ops.errors import CannotGoOn
from hauch.ops.start import DEFAULT_PORT, WORKER, collect_static, web_server


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
