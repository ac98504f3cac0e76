"""Whether a worker is there that does what pages left to it."""

from __future__ import annotations

from django.db import connection

GONE_AFTER = 25.0
"""Seconds without a heartbeat after which a worker counts as gone (it beats every 10 s)."""


def worker_heard() -> float | None:
    """Seconds since a worker was last heard of; None where there is none.

    Raises
    ------
    DatabaseError : the database does not answer
    """
    with connection.cursor() as cursor:
        cursor.execute(
            "select extract(epoch from now() - max(last_heartbeat)) from procrastinate_workers"
        )
        row = cursor.fetchone()
    return None if row is None or row[0] is None else float(row[0])


def worker_away() -> bool:
    """Whether nobody works at the moment."""
    heard = worker_heard()
    return heard is None or heard > GONE_AFTER
