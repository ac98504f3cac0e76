"""Files under their content hash: the same content is kept once and never changed. What no row
names, such as the files of an import that broke off, is taken away after two days.
"""

from __future__ import annotations

import hashlib
import os
import re
import tempfile
from collections.abc import Iterable
from contextlib import suppress
from pathlib import Path
from typing import Any

from django.apps import apps
from django.core.files.base import File
from django.core.files.storage import default_storage
from django.db import models

LONELY = 2 * 24 * 3600
"""For so long [s] a file may wait for the row that will name it."""
PLACE = re.compile(r"([0-9a-f]{2})/(\1[0-9a-f]{62}|\.coming-[^/]+)")
"""Of a kept file, and of one that a process was killed over."""


class KeptPath(models.CharField):
    """A column that names a kept file. Every such column must be one: what none names goes."""

    def __init__(self, *args: Any, **kwargs: Any):
        super().__init__(*args, **{"max_length": 200} | kwargs)

    def deconstruct(self) -> Any:
        """To the database it is text."""
        name, _, args, kwargs = super().deconstruct()
        return name, "django.db.models.CharField", args, kwargs


def keep(data: bytes | File) -> tuple[str, str]:
    """Keep bytes, or a file that came in; gives their SHA-256 and path.

    It stands under its name only when all of it is on the disk: a process that is killed, or a disk
    that is full, leaves nothing that looks like it.
    """
    found = hashlib.sha256()
    for block in _blocks(data):
        found.update(block)
    digest = found.hexdigest()
    path = f"{digest[:2]}/{digest}"
    place = place_of(path)
    try:
        os.utime(place)  # somebody is about to name it (again)
    except FileNotFoundError:
        place.parent.mkdir(parents=True, exist_ok=True)
        _write(place, data)
    return digest, path


def named() -> set[str]:
    """Paths that rows name, of all kinds."""
    return {
        path
        for model in apps.get_models()
        for field in model._meta.local_fields
        if isinstance(field, KeptPath)
        for path in model._base_manager.values_list(field.name, flat=True).iterator()
    }


def sweep(now: float) -> int:
    """Take files away that no row names and nobody has kept again since `LONELY`; how many.

    Parameters
    ----------
    now : seconds since 1970
    """
    root = place_of("")
    old = [path for path in root.glob("??/*") if _kept_before(path, now - LONELY)]
    rows = named() if old else set()
    gone = 0
    for path in old:
        inside = path.relative_to(root).as_posix()
        if (
            PLACE.fullmatch(inside)
            and inside not in rows
            and _kept_before(path, now - LONELY)  # nobody has kept it again meanwhile
        ):
            path.unlink(missing_ok=True)
            gone += 1
    return gone


def _kept_before(path: Path, moment: float) -> bool:
    """Whether a file was last kept before a moment; not where it has just got its own name."""
    try:
        return path.stat().st_mtime < moment
    except FileNotFoundError:
        return False


def _write(place: Path, data: bytes | File) -> None:
    handle, name = tempfile.mkstemp(dir=place.parent, prefix=".coming-")
    try:
        with os.fdopen(handle, "wb") as out:
            for block in _blocks(data):
                out.write(block)
            out.flush()
            os.fsync(out.fileno())
        os.replace(name, place)
    except BaseException:
        with suppress(FileNotFoundError):
            os.unlink(name)
        raise


def _blocks(data: bytes | File) -> Iterable[bytes]:
    return (data,) if isinstance(data, bytes) else data.chunks()


def read_kept(path: str) -> bytes:
    """The bytes at a path."""
    return place_of(path).read_bytes()


def place_of(path: str) -> Path:
    """Where what is kept at a path lies on the disk.

    Raises
    ------
    SuspiciousFileOperation : the path leads out of the folder
    """
    return Path(default_storage.path(path))
