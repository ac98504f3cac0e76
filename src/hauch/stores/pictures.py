"""Pictures: read with suspicion, written anew without anything but the picture."""

from __future__ import annotations

import io
import warnings

from django.core.exceptions import ValidationError
from PIL import Image, ImageOps, UnidentifiedImageError

from hauch.people.keep import keep
from hauch.people.models import User
from hauch.stores.models import Picture

MOST_BYTES = 20_000_000
MOST_PIXELS = 60_000_000
LONG_SIDE = 1600
FORMATS = ("JPEG", "PNG", "WEBP")


def clean_picture(data: bytes) -> tuple[bytes, int, int]:
    """A picture written anew as JPEG, turned upright, at most `LONG_SIDE` long, without place or
    camera; with its size.

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
        with warnings.catch_warnings():
            warnings.simplefilter("error", Image.DecompressionBombWarning)
            opened = Image.open(io.BytesIO(data), formats=FORMATS)
            if opened.width * opened.height > MOST_PIXELS:
                raise ValidationError(
                    {
                        "picture": (
                            f"The picture has {opened.width} x {opened.height} points; that is too"
                            " many. Make it smaller."
                        )
                    }
                )
            image = ImageOps.exif_transpose(opened).convert("RGB")
    except (
        UnidentifiedImageError,
        OSError,
        SyntaxError,
        ValueError,
        Image.DecompressionBombError,
        Image.DecompressionBombWarning,
    ) as problem:
        raise ValidationError(
            {"picture": "The file is no picture that can be read. Send a JPEG, PNG or WebP."}
        ) from problem
    image.thumbnail((LONG_SIDE, LONG_SIDE))
    out = io.BytesIO()
    image.save(out, "JPEG", quality=85)
    return out.getvalue(), image.width, image.height


def keep_picture(user: User, data: bytes) -> Picture:
    """Keep a picture; the same one is kept once."""
    clean, width, height = clean_picture(data)
    digest, path = keep(clean)
    picture, _ = Picture.objects.get_or_create(
        sha256=digest, defaults={"path": path, "width": width, "height": height, "added_by": user}
    )
    return picture
