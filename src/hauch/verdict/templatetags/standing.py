"""Pieces of a standing."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any

from django import template
from django.utils.html import format_html
from django.utils.safestring import SafeString, mark_safe

from hauch.rounds.models import Test
from hauch.ui.templatetags.figures import number, plain

register = template.Library()


@register.filter
def at(rows: Sequence[Any], index: int) -> Any:
    """One of several, by its number."""
    return rows[index]


@register.filter
def rows_high(count: int) -> str:
    """Height of so many rows of a list of places."""
    return f"{1.75 * count:g}rem"


@register.simple_tag(takes_context=True)
def standing_cell(
    context: template.Context, test: Test, cell: dict[str, Any] | None, address: str, current: bool
) -> SafeString:
    """A figure of the standing, with its change against the reference, as the link to its working.
    A page has hundreds of them: nodes of a template for each of their pieces take half of its time.
    """
    if not cell:
        return mark_safe("–")
    change = cell.get("change_expanded")
    told = (
        mark_safe('<small class="amber">not repeated</small>')
        if change is None
        else mark_safe('<small class="amber">≈ ref</small>')
        if cell.get("word") == "too close to call"
        else format_html("<small>{}</small>", plain(cell["change"], "", change, True))
    )
    return format_html(
        '<a class="cell" href="{}" hx-get="{}" hx-target="#working"{} title="{}: {}{}">{}<br>{}</a>',
        address,
        address,
        mark_safe(' aria-current="true"') if current else "",
        test.label,
        cell.get("word", ""),
        "" if change is None else " than the reference",
        number(context, cell["value"], test.how.kind, cell.get("comparable")),
        told,
    )
