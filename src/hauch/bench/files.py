"""Uploaded logs, kept unchanged under their content hash."""

from __future__ import annotations

from hauch.bench.models import SourceFile
from hauch.people.keep import keep, kept
from hauch.people.models import User


def keep_file(user: User, name: str, data: bytes) -> SourceFile:
    """Keep an uploaded file under its content hash; the same content is kept once."""
    digest, path = keep(data)
    source, _ = SourceFile.objects.get_or_create(
        sha256=digest,
        defaults={
            "name": name.replace("\\", "/").split("/")[-1][:200],
            "size": len(data),
            "path": path,
            "uploaded_by": user,
        },
    )
    return source


def file_content(source: SourceFile) -> bytes:
    """The bytes of a kept file."""
    return kept(source.path)
