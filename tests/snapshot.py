"""A round put back quickly for each test that needs a database of its own: its rows are copied out
once a process, and in again by each test.
"""

from __future__ import annotations

from collections.abc import Callable
from copy import deepcopy
from typing import Any

from django.apps import apps
from django.core.management.color import no_style
from django.db import connection, transaction


class Snapshot:
    """What ``make`` put into the database, and what it gave back.

    Django empties tables between tests without beginning their numbers anew, and tests of migrations
    make tables anew, with numbers from one: they go on after the rows that are put in.
    """

    def __init__(self, make: Callable[[], Any]):
        before = filled()
        self.made = make()
        self.rows = {table: copied(table) for table in sorted(filled() - before)}

    def restore(self) -> None:
        """Put all rows in again; constraints are checked at the end."""
        with transaction.atomic(), connection.cursor() as cursor:
            for table, (columns, data) in self.rows.items():
                with cursor.copy(f'COPY "{table}" ({columns}) FROM STDIN') as copy:
                    copy.write(data)
            models = apps.get_models(include_auto_created=True)
            put_in = [model for model in models if model._meta.db_table in self.rows]
            cursor.execute("".join(connection.ops.sequence_reset_sql(no_style(), put_in)))


def filled() -> set[str]:
    """Tables that have rows."""
    with connection.cursor() as cursor:
        names = connection.introspection.django_table_names(only_existing=True, include_views=False)
        return {
            name
            for name in names
            if cursor.execute(f'SELECT EXISTS (SELECT 1 FROM "{name}")').fetchone()[0]
        }


def copied(table: str) -> tuple[str, bytes]:
    """The columns of a table, and all its rows, as PostgreSQL copies them. Tests of migrations make
    columns anew, which then stand elsewhere.
    """
    with connection.cursor() as cursor:
        cursor.execute(f'SELECT * FROM "{table}" LIMIT 0')
        columns = ", ".join(f'"{one.name}"' for one in cursor.description)
        with cursor.copy(f'COPY "{table}" ({columns}) TO STDOUT') as copy:
            return columns, b"".join(bytes(part) for part in copy)


taken: dict[Any, Snapshot] = {}


def once(key: Any, make: Callable[[], Any]) -> Any:
    """What ``make`` makes in the database: made the first time, put back from then on. What it
    gives is a copy for each test.
    """
    if key in taken:
        taken[key].restore()
    else:
        taken[key] = Snapshot(make)
    return deepcopy(taken[key].made)
