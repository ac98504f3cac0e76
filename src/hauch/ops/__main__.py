"""The commands of ./hauch."""

from __future__ import annotations

import argparse
import sys
from collections.abc import Callable
from pathlib import Path

from hauch.ops.errors import CannotGoOn

DEVELOPMENT = frozenset({"test", "lint", "screenshots", "benchmark", "validation"})
"""Commands that need the development packages; ./hauch installs them for these."""


def _port(text: str) -> int:
    """A port that programs may listen on."""
    if not text.isascii() or not text.isdigit() or not 1 <= int(text[:9]) <= 65535:
        raise argparse.ArgumentTypeError(f"“{text[:20]}” is no port; one lies between 1 and 65535")
    return int(text)


def parser() -> argparse.ArgumentParser:
    """All commands and their options."""
    top = argparse.ArgumentParser(
        prog="./hauch", description="Compare printed parts that move air on a test bench."
    )
    commands = top.add_subparsers(dest="command", required=True)

    def add(name: str, text: str) -> argparse.ArgumentParser:
        command = commands.add_parser(name, help=text, description=text)
        command.add_argument(
            "--data",
            type=Path,
            help="data folder (default: /var/lib/hauch as root, else ~/.local/share/hauch)",
        )
        return command

    run = add("start", "Start database, web server and worker, and load the demo once.")
    run.add_argument("--port", type=_port, help="web port (default: 8440, or the next free one)")
    run.add_argument("--no-demo", action="store_true", help="leave the demo out")
    work = add(
        "dev",
        "Run it for those who work on it: reload of code, templates and styles, pages that show"
        " what went wrong, the demo.",
    )
    work.add_argument("--port", type=_port, help="web port (default: 8440, or the next free one)")
    test = add(
        "test", "Run all tests on a cluster of their own, or some on one whose database is kept."
    )
    test.add_argument("labels", nargs="*", help="tests to run, such as tests.core")
    test.add_argument(
        "--fresh",
        action="store_true",
        help="make the kept database anew, such as after a migration was edited",
    )
    test.add_argument(
        "--parallel",
        metavar="N",
        help="processes, or auto (default: as many as cores for all tests, 1 for some)",
    )
    test.add_argument("--durations", type=int, metavar="N", help="tell the slowest tests")
    add("lint", "Check style, types, imports, templates and migrations.")
    bench = add("benchmark", "Measure against plain library calls on the same data.")
    bench.add_argument("name", nargs="?", help="one benchmark")
    bench.add_argument("--json", action="store_true", help="one JSON object a line")
    add("screenshots", "Refresh docs/screenshots from the demo data.")
    add(
        "validation",
        "Compute docs/validation.md and docs/calibration.md with their plots anew: predictions"
        " against exact, published and limiting cases; what is stated, by simulation.",
    )
    meters = add("standins", "Start simulated meters on loopback, which speak SCPI over TCP.")
    meters.add_argument("--benches", type=int, default=1, help="how many benches of meters")
    meters.add_argument("--first-port", type=_port, default=15_140, help="port of the first meter")
    meters.add_argument("--rate", type=float, default=50.0, help="samples a second of each meter")
    meters.add_argument(
        "--faults",
        nargs="?",
        const="",
        metavar="FILE",
        help="make things go wrong by a script; without a file every fault, one after the other",
    )
    add("recorder", "Record what the meters show; start it where they are. ./hauch start runs two.")
    pages = add("web", "Serve pages, as one role of an installation on several hosts.")
    pages.add_argument(
        "--host",
        default="127.0.0.1",
        help=(
            "address to listen on (default: 127.0.0.1; put a proxy that ends TLS before any other)"
        ),
    )
    pages.add_argument("--port", type=_port, help="port (default: 8440)")
    pages.add_argument("--processes", type=int, default=2)
    add("worker", "Do background work, as one role of an installation on several hosts.")
    _keeping(add)
    manage = add("manage", "Run one of Django's own commands.")
    manage.add_argument("arguments", nargs=argparse.REMAINDER)
    return top


def _keeping(add: Callable[[str, str], argparse.ArgumentParser]) -> None:
    """Commands of whoever keeps an installation."""
    again = add("recompute", "Compute all results again from the raw readings.")
    again.add_argument(
        "--check", action="store_true", help="only report; exit 1 if a digit differs"
    )
    out = add("export", "Write a round to a ZIP file.")
    out.add_argument("round", help="short name of the round, as in its address")
    out.add_argument("file", type=Path)
    back = add("import", "Read a round from a ZIP file.")
    back.add_argument("file", type=Path)
    whole = add("backup", "Write the whole installation to one file, while it runs.")
    whole.add_argument("file", type=Path)
    add("doctor", "Tell how the installation is, and what to do; exit 1 where there is something.")
    add("nightly", "Write a backup into HAUCH_BACKUPS, read it through, take outdated ones away.")
    again = add("restore", "Make an installation of a backup, in an empty data folder.")
    again.add_argument("file", type=Path, help="a backup, or the folder of an archive")
    again.add_argument(
        "--at",
        metavar="MOMENT",
        help="of an archive: as it was then, such as '2026-11-29 14:05' (default: the last moment)",
    )
    again.add_argument(
        "--check",
        action="store_true",
        help="only try it: restore it aside, count all rows and recompute all results",
    )
    minute = add(
        "archive", "Keep the database's log and all files beside it, to go back to any minute."
    )
    minute.add_argument("folder", type=Path, nargs="?", help="an empty folder, on another disk")
    minute.add_argument("--off", action="store_true", help="archive no longer")
    add("archiving", "Keep the archive until Ctrl-C; ./hauch start does where there is one.")
    person = add("adduser", "Make a person, and print the password.")
    person.add_argument("username")
    person.add_argument("--staff", action="store_true", help="may import rounds and manage people")


def main() -> int:
    """Run one command; troubles come out as one sentence."""
    options = parser().parse_args()
    try:
        if options.command == "start":
            from hauch.ops.start import start

            start(options.data, options.port, not options.no_demo)
            return 0
        if options.command == "dev":
            from hauch.ops.start import dev

            dev(options.data, options.port)
            return 0
        if options.command in DEVELOPMENT:
            from hauch.ops import development

            return int(getattr(development, options.command)(options))
        if options.command == "standins":
            from hauch.ops.meters import standins

            return standins(options)
        from hauch.ops import maintenance

        return int(getattr(maintenance, options.command.replace("import", "import_"))(options))
    except CannotGoOn as trouble:
        print(f"hauch: {trouble}", file=sys.stderr)
        return 1


if __name__ == "__main__":
    sys.exit(main())
