"""Files under their content hash: the same content is kept once and never changed."""

from __future__ import annotations

import hashlib
import os
import tempfile
from collections.abc import Iterable
from contextlib import suppress
from pathlib import Path

from django.core.files.base import File
from django.core.files.storage import default_storage


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
    if not place.exists():
        place.parent.mkdir(parents=True, exist_ok=True)
        _write(place, data)
    return digest, path


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


def kept(path: str) -> bytes:
    """The bytes at a path."""
    return place_of(path).read_bytes()


def place_of(path: str) -> Path:
    """Where what is kept at a path lies on the disk.

    Raises
    ------
    SuspiciousFileOperation : the path leads out of the folder
    """
    return Path(default_storage.path(path))
