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


class Machine:
    """How much slower than a quiet one this machine has been since this was made: what a recorder
    does in a second takes it three where three share its core, and three where another machine on
    the same host takes two thirds of each core.
    """

    def __init__(self) -> None:
        self.busy, self.stolen = self._ticks()

    @staticmethod
    def _ticks() -> tuple[int, int]:
        with open("/proc/stat", encoding="ascii") as file:
            user, nice, system, _, _, irq, softirq, steal, *_ = map(
                int, file.readline().split()[1:]
            )
        return user + nice + system + irq + softirq, steal

    def seconds(self, quiet: float) -> float:
        """A limit [s] that is ``quiet`` where every process gets a whole core."""
        busy, stolen = self._ticks()
        worked = max(busy - self.busy, 1)
        waiting = os.getloadavg()[0] / (os.cpu_count() or 1)
        return quiet * max(1.0, 2 * waiting) * (1 + (stolen - self.stolen) / worked)


def environment(**more: str) -> dict[str, str]:
    """The environment of such a process."""
    return {**os.environ, "HAUCH_DATABASE_URL": database_url(), "HAUCH_POOL": "0", **more}
