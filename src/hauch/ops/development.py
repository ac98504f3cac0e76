"""Tests, lint, benchmarks and screenshots, on clusters of their own that are thrown away
afterwards.
"""

from __future__ import annotations

import argparse
import fcntl
import hashlib
import os
import secrets
import shutil
import subprocess
import sys
import tempfile
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path

from hauch.ops.cluster import Cluster
from hauch.ops.errors import CannotGoOn

HOME = Path(os.environ.get("HAUCH_HOME", Path(__file__).resolve().parents[3]))


def _environment(folder: Path, cluster: Cluster) -> dict[str, str]:
    return {
        **os.environ,
        **cluster.environment(),
        "HAUCH_DATA": str(folder),
        "HAUCH_SECRET_KEY": secrets.token_urlsafe(40),
        "DJANGO_SETTINGS_MODULE": "hauch.site.settings.test",
        "DJANGO_ALLOW_ASYNC_UNSAFE": "1",
        "PYTHONPATH": os.pathsep.join([str(HOME / "src"), str(HOME)]),
    }


@contextmanager
def throwaway() -> Iterator[dict[str, str]]:
    """A cluster and a data folder that are gone afterwards; gives the environment for Django."""
    folder = Path(tempfile.mkdtemp(prefix="hauch-"))
    folder.chmod(0o711)
    for name in ("files", "static"):
        (folder / name).mkdir()
    cluster = Cluster(folder / "pg", secrets.token_urlsafe(16), fast=True)
    try:
        cluster.start()
        cluster.ensure_database()
        yield _environment(folder, cluster)
    finally:
        cluster.stop()
        shutil.rmtree(folder, ignore_errors=True)


def _tables() -> str:
    """What all migrations together make, as a digest."""
    found = hashlib.sha256()
    for path in sorted((HOME / "src").glob("hauch/*/migrations/*.py")):
        found.update(path.name.encode() + path.read_bytes())
    return found.hexdigest()


@contextmanager
def kept_cluster(*, fresh: bool) -> Iterator[dict[str, str] | None]:
    """A cluster for some tests, whose database is kept for the next time; None where another run
    holds it.

    A run that was cut off may leave rows behind, and other migrations make other tables, so the
    folder is made anew after either.
    """
    name = hashlib.sha256(str(HOME).encode()).hexdigest()[:12]
    folder = Path(tempfile.gettempdir()) / f"hauch-tests-{os.getuid()}-{name}"
    folder.mkdir(mode=0o711, exist_ok=True)
    if folder.is_symlink() or folder.stat().st_uid != os.getuid():
        yield None  # somebody else's folder
        return
    with (folder / "lock").open("w") as held:
        try:
            fcntl.flock(held, fcntl.LOCK_EX | fcntl.LOCK_NB)
        except BlockingIOError:
            yield None
            return
        unfinished, password = folder / "unfinished", folder / "password"
        tables, made = folder / "tables", _tables()
        fresh = fresh or not tables.exists() or tables.read_text() != made
        if fresh or unfinished.exists() or not password.exists():
            if (folder / "pg").exists():
                Cluster(folder / "pg", "", fast=True).stop()
            for old in ("pg", "files", "static"):
                shutil.rmtree(folder / old, ignore_errors=True)
            password.touch(mode=0o600)
            password.write_text(secrets.token_urlsafe(16))
            tables.write_text(made)
        unfinished.touch()
        for part in ("files", "static"):
            (folder / part).mkdir(exist_ok=True)
        cluster = Cluster(folder / "pg", password.read_text(), fast=True)
        try:
            cluster.start()
            cluster.ensure_database()
            yield _environment(folder, cluster)
            unfinished.unlink()
        finally:
            cluster.stop()


def test(options: argparse.Namespace) -> int:
    """All tests on a throwaway cluster, or those that are named on one whose database is kept."""
    if options.labels:
        with kept_cluster(fresh=options.fresh) as environment:
            if environment is not None:
                return _run_tests(options, environment, "--keepdb")
    with throwaway() as environment:
        return _run_tests(options, environment)


def _run_tests(options: argparse.Namespace, environment: dict[str, str], *more: str) -> int:
    parallel = options.parallel or ("1" if options.labels else str(os.cpu_count() or 1))
    command = [
        sys.executable,
        "-m",
        "hauch.ops.manage",
        "test",
        "--no-input",
        "--parallel",
        parallel,
        *more,
    ]
    if options.durations:
        command += ["--durations", str(options.durations)]
    return subprocess.run(
        [*command, *(options.labels or ["tests"])], cwd=HOME, env=environment
    ).returncode


def lint(options: argparse.Namespace) -> int:
    """Style, types, import contracts, templates, scripts, migrations, safe settings; runs all and fails if one does."""
    tools = Path(sys.executable).parent
    paths = ["src", "tests", "benchmarks", "docs"]
    steps = [
        [str(tools / "ruff"), "check", *paths],
        [str(tools / "ruff"), "format", "--check", *paths],
        [str(tools / "lint-imports"), "--no-cache"],
        [str(tools / "mypy")],
        [str(tools / "djlint"), "--lint", "--quiet", "src/hauch"],
        [str(tools / "oxlint"), "--quiet", "src"],
        [sys.executable, "-m", "hauch.ops.manage", "makemigrations", "--check", "--dry-run"],
        [sys.executable, "-m", "hauch.ops.manage", "check", "--deploy", "--fail-level=WARNING"],
    ]
    with throwaway() as environment:
        live = {k: v for k, v in environment.items() if k != "DJANGO_ALLOW_ASYNC_UNSAFE"}
        live["HAUCH_HTTPS"] = "1"
        failed = [step for step in steps if subprocess.run(step, cwd=HOME, env=live).returncode]
    for step in failed:
        print(f"hauch: failed: {' '.join(Path(part).name for part in step[:2])}", file=sys.stderr)
    return 1 if failed else 0


def benchmark(options: argparse.Namespace) -> int:
    """Benchmarks, on a database of their own."""
    arguments = ([options.name] if options.name else []) + (["--json"] if options.json else [])
    with throwaway() as environment:
        return subprocess.run(
            [sys.executable, "-m", "benchmarks", *arguments], cwd=HOME, env=environment
        ).returncode


def screenshots(options: argparse.Namespace) -> int:
    """Pictures of the main views, from the demo data."""
    script = HOME / "docs" / "screenshots" / "take.py"
    if not script.exists():
        raise CannotGoOn(f"{script} is missing.")
    with throwaway() as environment:
        return subprocess.run([sys.executable, str(script)], cwd=HOME, env=environment).returncode


def validation(options: argparse.Namespace) -> int:
    """The pages on which predictions stand against exact, published and limiting cases, and what is
    stated against simulations, computed anew.
    """
    for script in ("make.py", "calibrate.py"):
        path = HOME / "docs" / "validation" / script
        if not path.exists():
            raise CannotGoOn(f"{path} is missing.")
        code = subprocess.run(
            [sys.executable, str(path)],
            cwd=HOME,
            env={**os.environ, "PYTHONPATH": f"{HOME / 'src'}{os.pathsep}{HOME}"},
        ).returncode
        if code:
            return code
    return 0
