"""The line to a meter through PyVISA: opens it, reads it over and over, and opens it again when it
drops.
"""

from __future__ import annotations

import math
import threading
import time
from collections.abc import Callable, Mapping
from contextlib import suppress
from dataclasses import dataclass, field
from typing import Any, cast

import numpy as np
import pyvisa
from pyvisa.errors import Error as VisaError
from pyvisa.resources import MessageBasedResource

from hauch.core.measure.channels import CHANNELS
from hauch.core.quantity.units import to_si
from hauch.instruments.claim import claim, installation
from hauch.instruments.grid import Samples
from hauch.instruments.profile import Profile

FETCH_EVERY = 0.1
"""How often a meter that keeps its samples is asked for them [s]."""

AGAIN_AFTER = (0.2, 0.5, 1.0, 2.0)
"""Pauses before a dropped line is opened again [s]; the last one from then on."""

BEYOND = 2**52
"""A number that no sample has: asked for what comes after it, a meter that keeps its samples tells
its clock and no sample.
"""

TROUBLES = (VisaError, OSError, ValueError, IndexError)
"""What a broken line or a garbled answer raises; PyVISA lets plain socket errors through."""


@dataclass
class Reader:
    """One channel of a meter: how it is read, and samples that nobody has taken yet."""

    channel: str
    profile: Profile
    pending: list[Samples] = field(default_factory=list)


_manager_lock = threading.Lock()
_manager: pyvisa.ResourceManager | None = None


def manager() -> pyvisa.ResourceManager:
    """PyVISA's resource manager on its pure Python backend, one for the process."""
    global _manager  # noqa: PLW0603 one for the process, made on first use
    with _manager_lock:
        if _manager is None:
            _manager = pyvisa.ResourceManager("@py")
        return _manager


def open_line(resource: str, profile: Profile) -> MessageBasedResource:
    """A line to a meter that answers, ready to be asked.

    Raises
    ------
    VisaError, OSError : it cannot be opened, or does not answer to its identify query
    """
    settings = {
        "read_termination": "\n",
        "write_termination": "\n",
        **{k: v for k, v in profile.line.items() if k != "timeout_ms"},
    }
    timeout = profile.line.get("timeout_ms", 1500)
    opened = manager().open_resource(resource, open_timeout=timeout, **settings)
    line = cast(MessageBasedResource, opened)
    line.timeout = timeout
    line.chunk_size = 1 << 20
    try:
        if profile.identify:
            line.query(
                profile.identify
            )  # opening a closed port does not fail, the first query does
    except TROUBLES:
        line.close()
        raise
    return line


def identify(resource: str, profile: Profile) -> str:
    """What the meter says that it is; empty where it has no identity."""
    line = open_line(resource, profile)
    try:
        return line.query(profile.identify).strip() if profile.identify else ""
    finally:
        line.close()


def read_once(resource: str, profile: Profile, channel: str) -> float:
    """One reading in SI; from the newest sample where the meter only hands out its buffer.

    Raises
    ------
    VisaError, OSError, ValueError : it does not answer, or answers no number
    """
    line = open_line(resource, profile)
    try:
        if profile.query:
            return profile.value(line.query(profile.query), channel)
        answer = block_of(line, profile.buffer.replace("{after}", "-1"), "d")
        return float(
            to_si(
                float(answer[4:].reshape(-1, int(answer[3]))[-1, profile.column]),
                profile.unit,
                CHANNELS[channel].kind,
            )
        )
    finally:
        line.close()


def block_of(line: MessageBasedResource, query: str, kind: str) -> np.ndarray:
    """Numbers of a binary block that answers a query, shape (n,); ``kind`` is d or f."""
    container: Any = np.array
    found: Any = line.query_binary_values(query, datatype=kind, container=container)  # type: ignore[arg-type]
    return np.asarray(found, dtype=float)


PATIENCE = 5.0
"""For so long a meter that is only now opened is waited for before it is called silent [s]."""


class Link:
    """Reads one meter in a thread of its own.

    Parameters
    ----------
    resource : VISA resource name
    profiles : channel -> how it is read; all of one meter
    after : time [s] of the last sample that is stored already; a meter that keeps its samples is
        asked for all since then
    clock : seconds; what sample times are told in
    owner : the installation that reads it; no other one of this machine does meanwhile
    """

    def __init__(
        self,
        resource: str,
        profiles: Mapping[str, Profile],
        after: float,
        clock: Callable[[], float] = time.time,
        owner: str = "",
    ):
        self.resource, self.clock = resource, clock
        self.owner = owner or installation()
        self.readers = {channel: Reader(channel, profile) for channel, profile in profiles.items()}
        self.after = after
        self.problem = ""
        self.answered, self.since = False, time.monotonic()
        self.last_index: dict[str, int] = {}
        self.tried = threading.Event()
        self.offset = 0.0
        self._quickest, self._compared = math.inf, 0.0
        self._commands: list[str] = []
        self._waves: list[tuple[str, float, Callable[[np.ndarray | None], None]]] = []
        self._lock = threading.Lock()
        self._stop = threading.Event()
        self._wake = threading.Event()
        self._thread = threading.Thread(target=self._run, daemon=True, name=f"meter {resource}")

    @property
    def keeps(self) -> bool:
        """Whether the meter keeps its samples of all channels, so that being late costs none."""
        return all(reader.profile.buffer for reader in self.readers.values())

    @property
    def silent(self) -> bool:
        """Whether the meter does not answer. One that never did is given time: the line of a device
        that serves one at a time is free only when the one before has let go.
        """
        return bool(self.problem) and (self.answered or time.monotonic() - self.since > PATIENCE)

    def start(self) -> None:
        """Begin to read."""
        self.since = time.monotonic()
        self._thread.start()

    def wait_tried(self, seconds: float) -> bool:
        """Wait until the line was opened, or opening it has failed once; whether that is so."""
        return self.tried.wait(seconds)

    def leave(self) -> None:
        """Have the thread end, without waiting for it."""
        self._stop.set()
        self._wake.set()

    def stop(self) -> None:
        """End the thread and close the line."""
        self.leave()
        self._thread.join(timeout=3)

    def send(self, command: str) -> None:
        """Have a command sent as soon as the line is free."""
        with self._lock:
            self._commands.append(command)
        self._wake.set()

    def waveform(
        self, query: str, seconds: float, done: Callable[[np.ndarray | None], None]
    ) -> None:
        """Have a waveform fetched; ``done`` gets its samples, or None where it could not be had."""
        with self._lock:
            self._waves.append((query, seconds, done))
        self._wake.set()

    def take(self) -> dict[str, Samples]:
        """Samples since the last time, by channel."""
        with self._lock:
            taken = {key: reader.pending for key, reader in self.readers.items() if reader.pending}
            for reader in self.readers.values():
                reader.pending = []
        return {
            key: Samples(
                np.concatenate([p.times for p in parts]), np.concatenate([p.values for p in parts])
            )
            for key, parts in taken.items()
        }

    def _run(self) -> None:
        failures = 0
        while not self._stop.is_set():
            line, mine = None, None
            try:
                mine = claim(self.resource, self.owner)
                line = open_line(self.resource, next(iter(self.readers.values())).profile)
                self.problem, failures = "", 0
                self.tried.set()
                self._talk(line)
            except TROUBLES as trouble:
                self.problem = f"{type(trouble).__name__}: {trouble}"[:200]
            finally:
                self.tried.set()
                if line is not None:
                    with suppress(*TROUBLES):
                        line.close()
                if mine is not None:
                    mine.close()
            if not self._stop.is_set():
                self._stop.wait(AGAIN_AFTER[min(failures, len(AGAIN_AFTER) - 1)])
                failures += 1

    def _talk(self, line: MessageBasedResource) -> None:
        """Read until the line breaks or the link is stopped."""
        due = dict.fromkeys(self.readers, 0.0)
        while not self._stop.is_set():
            began = time.monotonic()
            self._wake.clear()
            self._obey(line)
            for query in dict.fromkeys(
                r.profile.buffer for r in self.readers.values() if r.profile.buffer
            ):
                self._fetch(line, query)
            for channel, reader in self.readers.items():
                if not reader.profile.buffer and began >= due[channel]:
                    due[channel] = max(due[channel] + 1 / reader.profile.rate, began)
                    self._poll(line, reader)
            polled = [due[c] for c, r in self.readers.items() if not r.profile.buffer]
            wait = (
                min(
                    [began + FETCH_EVERY] * any(r.profile.buffer for r in self.readers.values())
                    + polled
                )
                - time.monotonic()
            )
            if wait > 0:
                self._wake.wait(wait)

    def _obey(self, line: MessageBasedResource) -> None:
        with self._lock:
            commands, self._commands = self._commands, []
            waves, self._waves = self._waves, []
        for command in commands:
            line.write(command)
        for query, seconds, done in waves:
            try:
                done(block_of(line, query.replace("{seconds}", f"{seconds:g}"), "f"))
            except TROUBLES:
                done(None)
                raise

    def _begin(self, line: MessageBasedResource, query: str) -> int:
        """Number of the sample after which a meter is asked first: its memory may hold far more
        than is wanted.
        """
        before = self.clock()
        clock, rate = block_of(line, query.replace("{after}", str(BEYOND)), "d")[:2]
        self._compare_clocks(float(clock), before, self.clock())
        return max(math.floor((self.after - self.offset) * float(rate)) - 1, -1)

    def _fetch(self, line: MessageBasedResource, query: str) -> None:
        """All samples since the last one that was received, in one block."""
        first_time = query not in self.last_index
        last = self._begin(line, query) if first_time else self.last_index[query]
        before = self.clock()
        answer = block_of(line, query.replace("{after}", str(last)), "d")
        clock, rate, first, columns = (
            float(answer[0]),
            float(answer[1]),
            int(answer[2]),
            int(answer[3]),
        )
        rows = answer[4:].reshape(-1, columns)
        self.answered = True
        if not rows.size:
            return
        self.last_index[query] = first + len(rows) - 1
        self._compare_clocks(clock, before, self.clock())
        times = (first + np.arange(len(rows))) / rate + self.offset
        if first_time:
            kept = times > self.after
            times, rows = times[kept], rows[kept]
        with self._lock:
            for reader in self.readers.values():
                if reader.profile.buffer == query:
                    self._add(reader, times, rows[:, reader.profile.column])

    def _compare_clocks(self, theirs: float, before: float, after: float) -> None:
        """By how much the meter's clock is behind ours. The quickest answer of the last minute
        tells it best; less than its travel time is nothing.

        The offset stays until it is surely another, so that samples keep their distance from one
        another.
        """
        way, now = after - before, time.monotonic()
        if way < self._quickest or now - self._compared > 60:
            self._quickest, self._compared = way, now
            found = 0.5 * (before + after) - theirs
            if abs(found - self.offset) > max(way, 0.01):
                self.offset = found if abs(found) > max(way, 0.01) else 0.0

    def _poll(self, line: MessageBasedResource, reader: Reader) -> None:
        answer = line.query(reader.profile.query)
        self.answered = True
        try:
            value = reader.profile.value(answer, reader.channel)
        except ValueError:
            value = math.nan
            self.problem = f"{reader.channel}: “{answer.strip()[:40]}” is no number"
        with self._lock:
            reader.pending.append(Samples(np.array([self.clock()]), np.array([value])))

    @staticmethod
    def _add(reader: Reader, times: np.ndarray, shown: np.ndarray) -> None:
        values = np.where(np.abs(shown) > 9.9e37, np.nan, shown)
        kind = CHANNELS[reader.channel].kind
        reader.pending.append(
            Samples(times, np.asarray(to_si(values, reader.profile.unit, kind), dtype=float))
        )
