"""A trace that is read by stretch: what reduces, checks or draws takes one and asks for no more than
it needs, whether it is held in memory or stored.
"""

from __future__ import annotations

import math
from collections.abc import Iterable, Mapping
from dataclasses import dataclass
from typing import Protocol

import numpy as np


@dataclass(frozen=True, slots=True)
class Stretch:
    """A part of a trace: seconds, rising, shape (n,), and values by channel [SI unit of the
    channel], shape (n,), NaN where there is no sample.
    """

    times: np.ndarray
    channels: dict[str, np.ndarray]

    def between(self, low: float, high: float) -> Stretch:
        """The samples from ``low`` to ``high`` s, both included."""
        part = slice(
            int(np.searchsorted(self.times, low)),
            int(np.searchsorted(self.times, high, side="right")),
        )
        return Stretch(self.times[part], {key: v[part] for key, v in self.channels.items()})

    def only(self, channels: Iterable[str] | None) -> Stretch:
        """Some of its channels, those that it has; all where None."""
        if channels is None:
            return self
        wanted = set(channels)
        return Stretch(self.times, {k: v for k, v in self.channels.items() if k in wanted})


@dataclass(frozen=True, slots=True)
class Seconds:
    """A trace by the second: of each second that holds a sample its middle time, and by channel the
    number of samples, their mean, least and most, each shape (n,); NaN where a channel has none.
    """

    times: np.ndarray
    count: dict[str, np.ndarray]
    mean: dict[str, np.ndarray]
    least: dict[str, np.ndarray]
    most: dict[str, np.ndarray]

    def between(self, low: float, high: float) -> Seconds:
        """The seconds whose middle lies from ``low`` to ``high`` s."""
        part = slice(
            int(np.searchsorted(self.times, low)),
            int(np.searchsorted(self.times, high, side="right")),
        )
        return Seconds(
            self.times[part],
            *(
                {key: values[part] for key, values in figures.items()}
                for figures in (self.count, self.mean, self.least, self.most)
            ),
        )

    def has(self, channel: str) -> bool:
        """Whether a channel has a sample at all."""
        return channel in self.count and bool(self.count[channel].any())


def seconds_of(stretch: Stretch) -> Seconds:
    """A stretch by the second of the trace's clock.

    The middle time of a second is the mean of its samples' times, so that a trace with one sample
    a second or fewer comes back as it is.
    """
    times = np.asarray(stretch.times, dtype=float)
    if not times.size:
        empty = {key: np.zeros(0) for key in stretch.channels}
        return Seconds(times, dict(empty), dict(empty), dict(empty), dict(empty))
    first = np.flatnonzero(np.concatenate(([True], np.diff(np.floor(times + EDGE)) != 0)))
    sizes = np.diff(np.append(first, times.size))
    made = Seconds(np.add.reduceat(times, first) / sizes, {}, {}, {}, {})
    for key, raw in stretch.channels.items():
        values = np.asarray(raw, dtype=float)
        good = np.isfinite(values)
        count = np.add.reduceat(good.astype(float), first)
        none = count == 0
        mean = np.add.reduceat(np.where(good, values, 0.0), first) / np.maximum(count, 1.0)
        made.count[key] = count
        made.mean[key] = np.where(none, np.nan, mean)
        for figures, ends, outside in (
            (made.least, np.minimum, math.inf),
            (made.most, np.maximum, -math.inf),
        ):
            figures[key] = np.where(
                none, np.nan, ends.reduceat(np.where(good, values, outside), first)
            )
    return made


EDGE = 1e-6
"""A sample this close before a whole second [s] belongs to the next one: times are rounded."""


class Trace(Protocol):
    """What can be read by stretch."""

    @property
    def extent(self) -> tuple[float, float] | None:
        """First and last time [s]; None where nothing was recorded."""
        ...

    def window(
        self,
        low: float = -math.inf,
        high: float = math.inf,
        channels: Iterable[str] | None = None,
    ) -> Stretch:
        """The samples from ``low`` to ``high`` s of some channels, those that there are; all where
        None.
        """
        ...

    def seconds(
        self,
        low: float = -math.inf,
        high: float = math.inf,
        channels: Iterable[str] | None = None,
    ) -> Seconds:
        """The same by the second, without reading each sample where seconds are kept."""
        ...


class Held:
    """A trace in memory.

    Parameters
    ----------
    times : seconds, rising, shape (n,)
    channels : channel -> values, shape (n,), NaN where there is no sample
    """

    def __init__(self, times: np.ndarray, channels: Mapping[str, np.ndarray]):
        self.stretch = Stretch(
            np.asarray(times, dtype=float),
            {key: np.asarray(values, dtype=float) for key, values in channels.items()},
        )

    @property
    def extent(self) -> tuple[float, float] | None:
        """First and last time [s]; None where nothing was recorded."""
        times = self.stretch.times
        return (float(times[0]), float(times[-1])) if times.size else None

    def window(
        self,
        low: float = -math.inf,
        high: float = math.inf,
        channels: Iterable[str] | None = None,
    ) -> Stretch:
        """The samples from ``low`` to ``high`` s of some channels."""
        return self.stretch.only(channels).between(low, high)

    def seconds(
        self,
        low: float = -math.inf,
        high: float = math.inf,
        channels: Iterable[str] | None = None,
    ) -> Seconds:
        """The same by the second."""
        return seconds_of(self.window(low, high, channels))
