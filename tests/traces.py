"""Recordings as they come from the meters, and what they hold."""

import math
from datetime import UTC, datetime

import numpy as np
from django.db import connection

from hauch.bench.models import Recording
from hauch.bench.traces import keep_minutes, trace_of
from hauch.core.trace.source import Stretch


def whole(
    recording: Recording, low: float = -math.inf, high: float = math.inf
) -> tuple[np.ndarray, dict[str, np.ndarray]]:
    """Seconds and values by channel of a stretch, with the loggers that ran beside it."""
    stretch = trace_of(recording).window(low, high)
    return stretch.times, stretch.channels


RATE = 50.0


def rows_of(count: int, columns: list[str], first: int = 0) -> np.ndarray:
    """Steady rows with scatter, shape (count, columns)."""
    random = np.random.default_rng(first + count)
    levels = {"speed": 1900.0, "air_speed": 4.2, "throttle": 100.0, "voltage": 12.0, "current": 0.4}
    rows = np.column_stack(
        [
            levels.get(key, 20.0) * (1 + 0.002 * random.standard_normal(count))
            if key != "throttle"
            else np.full(count, 100.0)
            for key in columns
        ]
    )
    return np.round(rows, 4)


def put_pieces(recording: Recording, rows: np.ndarray, first: int = 0, size: int = 5) -> None:
    """As a recorder stores them, only quicker."""
    into = "copy bench_piece (recording_id, first, count, data, stored_at) from stdin"
    now = datetime.now(UTC)
    with connection.cursor() as cursor, cursor.copy(into) as copy:
        for i in range(0, len(rows), size):
            part = rows[i : i + size]
            copy.write_row([recording.pk, first + i, len(part), part.astype("<f8").tobytes(), now])


def put_minutes(recording: Recording, rows: np.ndarray) -> None:
    """What a recorder keeps by the second of rows that begin with tick 0, all whole minutes."""
    ticks = round(60 * RATE)
    for first in range(0, len(rows) // ticks * ticks, ticks):
        part = slice(first, first + ticks)
        stretch = Stretch(
            np.arange(part.start, part.stop) / RATE,
            {key: rows[part, i] for i, key in enumerate(recording.columns)},
        )
        keep_minutes(recording.pk, stretch)
