"""Pictures: read with suspicion, written anew without anything but the picture. It is work for a
child process.
"""

from __future__ import annotations

import io
import warnings
from collections.abc import Callable

from PIL import Image, ImageOps, UnidentifiedImageError

from hauch.formats import apart
from hauch.formats.apart import Refused

MOST_BYTES = 20_000_000
MOST_PIXELS = 60_000_000
LONG_SIDE = 1600
FORMATS = ("JPEG", "PNG", "WEBP")
LIMITS = apart.Limits(memory=2 * apart.GIB, processor=60, seconds=300.0)

apart.preload(__name__)


def clean(tell: Callable[[int], None], data: bytes) -> apart.Made:
    """A picture written anew as JPEG, turned upright, at most `LONG_SIDE` long, without place or
    camera.

    Returns
    -------
    its ``width`` and ``height``, and under ``picture`` its bytes

    Raises
    ------
    Refused : no picture, damaged, or too large
    """
    try:
        with warnings.catch_warnings():
            warnings.simplefilter("error", Image.DecompressionBombWarning)
            opened = Image.open(io.BytesIO(data), formats=FORMATS)
            if opened.width * opened.height > MOST_PIXELS:
                raise Refused(
                    f"The picture has {opened.width} x {opened.height} points; that is too many."
                    " Make it smaller."
                )
            image = ImageOps.exif_transpose(opened).convert("RGB")
    except Refused:
        raise
    except (
        UnidentifiedImageError,
        OSError,
        SyntaxError,
        ValueError,
        Image.DecompressionBombError,
        Image.DecompressionBombWarning,
    ) as problem:
        raise Refused(
            "The file is no picture that can be read. Send a JPEG, PNG or WebP."
        ) from problem
    image.thumbnail((LONG_SIDE, LONG_SIDE))
    out = io.BytesIO()
    image.save(out, "JPEG", quality=85)
    return {"width": image.width, "height": image.height}, {"picture": out.getvalue()}
