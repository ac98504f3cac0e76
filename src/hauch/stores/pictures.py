"""Pictures that are kept."""

from __future__ import annotations

from django.core.exceptions import ValidationError

from hauch.formats.apart import Broke, Died, Refused, apart
from hauch.formats.picture import LIMITS, MOST_BYTES, clean
from hauch.people.keep import keep
from hauch.people.models import User
from hauch.stores.models import Picture


def clean_picture(data: bytes) -> tuple[bytes, int, int]:
    """A picture as it is kept (`formats.picture`), with its size.

    Raises
    ------
    ValidationError : no picture, damaged, or too large
    """
    if len(data) > MOST_BYTES:
        raise ValidationError(
            {
                "picture": (
                    f"The picture has {len(data) / 1e6:.0f} MB; at most {MOST_BYTES / 1e6:.0f} MB"
                    " are read. Make it smaller."
                )
            }
        )
    try:
        made, blobs = apart(clean, data, tell=lambda stage: True, limits=LIMITS)
    except Refused as problem:
        raise ValidationError({"picture": str(problem)}) from problem
    except (Died, Broke) as problem:
        raise ValidationError(
            {"picture": "The picture could not be read. Save it anew as JPEG or PNG."}
        ) from problem
    return blobs["picture"], made["width"], made["height"]


def keep_picture(user: User, data: bytes) -> Picture:
    """Keep a picture; the same one is kept once."""
    clean, width, height = clean_picture(data)
    digest, path = keep(clean)
    picture, _ = Picture.objects.get_or_create(
        sha256=digest, defaults={"path": path, "width": width, "height": height, "added_by": user}
    )
    return picture
