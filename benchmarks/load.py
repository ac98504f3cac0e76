"""A day of a contest in a minute: a hundred people read, ten enter readings by hand, five benches
record and are watched, all on this machine at once.

A reader opens a page and reads it for `READS` seconds on average; who enters by hand sends a run
every `ENTERS` seconds. Simulated meters, recorders, database, worker, web server and all of these
people share the machine's processors, so that times here are longer than with people elsewhere.
"""

from __future__ import annotations

import os
import random
import statistics
import subprocess
import sys
import threading
import time
import urllib.parse
import uuid
from collections import defaultdict
from collections.abc import Iterator
from contextlib import suppress

from django.urls import reverse

from benchmarks.capture import counted, free, on_line, processor, stream
from benchmarks.harness import Row, row
from benchmarks.house import House, Person, until
from benchmarks.pages import pages_of
from hauch.bench.models import Live, Run
from hauch.instruments.standins import PER_BENCH
from hauch.live import actions as live
from hauch.people.models import User
from hauch.rounds.models import Round, Test
from hauch.stores.models import ReferenceSpecimen

READERS, HANDS, BENCHES = 100, 10, 5
READS, ENTERS = 10.0, 20.0
SECONDS = 60.0
SIGNED_IN = 5
"""So many browsers are signed in, each shared by some of the readers: signing in is dear on purpose."""


class Tally:
    """What all of them met."""

    def __init__(self) -> None:
        self.took: dict[str, list[float]] = defaultdict(list)
        self.wrong: list[str] = []
        self.stop = threading.Event()
        self.counting = False

    def timed(self, name: str, work) -> None:
        """Do one thing and note how long it took [s], or what went wrong."""
        began = time.monotonic()
        try:
            work()
        except Exception as problem:
            self.wrong.append(f"{name}: {type(problem).__name__}: {problem}")
        else:
            if self.counting:
                self.took[name].append(time.monotonic() - began)

    def wait(self, mean: float, dice: random.Random) -> None:
        """Think for a while."""
        self.stop.wait(dice.expovariate(1 / mean))


def reads(tally: Tally, person: Person, pages: dict[str, str], dice: random.Random) -> None:
    """One reader, until it is over."""
    while not tally.stop.is_set():
        tally.wait(READS, dice)
        name = dice.choice(list(pages))
        tally.timed(name, lambda name=name: person.get(pages[name]))


def enters(tally: Tally, person: Person, test: Test, dice: random.Random) -> None:
    """One who enters runs of the reference by hand, until it is over."""
    reference = test.references.get(until=None, bridging=False).specimen_id
    page = reverse("bench:capture", args=[test.round.slug, test.pk]) + f"?subject=r{reference}"
    while not tally.stop.is_set():
        tally.wait(ENTERS, dice)
        form = [("temperature", "21"), ("pressure", "965"), ("humidity", "50")]
        form += [("note", "load"), ("unit-air_speed", "m/s"), ("form_key", str(uuid.uuid4()))]
        form += [("r-air_speed", f"{dice.gauss(5.0, 0.02):.2f}") for _ in range(5)]

        def send(form=form) -> None:
            status, said = person.post(page, urllib.parse.urlencode(form).encode())
            if status != 200:
                raise OSError(f"{status} {said[:200]}")

        tally.timed("a run by hand", send)


def watches(house: House, person: Person, one: Live, lags: list[float], stop) -> None:
    """Somebody has a bench's page open."""
    cookie = next(c.value for c in person.jar if c.name == "sessionid")
    with suppress(OSError):
        stream(f"{house.base}{one.get_absolute_url()}stream/", cookie, lags, stop)


def run() -> Iterator[Row]:
    house = House()
    first_port = free(PER_BENCH * BENCHES)
    command = ["standins", "--benches", str(BENCHES), "--first-port", str(first_port)]
    meters = subprocess.Popen([*house.command, *command], stdout=subprocess.DEVNULL)
    try:
        until(house.healthy, "pages")
        yield from _measure(house, first_port)
    finally:
        meters.kill()
        meters.wait()
        house.close()


def _measure(house: House, first_port: int) -> Iterator[Row]:
    runa = User.objects.get(username="runa")
    like = Test.objects.select_related("rig", "round", "setting").get(round__number=2, key="air")
    reference = ReferenceSpecimen.objects.filter(state="in_use").first()
    lives = on_line(first_port, BENCHES, like, runa, reference)
    heard = Live.objects.filter(pk__in=[one.pk for one in lives], heard_at=None)
    until(lambda: not heard.exists(), "all benches")
    pages = pages_of(Round.objects.get(number=1))
    people = [Person(house, "runa") for _ in range(SIGNED_IN)]
    tally = Tally()
    lags: list[float] = []
    before = Run.objects.filter(note="load").count()
    threads = [
        threading.Thread(target=reads, args=(tally, people[n % SIGNED_IN], pages, random.Random(n)))
        for n in range(READERS)
    ]
    threads += [
        threading.Thread(
            target=enters, args=(tally, people[n % SIGNED_IN], like, random.Random(-n))
        )
        for n in range(HANDS)
    ]
    threads += [
        threading.Thread(
            target=watches, args=(house, people[n], one, lags, tally.stop), daemon=True
        )
        for n, one in enumerate(lives)
    ]
    for thread in threads:
        thread.start()
    time.sleep(10)
    tally.counting = True
    lags.clear()
    before_it, began = shares(house), time.monotonic()
    time.sleep(SECONDS)
    tally.counting = False
    lasted, after_it = time.monotonic() - began, shares(house)
    share = {kind: (after_it[kind] - before_it[kind]) / lasted for kind in before_it}
    tally.stop.set()
    for thread in threads[: READERS + HANDS]:
        thread.join()
    for problem in tally.wrong[:5]:
        print(problem, file=sys.stderr)
    answered = sum(len(times) for times in tally.took.values())
    arrived, lost = sorted(lags), 0
    for one in lives:
        live.close_down(runa, Live.objects.get(pk=one.pk))
    for one in lives:
        mine = Live.objects.filter(pk=one.pk, ended_at=None)
        until(lambda mine=mine: not mine.exists(), "its end")  # type: ignore[misc]
        lost += counted(Live.objects.select_related("recording").get(pk=one.pk))[0]
    entered = Run.objects.filter(note="load").count() - before
    yield row("load: errors", float(len(tally.wrong)), "", 0.0)
    yield row("load: answers a second", answered / lasted, "1/s")
    for kind, of_a_core in share.items():
        yield row(f"load: {kind}, of one core", 100 * of_a_core, "%")
    yield row(
        "load: processor time of an answer, with streams and database",
        1000 * (share["web server"] + share["database"]) * lasted / answered,
        "ms",
    )
    yield row("load: runs entered by hand", float(entered), "")
    yield row("load: samples lost, five benches", float(lost), "", 0.0)
    yield row("load: sample to stream, p95", 1000 * arrived[int(0.95 * len(arrived))], "ms", 1000.0)
    everything = [took for times in tally.took.values() for took in times]
    yield row("load: all answers, median", 1000 * statistics.median(everything), "ms")
    yield row("load: all answers, p95", 1000 * _p95(everything), "ms")
    for name, times in sorted(tally.took.items()):
        yield row(f"load: {name}, p95 of {len(times)}", 1000 * _p95(times), "ms")


def shares(house: House) -> dict[str, float]:
    """Processor time so far [s], by what runs; `ps` is asked once."""
    listed = subprocess.run(
        ["ps", "-eo", "pid=,ppid=,args="], capture_output=True, text=True, check=True
    )
    rows = [line.split(None, 2) for line in listed.stdout.splitlines()]
    servers = {pid for pid, _, said in rows if "uvicorn" in said}
    kinds = {
        "web server": lambda pid, parent, said: pid in servers or parent in servers,
        "database": lambda pid, parent, said: said.startswith("postgres"),
        "recorders": lambda pid, parent, said: "manage record" in said,
        "simulated meters": lambda pid, parent, said: "standins" in said,
        "worker": lambda pid, parent, said: "procrastinate" in said,
        "these people": lambda pid, parent, said: int(pid) == os.getpid(),
    }
    found = dict.fromkeys(kinds, 0.0)
    for pid, parent, said in rows:
        for kind, holds in kinds.items():
            if holds(pid, parent, said):
                with suppress(OSError):
                    found[kind] += processor(int(pid))
                break
    return found


def _p95(times: list[float]) -> float:
    return sorted(times)[int(0.95 * len(times))]
