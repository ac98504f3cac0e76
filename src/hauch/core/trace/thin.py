"""Fewer points of a trace, for a screen."""

from __future__ import annotations

import math


def thinned(times: list[float], values: list[float], most: int = 700) -> tuple[list[float], list[float | None]]:
    """Fewer points for a screen: of each stretch the lowest and the highest, so that no spike vanishes; None where lost."""
    if len(times) <= most:
        return times, [None if math.isnan(v) else v for v in values]
    stretch = math.ceil(2 * len(times) / most)
    picked: set[int] = set()
    for start in range(0, len(times), stretch):
        part = range(start, min(start + stretch, len(times)))
        there = [i for i in part if not math.isnan(values[i])]
        picked |= {min(there, key=values.__getitem__), max(there, key=values.__getitem__)} if there else {start}
    chosen = sorted(picked)
    return [times[i] for i in chosen], [None if math.isnan(values[i]) else values[i] for i in chosen]
