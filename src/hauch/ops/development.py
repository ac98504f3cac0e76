"""Tests, lint, benchmarks and screenshots, on clusters of their own that are thrown away afterwards."""

from __future__ import annotations

import argparse
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
        yield {
            **os.environ, **cluster.environment(), "HAUCH_DATA": str(folder), "HAUCH_SECRET_KEY": secrets.token_urlsafe(40), "HAUCH_TESTING": "1",
            "DJANGO_SETTINGS_MODULE": "hauch.web.settings", "DJANGO_ALLOW_ASYNC_UNSAFE": "1",
            "PYTHONPATH": os.pathsep.join([str(HOME / "src"), str(HOME)]),
        }  # fmt: skip
    finally:
        cluster.stop()
        shutil.rmtree(folder, ignore_errors=True)


def test(options: argparse.Namespace) -> int:
    """All tests: core, formats, web and browser."""
    with throwaway() as environment:
        command = [
            sys.executable,
            "-m",
            "hauch.ops.manage",
            "test",
            "--no-input",
            *([] if options.labels else ["--parallel", "2"]),
            *(options.labels or ["tests"]),
        ]
        return subprocess.run(command, cwd=HOME, env=environment).returncode


def lint(options: argparse.Namespace) -> int:
    """Style, types, import contracts, templates, migrations; runs all and fails if one does."""
    tools = Path(sys.executable).parent
    paths = ["src", "tests", "benchmarks", "docs"]
    steps = [
        [str(tools / "ruff"), "check", *paths],
        [str(tools / "ruff"), "format", "--check", *paths],
        [str(tools / "lint-imports"), "--no-cache"],
        [str(tools / "mypy")],
        [str(tools / "djlint"), "--lint", "--quiet", "src/hauch"],
        [sys.executable, "-m", "hauch.ops.manage", "makemigrations", "--check", "--dry-run"],
    ]
    with throwaway() as environment:
        failed = [step for step in steps if subprocess.run(step, cwd=HOME, env=environment).returncode]
    for step in failed:
        print(f"hauch: failed: {' '.join(Path(part).name for part in step[:2])}", file=sys.stderr)
    return 1 if failed else 0


def benchmark(options: argparse.Namespace) -> int:
    """Benchmarks, on a database of their own."""
    arguments = ([options.name] if options.name else []) + (["--json"] if options.json else [])
    with throwaway() as environment:
        return subprocess.run([sys.executable, "-m", "benchmarks", *arguments], cwd=HOME, env=environment).returncode


def screenshots(options: argparse.Namespace) -> int:
    """Pictures of the main views, from the demo data."""
    script = HOME / "docs" / "screenshots" / "take.py"
    if not script.exists():
        raise CannotGoOn(f"{script} is missing.")
    with throwaway() as environment:
        return subprocess.run([sys.executable, str(script)], cwd=HOME, env=environment).returncode


def validation(options: argparse.Namespace) -> int:
    """The page on which predictions stand against exact, published and limiting cases, computed anew."""
    script = HOME / "docs" / "validation" / "make.py"
    if not script.exists():
        raise CannotGoOn(f"{script} is missing.")
    return subprocess.run([sys.executable, str(script)], cwd=HOME, env={**os.environ, "PYTHONPATH": str(HOME / "src")}).returncode
