"""Import of a 20-minute log of eight channels at 10 Hz, against a bare read of it into floats; a day of
it; and a live bench after four hours.
"""

from __future__ import annotations

import csv
import io
import time
import uuid
from collections.abc import Callable, Iterator
from datetime import UTC, datetime, timedelta

import numpy as np
from django.db import transaction

from benchmarks.harness import Row, row, seconds
from hauch.bench import traces
from hauch.bench.logs import NewRecording, import_log
from hauch.bench.models import Live, Recording
from hauch.bench.runs import Subject, Typed
from hauch.core.trace.source import Held
from hauch.formats.logger_csv import inspect, read_log
from hauch.formats.logger_names import guess_mapping
from hauch.live import actions as live
from hauch.live import runs
from hauch.live.stream import history
from hauch.stores.models import Instrument
from tests.builder import ROOM, START, Built, build
from tests.traces import RATE, put_minutes, put_pieces, rows_of

HEADER = "timestamp,airspeed_mps,static_pressure_pa,noise_dba,load_temp_c,room_temp_c,supply_v,supply_a,rpm"


def log_file(rows: int = 12_000) -> bytes:
    """A log as a bench logger writes it, with some samples lost."""
    random = np.random.default_rng(20)
    start = datetime(2026, 3, 4, 14, 5, tzinfo=UTC)
    seconds_ = np.arange(rows) / 10
    load = 61.7 - 38.8 * np.exp(-seconds_ / 186) + 0.05 * random.standard_normal(rows)
    middles = (4.31, 46.8, 51.4, None, 22.5, 12.04, 0.412, 1850)
    columns = [
        load if m is None else m * (1 + 0.005 * random.standard_normal(rows)) for m in middles
    ]
    formats = ("%.2f", "%.1f", "%.1f", "%.2f", "%.2f", "%.3f", "%.3f", "%.0f")
    lines = [HEADER]
    for index in range(rows):
        stamp = (start + timedelta(milliseconds=100 * index)).isoformat(timespec="milliseconds")
        lines.append(
            ",".join(
                [
                    stamp,
                    *(
                        "" if index % 400 == 7 else f % c[index]
                        for f, c in zip(formats, columns, strict=True)
                    ),
                ]
            )
        )
    return "\n".join(lines).encode()


def bare(data: bytes) -> list[list[float]]:
    """What a script would do: the csv module and float()."""
    rows = csv.reader(io.StringIO(data.decode()))
    next(rows)
    return [
        [
            datetime.fromisoformat(r[0]).timestamp(),
            *(float(c) if c else float("nan") for c in r[1:]),
        ]
        for r in rows
    ]


def run() -> Iterator[Row]:
    data = log_file()
    base = seconds(lambda: bare(data), 7)
    yield row("log: bare read", base, "s")

    def read():
        table = inspect(data)
        return read_log(table, guess_mapping(table))

    reading = seconds(read, 7)
    yield row("log: read, checked, in SI", reading, "s")
    built = build(kinds=("air", "pressure", "noise", "rise", "power"))
    log = read()

    def store():
        with transaction.atomic():
            recording = Recording.objects.create(round=built.round, started_at=START)
            traces.store(recording, Held(log.times, log.channels))

    storing = seconds(store, 7)
    yield row("log: stored", storing, "s")
    yield row("log: imported (read and stored), ratio", (reading + storing) / base, "x", 3.0)
    extra = {"background_level": [Typed(36.0, "36", "dB(A)")]}

    def whole():
        new = NewRecording(
            built.round,
            None,
            read(),
            list(built.tests.values()),
            Subject(specimen=built.specimens["Amsel"]),
            ROOM,
            START,
            (),
            extra,
            uid=uuid.uuid4(),
        )
        import_log(built.operator, new)

    yield row("log: imported and reduced to five results", seconds(whole, 5), "s")
    yield from _a_day(built)
    yield from _four_hours(built)


def _a_day(built: Built) -> Iterator[Row]:
    """24 hours of eight channels at 10 Hz."""
    data = log_file(864_000)
    start = time.perf_counter()
    bare(data)
    base = time.perf_counter() - start
    yield row(f"log of 24 h, {len(data) / 1e6:.0f} MB: bare read", base, "s")
    start = time.perf_counter()
    table = inspect(data)
    log = read_log(table, guess_mapping(table))
    with transaction.atomic():
        traces.store(
            Recording.objects.create(round=built.round, started_at=START),
            Held(log.times, log.channels),
        )
    yield row("log of 24 h: imported, ratio", (time.perf_counter() - start) / base, "x", 3.0)


def _four_hours(built: Built) -> Iterator[Row]:
    """A live bench after four hours at 50 Hz: what a reading needs beside reading all of it."""
    Instrument.objects.update(resource="TCPIP0::127.0.0.1::9::SOCKET")
    specimen = built.specimens["Amsel"]
    one = live.begin(built.operator, built.tests["air"], Subject(specimen=specimen))
    seconds = 4 * 3600
    rows = rows_of(round(seconds * RATE), one.recording.columns)
    put_pieces(one.recording, rows)
    put_minutes(one.recording, rows)
    windows = [[seconds - 30.0 + 6 * i, seconds - 26.0 + 6 * i] for i in range(3)]
    Live.objects.filter(pk=one.pk).update(
        windows=windows, done={"mount": 1.0, "guard": 2.0}, started_at=one.recording.started_at
    )
    start = time.perf_counter()
    stretch = traces.trace_of(one.recording).own_window()
    everything = time.perf_counter() - start
    yield row(f"live bench of 4 h, {len(stretch.times):,} rows: read all of it", everything, "s")
    start = time.perf_counter()
    runs.accept(built.operator, Live.objects.get(pk=one.pk), ROOM)
    yield row("live bench of 4 h: accept a run", time.perf_counter() - start, "s", 1.0)
    start = time.perf_counter()
    history(Live.objects.get(pk=one.pk))
    yield row("live bench of 4 h: a browser connects", time.perf_counter() - start, "s", 1.0)
    start = time.perf_counter()
    count = traces.compact(one.recording)
    yield row(
        f"live bench of 4 h: {count:,} pieces become chunks", time.perf_counter() - start, "s"
    )
    yield row(
        "live bench of 4 h: read all of it from chunks, ratio",
        _seconds_of(traces.trace_of(one.recording).own_window) / everything,
        "x",
    )


def _seconds_of(work: Callable[[], object]) -> float:
    start = time.perf_counter()
    work()
    return time.perf_counter() - start
