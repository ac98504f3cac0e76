"""From samples of several meters to rows on one clock.

Every recording has an even grid of ticks. A sample belongs to the tick nearest to it. A meter that
is slower than the grid stands until its next reading; one that is silent for longer than
`SILENT_PERIODS` of its own periods has no value.
"""

from __future__ import annotations

import math
from collections.abc import Mapping, Sequence
from dataclasses import dataclass

import numpy as np

LATE = 0.6
"""A meter that is this far behind [s] is not waited for; what comes later is filled in behind."""

SILENT_PERIODS = 2.5
"""Periods of its own after which a slow meter's last reading no longer stands."""


@dataclass(slots=True)
class Samples:
    """Samples of one channel: times [s of this machine's clock], values in SI, both shape (n,)."""

    times: np.ndarray
    values: np.ndarray


@dataclass(frozen=True, slots=True)
class Piece:
    """Rows on the grid: number of the first tick, and values, shape (ticks, channels), NaN where
    there is none.
    """

    first: int
    rows: np.ndarray


class Grid:
    """Collects samples and hands out rows that are complete.

    Parameters
    ----------
    channels : in the order of the columns
    rate : ticks a second
    origin : time of tick 0 [s]
    next_tick : first tick that is not handed out yet
    periods : channel -> seconds between its samples, for those slower than the grid
    """

    def __init__(
        self,
        channels: Sequence[str],
        rate: float,
        origin: float,
        next_tick: int,
        periods: Mapping[str, float],
    ):
        self.channels, self.rate, self.origin, self.next = list(channels), rate, origin, next_tick
        self.column = {channel: i for i, channel in enumerate(self.channels)}
        self.periods = dict(periods)
        self.rows: dict[int, np.ndarray] = {}
        self.late: dict[int, np.ndarray] = {}
        self.newest: dict[str, int] = {}
        self.held: dict[str, tuple[int, float]] = {}
        self.filled: dict[str, int] = {}

    def add(self, channel: str, samples: Samples) -> None:
        """Samples of one channel as they come."""
        column = self.column.get(channel)
        if column is None or not samples.times.size:
            return
        ticks = np.rint((samples.times - self.origin) * self.rate).astype(int)
        for tick, value in zip(ticks.tolist(), samples.values.tolist(), strict=True):
            if tick < 0:
                continue
            rows = self.rows if tick >= self.next else self.late
            row = rows.get(tick)
            if row is None:
                row = rows[tick] = np.full(len(self.channels), np.nan)
            row[column] = value
            self.newest[channel] = max(self.newest.get(channel, -1), tick)

    def ready(self, now: float) -> list[Piece]:
        """Pieces that can be stored at a time [s]: rows that every meter has reached, and late
        samples of earlier rows.
        """
        here = math.floor((now - self.origin) * self.rate)
        limit = here - round(LATE * self.rate)
        fast = [c for c in self.channels if c not in self.periods]
        reached = [self.newest.get(c, -1) for c in fast if self.newest.get(c, -1) >= limit]
        upto = max(min(reached), limit) if reached else (here if not fast else limit)
        pieces = self._behind()
        if upto < self.next:
            return pieces
        rows = np.full((upto - self.next + 1, len(self.channels)), np.nan)
        for i, tick in enumerate(range(self.next, upto + 1)):
            if (row := self.rows.pop(tick, None)) is not None:
                rows[i] = row
        for channel, period in self.periods.items():
            self._stand(rows[:, self.column[channel]], channel, period)
        first, self.next = self.next, upto + 1
        return [*pieces, *_without_empty(first, rows)]

    def _stand(self, column: np.ndarray, channel: str, period: float) -> None:
        """Let a slow meter's reading stand until its next one."""
        last = self.held.get(channel)
        most = SILENT_PERIODS * period * self.rate
        for i in range(column.size):
            tick = self.next + i
            if math.isfinite(column[i]):
                last = (tick, float(column[i]))
            elif last is not None and tick - last[0] <= most:
                column[i] = last[1]
        if last is not None:
            self.held[channel] = last

    def _behind(self) -> list[Piece]:
        """Late samples as pieces of neighbouring ticks."""
        if not self.late:
            return []
        ticks = sorted(self.late)
        pieces, start = [], 0
        for i in range(1, len(ticks) + 1):
            if i == len(ticks) or ticks[i] != ticks[i - 1] + 1:
                pieces.append(Piece(ticks[start], np.stack([self.late[t] for t in ticks[start:i]])))
                start = i
        self.late.clear()
        return pieces


def _without_empty(first: int, rows: np.ndarray) -> list[Piece]:
    """Pieces of the rows in which any meter showed something; where none did, nothing was recorded."""
    edges = np.flatnonzero(
        np.diff(np.concatenate(([0], np.isfinite(rows).any(axis=1).astype(np.int8), [0])))
    ).reshape(-1, 2)
    return [Piece(first + int(a), rows[a:b]) for a, b in edges]


def joined(pieces: Sequence[Piece], width: int) -> tuple[np.ndarray, np.ndarray]:
    """Ticks and rows of all pieces together; later pieces fill in what earlier ones lack. Ticks
    that nobody recorded are left out.
    """
    if not pieces:
        return np.zeros(0, dtype=int), np.zeros((0, width))
    low, high = min(p.first for p in pieces), max(p.first + len(p.rows) for p in pieces)
    table, there = np.full((high - low, width), np.nan), np.zeros(high - low, dtype=bool)
    for piece in pieces:
        part = slice(piece.first - low, piece.first - low + len(piece.rows))
        table[part] = np.where(np.isfinite(piece.rows), piece.rows, table[part])
        there[part] = True
    return np.flatnonzero(there) + low, table[there]
