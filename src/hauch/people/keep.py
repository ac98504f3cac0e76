"""Files under their content hash: the same content is kept once and never changed."""

from __future__ import annotations

import hashlib

from django.core.files.base import ContentFile
from django.core.files.storage import default_storage


def keep(data: bytes) -> tuple[str, str]:
    """Keep bytes; gives their SHA-256 and path."""
    digest = hashlib.sha256(data).hexdigest()
    path = f"{digest[:2]}/{digest}"
    if not default_storage.exists(path):
        default_storage.save(path, ContentFile(data))
    return digest, path


def kept(path: str) -> bytes:
    """The bytes at a path."""
    with default_storage.open(path, "rb") as handle:
        return handle.read()
