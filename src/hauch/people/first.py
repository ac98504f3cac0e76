"""The first people of an installation; passwords are made here and kept in a file that only its
owner reads.
"""

from __future__ import annotations

import os
import secrets
from pathlib import Path

from django.db import transaction

from hauch.people.models import User

DEMO_PEOPLE = {
    "runa": ("Runa", "host of the demo rounds, keeps the installation"),
    "odo": ("Odo", "bench operator"),
    "alma": ("Alma", "designer of two entries"),
    "veit": ("Veit", "viewer"),
}


def add_person(username: str, name: str, *, staff: bool = False) -> str:
    """Make a person and return the password."""
    password = "-".join(secrets.token_hex(2) for _ in range(4))
    User.objects.create_user(
        username=username, password=password, first_name=name, is_staff=staff, is_superuser=staff
    )
    return password


@transaction.atomic
def first_people(folder: Path, *, demo: bool) -> None:
    """Make the demo's people, or one host, in an installation that has none."""
    if User.objects.exists():
        return
    people = DEMO_PEOPLE if demo else {"host": ("Host", "keeps the installation")}
    lines = []
    for index, (username, (name, what)) in enumerate(people.items()):
        lines.append(f"{username:8} {add_person(username, name, staff=index == 0)}   {what}")
    descriptor = os.open(folder / "logins", os.O_WRONLY | os.O_CREAT | os.O_TRUNC, 0o600)
    with os.fdopen(descriptor, "w") as handle:
        handle.write("\n".join(lines) + "\n")
