"""One bench that is being recorded, as the recorder holds it in memory: rows of the last minute,
means of every second, and what turns the throttle.
"""

from __future__ import annotations

import math
import threading
from bisect import bisect_left
from collections import deque
from collections.abc import Callable
from dataclasses import dataclass, field
from itertools import islice

import numpy as np

from hauch.core.measure.channels import SPEEDS
from hauch.core.measure.seek import Stepper, Turn
from hauch.core.quantity import expanded
from hauch.core.sound.level import energy_mean
from hauch.core.trace.marks import STALL_SHARE, Mark
from hauch.core.trace.reduce import mark_sentence
from hauch.core.trace.settle import Settling
from hauch.core.trace.source import EDGE, Seconds, Stretch
from hauch.instruments.grid import Grid, Piece
from hauch.live.assessing import LEAST_ROWS, Assessed, Snapshot, Task
from hauch.live.protocol import Forecast, Status

RECENT_SECONDS = 75
"""Rows of so long are held [s]: a minute, and what meters hand in late."""
LOOK_SECONDS = 60
"""Faults are looked for in the rows of so long [s]."""
MINUTE_WAITS = 6.0
"""A minute is kept by the second so long after its end [s], with what came late."""
STALL_CUT = 3.0
"""A part that stands still for this long with the throttle open gets it closed [s]: a rotor that is
held burns its motor.
"""
CAP_TICKS = 3
"""So many rows in a row above the speed limit close the throttle."""
OTHER_HAND = 2.0
"""A motor controller that shows another throttle so long after it was turned was turned by another
hand, or does not obey [s].
"""
STARTS_BY = 6.0
"""A part that does not turn so long after the throttle was opened never started [s]."""
OPEN = 10.0
"""Throttle [%] from which on a part should turn."""
STEADY_LEAST, STEADY_MOST = 1.5, 20.0
"""How long a turned throttle is waited for, at least and at most [s]."""
STANDS = 10.0
"""A part below this speed stands still [1/min]: what a meter at rest may still show."""
READ_SECONDS = 2.0
"""Over how long a search averages its figure [s]."""


STUCK_NOW = -1
"""In place of a second: a stuck meter is told once for as long as it lasts."""


DISTURBED_AGAIN = 30.0
"""Disturbances nearer to each other than this [s] are told as one."""

STAYS = 6.0
"""A jump to another unit that was not taken back for so long stays [s]."""

AT_ONCE = frozenset(("stuck", "jump"))
"""What is told while it still lasts."""

LATE_SECONDS = 4.0
"""So long after its end [s] a gap is told: a meter whose line comes back hands in what it kept."""


@dataclass
class Session:
    """State of one live recording. The recorder's own thread alone changes it; another one may ask
    for a snapshot.

    ``send`` passes a command to the motor controller; without one the throttle is turned by hand.
    """

    pk: int
    channels: list[str]
    rate: float
    grid: Grid
    cap: float | None = None
    resolution: float = 0.3
    soaks: bool = False
    send: Callable[[float], None] | None = None
    throttle: float = 0.0
    throttle_digit: float = 0.1
    """Digit of the throttle that the controller shows [%]."""
    guarded: bool = True
    """Whether the guard is confirmed, so that the throttle may be open at all."""
    turned: float = -math.inf
    task: Task | None = None
    recent: deque[np.ndarray] = field(default_factory=deque)
    recent_first: int = 0
    second: list[np.ndarray] = field(default_factory=list)
    second_at: int = 0
    seconds: list[np.ndarray] = field(default_factory=list)
    seconds_at: list[float] = field(default_factory=list)
    next_minute: int = 0
    stale_minutes: set[int] = field(default_factory=set)
    """Minutes that are to be kept by the second, or kept anew, from what is stored."""
    events: deque[str] = field(default_factory=lambda: deque(maxlen=12))
    told: dict[tuple[str, str], tuple[str, int]] = field(default_factory=dict)
    announced: set[tuple[str, str, int]] = field(default_factory=set)
    still_since: float = math.nan
    was_running: bool = False
    disturbed: float = -math.inf
    """Since when the load follows the course that is forecast [s]."""
    closed_again: bool = False
    """Whether a throttle that another hand opened was told to close."""
    forecast: Settling | None = None
    lock: threading.Lock = field(default_factory=threading.Lock)
    urgent: bool = False
    """Whether a guard acted, so that it must be written down at once."""

    def column(self, channel: str) -> int | None:
        """Number of a channel's column."""
        return self.channels.index(channel) if channel in self.channels else None

    def add(self, piece: Piece) -> None:
        """Rows as they are stored."""
        with self.lock:
            self._add(piece)

    def _add(self, piece: Piece) -> None:
        newest = self.recent_first + len(self.recent)
        if not self.recent or piece.first > newest + RECENT_SECONDS * self.rate:
            self.recent.clear()
            self.recent_first = piece.first
        for _ in range(piece.first - newest if self.recent else 0):  # nothing was recorded between
            self.recent.append(np.full(len(self.channels), np.nan))
        for tick, row in enumerate(piece.rows, piece.first):
            self.recent.append(row)
            if self.second and int(tick / self.rate) != self.second_at:
                self._second_over()
            self.second_at = int(tick / self.rate)
            self.second.append(row)
        while len(self.recent) > RECENT_SECONDS * self.rate:
            self.recent.popleft()
            self.recent_first += 1

    def restore(self, seconds: Seconds, recent: Stretch) -> None:
        """Begin with what another session has added: all that is still needed by the second, and
        the rows of the last seconds.
        """
        newest = recent.times[-1]
        self.second_at = int(newest + EDGE)
        over = seconds.times < self.second_at
        self.seconds_at = (np.floor(seconds.times[over] + EDGE) + 0.5).tolist()
        self.seconds = list(np.column_stack([seconds.mean[c][over] for c in self.channels]))
        ticks = np.rint(recent.times * self.rate).astype(int)
        rows = np.full((int(ticks[-1]) + 1 - int(ticks[0]), len(self.channels)), np.nan)
        rows[ticks - ticks[0]] = np.column_stack([recent.channels[c] for c in self.channels])
        self.recent, self.recent_first = deque(rows), int(ticks[0])
        self.second = [
            row
            for tick, row in enumerate(rows, ticks[0])
            if int(tick / self.rate) == self.second_at
        ]
        minute = 60 * self.rate
        self.next_minute = math.ceil(self.recent_first / minute)

    def patch(self, piece: Piece) -> None:
        """Fill in what a meter handed in late."""
        for tick, row in enumerate(piece.rows, piece.first):
            if 0 <= tick - self.recent_first < len(self.recent):
                held = self.recent[tick - self.recent_first]
                with self.lock:
                    np.copyto(held, row, where=np.isfinite(row))
            if (number := int(tick / (60 * self.rate))) < self.next_minute:
                self.stale_minutes.add(number)

    def minutes_over(self) -> list[tuple[int, Stretch]]:
        """Minutes that are over and not yet kept by the second, with their rows."""
        found, minute = [], round(60 * self.rate)
        while (self.next_minute + 1) * 60 + MINUTE_WAITS <= self.now:
            first = self.next_minute * minute - self.recent_first
            if first < 0:  # the recorder was away: they are made from what is stored
                self.stale_minutes.add(self.next_minute)
            else:
                rows = np.stack(list(islice(self.recent, first, first + minute)))
                there = np.isfinite(rows).any(axis=1)
                ticks = self.next_minute * minute + np.flatnonzero(there)
                columns = {c: rows[there, i] for i, c in enumerate(self.channels)}
                found.append((self.next_minute, Stretch(ticks / self.rate, columns)))
            self.next_minute += 1
        return found

    def _second_over(self) -> None:
        block = np.stack(self.second)
        good = np.isfinite(block)
        sums, counts = np.where(good, block, 0.0).sum(axis=0), good.sum(axis=0)
        self.seconds.append(np.where(counts > 0, sums / np.maximum(counts, 1), np.nan))
        self.seconds_at.append(self.second_at + 0.5)
        self.second = []

    @property
    def now(self) -> float:
        """Seconds of the recording at the newest row."""
        return (self.recent_first + len(self.recent)) / self.rate

    def last(self, channel: str, seconds: float) -> np.ndarray:
        """Finite values of a channel over the last seconds, shape (n,). Power is volts times amps
        where no wattmeter is.
        """
        count = min(int(seconds * self.rate), len(self.recent))
        rows = list(self.recent)[-count:] if count else []
        column = self.column(channel)
        if column is None and channel == "power":
            volts, amps = self.column("voltage"), self.column("current")
            values = (
                np.array([row[volts] * row[amps] for row in rows])
                if volts is not None and amps is not None
                else np.zeros(0)
            )
        elif column is None:
            return np.zeros(0)
        else:
            values = np.array([row[column] for row in rows])
        return values[np.isfinite(values)]

    def turn(self, percent: float, why: str = "") -> None:
        """Turn the throttle, and remember when."""
        if abs(percent - self.throttle) > 1e-9:
            self.turned = self.now
            if self.throttle < OPEN <= percent:
                self.was_running, self.still_since = False, self.now
        self.throttle = percent
        if self.send is not None:
            self.send(percent)
        if why:
            self.events.append(why)

    def cut(self, why: str) -> None:
        """Close the throttle and end what turns it."""
        self.break_off(f"Stopped: {why}")
        self.turn(0.0, why)
        self.urgent = True

    def break_off(self, why: str) -> bool:
        """End what turns the throttle by rule, and leave it where it is; whether there was
        anything.
        """
        if self.task is None or self.task.done:
            return False
        self.task.done, self.task.text = True, why
        return True

    def watch(self) -> None:
        """Guards that act at once: the speed limit, a part that stands still, one that never
        started.
        """
        self._watch_controller()
        for channel in SPEEDS:  # of each rotor
            rows = self.last(channel, CAP_TICKS / self.rate + 0.02)
            if (
                self.cap is not None
                and rows.size >= CAP_TICKS
                and rows.min() > self.cap
                and self.throttle > 0
            ):
                self.cut(
                    f"{rows[-1]:,.0f} 1/min is above the limit of {self.cap:,.0f} 1/min from the"
                    " safety gate. The throttle was closed."
                )
        speed = self.last("speed", 0.5)
        if not speed.size:
            return
        if self.send is None or self.throttle < OPEN:
            self.was_running = False
        else:
            self._watch_still(speed)

    def _watch_controller(self) -> None:
        """What is said of the throttle is what the controller answers: it may have been turned by
        another hand.
        """
        shown = self.last("throttle", 1.0)
        if self.send is None or shown.size < 2 or self.now - self.turned < OTHER_HAND:
            return
        near = max(self.throttle_digit, 0.1) * 1.1
        now = float(shown[-1])
        if float(np.ptp(shown)) > near or abs(now - self.throttle) <= near:
            return
        asked, closed_again = self.throttle, self.closed_again
        self.closed_again = asked == 0 and not self.guarded and not closed_again
        if self.closed_again:
            self.cut(
                f"The controller shows {now:.0f} % while the guard is not confirmed: it was turned"
                " by another hand. It was told to close."
            )
            self.turned = self.now  # it is given time to obey
            return
        self.break_off("Stopped: the throttle was turned by another hand.")
        self.throttle, self.turned, self.urgent = now, self.now, True
        off = (
            " Switch the supply off by hand; nobody goes near before all stands still."
            if asked == 0
            else ""
        )
        self.events.append(
            f"The controller shows {now:.0f} % where {asked:.0f} % was asked for: another hand"
            f" turned it, or it does not obey.{off}"
        )

    def _watch_still(self, speed: np.ndarray) -> None:
        """Close the throttle of a part that stands still or does not start."""
        if float(np.median(speed)) > max(
            STALL_SHARE * float(np.max(self.last("speed", 10.0))), 30.0
        ):
            self.was_running, self.still_since = True, math.nan
            return
        if math.isnan(self.still_since):
            self.still_since = self.now
        waited = self.now - self.still_since
        if self.was_running and waited >= STALL_CUT:
            self.cut(
                f"The part stopped {waited:.0f} s ago with the throttle at {self.throttle:.0f} %. "
                "The throttle was closed; look at the part before it runs again."
            )
        elif not self.was_running and waited >= STARTS_BY:
            self.cut(f"The part does not start at {self.throttle:.0f} %. The throttle was closed.")

    def calm(self) -> bool:
        """Whether the part has come to rest at a turned throttle: its speed (else its power) moves
        by less than 0.3 % in half a second.
        """
        waited = self.now - self.turned
        if waited < STEADY_LEAST:
            return False
        channel = "speed" if self.column("speed") is not None else "power"
        values = self.last(channel, 1.0)
        if waited >= STEADY_MOST or values.size < 8:
            return waited >= STEADY_MOST
        half = values.size // 2
        before, after = float(values[:half].mean()), float(values[half:].mean())
        doubt = 3 * float(values.std()) / math.sqrt(half)
        return abs(after - before) < max(0.003 * abs(after), doubt)

    def tend(self) -> None:
        """Take the next turn of a search or a sweep when it is due."""
        task = self.task
        if task is None or task.done:
            return
        if isinstance(task.machine, Stepper):
            turn = task.machine.now(self.now)
            task.text = (
                f"Step {task.machine.at + 1} of {len(task.machine.levels)}: {turn.throttle:.0f} %"
            )
        else:
            if math.isnan(task.since):
                task.since = self.now
            if (
                not self.calm()
                or self.now - max(self.turned, task.since) < STEADY_LEAST + READ_SECONDS
            ):
                return
            values = self.last(task.channel, READ_SECONDS)
            doubt = (
                float(values.std(ddof=1)) / math.sqrt(max(values.size / self.rate * 2, 1))
                if values.size > 2
                else 0.0
            )
            value = (
                math.nan
                if not values.size
                else float(energy_mean(values) if task.channel == "sound_level" else values.mean())
            )
            turn = task.machine.read(self.throttle, value, doubt)
            task.since = self.now
            task.text = (
                f"{task.machine.label} is {value:.4g} {task.machine.unit} at {self.throttle:.1f} %,"
                f" wanted are {task.machine.target:.4g} {task.machine.unit}"
            )
        self._ended(task, turn)
        if not turn.done and abs(turn.throttle - self.throttle) > 1e-9:
            self.turn(turn.throttle)

    def _ended(self, task: Task, turn: Turn) -> None:
        if not turn.done:
            return
        task.done, task.held = True, turn.held
        if isinstance(task.machine, Stepper):
            task.text = f"All {len(task.machine.levels)} steps are held."
        elif turn.held:
            task.text = (
                f"{task.machine.label} holds {task.machine.target:.4g} {task.machine.unit} at"
                f" {self.throttle:.1f} % throttle."
            )
        else:
            task.text = turn.why
        self.events.append(task.text)

    def snapshot(self) -> Snapshot:
        """The session as it is now; another thread may ask for it."""
        with self.lock:
            most = int(LOOK_SECONDS * self.rate)
            skipped = max(len(self.recent) - most, 0)
            rows = list(islice(self.recent, skipped, None))
            column = self.column("load_temperature") if self.soaks else None
            beside = self.column("room_temperature")
            start = bisect_left(self.seconds_at, self.turned)
            since = self.seconds[start:] if column is not None else []
            load = [row[column] for row in since]
            room = [math.nan if beside is None else row[beside] for row in since]
            return Snapshot(
                self.channels,
                self.rate,
                self.recent_first + skipped,
                np.stack(rows) if rows else np.zeros((0, len(self.channels))),
                np.array(self.seconds_at[start:] if load else []),
                np.array(load, dtype=float),
                np.array(room, dtype=float),
                self.resolution,
            )

    def _tell(self, mark: Mark) -> None:
        """Tell a fault; one that comes again takes the place of what was said of it before, so that a
        meter that loses samples all the time does not push everything else out.
        """
        again = (mark.channel, mark.kind)
        before, times = self.told.get(again, ("", 0))
        if before in self.events:
            self.events.remove(before)
        text = mark_sentence(mark)
        if times:
            text += f" Seen {times + 1} times so far."
        self.told[again] = text, times + 1
        self.events.append(text)

    def take(self, found: Assessed) -> None:
        """Take over what a snapshot came to; each fault is told once."""
        since = found.forecast.since if found.forecast is not None else -math.inf
        if math.isfinite(since) and abs(since - self.disturbed) > DISTURBED_AGAIN:
            self.disturbed = since
            self.events.append(
                f"The load was disturbed at {since:.0f} s. The forecast begins anew there."
            )
        self.forecast = found.forecast
        for mark in found.marks:
            # A mark that begins with the oldest row may have begun before; one that touches the
            # newest is not over. A stuck meter may last.
            lasts = mark.kind in AT_ONCE
            if mark.kind == "stall" or (
                not lasts and (mark.last >= found.rows - 1 or mark.first == 0)
            ):
                continue
            # A key may be pressed again, and what a meter has kept may still come.
            if mark.kind == "jump" and found.now - mark.to_s < STAYS:
                continue
            if mark.kind in {"dropout", "gap"} and found.now - mark.to_s < LATE_SECONDS:
                continue
            key = (mark.channel, mark.kind, STUCK_NOW if lasts else round(mark.from_s))
            if key not in self.announced:
                self.announced.add(key)
                self._tell(mark)
        if found.rows >= LEAST_ROWS:
            last = {(mark.channel, mark.kind) for mark in found.marks}
            self.announced = {
                (channel, kind, at)
                for channel, kind, at in self.announced
                if at != STUCK_NOW or (channel, kind) in last
            }

    def stands(self) -> bool | None:
        """Whether all rotors stand still, as their speeds of the last second say; None where none is
        read, or one of their meters does not answer.
        """
        speeds = [self.last(c, 1.0) for c in SPEEDS if self.column(c) is not None]
        if any(speed.size and speed.max() >= STANDS for speed in speeds):
            return False
        return True if speeds and all(speed.size for speed in speeds) else None

    def status(self) -> Status:
        """What the recorder says of it."""
        f, forecast = self.forecast, None
        if f is not None:
            forecast = Forecast(
                round(f.end, 3),
                round(expanded(f.u, f.dof), 3),
                round(f.tau, 1),
                f.settled,
                f.seconds_to_go if math.isfinite(f.seconds_to_go) else None,
            )
        return Status(
            throttle=round(self.throttle, 2),
            at=round(self.now, 2),
            events=list(self.events),
            turned=round(self.turned, 2) if math.isfinite(self.turned) else None,
            task=self.task.said() if self.task else None,
            calm=self.calm(),
            forecast=forecast,
            stands=self.stands(),
        )
