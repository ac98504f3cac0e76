"""./hauch standins: simulated meters until Ctrl-C."""

from __future__ import annotations

import argparse
import asyncio
from contextlib import suppress

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
    try:
        with suppress(KeyboardInterrupt):
            asyncio.run(
                run(
                    options.benches,
                    options.rate,
                    options.first_port,
                    lambda text: print(text, flush=True),
                )
            )
    except OSError as problem:
        raise CannotGoOn(
            f"A port from {options.first_port} on is in use ({problem.strerror}). Choose others"
            " with --first-port."
        ) from problem
    return 0
