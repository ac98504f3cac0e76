"""The traces of recordings, stored: read by stretch, written in chunks, kept by the second.

Rows of a live recording come in as `Piece`; when it has ended they become `Chunk`, which is how an
imported log is stored from the start. Both are read by `StoredTrace`.
"""

from __future__ import annotations

import math
from collections.abc import Collection, Iterable, Iterator, Mapping
from itertools import groupby

import numpy as np
from django.db import connection, transaction
from django.db.models import Exists, Max, Min, OuterRef
from django.utils.functional import cached_property

from hauch.bench.models import Chunk, Minute, Piece, Recording
from hauch.core.trace.align import at_times
from hauch.core.trace.source import Held, Seconds, Stretch, Trace, seconds_of
from hauch.instruments.grid import Piece as Rows
from hauch.instruments.grid import joined

TIME = "time"
CHUNK_SAMPLES = 6000
"""Samples of a chunk: two minutes of a live recording."""

DENSE = 2.0
"""From so many samples a second on, seconds are kept; below, the samples are few themselves."""

MINUTE = 60


class StoredTrace:
    """The trace of a recording, with those of the loggers that ran beside it on its clock.

    The last stretch that was read is remembered, so that whoever draws and reduces it reads it
    once. What is stored afterwards is not seen: make another one.
    """

    def __init__(self, recording: Recording):
        self.recording = recording
        self._last: tuple[float, float, frozenset[str] | None, Stretch] | None = None

    @cached_property
    def _beside(self) -> list[tuple[float, StoredTrace]]:
        """Those of loggers that ran beside it, with the seconds to add to their times."""
        return [(second.shift, StoredTrace(second)) for second in self.recording.loggers_beside]

    @cached_property
    def own_extent(self) -> tuple[float, float] | None:
        """First and last time of its own samples [s]."""
        found = self.recording.chunks.filter(channel=TIME).aggregate(
            low=Min("from_s"), high=Max("to_s")
        )
        ends = [found["low"], found["high"]] if found["low"] is not None else []
        if (rate := self.recording.rate) is not None:
            pieces = self.recording.pieces
            if (first := pieces.order_by("first").values_list("first", flat=True)[:1]) and (
                last := pieces.order_by("-first", "-count").values_list("first", "count")[:1]
            ):
                ends += [first[0] / rate, (last[0][0] + last[0][1] - 1) / rate]
        return (min(ends), max(ends)) if ends else None

    @cached_property
    def _longest_piece(self) -> int:
        """Ticks of the longest piece: what a meter had kept may come as one of many minutes."""
        return self.recording.pieces.aggregate(most=Max("count"))["most"] or 0

    @property
    def extent(self) -> tuple[float, float] | None:
        """First and last time [s]; None where nothing was recorded."""
        return self.own_extent

    def window(
        self,
        low: float = -math.inf,
        high: float = math.inf,
        channels: Iterable[str] | None = None,
    ) -> Stretch:
        """The samples from ``low`` to ``high`` s of some channels, those that there are."""
        wanted = None if channels is None else frozenset(channels)
        if (last := self._last) is not None:
            known = last[2] is None or (wanted is not None and wanted <= last[2])
            if known and last[0] <= low and high <= last[1]:
                return last[3].only(wanted).between(low, high)
        found = self._own(low, high, wanted)
        for shift, second in self._beside:
            # What lies between two samples of the other logger needs both of them.
            other = second.window(low - shift - REACH, high - shift + REACH, wanted)
            for key, values in other.channels.items():
                if key not in found.channels and other.times.size:
                    found.channels[key] = at_times(found.times, other.times + shift, values)
        self._last = low, high, wanted, found
        return found

    def own_window(self, low: float = -math.inf, high: float = math.inf) -> Stretch:
        """Samples of the recording itself, without those of loggers that ran beside it."""
        return self._own(low, high, None)

    def _own(self, low: float, high: float, wanted: frozenset[str] | None) -> Stretch:
        chunks = self.recording.chunks.filter(from_s__lte=high, to_s__gte=low)
        if wanted is not None:
            chunks = chunks.filter(channel__in=[*wanted, TIME])
        parts: dict[str, list[np.ndarray]] = {}
        for channel, data in chunks.order_by("channel", "seq").values_list("channel", "data"):
            parts.setdefault(channel, []).append(np.frombuffer(data, dtype="<f8"))
        held = {key: np.concatenate(arrays) for key, arrays in parts.items()}
        stretch = Stretch(held.pop(TIME, np.zeros(0)), held)
        if self.recording.rate is not None:
            stretch = self._with_pieces(stretch, low, high, wanted)
        return stretch.between(low, high)

    def _with_pieces(
        self, stretch: Stretch, low: float, high: float, wanted: frozenset[str] | None
    ) -> Stretch:
        """With rows that are not chunks yet, or came after the others had become some."""
        rate, columns = float(self.recording.rate or 1.0), list(self.recording.columns)
        near = self.recording.pieces.all()
        if math.isfinite(high):
            near = near.filter(first__lte=math.ceil(high * rate))
        if math.isfinite(low):
            near = near.filter(first__gt=math.floor(low * rate) - self._longest_piece)
        rows = [
            Rows(first, np.frombuffer(data, dtype="<f8").reshape(-1, len(columns)))
            for first, data in near.order_by("pk").values_list("first", "data")
        ]
        if not rows:
            return (
                stretch
                if stretch.channels
                else Stretch(stretch.times, {k: np.zeros(0) for k in columns})
            )
        if stretch.times.size:
            table = np.full((stretch.times.size, len(columns)), np.nan)
            for i, key in enumerate(columns):
                if key in stretch.channels:
                    table[:, i] = stretch.channels[key]
            ticks = np.rint(stretch.times * rate).astype(int)
            rows = [*_runs(ticks, table), *rows]
        ticks, table = joined(rows, len(columns))
        return Stretch(
            ticks / rate,
            {
                key: np.ascontiguousarray(table[:, i])
                for i, key in enumerate(columns)
                if wanted is None or key in wanted
            },
        )

    def seconds(
        self,
        low: float = -math.inf,
        high: float = math.inf,
        channels: Iterable[str] | None = None,
    ) -> Seconds:
        """The same by the second; of a dense recording from what is kept of each minute, and from
        samples where none is kept.
        """
        wanted = None if channels is None else frozenset(channels)
        extent = self.own_extent
        kept = set(self.recording.minutes.values_list("number", flat=True)) if extent else set()
        if extent is None or not kept:
            return seconds_of(self.window(low, high, channels))
        low, high = max(low, extent[0]), min(high, extent[1])
        numbers = range(math.floor(low / MINUTE), math.floor(high / MINUTE) + 1)
        whole = {
            n
            for n in kept.intersection(numbers)
            if (n * MINUTE >= low or low == extent[0])
            and ((n + 1) * MINUTE <= high + EDGE or high == extent[1])
        }
        stored = {m.number: m for m in self.recording.minutes.filter(number__in=whole)}
        parts: list[Seconds] = []
        for is_kept, group in groupby(numbers, key=stored.__contains__):
            found = list(group)
            if is_kept:
                parts += [_unpacked(stored[number], wanted) for number in found]
            else:
                begin, end = found[0] * MINUTE, (found[-1] + 1) * MINUTE - EDGE
                samples = self._own(max(begin, low), min(end, high), _with_factors(wanted))
                parts.append(seconds_of(with_products(samples).only(wanted)))
        made = _one_after_the_other(parts)
        for shift, second in self._beside:
            other = second.seconds(low - shift - REACH, high - shift + REACH, wanted)
            for key in other.mean:
                if key not in made.mean and other.times.size:
                    for mine, theirs in (
                        (made.mean, other.mean),
                        (made.least, other.least),
                        (made.most, other.most),
                    ):
                        mine[key] = at_times(made.times, other.times + shift, theirs[key])
                    made.count[key] = np.isfinite(made.mean[key]).astype(float)
        return made.between(low, high)

    def some_minutes(self, low: float, high: float, channels: Iterable[str], most: int) -> Seconds:
        """The same of a stretch of hours by the second, of ``most`` minutes about, evenly spread, where
        they are kept; else of all of it.
        """
        every = math.ceil((high - low) / MINUTE / most)
        numbers = range(math.floor(low / MINUTE), math.floor(high / MINUTE) + 1, max(every, 1))
        if every > 1 and not self._beside:
            rows = list(self.recording.minutes.filter(number__in=numbers).order_by("number"))
            if len(rows) >= len(numbers) - 1:  # the last one may have begun only
                wanted = frozenset(channels)
                return _one_after_the_other([_unpacked(row, wanted) for row in rows]).between(
                    low, high
                )
        return self.seconds(low, high, channels)


REACH = 60.0
"""How far beyond a stretch the samples of a logger that ran beside it are read [s]."""

EDGE = 1e-6
"""A minute ends so long before the next one [s]."""


def _runs(ticks: np.ndarray, table: np.ndarray) -> Iterator[Rows]:
    """Rows as pieces of neighbouring ticks."""
    starts = np.flatnonzero(np.concatenate(([True], np.diff(ticks) != 1)))
    for a, b in zip(starts, np.append(starts[1:], ticks.size), strict=True):
        yield Rows(int(ticks[a]), table[a:b])


def _one_after_the_other(parts: list[Seconds]) -> Seconds:
    """Parts of a trace by the second, in order; a channel that one lacks has no sample there."""
    keys = {key: None for part in parts for key in part.mean}

    def together(figures: list[dict[str, np.ndarray]], missing: float) -> dict[str, np.ndarray]:
        return {
            key: np.concatenate(
                [
                    one.get(key, np.full(part.times.size, missing))
                    for one, part in zip(figures, parts, strict=True)
                ]
            )
            for key in keys
        }

    return Seconds(
        np.concatenate([part.times for part in parts]) if parts else np.zeros(0),
        together([part.count for part in parts], 0.0),
        together([part.mean for part in parts], math.nan),
        together([part.least for part in parts], math.nan),
        together([part.most for part in parts], math.nan),
    )


def trace_of(recording: Recording) -> StoredTrace:
    """The trace of a recording."""
    return StoredTrace(recording)


def after(recording: Recording) -> int:
    """The tick after the last one that is stored of a live recording; 0 where there is none."""
    last = recording.pieces.order_by("-first", "-count").values_list("first", "count")[:1]
    return last[0][0] + last[0][1] if last else 0


def store(recording: Recording, trace: Held) -> None:
    """Write a whole trace, with its seconds where it is dense."""
    stretch = trace.stretch
    _append(recording, stretch, 0)
    if dense(trace):
        keep_minutes(recording.pk, stretch)


def dense(trace: Trace) -> bool:
    """Whether a trace has so many samples that its seconds are worth keeping."""
    extent = trace.extent
    if extent is None or extent[1] <= extent[0]:
        return False
    near = trace.window(extent[0], extent[0] + 10 * MINUTE, []).times
    return near.size > DENSE * max(float(near[-1] - near[0]), 1.0)


def _append(recording: Recording, stretch: Stretch, seq: int) -> int:
    """Append a stretch in chunks from a number on; the number after the last one."""
    times = np.ascontiguousarray(stretch.times, dtype="<f8")
    starts = range(0, times.size, CHUNK_SAMPLES)
    chunks = [
        Chunk(
            recording=recording,
            channel=key,
            seq=seq + i,
            from_s=float(times[start]),
            to_s=float(times[start : start + CHUNK_SAMPLES][-1]),
            count=len(times[start : start + CHUNK_SAMPLES]),
            data=np.ascontiguousarray(values[start : start + CHUNK_SAMPLES], dtype="<f8").tobytes(),
        )
        for key, values in {TIME: times, **stretch.channels}.items()
        for i, start in enumerate(starts)
    ]
    Chunk.objects.bulk_create(chunks, batch_size=200)
    return seq + len(starts)


RECORDER_LOCK = 0x48415543
"""First key of the advisory locks under which recorders hold live recordings; the second is the
live recording's.
"""


def held_by_recorder(recording: Recording) -> bool:
    """Whether a recorder holds a live recording, and may still store rows of it."""
    with connection.cursor() as cursor:
        cursor.execute(
            "select exists (select from pg_locks where locktype = 'advisory' and granted"
            " and classid = %s::int and objid in (select id from bench_live where recording_id = %s)"
            " and database = (select oid from pg_database where datname = current_database()))",
            [RECORDER_LOCK, recording.pk],
        )
        return bool(cursor.fetchone()[0])


def ended_in_pieces() -> list[Recording]:
    """Live recordings that have ended and are still in pieces."""
    ended = Recording.objects.filter(live__ended_at__isnull=False)
    return list(
        ended.filter(
            Exists(Piece.objects.filter(recording=OuterRef("pk"))),
            ~Exists(Chunk.objects.filter(recording=OuterRef("pk"))),
        )
    )


@transaction.atomic
def compact(recording: Recording) -> int:
    """Make chunks of the pieces of a recording that has ended; how many pieces there were.

    Rows that come later than this stay pieces, and are read with the chunks.
    """
    Recording.objects.select_for_update(of=("self",)).get(pk=recording.pk)
    trace = trace_of(recording)
    if trace.own_extent is None or recording.chunks.exists():
        return 0
    rate, seq = float(recording.rate or 1.0), 0
    last = recording.pieces.order_by("-pk").values_list("pk", flat=True)[0]
    for begin in range(0, round(trace.own_extent[1] * rate) + 1, CHUNK_SAMPLES):
        low, high = (begin - 0.5) / rate, (begin + CHUNK_SAMPLES - 0.5) / rate
        read = trace._with_pieces(Stretch(np.zeros(0), {}), low, high, None)
        stretch = read.between(low, high)
        if stretch.times.size:
            seq = _append(recording, stretch, seq)
    done = recording.pieces.filter(pk__lte=last)
    count = done.count()
    done.delete()
    recording.minutes.all().delete()
    for number in range(math.floor(trace.own_extent[1] / MINUTE) + 1):
        remake_minute(recording, number)
    return count


def keep_minutes(recording_pk: int, stretch: Stretch) -> None:
    """Keep whole minutes of a recording by the second; those that are there are made anew.

    Parameters
    ----------
    stretch : all samples of the minutes that it touches
    """
    Minute.objects.bulk_create(
        [
            Minute(recording_id=recording_pk, number=number, channels=channels, data=data)
            for number, channels, data in _packed(with_products(stretch))
        ],
        batch_size=200,
        update_conflicts=True,
        unique_fields=["recording", "number"],
        update_fields=["channels", "data"],
    )


def remake_minute(recording: Recording, number: int) -> None:
    """Make one minute anew from the samples."""
    low = number * MINUTE
    samples = trace_of(recording).own_window(low, low + MINUTE - EDGE)
    keep_minutes(recording.pk, samples)


def minutes_lacking(recording: Recording, before: int) -> set[int]:
    """Minutes of a live recording, of those before a number, that are not kept by the second."""
    return set(range(before)) - set(recording.minutes.values_list("number", flat=True))


def with_products(stretch: Stretch) -> Stretch:
    """A stretch with channels that are a product of two, where they are not read themselves: direct
    current power.
    """
    held = stretch.channels
    if "power" in held or not {"voltage", "current"} <= set(held):
        return stretch
    return Stretch(stretch.times, held | {"power": held["voltage"] * held["current"]})


def _with_factors(wanted: frozenset[str] | None) -> frozenset[str] | None:
    """Channels that are wanted, with those that they may be the product of."""
    if wanted is None or "power" not in wanted:
        return wanted
    return wanted | {"voltage", "current"}


def _packed(stretch: Stretch) -> Iterator[tuple[int, list[str], bytes]]:
    """Minutes of a stretch as they are stored: number, channels, data."""
    clocked = Stretch(stretch.times, {TIME: stretch.times, **stretch.channels})
    seconds = seconds_of(clocked)
    keys = list(seconds.mean)
    slot = np.floor(seconds.times + EDGE).astype(int)
    for number in np.unique(slot // MINUTE):
        here = slot // MINUTE == number
        data = np.full((4, len(keys), MINUTE), np.nan)
        data[0] = 0.0
        for i, key in enumerate(keys):
            for j, figures in enumerate((seconds.count, seconds.mean, seconds.least, seconds.most)):
                data[j, i, slot[here] % MINUTE] = figures[key][here]
        yield int(number), keys, data.astype("<f8").tobytes()


def _unpacked(minute: Minute, wanted: Collection[str] | None) -> Seconds:
    """A stored minute by the second."""
    keys: list[str] = minute.channels
    data = np.frombuffer(minute.data, dtype="<f8").reshape(4, len(keys), MINUTE)
    there = data[0, 0] > 0
    of: Mapping[str, np.ndarray] = {
        key: data[:, i, there]
        for i, key in enumerate(keys)
        if key != TIME and (wanted is None or key in wanted)
    }
    return Seconds(
        data[1, 0, there],
        *({key: figures[j] for key, figures in of.items()} for j in range(4)),
    )
