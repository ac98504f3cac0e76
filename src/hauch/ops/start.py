"""./hauch start: database, migrations, demo, web server and worker, until Ctrl-C."""

from __future__ import annotations

import hashlib
import os
import signal
import socket
import subprocess
import sys
import time
import urllib.request
from collections.abc import Callable
from contextlib import suppress
from datetime import UTC, date, datetime
from pathlib import Path

from hauch import __version__
from hauch.instruments.claim import Claimed, claim
from hauch.instruments.standins import DEVICES, PER_BENCH
from hauch.ops.backup import NIGHT, backup
from hauch.ops.cluster import Cluster, free_port
from hauch.ops.data import SETTINGS, DataFolder, default_folder
from hauch.ops.errors import CannotGoOn

DEFAULT_PORT = 8440
AT_ONCE = 2
"""So often in a row a child that died is started again at once; after that the waits grow."""
LONGEST_WAIT = 60.0
"""Longest wait [s] before a child that keeps dying is started again. The others go on meanwhile."""
GIVEN_UP_AFTER = 5
"""So often the web server may die before it ever answered; then the start has failed."""
STILL_AFTER = 15.0
"""Seconds after which somebody who waits for the start hears that it goes on."""
RECORDER = [sys.executable, "-m", "hauch.ops.manage", "record"]
WORKER = [
    sys.executable,
    "-m",
    "hauch.ops.manage",
    "procrastinate",
    "worker",
    "--shutdown-graceful-timeout=3",
]
NO_POOL = {"HAUCH_POOL": "0"}
STEADY_AFTER = 60.0
"""Seconds after which a child that dies has not died at once."""


def web_server(host: str, port: int, processes: int) -> list[str]:
    """The command of the web server."""
    return [
        sys.executable,
        "-m",
        "uvicorn",
        "hauch.site.asgi:application",
        "--host",
        host,
        "--port",
        str(port),
        "--workers",
        str(processes),
        "--timeout-graceful-shutdown",
        "2",
        "--lifespan",
        "off",
        "--log-level",
        "warning",
        "--no-server-header",
        *proxies(),
    ]


def proxies() -> list[str]:
    """Whose word on where a request came from is taken: that of the proxies which are named, or of
    one on this machine where pages go out by HTTPS; else nobody's, since anybody can write it.
    """
    named = os.environ.get("HAUCH_PROXIES", "")
    if not named and os.environ.get("HAUCH_HTTPS") == "1":
        named = "127.0.0.1"
    return ["--proxy-headers", "--forwarded-allow-ips", named] if named else ["--no-proxy-headers"]


def say(text: str) -> None:
    """One line for the person who started it."""
    print(text, flush=True)


def reloading_server(host: str, port: int, processes: int) -> list[str]:
    """The command of a web server that starts again when code changes; one process, whatever is
    asked.
    """
    return [
        sys.executable,
        "-m",
        "uvicorn",
        "hauch.site.asgi:application",
        "--host",
        host,
        "--port",
        str(port),
        "--reload",
        "--reload-dir",
        str(Path(__file__).resolve().parents[1]),
        "--timeout-graceful-shutdown",
        "1",
        "--lifespan",
        "off",
        "--log-level",
        "warning",
    ]


def prepare(data: DataFolder, settings: str, *, demo: bool) -> tuple[Cluster, dict[str, str]]:
    """Start the cluster and bring database and static files up to date."""
    import django

    cluster = data.cluster()
    cluster.start()
    cluster.ensure_database()
    environment = data.environment(cluster) | {"DJANGO_SETTINGS_MODULE": settings}
    if demo:  # its meters are simulated on this machine
        environment |= {"HAUCH_LOCAL_METERS": "1"}
    os.environ.update(environment)
    django.setup()
    from hauch.entries.actions import check_older_rotors
    from hauch.people.first import first_people

    bring_up_to_date(data, environment["HAUCH_DATABASE_URL"])
    if settings == SETTINGS:
        collect_static(data)
    first_people(data.path, demo=demo)
    if anew := check_older_rotors():
        say(f"{anew} rotors are checked anew: an earlier version did not compute their stress.")
    if demo:
        from hauch.demo.load import load_demo

        load_demo(say)
    from hauch.bench.jobs import defer_older

    if count := defer_older():
        say(
            f"{count:,} results are of an earlier version; they are computed again in the"
            " background. What was published stays as it was."
        )
    from hauch.sound.analysing import ask_older

    if count := ask_older():
        say(f"{count:,} sound recordings are analysed anew by this version, in the background.")
    return cluster, environment


def bring_up_to_date(data: DataFolder, url: str) -> None:
    """Apply what this version changes in the database; what is there is backed up before.

    Raises
    ------
    CannotGoOn : with where the backup is, and how to go on
    """
    from django.conf import settings
    from django.core.management import call_command
    from django.db import DatabaseError, connection
    from django.db.migrations.executor import MigrationExecutor

    executor = MigrationExecutor(connection)
    outstanding = executor.migration_plan(executor.loader.graph.leaf_nodes())
    if not outstanding:
        return
    saved = None
    if executor.loader.applied_migrations:
        saved = data.path / "backups" / f"before-{__version__}-{datetime.now(UTC):%Y%m%d-%H%M}.tar"
        say(f"This version changes the database; {saved} keeps it as it was.")
        backup(url, settings.MEDIA_ROOT, saved, say)
    try:
        call_command("migrate", interactive=False, verbosity=0)
    except (DatabaseError, ValueError, LookupError) as problem:
        if saved is None:
            raise
        raise CannotGoOn(
            f"The database could not be brought up to date: {problem}. It is saved in {saved}; to go"
            f" on with the version before: ./hauch restore {saved} --data FOLDER"
        ) from problem


def collect_static(data: DataFolder) -> None:
    """Copy and compress static files when they changed."""
    from django.conf import settings
    from django.contrib.staticfiles.finders import get_finders
    from django.core.management import call_command

    found = [
        (name, Path(storage.path(name)).stat())
        for finder in get_finders()
        for name, storage in finder.list([])
    ]
    listing = sorted(f"{name} {stat.st_size} {stat.st_mtime_ns}" for name, stat in found)
    stamp, mark = (
        hashlib.sha256("\n".join(listing).encode()).hexdigest(),
        data.path / "static.stamp",
    )
    if mark.exists() and mark.read_text() == stamp and settings.STATIC_ROOT.exists():
        return
    call_command("collectstatic", interactive=False, verbosity=0, clear=True)
    mark.write_text(stamp)


class Nightly:
    """Writes a backup each night, in a process of its own, where HAUCH_BACKUPS names a folder."""

    def __init__(self, data: DataFolder):
        self.folder = os.environ.get("HAUCH_BACKUPS", "")
        self.command = [sys.executable, "-m", "hauch.ops", "nightly", "--data", str(data.path)]
        self.last: date | None = None
        self.child: subprocess.Popen[bytes] | None = None

    def check(self, now: datetime) -> None:
        """Begin the backup of this night once its hour has come."""
        if self.child is not None and self.child.poll() is not None:
            if self.child.returncode:
                say("The nightly backup failed; see the line above. It is tried again tomorrow.")
            self.child = None
        if not self.folder or now.hour < NIGHT or self.last == now.date():
            return
        self.last = now.date()
        self.child = subprocess.Popen(self.command, start_new_session=True)

    def stop(self) -> None:
        """End one that is being written; nothing of it stays."""
        if self.child is not None and self.child.poll() is None:
            self.child.terminate()
            with suppress(subprocess.TimeoutExpired):
                self.child.wait(5)


class Supervisor:
    """Runs the web server and the worker, starts them again when they die, stops them by their own
    process ids.
    """

    def __init__(
        self,
        server: list[str],
        environment: dict[str, str],
        *,
        standins: int | None = None,
        archiving: Path | None = None,
        clock: Callable[[], float] = time.monotonic,
    ):
        self.clock = clock
        self.commands = {
            "web server": server,
            "worker": WORKER,
            "recorder": RECORDER,
            "second recorder": (
                RECORDER
            ),  # takes over at once what the first one held when that dies
        }
        if standins is not None:
            self.commands["simulated meters"] = [
                *(sys.executable, "-m", "hauch.ops", "standins"),
                f"--first-port={standins}",
            ]
        if archiving is not None:
            self.commands["archive"] = [
                *(sys.executable, "-m", "hauch.ops", "archiving"),
                f"--data={archiving}",
            ]
        self.environment = {**os.environ, **environment}
        self.children: dict[str, subprocess.Popen[bytes]] = {}
        self.restarts = dict.fromkeys(self.commands, 0)
        self.started = dict.fromkeys(self.commands, 0.0)
        self.due: dict[str, float] = {}

    def start(self, name: str) -> None:
        """Start one child in a session of its own, so that Ctrl-C reaches only us."""
        self.started[name] = self.clock()
        environment = self.environment | {
            "web server": {"HAUCH_WARM": "1"},
            "recorder": NO_POOL,
            "second recorder": NO_POOL,
        }.get(name, {})
        self.children[name] = subprocess.Popen(
            self.commands[name], env=environment, start_new_session=True
        )

    def check(self) -> None:
        """Start again what died: at first at once, then after waits that grow, so that a child that
        keeps dying takes nothing else away.
        """
        for name, child in list(self.children.items()):
            if child.poll() is None:
                continue
            end_group(child.pid)
            del self.children[name]
            lived_long = self.clock() - self.started[name] > STEADY_AFTER
            self.restarts[name] = 1 if lived_long else self.restarts[name] + 1
            wait = wait_after(self.restarts[name])
            self.due[name] = self.clock() + wait
            again = (
                f"starting it again in {wait:.0f} s, since it keeps stopping; the rest goes on. See"
                " the lines above"
                if wait
                else "starting it again"
            )
            say(f"The {name} stopped (exit {child.returncode}); {again}.")
        for name, moment in list(self.due.items()):
            if self.clock() >= moment:
                del self.due[name]
                self.start(name)

    def stop(self) -> None:
        """Ask the children to end, wait, and insist."""
        for child in self.children.values():
            if child.poll() is None:
                child.send_signal(signal.SIGTERM)
        deadline = time.monotonic() + 6
        for child in self.children.values():
            with suppress(subprocess.TimeoutExpired):
                child.wait(max(0.1, deadline - time.monotonic()))
            end_group(child.pid)
            child.wait()


def end_group(leader: int) -> None:
    """End what is left of a child's own session, such as web processes whose parent was killed and
    which still hold the port.
    """
    with suppress(ProcessLookupError):
        os.killpg(leader, signal.SIGKILL)


def wait_after(restarts: int) -> float:
    """Seconds to wait before a child is started again that died so often in a row."""
    return 0.0 if restarts <= AT_ONCE else min(2.0 ** (restarts - AT_ONCE), LONGEST_WAIT)


def wait_until_healthy(port: int, supervisor: Supervisor, stopping: list[bool]) -> None:
    """Wait for /health/ to answer, as long as the web server lives or until somebody stops it.

    Raises
    ------
    CannotGoOn : the web server keeps stopping before it ever answered
    """
    told = time.monotonic()
    while not stopping:
        supervisor.check()
        if supervisor.restarts["web server"] >= GIVEN_UP_AFTER:
            raise CannotGoOn(
                "The web server keeps stopping before it answers. See the lines above."
            )
        try:
            with urllib.request.urlopen(f"http://127.0.0.1:{port}/health/", timeout=2):
                return
        except OSError:
            time.sleep(0.1)
        if time.monotonic() - told > STILL_AFTER:
            told = time.monotonic()
            say(
                "Still starting: the web server lives and does not answer yet. A busy machine takes"
                " its time."
            )


def start(data_path: Path | None, port: int | None, demo: bool) -> None:
    """Run an installation until Ctrl-C or SIGTERM."""
    _serve(DataFolder(data_path), port, web_server, SETTINGS, demo=demo)


def dev(data_path: Path | None, port: int | None) -> None:
    """Run it for those who work on it: the web server starts again when code changes, templates and
    styles are read as they stand, and pages show what went wrong. Worker and recorders are started
    once. The demo lives in a data folder of its own.
    """
    _serve(
        DataFolder(data_path or default_folder().with_name("hauch-dev")),
        port,
        reloading_server,
        "hauch.site.settings.dev",
        demo=True,
    )


def ports_of_our_own(first: int, count: int, step: int) -> tuple[int, socket.socket | None]:
    """A range of ports on loopback that nobody uses and no other start has claimed, the preferred
    one if it can be: its first port, and what holds the claim.

    Raises
    ------
    CannotGoOn : there is none
    """
    for base in range(first, min(first + 100 * step, 65_535 - count), step):
        try:
            held = claim(f"port {base}")
        except Claimed:
            continue
        if all(free_port(port) == port for port in range(base, base + count)):
            return base, held
        if held is not None:
            held.close()
    raise CannotGoOn(f"No free port was found on 127.0.0.1 from {first} on.")


def place_standins(data: DataFolder) -> tuple[int, socket.socket | None]:
    """Give the demo's simulated meters ports that are this installation's alone, and its meters
    their addresses; the first port, and what holds the claim.
    """
    from hauch.demo.stores import move_standins

    before = data.standins_at()
    port, held = ports_of_our_own(before, len(DEVICES), PER_BENCH * 5)
    if port != before:
        say(
            f"The ports of the simulated meters are in use from {before} on; this installation's"
            f" are at {port}."
        )
    move_standins(before, port)
    data.put_standins(port)
    return port, held


def _serve(
    data: DataFolder,
    port: int | None,
    server: Callable[[str, int, int], list[str]],
    settings: str,
    *,
    demo: bool,
) -> None:
    began = time.monotonic()
    chosen, mine = ports_of_our_own(port or DEFAULT_PORT, 1, 1)
    if port and chosen != port:
        raise CannotGoOn(
            f"Port {port} is in use by another program. Choose another with --port, or leave it"
            " out."
        )
    held = data.lock()
    stopping = []
    for number in (signal.SIGINT, signal.SIGTERM):
        signal.signal(number, lambda *_: stopping.append(True))
    cluster, environment = prepare(data, settings, demo=demo)
    standins, ours = place_standins(data) if demo else (None, None)
    supervisor = Supervisor(
        server("127.0.0.1", chosen, 2),
        environment,
        standins=standins,
        archiving=data.path if data.archive else None,
    )
    nightly = Nightly(data)
    try:
        for name in supervisor.commands:
            if not stopping:
                supervisor.start(name)
        if not stopping:
            wait_until_healthy(chosen, supervisor, stopping)
        if not stopping:
            _greet(data, chosen, time.monotonic() - began)
        while not stopping:
            time.sleep(0.2)
            if not cluster.alive():
                _bring_back(cluster)
            supervisor.check()
            nightly.check(datetime.now().astimezone())
    finally:
        say("Stopping.")
        nightly.stop()
        supervisor.stop()
        cluster.stop()
        for one in (held, mine, ours):
            if one is not None:
                one.close()


def _bring_back(cluster: Cluster) -> None:
    """Start the database again after its process died; web server and worker find it on the port
    that they know.
    """
    say("The database stopped; starting it again.")
    port = cluster.port
    cluster.start()
    if cluster.port != port:
        raise CannotGoOn(
            f"The database's port {port} was taken by another program meanwhile. Start Hauch again."
        )


def _greet(data: DataFolder, port: int, seconds: float) -> None:
    say(
        f"\nHauch runs at http://127.0.0.1:{port}/ (ready after {seconds:.1f} s). Data in"
        f" {data.path}. Ctrl-C stops it."
    )
    logins = data.path / "logins"
    if logins.exists():
        say("Logins:")
        for line in logins.read_text().splitlines():
            say(f"  {line}")
