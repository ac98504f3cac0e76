"""Runs the benchmarks; exit 1 when a limit does not hold."""

from __future__ import annotations

import argparse
import subprocess
import sys

import django

django.setup()

from django.test.runner import DiscoverRunner  # noqa: E402

from benchmarks import (  # noqa: E402
    capture,
    desk,
    faults,
    harness,
    load,
    logs,
    pages,
    parts,
    plan,
    references,
    sound,
    standings,
    traces,
    what_if,
)

BENCHMARKS = {
    "standings": standings.run,
    "logs": logs.run,
    "pages": pages.run,
    "references": references.run,
    "desk": desk.run,
    "parts": parts.run,
    "plan": plan.run,
    "traces": traces.run,
    "sound": sound.run,
    "what_if": what_if.run,
    "capture": capture.run,
    "faults": faults.run,
    "load": load.run,
}


def main() -> int:
    parser = argparse.ArgumentParser(prog="./hauch benchmark")
    parser.add_argument("name", nargs="?", choices=sorted(BENCHMARKS))
    parser.add_argument("--json", action="store_true")
    options = parser.parse_args()
    if options.name is None:
        # A process for each, so that the peak of one is not the other's.
        flags = ["--json"] if options.json else []
        return max(
            subprocess.run([sys.executable, "-m", "benchmarks", name, *flags]).returncode
            for name in BENCHMARKS
        )
    runner = DiscoverRunner(verbosity=0, interactive=False)
    databases = runner.setup_databases()
    try:
        good = harness.show(BENCHMARKS[options.name](), options.json)
    finally:
        runner.teardown_databases(databases)
    return 0 if good else 1


if __name__ == "__main__":
    sys.exit(main())
