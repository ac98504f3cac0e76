"""Read by each Python process that has this folder in PYTHONPATH: a clock that jumps as a file says.

The file holds how many seconds it is ahead of the machine's. Time that only counts on (monotonic)
is left alone, as it is when somebody sets a clock.
"""

from __future__ import annotations

import os
import sys
import threading
import time
from datetime import datetime, timedelta
from pathlib import Path

import time_machine

LOOKED_EVERY = 0.05


def follow(file: Path) -> None:
    """Set the clock whenever the file says something else."""
    now, travel = 0.0, None
    while True:
        with_file = file.read_text().strip()
        ahead = float(with_file or now)
        if ahead != now:
            if travel is not None:
                travel.stop()
                travel = None
            if ahead:
                there = datetime.now().astimezone() + timedelta(seconds=ahead)
                travel = time_machine.travel(there, tick=True)
                travel.start()
            now = ahead
        time.sleep(LOOKED_EVERY)


# Meters have clocks of their own, which nobody sets.
if "standins" not in sys.orig_argv and (told := os.environ.get("HAUCH_BENCHMARK_CLOCK")):
    threading.Thread(target=follow, args=(Path(told),), daemon=True).start()
