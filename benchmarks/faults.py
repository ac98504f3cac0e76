"""Faults by script: an installation of its own runs, one of its processes is killed in the middle of
some work, or its disk or a meter is taken away; then it is counted what was lost, and how long what
was hit stood still. Each fault three times.

The clock that jumps is not the machine's, which a script must not set, but one that all processes of
an installation of its own are given, save the database.
HAUCH_FAULT names one fault by a part of its name.
"""

from __future__ import annotations

import math
import os
import subprocess
import threading
import time
import traceback
from collections.abc import Callable, Iterator
from contextlib import contextmanager, suppress
from datetime import timedelta
from socket import create_connection

import numpy as np
from django.db import connection
from django.urls import reverse
from django.utils import timezone

from benchmarks.capture import counted
from benchmarks.harness import Row, row
from benchmarks.house import ROOM_FOR_FILES, House, Person, until
from hauch.bench.files import keep_file
from hauch.bench.importing import Confirmed
from hauch.bench.imports import ask_import
from hauch.bench.models import Live, LogImport, Recording, Run, SourceFile
from hauch.bench.runs import Room, Subject
from hauch.bench.traces import after
from hauch.entries.actions import check_again
from hauch.entries.models import PartCheck, PartFile
from hauch.live import actions as live
from hauch.people.models import User
from hauch.rounds.models import Round, Test
from hauch.stores.models import ReferenceSpecimen
from hauch.verdict.models import Standing
from tests.bundles import as_another, exported

TIMES = 3
WEB, WORKER, RECORDER = "uvicorn", "procrastinate", "manage record"


def log_of(rows: int, seed: int) -> bytes:
    """A logger's file of two channels at 10 Hz."""
    values = np.random.default_rng(seed).normal(5.0, 0.1, rows)
    lines = "".join(f"{i / 10:.1f},{v:.4f},{2 * v:.4f}\n" for i, v in enumerate(values))
    return b"time [s],air speed [m/s],power [W]\n" + lines.encode()


Fault = Callable[[House, int], tuple[int, float]]
"""Does a fault for the so-manieth time; what was lost, and how long something stood still [s]."""


def host() -> User:
    """Who does things."""
    return User.objects.get(username="runa")


def air_test() -> Test:
    """The test on whose rig things are recorded."""
    return Test.objects.select_related("round", "rig").get(round__number=1, key="air")


def upload(house: House, number: int) -> tuple[int, float]:
    """The web server dies while a file goes up."""
    person, data = Person(house, "runa"), log_of(400_000, 100 + number)
    path, before = reverse("bench:upload", args=[air_test().round.slug]), SourceFile.objects.count()
    ended: list[object] = []

    def send() -> None:
        try:
            ended.append(person.send_file(path, "log", "day.csv", data))
        except OSError as cut:
            ended.append(cut)

    sending = threading.Thread(target=send)
    sending.start()
    time.sleep(0.05 + 0.05 * number)
    house.kill(WEB)
    stood = until(house.healthy, "pages again")
    sending.join()
    half = SourceFile.objects.count() - before
    status, _ = person.send_file(path, "log", "day.csv", data)
    whole = SourceFile.objects.filter(size=len(data)).count() >= 1
    return half * (not whole) + (status != 200) + (not whole), stood


def check(house: House, number: int) -> tuple[int, float]:
    """The worker dies while it checks a part."""
    checked = PartFile.objects.filter(
        newest_check__state="done", version__entry__round__state="open"
    )
    file = checked.order_by("pk")[number]
    asked = check_again(host(), file)
    mine = PartCheck.objects.filter(pk=asked.pk)
    until(lambda: mine.filter(state="running").exists(), "the check")
    house.kill(WORKER)
    stood = until(lambda: mine.exclude(state__in=["waiting", "running"]).exists(), "its end")
    return int(mine.get().state != "done"), stood


def logger_import(house: House, number: int) -> tuple[int, float]:
    """The worker dies while it imports a long file."""
    test, user = air_test(), host()
    source = keep_file(user, f"long{number}.csv", log_of(700_000, 200 + number))
    specimen = Run.objects.filter(test=test, state="valid", specimen__isnull=False)[0].specimen
    asked = Confirmed(
        columns=[("time", "s"), ("air_speed", "m/s"), ("", "")],
        day_first=True,
        started_at=timezone.now() - timedelta(days=1),
        room=Room(21.0, 97_000.0, 0.5),
        tests=[test.pk],
        specimen=specimen.pk,
    )
    before = Recording.objects.count()
    mine = LogImport.objects.filter(pk=ask_import(user, test.round, source, asked).pk)
    until(lambda: mine.filter(state="running").exists(), "the import")
    time.sleep(0.4 * number)
    house.kill(WORKER)
    stood = until(lambda: mine.exclude(ended_at=None).exists(), "its end")
    made = Recording.objects.count() - before
    return abs(made - 1) + (mine.get().state != "done"), stood


def round_import(house: House, number: int) -> tuple[int, float]:
    """The web server dies while it reads a round."""
    person, user = Person(house, "runa"), host()
    data = as_another(exported(user, Round.objects.get(number=1)))
    Round.objects.filter(uid="6f0c7a52-6f1b-4d3e-9a4e-140140140149").update(
        uid=f"6f0c7a52-6f1b-4d3e-9a4e-14014014{number:04d}"
    )
    before = Round.objects.count()

    def send() -> None:
        with suppress(OSError):
            person.send_file(reverse("exchange:import"), "bundle", "round.zip", data)

    sending = threading.Thread(target=send)
    sending.start()
    time.sleep(1.5 + 0.7 * number)
    house.kill(WEB)
    stood = until(house.healthy, "pages again")
    sending.join()
    return Round.objects.count() - before, stood


def backup(house: House, number: int) -> tuple[int, float]:
    """A backup is killed while it is written; the next one is written and can be read."""
    file = house.folder / f"backup{number}.tar"
    command = [*house.command, "backup", str(file), "--data", str(house.folder / "data")]
    quiet = {"env": house.environment, "stdout": subprocess.DEVNULL, "stderr": subprocess.DEVNULL}
    first = subprocess.Popen(command, **quiet)  # type: ignore[call-overload]
    time.sleep(1.6 + 0.2 * number)
    first.kill()
    first.wait()
    lost = int(file.exists())
    began = time.monotonic()
    again = subprocess.run(command, **quiet)  # type: ignore[call-overload]
    return lost + (again.returncode != 0) + (not file.exists()), time.monotonic() - began


@contextmanager
def on_the_bench() -> Iterator[Live]:
    """A live recording that runs; it is ended and thrown away."""
    user, test = host(), air_test()
    reference = ReferenceSpecimen.objects.filter(runs__test=test, state="in_use").first()
    one = live.begin(user, test, Subject(reference=reference))
    try:
        until(lambda: Live.objects.get(pk=one.pk).status.get("at", 0) > 2.0, "recording")
        yield one
    finally:
        live.close_down(user, Live.objects.get(pk=one.pk))
        until(lambda: not Live.objects.filter(pk=one.pk, ended_at=None).exists(), "its end")


def stored_until(one: Live) -> float:
    """When the newest sample was read that is stored [s since 1970]."""
    recording = Recording.objects.get(pk=one.recording_id)
    return recording.started_at.timestamp() + after(recording) / float(recording.rate or 50.0)


def recording(fault: Callable[[House], float]) -> Fault:
    """Something happens while a bench records. The time is until a sample of after it is stored;
    ``fault`` gives the seconds that the meter itself was away.
    """

    def work(house: House, number: int) -> tuple[int, float]:
        with on_the_bench() as one:
            time.sleep(1.0 + number)
            away = fault(house)
            hit = time.time()
            stood = until(lambda: stored_until(one) > hit + 0.1, "samples again")
            time.sleep(2.0)
            until(lambda: stored_until(one) > hit + 1.5, "all that was kept")
            return counted(Live.objects.select_related("recording").get(pk=one.pk))[0], max(
                stood - away, 0.0
            )

    return work


def _kill(kind: str) -> Callable[[House], float]:
    def fault(house: House) -> float:
        house.kill(kind)
        return 0.0

    return fault


def _database(house: House) -> float:
    house.kill_database()
    return 0.0


AWAY = 20.0


def _meter_away(house: House) -> float:
    """The line to the anemometer is cut for `AWAY` seconds; it keeps its samples meanwhile."""
    meter = air_test().rig.meters.get(channel="air_speed").instrument
    port = int(meter.resource.split("::")[2])
    with create_connection(("127.0.0.1", port)) as line:
        line.sendall(f"RIG:OFFLINE {AWAY:.0f}\n".encode())
    time.sleep(AWAY)
    return 0.0


def full_disk(house: House, number: int) -> tuple[int, float]:
    """The disk is full while a file goes up: it is said, and with room again it is taken."""
    person, data = Person(house, "runa"), log_of(60_000, 300 + number)
    path, before = reverse("bench:upload", args=[air_test().round.slug]), SourceFile.objects.count()
    filler = house.disk / "filler"
    with filler.open("wb") as out, suppress(OSError):
        while True:
            out.write(bytes(1 << 16))
            out.flush()
    status, said = person.send_file(path, "log", "full.csv", data)
    lost = int(status != 507 or "disk cannot be written" not in said)
    lost += SourceFile.objects.count() - before
    filler.unlink()
    began = time.monotonic()
    status, _ = person.send_file(path, "log", "full.csv", data)
    return lost + (status != 200), time.monotonic() - began


def read_only(house: House, number: int) -> tuple[int, float]:
    """The disk turns read-only while people work: what needs no file goes on."""
    person, data = Person(house, "runa"), log_of(30_000, 400 + number)
    path, before = reverse("bench:upload", args=[air_test().round.slug]), SourceFile.objects.count()
    remount = ["mount", "-o", "remount,{}", str(house.disk)]
    subprocess.run([part.format("ro") for part in remount], check=True)
    try:
        status, said = person.send_file(path, "log", "ro.csv", data)
        lost = int(status != 507 or "disk cannot be written" not in said)
        lost += SourceFile.objects.count() - before
        person.get(f"/rounds/{air_test().round.slug}/verdict/")
    finally:
        subprocess.run([part.format(f"rw,size={ROOM_FOR_FILES}") for part in remount], check=True)
    began = time.monotonic()
    status, _ = person.send_file(path, "log", "ro.csv", data)
    return lost + (status != 200), time.monotonic() - began


def _jump(house: House) -> float:
    """The clock jumps an hour ahead, and after some seconds back."""
    house.set_clock(3600.0)
    time.sleep(8.0)
    house.set_clock(0.0)
    time.sleep(2.0)
    return 10.0


FAULTS: dict[str, Fault] = {
    "web server killed during an upload": upload,
    "worker killed during a check": check,
    "worker killed during a logger's import": logger_import,
    "web server killed during a round's import": round_import,
    "backup killed": backup,
    "recorder killed during a live recording": recording(_kill(RECORDER)),
    "web server killed during a live recording": recording(_kill(WEB)),
    "database killed during a live recording": recording(_database),
    f"meter away for {AWAY:.0f} s during a live recording": recording(_meter_away),
    "disk full during an upload": full_disk,
    "disk read-only during an upload": read_only,
}
ON_ITS_DISK = (full_disk, read_only)
OF_THE_CLOCK: dict[str, Fault] = {
    "clock an hour ahead and back during a live recording": recording(_jump)
}


def run() -> Iterator[Row]:
    yield from _faults(FAULTS, own_clock=False)
    yield from _faults(OF_THE_CLOCK, own_clock=True)


def _faults(faults: dict[str, Fault], *, own_clock: bool) -> Iterator[Row]:
    asked = {n: f for n, f in faults.items() if os.environ.get("HAUCH_FAULT", "") in n}
    if not asked:
        return
    house = House(own_clock=own_clock)
    try:
        until(house.healthy, "pages")
        until(lambda: not Standing.objects.stale().exists(), "all standings")
        for name, fault in asked.items():
            if fault in ON_ITS_DISK and not house.own_disk:
                print(f"faults: {name}: not tried, no disk of its own may be mounted here")
                continue
            try:
                found = [fault(house, number) for number in range(TIMES)]
            except Exception:
                traceback.print_exc()
                found = [(1, math.nan)]
                connection.close()
            lost = sum(one for one, _ in found)
            yield row(f"faults: {name}: lost", float(lost), "", 0.0)
            yield row(f"faults: {name}: stood still", max(s for _, s in found), "s")
    finally:
        house.close()
