"""Processes that tests start beside themselves: roles of an installation on the tests' own
database.
"""

from __future__ import annotations

import os
from urllib.parse import quote

from django.db import connection


def database_url() -> str:
    """The tests' database, as other processes are told of it."""
    db = connection.settings_dict
    return (
        f"postgresql://{db['USER']}:{quote(db['PASSWORD'])}@{db['HOST']}:{db['PORT']}/{db['NAME']}"
    )


def seconds_on_this_machine(quiet: float) -> float:
    """A limit that holds where every process gets a core, longer by how many wait for one: what a
    recorder does in a second takes it three where three share its core.
    """
    waiting = os.getloadavg()[0] / (os.cpu_count() or 1)
    return quiet * max(1.0, 2 * waiting)


def environment(**more: str) -> dict[str, str]:
    """The environment of such a process."""
    return {**os.environ, "HAUCH_DATABASE_URL": database_url(), "HAUCH_POOL": "0", **more}
