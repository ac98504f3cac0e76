"""Uploaded logs, kept unchanged under their content hash."""

from __future__ import annotations

from pathlib import Path

from django.core.files.base import File

from hauch.bench.models import SourceFile
from hauch.people.keep import keep, place_of
from hauch.people.models import User


def keep_file(user: User, name: str, data: bytes | File) -> SourceFile:
    """Keep an uploaded file under its content hash; the same content is kept once."""
    digest, path = keep(data)
    source, _ = SourceFile.objects.get_or_create(
        sha256=digest,
        defaults={
            "name": name.replace("\\", "/").split("/")[-1][:200],
            "size": len(data) if isinstance(data, bytes) else data.size,
            "path": path,
            "uploaded_by": user,
        },
    )
    return source


def file_place(source: SourceFile) -> Path:
    """Where a kept file lies."""
    return place_of(source.path)
