"""Files that come in pieces: a lost connection goes on where it stopped."""

from __future__ import annotations

import uuid
from datetime import timedelta
from pathlib import Path

from django.conf import settings
from django.core.exceptions import ValidationError
from django.db import transaction
from django.utils import timezone

from hauch.entries.actions import attach, may_change, safe_name
from hauch.entries.models import PartFile, Upload, Version
from hauch.formats.mesh_in import MOST_BYTES, kind_of
from hauch.people.models import User

PIECE = 2_000_000
"""Bytes of a piece that the page sends."""
MOST_PIECE = 4_000_000
MOST_OPEN = 12
"""Unfinished uploads of one person at once."""
KEPT = timedelta(days=2)
OTHERS = (".pdf", ".txt", ".md", ".csv", ".json", ".svg", ".dxf", ".png", ".jpg", ".jpeg", ".webp")
"""What may lie beside the parts: notes, drawings, pictures. Served as attachments only."""


def _folder() -> Path:
    folder = Path(settings.MEDIA_ROOT) / "uploads"
    folder.mkdir(parents=True, exist_ok=True)
    return folder


def path_of(upload: Upload) -> Path:
    """Where the pieces are gathered."""
    return _folder() / upload.key.hex


def why_not(name: str, size: int) -> str:
    """Why a file is not taken, before a single byte of it came; empty where it is."""
    if size <= 0:
        return f"{name} is empty. Export it again, and look at its size before you hand it in."
    if size > MOST_BYTES:
        return (
            f"{name} has {size / 1e6:,.0f} MB; at most {MOST_BYTES / 1e6:,.0f} MB are taken. Export"
            " it with coarser facets."
        )
    if not kind_of(name) and not name.lower().endswith(OTHERS):
        return f"{name} is neither a part (STL, 3MF, STEP) nor a note, drawing or picture."
    return ""


@transaction.atomic
def begin(user: User, version: Version, name: str, size: int) -> Upload:
    """Begin an upload, or take up the one of the same name and size that was cut off.

    Raises
    ------
    ValidationError : a file that is not taken, too many at once
    """
    if not may_change(user, version.entry):
        raise ValidationError("You may not add files to this entry.")
    name = safe_name(name)
    if problem := why_not(name, size):
        raise ValidationError(problem)
    forget_old()
    found = Upload.objects.filter(version=version, user=user, name=name, size=size).first()
    if found is not None and (found.received == 0 or path_of(found).exists()):
        return found
    if Upload.objects.filter(user=user).count() >= MOST_OPEN:
        raise ValidationError(
            f"{MOST_OPEN} of your files are still on their way. Let them arrive first."
        )
    return Upload.objects.create(version=version, user=user, name=name, size=size)


@transaction.atomic
def add_piece(
    user: User, key: uuid.UUID, start: int, data: bytes
) -> tuple[Upload, PartFile | None]:
    """Add a piece at its place; a piece that is here already changes nothing. Gives the file of the
    version once it is whole.

    Raises
    ------
    ValidationError : no such upload, a piece that does not follow, or a file that is refused
    """
    upload = (
        Upload.objects.select_for_update(of=("self",))
        .select_related("version__entry__round")
        .filter(key=key, user=user)
        .first()
    )
    if upload is None:
        raise ValidationError("This upload is finished or too old. Choose the file again.")
    if len(data) > MOST_PIECE:
        raise ValidationError(f"A piece has at most {MOST_PIECE} bytes.")
    if start != upload.received:
        return upload, None
    if start + len(data) > upload.size:
        raise ValidationError(f"{upload.name} is longer than announced. Choose the file again.")
    path = path_of(upload)
    with path.open("r+b" if path.exists() else "wb") as handle:
        handle.seek(start)
        handle.write(data)
        handle.truncate()
    upload.received = start + len(data)
    upload.save(update_fields=["received"])
    if upload.received < upload.size:
        return upload, None
    file = attach(user, upload.version, upload.name, path.read_bytes())
    upload.delete()
    transaction.on_commit(lambda: path.unlink(missing_ok=True))
    return upload, file


def forget_old() -> None:
    """Throw away what was begun and never finished."""
    for upload in Upload.objects.filter(began_at__lt=timezone.now() - KEPT)[:50]:
        path_of(upload).unlink(missing_ok=True)
        upload.delete()
