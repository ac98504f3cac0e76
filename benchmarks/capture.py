"""Live capture: ten benches with eight channels at 50 Hz, from simulated meters through recorder,
database and web server to a browser.

Everything runs on this machine at once: meters, two recorders, PostgreSQL, web server, ten streams
and one page in a browser. At the end one recorder is killed, and the other takes its benches over.
What was stored is then counted: every tick of every channel must be there. Each bench has one more
meter that keeps nothing, so that its longest pause is what a dead recorder costs.
"""

from __future__ import annotations

import os
import re
import signal
import socket
import statistics
import subprocess
import sys
import threading
import time
import urllib.request
from collections.abc import Iterator
from typing import Any

import numpy as np
import pyvisa
from django.db import connection
from django.test import Client
from playwright.sync_api import sync_playwright

from benchmarks.harness import Row, row
from hauch.bench.models import Live
from hauch.bench.runs import Subject
from hauch.bench.traces import after, trace_of
from hauch.instruments.profile import presets
from hauch.instruments.standins import DEVICES, PER_BENCH
from hauch.live import actions as live
from hauch.people.models import User
from hauch.rounds.models import Test
from hauch.stores.models import Instrument, ReferenceSpecimen, Rig
from tests.builder import PASSWORD, build
from tests.processes import environment

BENCHES = 10
SERVE = """
import sys, uvicorn
from django.core.asgi import get_asgi_application
from django.contrib.staticfiles.handlers import ASGIStaticFilesHandler
uvicorn.run(ASGIStaticFilesHandler(get_asgi_application()), host="127.0.0.1", port=int(sys.argv[1]), lifespan="off", log_level="error", timeout_graceful_shutdown=1)
"""  # noqa: E501
"""The web server, which gives static files itself."""
CHANNELS = (
    "air_speed",
    "static_pressure",
    "sound_level",
    "load_temperature",
    "room_temperature",
    "voltage",
    "current",
    "speed",
)
FORGETFUL = "scale_mass"
"""Read from a meter that keeps nothing."""
SECONDS = 40


def free(count: int) -> int:
    """First of several free ports."""
    for first in range(21_000, 60_000, count + 7):
        probes = []
        try:
            for port in range(first, first + count):
                probe = socket.socket()
                probes.append(probe)
                probe.bind(("127.0.0.1", port))
            return first
        except OSError:
            continue
        finally:
            for probe in probes:
                probe.close()
    raise OSError("no free ports")


def processor(pid: int) -> float:
    """Processor seconds of a process so far."""
    with open(f"/proc/{pid}/stat") as handle:
        fields = handle.read().rsplit(")", 1)[1].split()
    return (int(fields[11]) + int(fields[12])) / os.sysconf("SC_CLK_TCK")


def on_line(
    first_port: int, count: int, like: Test, operator: User, reference: ReferenceSpecimen
) -> list[Live]:
    """So many rigs with their meters, like that of a test, and a live recording on each."""
    lives = []
    for number in range(count):
        rig = Rig.objects.create(
            name=f"Bench {number + 1}", kind="tunnel", constants=like.rig.constants
        )
        for channel in (*CHANNELS, "throttle", FORGETFUL):
            at = next(i for i, d in enumerate(DEVICES) if channel in d.columns)
            profile = next(
                p[channel]
                for name, p in presets().items()
                if name.startswith("stand-in") and channel in p
            )
            if channel == FORGETFUL:
                profile = {"query": profile["query"], "unit": profile["unit"], "rate": 10}
            resource = f"TCPIP0::127.0.0.1::{first_port + number * PER_BENCH + at}::SOCKET"
            rig.meters.create(
                channel=channel,
                instrument=Instrument.objects.create(
                    name=f"{channel} {number}", channel=channel, resource=resource, profile=profile
                ),
            )
        test = Test.objects.create(
            round=like.round,
            key=f"air{number}",
            label=f"Air {number}",
            procedure="airflow",
            rig=rig,
            setting=like.setting,
            order=number + 5,
        )
        one = live.begin(operator, test, Subject(reference=reference))
        for step in live.GUARDED:
            live.confirm(operator, one, step)
        live.set_throttle(operator, one, 60.0 + number)
        lives.append(one)
    return lives


def counted(one: Live) -> tuple[int, int, float]:
    """Samples of a recording that are not there, how many there should be, and the longest pause [s]
    of the meter that keeps nothing; from the first half second on.
    """
    stretch = trace_of(one.recording).own_window()
    times, channels = stretch.times, stretch.channels
    pause = 0.0
    if FORGETFUL in channels:
        shown = times[np.isfinite(channels.pop(FORGETFUL))]
        pause = float(np.diff(shown).max())
    ticks = np.rint(times * one.recording.rate).astype(int)
    later = ticks > ticks[0] + 25
    whole = int(ticks[-1] - ticks[0] - 25)
    lost = sum(whole - int(np.isfinite(values[later]).sum()) for values in channels.values())
    return lost, whole * len(channels), pause


def stream(url: str, cookie: str, lags: list[float], stop: threading.Event) -> None:
    """Listen to one bench, as a browser does, and note how old the newest sample is when it comes."""
    request = urllib.request.Request(url, headers={"Cookie": f"sessionid={cookie}"})
    with urllib.request.urlopen(request, timeout=20) as answer:
        for line in answer:
            if stop.is_set():
                return
            if line.startswith(b"data: ") and (found := re.search(rb'"at":([0-9.]+)\}', line)):
                lags.append(time.time() - float(found[1]))


def run() -> Iterator[Row]:
    first_port = free(PER_BENCH * BENCHES + 1)
    port = first_port + PER_BENCH * BENCHES

    def start(*command):
        return subprocess.Popen(
            [sys.executable, *command],
            env=environment(),
            stdout=subprocess.DEVNULL,
            stderr=subprocess.DEVNULL,
        )

    meters = start(
        "-m", "hauch.ops", "standins", "--benches", str(BENCHES), "--first-port", str(first_port)
    )
    built = build()
    lives = on_line(first_port, BENCHES, built.tests["air"], built.operator, built.reference)
    time.sleep(3)
    recorders = [start("-m", "hauch.ops.manage", "record") for _ in range(2)]
    web = start("-c", SERVE, str(port))
    try:
        yield from _measure(lives, port, recorders)
    finally:
        for child in (web, *recorders, meters):
            child.send_signal(signal.SIGTERM)
        for child in (web, *recorders, meters):
            child.wait(10)
        connection.close()


def taken_over(lives: list[Live], recorder: subprocess.Popen) -> float:
    """Seconds from the kill of a recorder until all benches store again what was read after it."""
    recorder.kill()
    killed = time.time()
    waiting = list(lives)
    while waiting and time.time() - killed < 30:
        waiting = [
            one
            for one in waiting
            if one.recording.started_at.timestamp() + after(one.recording) / one.recording.rate
            < killed + 0.1
        ]
        time.sleep(0.02)
    return time.time() - killed


def _measure(lives: list[Live], port: int, recorders: list[subprocess.Popen]) -> Iterator[Row]:
    client = Client()
    client.login(username="operator", password=PASSWORD)
    cookie = client.cookies["sessionid"].value
    while Live.objects.filter(pk__in=[one.pk for one in lives], heard_at__isnull=True).exists():
        time.sleep(0.2)
    time.sleep(4)
    lags: list[float] = []
    stop = threading.Event()
    base = f"http://127.0.0.1:{port}"
    threads = [
        threading.Thread(
            target=stream,
            args=(f"{base}{one.get_absolute_url()}stream/", cookie, lags, stop),
            daemon=True,
        )
        for one in lives
    ]
    for thread in threads:
        thread.start()
    with sync_playwright() as playwright:
        browser = playwright.chromium.launch(executable_path="/usr/bin/chromium-headless-shell")
        context = browser.new_context(viewport={"width": 1280, "height": 800})
        context.add_cookies([{"name": "sessionid", "value": cookie, "url": base}])
        page = context.new_page()
        page.goto(f"{base}{lives[0].get_absolute_url()}")
        page.wait_for_timeout(5000)
        lags.clear()
        page.evaluate("window.hauchLags.length = 0")
        begun, used = time.time(), sum(processor(one.pid) for one in recorders)
        page.wait_for_timeout(SECONDS * 1000)
        screen = sorted(page.evaluate("window.hauchLags"))
        share = (sum(processor(one.pid) for one in recorders) - used) / (time.time() - begun)
        browser.close()
    stop.set()
    arrived = sorted(lags)
    silent = taken_over(
        lives, max(recorders, key=lambda one: processor(one.pid))
    )  # the one that holds most of them
    time.sleep(2)
    lost = expected = 0
    pause = 0.0
    for one in lives:
        missing, whole, shown = counted(one)
        lost, expected, pause = lost + missing, expected + whole, max(pause, shown)
    yield row(f"capture: samples of {BENCHES} benches", float(expected), "")
    yield row("capture: samples lost", float(lost), "", 0.0)
    yield row("capture: sample to screen, median", 1000 * statistics.median(screen), "ms")
    yield row("capture: sample to screen, p95", 1000 * screen[int(0.95 * len(screen))], "ms", 300.0)
    yield row(
        "capture: sample to stream of all ten, p95",
        1000 * arrived[int(0.95 * len(arrived))],
        "ms",
        300.0,
    )
    yield row("capture: both recorders, of one core", 100 * share, "%")
    yield row(
        f"capture: a recorder killed, all {BENCHES} benches stored again after", silent, "s", 3.0
    )
    yield row(
        "capture: longest pause of a meter that keeps nothing, a recorder killed", pause, "s", 1.0
    )
    resource: Any = pyvisa.ResourceManager("@py").open_resource(
        lives[0].test.rig.meters.get(channel="speed").instrument.resource,
        read_termination="\n",
        write_termination="\n",
    )
    asked = time.perf_counter()
    for _ in range(500):
        resource.query("MEAS:RPM? (@1)")
    plain = (time.perf_counter() - asked) / 500
    asked = time.perf_counter()
    rows = 0
    for _ in range(50):
        rows += (
            resource.query_binary_values("FETC:BUFF? -1", datatype="d", container=np.array).size - 4
        ) // 2
    yield row("capture: plain query of one sample", 1e6 * plain, "us")
    yield row(
        "capture: a sample in a block, of a plain query",
        (time.perf_counter() - asked) / rows / 2 / plain,
        "x",
        1.0,
    )
    resource.close()
