"""The time that a live recording goes by: counted on from its beginning, whatever becomes of the clock
on the wall. A clock that is set, by hand or by a time server, must neither tear a gap into a
recording nor write a stretch over another.

References
----------
clock_gettime(2): CLOCK_BOOTTIME goes on while the machine sleeps and is never set; it is the same
for all processes since the machine was started, which boot_id tells.
"""

from __future__ import annotations

import time
from functools import cache
from pathlib import Path


@cache
def boot() -> str:
    """Since which start of which machine it is counted; empty where that is not told."""
    try:
        return Path("/proc/sys/kernel/random/boot_id").read_text(encoding="ascii").strip()
    except OSError:
        return ""


def counted() -> float:
    """Seconds since the machine was started."""
    return time.clock_gettime(time.CLOCK_BOOTTIME)
