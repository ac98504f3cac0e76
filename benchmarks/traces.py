"""Faults and forecasts: how often they are right on seeded traces, and how long they take against a
bare median filter.
"""

from __future__ import annotations

from collections.abc import Iterator
from zoneinfo import ZoneInfo

import numpy as np
from scipy.ndimage import median_filter

from benchmarks.harness import Row, row, seconds
from hauch.core.measure.curves import power_law
from hauch.core.trace.marks import find_marks, spikes
from hauch.core.trace.reduce import steady_readings
from hauch.core.trace.settle import fit_settling
from hauch.core.trace.source import Held
from hauch.formats.logger_csv import inspect, read_log
from hauch.formats.logger_names import guess_mapping
from tests.formats.test_logger_csv import DATA
from tests.simulated import SOAKS, ar, forecasts, soak

SAMPLES = 1_000_000


def run() -> Iterator[Row]:
    random = np.random.default_rng(21)
    traces = {
        "white": (4 + 0.05 * random.standard_normal(SAMPLES), 0.05, 0.0),
        "gusts": (
            4 + 0.06 * ar(random, SAMPLES) + 0.035 * random.standard_normal(SAMPLES),
            0.0695,
            0.0,
        ),
        "whole 1/min": (np.round(1850 + 2.2 * random.standard_normal(SAMPLES)), 2.2, 1.0),
    }
    for name, (values, sigma, resolution) in traces.items():
        yield row(
            f"traces: false marks in 10,000, {name}",
            float(spikes(values, resolution).sum()) / SAMPLES * 1e4,
            "",
            1.0,
        )
        faulty, at = values.copy(), np.arange(500, SAMPLES, 500)
        faulty[at] += 8 * sigma * np.where(random.random(at.size) < 0.5, 1, -1)
        yield row(
            f"traces: 8-sigma spikes missed, {name}",
            100 * float(1 - spikes(faulty, resolution)[at].mean()),
            "%",
            1.0,
        )
    for kind in SOAKS:
        held, doubt = forecasts(kind, 400)
        yield row(f"traces: ends outside the doubt of 100, {kind}", 100 * (1 - held), "", 7.0)
        yield row(f"traces: median doubt of the end, {kind}", doubt, "K")
    table = inspect((DATA / "bench_f_sweep.csv").read_bytes())
    log = read_log(table, guess_mapping(table), ZoneInfo("UTC"), True)
    reduced = steady_readings(Held(log.times, log.channels), {}, "r", by_point=True)
    means = {
        key: [reduced.readings[key][reduced.positions[key] == n].mean() for n in range(1, 9)]
        for key in reduced.readings
    }
    worst = max(
        abs(power_law(means["speed"], means[key])[1] - true)
        for key, true in (("air_speed", 1.0), ("static_pressure", 2.0), ("power", 2.9))
    )
    yield row("traces: sample sweep, exponents off by", worst, "", 0.02)
    day = traces["gusts"][0][:864_000]
    base = seconds(lambda: median_filter(day, size=11), 3)
    yield row("traces: bare median filter, 24 h at 10 Hz", base, "s")
    times = np.arange(864_000) / 10
    yield row(
        "traces: all faults of that channel, ratio",
        seconds(lambda: find_marks(times, {"air_speed": day}), 3) / base,
        "x",
    )
    t, y, _ = soak(random, "all")
    yield row("traces: one forecast", 1000 * seconds(lambda: fit_settling(t, y, 0.5), 9), "ms")
