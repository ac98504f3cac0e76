"""Uploaded files, kept unchanged under their content hash."""

from __future__ import annotations

import hashlib

from django.core.files.base import ContentFile
from django.core.files.storage import default_storage

from hauch.bench.models import SourceFile
from hauch.people.models import User


def keep_file(user: User, name: str, data: bytes) -> SourceFile:
    """Keep an uploaded file under its content hash; the same content is kept once."""
    digest = hashlib.sha256(data).hexdigest()
    path = f"{digest[:2]}/{digest}"
    if not default_storage.exists(path):
        default_storage.save(path, ContentFile(data))
    source, _ = SourceFile.objects.get_or_create(
        sha256=digest, defaults={"name": name.replace("\\", "/").split("/")[-1][:200], "size": len(data), "path": path, "uploaded_by": user}
    )
    return source


def file_content(source: SourceFile) -> bytes:
    """The bytes of a kept file."""
    with default_storage.open(source.path, "rb") as handle:
        return handle.read()
