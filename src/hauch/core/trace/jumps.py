"""Jumps of a meter that shows another unit from one sample to the next: a key was pressed, and
nothing about the part changed.

A part changes its level within the time that its rotor and the air need; a display that is switched
does so at once, by the ratio of two units.
"""

from __future__ import annotations

import math
from collections.abc import Mapping
from dataclasses import dataclass

import numpy as np

from hauch.core.measure.channels import CHANNELS, FOLLOWS, SPEEDS
from hauch.core.quantity.mixups import LEAST_FACTOR, Mixup, mixups, whole_run_mixups

LEVEL = 9
"""Samples on either side of a jump whose median is its level, at most."""

LEAST_LEVEL = 3
"""Fewer samples at a level are a spike."""

BLURRED = 2
"""A jump may lie within so many samples: a mean of a second in which it fell."""

NEAR = 0.02
"""How near a level comes to what the mix-up makes of the other one, beside their scatter, as a share
of the higher one: digits, and what the part did meanwhile.
"""

MOST_LOOSE, MOST_LOOSE_SELDOM = 0.2, 0.06
"""A level whose scatter leaves more than this open is not told from others by its ratio; of the many
seldom mix-ups some ratio is always near.
"""

BACK = 0.1
"""A level that was come back to lies so near the one before, as a share of it."""

STEADY, NOISY = 0.1, 4.0
"""Another channel that changed at a jump by more than this share, and by so many of its median
deviations, says that the part or its system changed.
"""

RESTLESS = 0.05
"""A meter that makes jumps of `LEAST_FACTOR` in more than this share of its samples shows noise
about nothing, and no levels.
"""

LEAST_STEP = 1.3
"""Ratio of two samples between which a level may change: a blurred jump makes two of them."""

ABOVE_NOISE = 5.0
"""A jump is so many times what a meter usually moves from sample to sample."""

TEMPERATURE_STEP = 8.0
"""Between °C and °F lie so many kelvin at least, for what is warmer than -30 degC."""


@dataclass(frozen=True, slots=True)
class Jump:
    """From the level before sample ``last`` to that from sample ``first`` on; ``mixup`` makes the
    later level of the earlier one.
    """

    last: int
    first: int
    before: float
    after: float
    mixup: Mixup


@dataclass(frozen=True, slots=True)
class OtherUnit:
    """Samples ``first`` to ``last`` read in another unit; where it cannot be told which side is the
    right one, ``open``, the jump itself.
    """

    first: int
    last: int
    mixup: Mixup
    open: bool


def jumps(values: np.ndarray, kind: str) -> list[Jump]:
    """Jumps by the ratio of two units, in order.

    Parameters
    ----------
    values : shape (n,), NaN where there is no sample
    kind : of the channel, a key of `quantity.units.KINDS`
    """
    known_mixups = mixups(kind)
    there = np.flatnonzero(np.isfinite(values))
    if not known_mixups or there.size < 2 * LEAST_LEVEL:
        return []
    known = values[there]
    if kind == "temperature":
        large = np.abs(np.diff(known)) >= TEMPERATURE_STEP
    else:
        low, high = np.minimum(known[:-1], known[1:]), np.maximum(known[:-1], known[1:])
        moved = np.abs(np.diff(known))
        noise = float(np.median(moved[moved > 0])) if moved.any() else 0.0
        large = (low > 0) & (high >= LEAST_STEP * low) & (moved > ABOVE_NOISE * noise)
    at = np.flatnonzero(large)
    if not at.size:
        return []
    places = np.split(at, np.flatnonzero(np.diff(at) > BLURRED) + 1)
    if len(places) > max(RESTLESS * known.size, 8):
        return []
    found = []
    for i, place in enumerate(places):
        begin = places[i - 1][-1] + 1 if i else 0
        end = places[i + 1][0] + 1 if i + 1 < len(places) else known.size
        last, first = int(place[0]), int(place[-1]) + 1
        if first - last > BLURRED + 1:  # it moved there, and jumped to nowhere
            continue
        before, after = (
            known[max(last + 1 - LEVEL, begin) : last + 1],
            known[first : min(first + LEVEL, end)],
        )
        if min(before.size, after.size) < LEAST_LEVEL:
            continue
        mixup = _mixup_between(before, after, known_mixups, whole_run_mixups(kind))
        if mixup is not None:
            found.append(
                Jump(
                    int(there[last]),
                    int(there[first]),
                    float(np.median(before)),
                    float(np.median(after)),
                    mixup,
                )
            )
    return found


def _mixup_between(
    before: np.ndarray, after: np.ndarray, known: tuple[Mixup, ...], usual: tuple[Mixup, ...]
) -> Mixup | None:
    """The mix-up that makes the later level of the earlier one; the most usual where several do."""
    old, new = float(np.median(before)), float(np.median(after))
    if max(abs(old), abs(new)) <= 0:
        return None
    scatter = [
        1.4826 * float(np.median(np.abs(part - np.median(part)))) / math.sqrt(part.size)
        for part in (before, after)
    ]
    for mixup in known:
        if max(mixup.slope, 1 / mixup.slope) < LEAST_FACTOR and not mixup.offset:
            continue
        read = mixup.misread(old)
        doubt = 3.8 * math.hypot(mixup.slope * scatter[0], scatter[1])  # 3 medians' u
        scale = abs(new - old) if mixup.offset else max(abs(new), abs(read))
        loose = MOST_LOOSE if mixup in usual else MOST_LOOSE_SELDOM
        if doubt <= loose * scale and abs(new - read) <= max(doubt, NEAR * scale):
            return mixup
    return None


def other_units(
    channels: Mapping[str, np.ndarray],
) -> dict[str, list[OtherUnit]]:
    """Stretches of each channel that read in another unit, where the part did not change.

    Parameters
    ----------
    channels : channel key -> values, shape (n,), NaN where there is no sample

    Notes
    -----
    Whether the part or its system changed is told by speed, throttle and all that follows them: a
    damper moves flow and pressure, and leaves the speed. Where nothing was read beside the channel,
    or it does not come back, only the usual mix-ups are believed.
    """
    held = [key for key in channels if key in FOLLOWS or key in SPEEDS or key == "throttle"]
    found = {}
    for key, values in channels.items():
        others = [channels[one] for one in held if one != key]
        usual = whole_run_mixups(CHANNELS[key].kind)
        own = [
            jump
            for jump in jumps(values, CHANNELS[key].kind)
            if (others or jump.mixup in usual)
            and not any(_changed(other, jump) for other in others)
        ]
        pairs = [
            one
            for one in _paired(own, len(values))
            if not one.open or one.mixup in usual  # a damper may move a pressure as suddenly
        ]
        if pairs:
            found[key] = pairs
    return found


def _changed(other: np.ndarray, jump: Jump) -> bool:
    """Whether another channel changed with a jump."""
    before, after = (
        part[np.isfinite(part)]
        for part in (
            other[max(jump.last + 1 - LEVEL, 0) : jump.last + 1],
            other[jump.first : jump.first + LEVEL],
        )
    )
    if not (before.size and after.size):
        return False
    old, new = float(np.median(before)), float(np.median(after))
    scatter = max(float(np.median(np.abs(part - np.median(part)))) for part in (before, after))
    return abs(new - old) > max(STEADY * max(abs(old), abs(new)), NOISY * scatter)


def _paired(own: list[Jump], count: int) -> list[OtherUnit]:
    """Each jump with the one that comes back from it. Which side is right cannot be told where none
    does, or where what lies between is the larger part.
    """
    found, i = [], 0
    while i < len(own):
        jump = own[i]
        back = own[i + 1] if i + 1 < len(own) else None
        if back is not None and abs(back.after - jump.before) <= BACK * abs(jump.before):
            first, last = jump.last + 1, back.first - 1
            i += 2
            if 2 * (last - first) <= count:
                found.append(OtherUnit(first, last, jump.mixup, False))
                continue
        else:
            i += 1
        found.append(OtherUnit(jump.last, jump.first, jump.mixup, True))
    return found
