"""Time, memory and rows."""

from __future__ import annotations

import json
import resource
import statistics
import time
from collections.abc import Callable, Iterator
from dataclasses import asdict, dataclass


@dataclass(frozen=True)
class Row:
    """One measured figure; ``limit`` is what it must not exceed, ``holds`` whether it does."""

    name: str
    value: float
    unit: str
    limit: float | None
    holds: bool | None
    peak_mb: float


def row(name: str, value: float, unit: str, limit: float | None = None) -> Row:
    peak = resource.getrusage(resource.RUSAGE_SELF).ru_maxrss / 1024
    return Row(
        name,
        round(value, 4),
        unit,
        limit,
        None if limit is None else value <= limit,
        round(peak, 1),
    )


def seconds(work: Callable[[], object], times: int = 3) -> float:
    """Median wall time of a few runs after one warm-up."""
    work()
    taken = []
    for _ in range(times):
        start = time.perf_counter()
        work()
        taken.append(time.perf_counter() - start)
    return statistics.median(taken)


def stolen() -> float:
    """Seconds of processor time that the host gave to other machines since it started; 0 where it
    does not say.
    """
    try:
        with open("/proc/stat") as handle:
            return int(handle.readline().split()[8]) / 100
    except (OSError, IndexError, ValueError):
        return 0.0


def show(rows: Iterator[Row], as_json: bool) -> bool:
    """Print rows as they come; whether all limits hold."""
    good = True
    for item in rows:
        good &= item.holds is not False
        if as_json:
            print(json.dumps(asdict(item)), flush=True)
        else:
            limit = (
                ""
                if item.limit is None
                else f"  at most {item.limit:g}: {'holds' if item.holds else 'DOES NOT HOLD'}"
            )
            print(
                f"{item.name:46} {item.value:10.3f} {item.unit:8}{limit}  peak"
                f" {item.peak_mb:.0f} MB",
                flush=True,
            )
    return good
