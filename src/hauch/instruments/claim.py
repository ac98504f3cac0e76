"""What only one program of this machine may hold at a time: a meter, a range of ports. A claim is
let go when its holder ends, however it ends.
"""

from __future__ import annotations

import hashlib
import socket
import sys


class Claimed(OSError):
    """Another program holds it."""


def claim(what: str) -> socket.socket | None:
    """Claim something by its name until the socket is closed; None where the system knows no such
    names (a socket's abstract address, Linux).

    Raises
    ------
    Claimed : somebody on this machine holds it
    """
    if sys.platform != "linux":
        return None
    held = socket.socket(socket.AF_UNIX)
    digest = hashlib.sha256(what.strip().upper().encode()).hexdigest()
    try:
        held.bind(f"\0hauch-{digest}")
    except OSError as problem:
        held.close()
        raise Claimed(f"another installation on this machine holds {what}") from problem
    return held
