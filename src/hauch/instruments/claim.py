"""What only one installation of this machine may hold at a time: a meter, a range of ports. A claim
is let go when its holder ends, however it ends; processes of one installation may hold the same, so
that a recorder which hangs keeps no other from taking its benches over.

Claims are names of sockets (abstract addresses, Linux), which each process sees in /proc/net/unix.
"""

from __future__ import annotations

import hashlib
import itertools
import os
import socket
import sys
from pathlib import Path

NAMES = Path("/proc/net/unix")
_counts = itertools.count()


class Claimed(OSError):
    """Another installation holds it."""


def installation() -> str:
    """What all processes of an installation have in common and no other has."""
    return _digest(os.environ.get("HAUCH_SECRET_KEY", ""))


def claim(what: str, owner: str = "") -> socket.socket | None:
    """Claim something by its name until the socket is closed; None where the system knows no such
    names.

    Parameters
    ----------
    owner : whose other claims of the same do not matter; empty: nobody's

    Raises
    ------
    Claimed : somebody else on this machine holds it
    """
    if sys.platform != "linux":
        return None
    mine = owner or _digest(f"{os.getpid()} {next(_counts)}")
    prefix = f"hauch-{_digest(what.strip().upper())}-"
    if _others(prefix, mine):
        raise _refusal(what)
    held = socket.socket(socket.AF_UNIX)
    held.bind(f"\0{prefix}{mine}-{os.getpid()}-{next(_counts)}")
    if any(other < mine for other in _others(prefix, mine)):  # of two at once, one
        held.close()
        raise _refusal(what)
    return held


def _others(prefix: str, mine: str) -> set[str]:
    """Who else holds it."""
    try:
        names = NAMES.read_text(errors="replace")
    except OSError:
        return set()
    found = (line.rpartition(f"@{prefix}")[2] for line in names.splitlines() if prefix in line)
    return {name.partition("-")[0] for name in found} - {mine}


def _refusal(what: str) -> Claimed:
    return Claimed(f"another installation on this machine holds {what}")


def _digest(text: str) -> str:
    return hashlib.sha256(text.encode()).hexdigest()[:24]
