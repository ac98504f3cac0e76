"""The only way for a number to reach a page: with its unit, its digits and its doubt."""

from __future__ import annotations

import re

from django import template
from django.utils.html import format_html
from django.utils.safestring import SafeString

from hauch.core.quantity import expanded
from hauch.core.quantity.show import Shown, show, show_plain
from hauch.core.quantity.units import KIND_OF_UNIT, KINDS, factor_from_si

register = template.Library()


def units_of(context: template.Context) -> str:
    """The person's unit system."""
    user = getattr(context.get("request"), "user", None)
    return getattr(user, "units", None) or "workshop"


def _html(shown: Shown) -> SafeString:
    doubt = format_html(' <span class="doubt">± {}</span>', shown.doubt) if shown.doubt else ""
    unit = format_html(' <span class="unit">{}</span>', shown.unit) if shown.unit else ""
    return format_html('<span class="figure">{}{}{}</span>', shown.number, doubt, unit)


@register.simple_tag(takes_context=True)
def figure(context, value, kind, expanded=None, sign=False) -> SafeString:
    """`612 ± 9 m³/h`, in the person's units."""
    return _html(show(value, kind, units_of(context), expanded, sign=sign))


@register.simple_tag(takes_context=True)
def number(context, value, kind, doubt=None) -> str:
    """The number alone, with as many digits as a doubt allows, for a table whose heading has the
    unit.
    """
    return show(value, kind, units_of(context), doubt).number


@register.simple_tag(takes_context=True)
def unit(context, kind) -> str:
    """The unit in which the person sees a kind of figure."""
    return KINDS[kind].shown[units_of(context)]


@register.simple_tag
def plain(value, unit="", expanded=None, sign=False) -> SafeString:
    """A figure whose unit is the same for everybody, such as percent or dB."""
    return _html(show_plain(value, unit, expanded, sign=sign))


@register.simple_tag(takes_context=True)
def si(context, value, unit) -> SafeString:
    """A figure of a working, given in an SI unit, in the person's units."""
    if unit in KIND_OF_UNIT and unit:
        return _html(show(value, KIND_OF_UNIT[unit], units_of(context)))
    return _html(Shown(show(value, "number").number, "", unit))


NUMBERED = re.compile(r"([A-Za-z]+)(\d+)")


@register.filter
def in_columns(inputs) -> dict[str, list]:
    """Inputs of a step as they are best read: three or more numbered alike (q1, q2, …) side by side
    as ``columns`` and ``rows``, all others as ``plain``.
    """
    by_stem: dict[str, dict[str, tuple]] = {}
    for symbol, value, unit in inputs:
        if found := NUMBERED.fullmatch(symbol):
            by_stem.setdefault(found[1], {})[found[2]] = (value, unit)
    columns = {stem: cells for stem, cells in by_stem.items() if len(cells) >= 3}
    numbers = list(dict.fromkeys(number for cells in columns.values() for number in cells))
    rows = [(number, [cells.get(number) for cells in columns.values()]) for number in numbers]
    plain = [
        one for one in inputs if not ((found := NUMBERED.fullmatch(one[0])) and found[1] in columns)
    ]
    return {"columns": list(columns), "rows": rows, "plain": plain}


@register.simple_tag(takes_context=True)
def step(context, value, kind, sign=False) -> SafeString:
    """A step, limit or other difference of a kind, in the person's units (no zero point in it)."""
    written = KINDS[kind].shown[units_of(context)]
    shown = show(
        None if value is None else value * factor_from_si(written, kind), "number", sign=sign
    )
    return _html(Shown(shown.number, "", written))


@register.simple_tag(takes_context=True)
def step_half(context, u, kind, dof=None) -> SafeString:
    """The 95 % half-width of a standard uncertainty, two digits."""
    written = KINDS[kind].shown[units_of(context)]
    half_width = expanded(u, dof) * factor_from_si(written, kind)
    return _html(Shown(f"{half_width:.2g}", "", written))


@register.simple_tag
def half(u, dof=None) -> str:
    """The 95 % half-width of a standard uncertainty without unit, two digits."""
    return f"{expanded(u, dof):.2g}"


@register.filter
def share(probability) -> str:
    """A probability as percent, without false certainty at its ends."""
    if probability is None:
        return "–"
    if probability > 0.995:
        return "over 99 %"
    if probability < 0.005:
        return "below 1 %"
    return f"{100 * probability:.0f} %"
