"""Pieces of pages: the line, an entry's mark, the dot in a table row, charts."""

from __future__ import annotations

import math

from django import template
from django.utils.html import format_html
from django.utils.safestring import SafeString, mark_safe

from hauch.ui import charts
from hauch.ui.line import stations
from hauch.ui.marks import mark_svg
from hauch.ui.templatetags.figures import units_of

register = template.Library()


@register.simple_tag
def mark(entry, size=16) -> SafeString:
    """An entry's mark: shape and colour together; a ring for the reference."""
    return mark_svg(getattr(entry, "mark", None), int(size))


@register.inclusion_tag("parts/line.html", takes_context=True)
def the_line(context, round, here) -> dict[str, object]:
    """The line with its five stations."""
    return {"round": round, "here": here, "stations": stations(round, context["request"].user)}


@register.simple_tag(takes_context=True)
def chart(context, kind, data, label) -> SafeString:
    """A chart from a Vega-Lite spec in our theme; `label` says in words what it shows."""
    return charts.figure(kind, data, label, units_of(context))


WIDTH, NARROW, HEIGHT, PAD = 300, 200, 40, 12


def _width(scale: dict[str, float]) -> int:
    return NARROW if scale.get("narrow") else WIDTH


def _x(value: float, scale: dict[str, float]) -> float:
    return PAD + (value - scale["low"]) / (scale["high"] - scale["low"]) * (_width(scale) - 2 * PAD)


@register.simple_tag
def score_axis(scale) -> SafeString:
    """Tick labels over the dot column."""
    step = scale["step"]
    first = math.ceil(scale["low"] / step) * step
    ticks = [first + step * i for i in range(int((scale["high"] - first) / step) + 1)]
    texts = "".join(
        f'<text x="{_x(t, scale):.1f}" y="12" text-anchor="middle">{t:g}</text>' for t in ticks
    )
    return mark_safe(  # noqa: S308 numbers only
        f'<svg class="dots axis" width="{_width(scale)}" height="16" aria-hidden="true">{texts}</svg>'
    )


@register.simple_tag
def score_dot(
    scale, score, doubt, entry=None, reference=False, unit="% of the reference"
) -> SafeString:
    """Score with doubt as a dot and a line, over the reference's band and dashed line; the same
    scale in every row.
    """
    ground = scale["ground"]
    low, high, x = (
        min(max(_x(v, scale), 2), _width(scale) - 2) for v in (score - doubt, score + doubt, score)
    )
    shape = mark_svg(None if reference else entry.mark, 14, x=x - 7, y=HEIGHT / 2 - 7)
    colour = "m-ref" if reference else f"m{entry.mark % 8}"
    band = SafeString("")
    if ground is not None:
        band_low, band_high = _x(ground - scale["band"], scale), _x(ground + scale["band"], scale)
        band = format_html(
            '<rect class="band" x="{}" y="0" width="{}" height="{}"/><path class="ground" d="M{}'
            ' 0V{}"/>',
            f"{band_low:.1f}",
            f"{band_high - band_low:.1f}",
            HEIGHT,
            f"{_x(ground, scale):.1f}",
            HEIGHT,
        )
    return format_html(
        '<svg class="dots" width="{}" height="{}" role="img" aria-label="{} {}, plus or minus'
        ' {}">{}<path class="whisker {}" d="M{} {}H{}"/>{}</svg>',
        _width(scale),
        HEIGHT,
        f"{score:.1f}",
        unit,
        f"{doubt:.1f}",
        band,
        colour,
        f"{low:.1f}",
        HEIGHT / 2,
        f"{high:.1f}",
        shape,
    )


@register.simple_tag
def cell_at(row, index) -> str:
    """A cell of a row by its number; empty where the row is short."""
    return row[index] if index < len(row) else ""


@register.filter
def get(mapping, key):
    """What a mapping holds under a key."""
    return mapping.get(key)


@register.filter
def at(rows, index):
    """What a list holds at a place."""
    return rows[index]
