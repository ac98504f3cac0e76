"""Charts as Vega-Lite specs, written in Python, drawn in the page's own font and inks."""

from __future__ import annotations

import itertools
import json
from typing import Any

from django.utils.html import format_html
from django.utils.safestring import SafeString, mark_safe

from hauch.ui.charts import specs

_ids = itertools.count(1)
_ESCAPES = {ord(">"): "\\u003E", ord("<"): "\\u003C", ord("&"): "\\u0026"}


def figure(kind: str, data: Any, label: str, system: str) -> SafeString:
    """A figure element with its spec as JSON beside it; assets/charts.js draws it."""
    spec = specs.SPECS[kind](data, system) | {"description": label}
    text = json.dumps(spec, ensure_ascii=False).translate(_ESCAPES)
    number = f"chart-{kind}-{next(_ids)}"
    return format_html(
        '<figure class="chart-figure" data-chart="{}"><div class="chart" role="img"'
        ' aria-label="{}"></div><script type="application/json" id="{}">{}</script></figure>',
        number,
        label,
        number,
        mark_safe(text),  # noqa: S308 escaped above
    )
