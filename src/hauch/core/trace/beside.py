"""Channels that a recording holds at another time: the background with the part off, the torque
without the part.

References
----------
Difference with and without (A-B-A on one drive, so that the drive's own loss cancels): JCGM
    100:2008, F.1.2.3 (common influences).
"""

from __future__ import annotations

from collections.abc import Mapping

import numpy as np

from hauch.core.measure.run import NoResult

BACKGROUND, TARE = "background", "tare"
LEAST = 5
"""Fewer samples than this are no stretch."""


def with_background(
    times: np.ndarray,
    channels: Mapping[str, np.ndarray],
    readings: dict[str, np.ndarray],
    stretch: tuple[float, float],
) -> None:
    """Add ``background_level`` to the readings: the sound level in a stretch [s] in which the part
    was off.
    """
    if "sound_level" in channels and "background_level" not in readings:
        readings["background_level"] = _in(
            times, channels["sound_level"], stretch, "sound level", "background"
        )


def with_tare(
    times: np.ndarray,
    channels: Mapping[str, np.ndarray],
    readings: dict[str, np.ndarray],
    positions: dict[str, np.ndarray],
    stretch: tuple[float, float],
) -> None:
    """Add ``tare_torque`` to the readings: the torque without the part, at the speeds at which the
    part was read.

    The drive's own torque is taken as a straight line over the speed through the stretch without
    the part; where the speed stood still there, it is its mean. Speeds outside of what was driven
    without the part raise NoResult.
    """
    if "torque" not in channels or "tare_torque" in readings:
        return
    torque = _in(times, channels["torque"], stretch, "torque", "run without the part")
    if "speed" not in readings or "torque" not in readings:
        readings["tare_torque"] = torque
        return
    inside = (
        (times >= stretch[0])
        & (times <= stretch[1])
        & np.isfinite(channels["torque"])
        & np.isfinite(channels["speed"])
    )
    speed = channels["speed"][inside]
    low, high = float(speed.min()), float(speed.max())
    wanted = readings["speed"]
    if high - low < 0.05 * max(high, 1e-9):
        if abs(float(np.median(wanted)) - float(np.median(speed))) > 0.05 * high:
            raise NoResult(
                f"Without the part the drive ran at {np.median(speed):,.0f} 1/min, with it at"
                f" {np.median(wanted):,.0f}. Drive both at the same speed."
            )
        readings["tare_torque"] = torque
        positions.pop("tare_torque", None)
        if "torque" in positions:
            readings["tare_torque"] = np.full(wanted.size, float(torque.mean()))
            positions["tare_torque"] = positions["speed"]
        return
    if float(wanted.min()) < 0.95 * low or float(wanted.max()) > 1.05 * high:
        raise NoResult(
            f"Without the part the drive was read from {low:,.0f} to {high:,.0f} 1/min, with it"
            f" from {wanted.min():,.0f} to {wanted.max():,.0f}. Drive both over the same speeds."
        )
    slope, start = np.polyfit(speed, channels["torque"][inside], 1)
    readings["tare_torque"] = start + slope * wanted
    if "speed" in positions:
        positions["tare_torque"] = positions["speed"]


def _in(
    times: np.ndarray, values: np.ndarray, stretch: tuple[float, float], what: str, name: str
) -> np.ndarray:
    found = np.asarray(values, float)[
        (times >= stretch[0]) & (times <= stretch[1]) & np.isfinite(values)
    ]
    if found.size < LEAST:
        raise NoResult(f"The {name} has too few samples of the {what}. Read it again.")
    return found
