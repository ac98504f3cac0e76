"""Dumps the tests' round as the version that is checked out stores it, for `tests/web/test_older.py`.

    PYTHONPATH=src .venv/bin/python tests/data/older/make.py

writes ``VERSION.sql.gz`` beside this file. Run it before the version is raised, and take the oldest
of the four away.
"""

import gzip
import os
import subprocess
import sys
from pathlib import Path

sys.path.insert(0, os.getcwd())

from hauch import __version__
from hauch.ops.cluster import binaries
from hauch.ops.development import throwaway


def main() -> None:
    """Build the round in a database of its own and dump that."""
    with throwaway() as environment:
        os.environ.update(environment)
        import django

        django.setup()
        from django.core.management import call_command
        from django.db import connection

        from tests.builder import build

        call_command("migrate", interactive=False, verbosity=0)
        build().measure_and_judge()
        connection.close()
        command = [str(binaries() / "pg_dump"), "--no-owner", "--no-privileges"]
        url = os.environ["HAUCH_DATABASE_URL"]
        dumped = subprocess.run([*command, url], check=True, capture_output=True).stdout
        out = Path(__file__).with_name(f"{__version__}.sql.gz")
        out.write_bytes(gzip.compress(dumped, 9, mtime=0))
        print(f"{out}: {out.stat().st_size:,} bytes")


if __name__ == "__main__":
    main()
