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


def environment(**more: str) -> dict[str, str]:
    """The environment of such a process."""
    return {**os.environ, "HAUCH_DATABASE_URL": database_url(), "HAUCH_POOL": "0", **more}
