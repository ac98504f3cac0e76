"""./hauch standins: simulated meters until Ctrl-C."""

from __future__ import annotations

import argparse
import asyncio
from contextlib import suppress
from pathlib import Path

from hauch.demo.fans import fans
from hauch.instruments.faults import SHIPPED, Fault, ScriptWrong, play, read_script
from hauch.instruments.standins import PER_BENCH, run
from hauch.ops.errors import CannotGoOn


def standins(options: argparse.Namespace) -> int:
    """Serve the meters of some benches."""
    last = options.first_port + PER_BENCH * options.benches
    if not (
        1 <= options.benches <= 50
        and options.first_port >= 1024
        and last <= 65_535
        and 1 <= options.rate <= 1000
    ):
        raise CannotGoOn(
            "Take 1 to 50 benches, ports from 1024 on and 1 to 1,000 samples a second."
        )
    script: list[Fault] = []
    if options.faults is not None:
        path = Path(options.faults) if options.faults else SHIPPED
        try:
            script = read_script(path.read_text(encoding="utf-8"), options.benches)
        except (OSError, UnicodeDecodeError, ScriptWrong) as problem:
            raise CannotGoOn(f"{path.name} is no script of faults. {problem}") from problem
    try:
        with suppress(KeyboardInterrupt):
            asyncio.run(
                run(
                    options.benches,
                    options.rate,
                    options.first_port,
                    lambda text: print(text, flush=True),
                    (lambda benches, say: play(script, benches, say)) if script else None,
                    fans(),
                )
            )
    except OSError as problem:
        raise CannotGoOn(
            f"A port from {options.first_port} on is in use ({problem.strerror}). Choose others"
            " with --first-port."
        ) from problem
    return 0
