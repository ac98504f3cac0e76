"""What a meter's VISA resource name may be: an instrument, and neither a file nor a service of this
machine.

References
----------
VPP-4.3 (VISA library), section 4.3.1, resource names.
"""

from __future__ import annotations

import ipaddress
import re
import socket

FORMS = (
    re.compile(
        r"TCPIP\d*::(?P<host>[A-Za-z0-9._-]{1,253}|\[[0-9A-Fa-f:.]+\])::(?P<port>\d{1,5})::SOCKET"
    ),
    re.compile(
        r"TCPIP\d*::(?P<host>[A-Za-z0-9._-]{1,253}|\[[0-9A-Fa-f:.]+\])(::[A-Za-z0-9]{1,20}(,\d+)?)?(::INSTR)?"
    ),
    re.compile(
        r"ASRL(/dev/tty[A-Za-z]{1,8}\d{1,3}|/dev/serial/by-id/[A-Za-z0-9._:-]+|COM\d+|\d+)(::INSTR)?"
    ),
    re.compile(r"GPIB\d*(::\d{1,2}){1,2}(::INSTR)?"),
    re.compile(
        r"USB\d*::0x[0-9A-Fa-f]{4}::0x[0-9A-Fa-f]{4}::[A-Za-z0-9._-]+(::\d+)?(::(INSTR|RAW))?"
    ),
)


def problem_of(resource: str, *, here: bool) -> str:
    """Why a resource name cannot be a meter's; empty where it can.

    Parameters
    ----------
    here : whether services of this machine may be meters, such as simulated ones
    """
    found = next((m for form in FORMS if (m := form.fullmatch(resource)) is not None), None)
    if found is None:
        return (
            "This is no VISA resource name of an instrument, such as TCPIP0::192.168.1.20::5025::SOCKET,"
            " ASRL/dev/ttyUSB0::INSTR or GPIB0::12::INSTR."
        )
    parts = found.groupdict()
    if (port := parts.get("port")) and not 0 < int(port) < 65536:
        return "A port lies between 1 and 65535."
    host = parts.get("host")
    if host and not here and _is_here(host.strip("[]")):
        return (
            "This is an address of this machine, where no instrument is. Whoever keeps the"
            " installation can allow it (HAUCH_LOCAL_METERS=1)."
        )
    return ""


def _is_here(host: str) -> bool:
    """Whether a host is this machine, as far as can be told, or one that no instrument can have."""
    try:
        found = {ipaddress.ip_address(host)}
    except ValueError:
        try:
            found = {
                ipaddress.ip_address(str(one[4][0]).partition("%")[0])
                for one in socket.getaddrinfo(host, None, type=socket.SOCK_STREAM)
            }
        except (OSError, UnicodeError):
            return host.lower().rstrip(".") in {"localhost", "localhost.localdomain"}
    return any(
        one.is_loopback or one.is_unspecified or one.is_link_local or one.is_multicast
        or getattr(one, "ipv4_mapped", None) is not None
        for one in found
    )  # fmt: skip
