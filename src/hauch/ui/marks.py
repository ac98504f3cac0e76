"""The marks of entries: eight shapes in eight colours, then the same shapes with an outline."""

from __future__ import annotations

from django.utils.safestring import SafeString, mark_safe

SHAPES = (
    "M8 1.5 14.5 13.5H1.5z",  # triangle
    "M8 2a6 6 0 1 0 0 12A6 6 0 1 0 8 2z",  # disc
    "M2.5 2.5h11v11h-11z",  # square
    "M8 1 15 8 8 15 1 8z",  # diamond
    "M8 1c4 5 5.5 7 5.5 9A5.5 5.5 0 0 1 8 15 5.5 5.5 0 0 1 2.5 10C2.5 8 4 6 8 1z",  # drop
    "M5 1h6v14H5z",  # bar
    "M6 1h4v5h5v4h-5v5H6v-5H1V6h5z",  # plus
    "M1 11 8 3l7 8-3 3-4-5-4 5z",  # chevron
)
RING = "M8 3a5 5 0 1 0 0 10A5 5 0 1 0 8 3z"


def mark_svg(
    number: int | None, size: int = 16, x: float | None = None, y: float | None = None
) -> SafeString:
    """An entry's mark as SVG; None is the reference. The colour comes from the style sheet by
    class.
    """
    place = f' x="{x:.1f}" y="{y:.1f}"' if x is not None and y is not None else ""
    opening = (
        f'<svg class="entry-mark" width="{size}" height="{size}" viewBox="0 0 16 16"'
        f' aria-hidden="true"{place}>'
    )
    if number is None:
        return mark_safe(f'{opening}<path class="m-ref ring" d="{RING}"/></svg>')  # noqa: S308 built from numbers
    outlined = " outlined" if number // 8 % 2 else ""
    return mark_safe(  # noqa: S308 built from numbers
        f'{opening}<path class="m{number % 8}{outlined}"'
        f' d="{SHAPES[(number + number // 16) % 8]}"/></svg>'
    )
