"""The recorder: a process near the meters that writes down what they show, and turns the throttle
as it is asked.

It runs apart from the web server and the worker, so that either may die while a part runs. Several
recorders may run; each live recording is held by one of them through an advisory lock of the
database, which falls when its connection does. What is wanted comes through the table of live
recordings, what was recorded goes out with NOTIFY.
"""

from __future__ import annotations

import json
import logging
import math
import threading
import time
from collections.abc import Callable
from contextlib import suppress
from typing import Any

import numpy as np
import psycopg
from django.db import DatabaseError, InterfaceError, connection, transaction
from django.utils import timezone

from hauch.bench.files import keep_file
from hauch.bench.held import REPORT_EVERY, STALE, Held, go_on, open_lines, take_up, task_of
from hauch.bench.models import Live, Piece, Recording, Waveform
from hauch.bench.traces import RECORDER_LOCK, keep_minutes, remake_minute
from hauch.core.measure.channels import CHANNELS
from hauch.core.measure.seek import Search
from hauch.core.sound.clip import clipping
from hauch.core.trace.vibration import velocity_rms
from hauch.formats.sound import wav_bytes
from hauch.instruments.grid import Piece as Rows

log = logging.getLogger(__name__)

FLUSH_EVERY = 0.1
"""How often rows are stored [s]: a crash loses at most this, and what was not yet fetched."""
LOOK_EVERY = 0.25
"""How often wishes are read anyway [s], should a notice be lost; and how soon a live recording is
taken up whose recorder died.
"""
SHUT_AFTER = 20.0
"""Without the database for so long nobody can stop a part: throttles are closed [s]."""
PATIENCE = 2.0
"""After the database was lost a recorder takes nothing new up for so long [s], so that each
recording stays with the recorder that has its rows.
"""
HUNG = 10.0
"""A recorder that says nothing of what it holds for so long [s] has its recordings taken from it."""
WANTED, RECORDED = "hauch_wanted", "hauch_live"
MOST_PAYLOAD = 7_500
"""PostgreSQL passes at most 8000 bytes with a notice."""
LOST = (DatabaseError, InterfaceError, psycopg.Error, OSError)


class Recorder:
    """Records all live benches that nobody else records."""

    def __init__(
        self, clock: Callable[[], float] = time.time, say: Callable[[str], None] = log.warning
    ):
        self.clock, self.say = clock, say
        self.held: dict[int, Held] = {}
        self.listener: psycopg.Connection | None = None
        self.down_since = math.inf
        self.patient_until = 0.0
        self.watched: dict[int, tuple[Any, float]] = {}
        """Recordings of others: when they were last heard of, as they say, and when this recorder
        saw that first.
        """
        self.stopping = threading.Event()
        self._assessor = threading.Thread(target=self._assess, daemon=True, name="assess")

    def run(self) -> None:
        """Record until stopped."""
        self._assessor.start()
        next_look = next_report = 0.0
        before = time.monotonic(), self.clock()
        while not self.stopping.is_set():
            began, here = time.monotonic(), self.clock()
            if (
                gap := max(began - before[0], here - before[1])
            ) > HUNG:  # a machine that slept knows only by the clock on its wall
                self._stood_still(gap)
            before = began, here
            self._collect()
            try:
                noticed = self._notices(0.0)
                if noticed or began >= next_look:
                    self._look()
                    next_look = began + LOOK_EVERY
                self._store()
                self._report(everything=began >= next_report)
                if began >= next_report:
                    next_report = began + REPORT_EVERY
                    self._keep_stale_minute()
                self.down_since = math.inf
            except LOST as trouble:
                self._lost(trouble)
            self._pause(FLUSH_EVERY - (time.monotonic() - began))
        self._close()

    def stop(self) -> None:
        """End the loop; what was fetched is stored first."""
        self.stopping.set()

    def _pause(self, seconds: float) -> None:
        """Wait for the next turn, or shorter when something is wanted."""
        if seconds <= 0:
            return
        if self.listener is None:
            self.stopping.wait(seconds)
            return
        with suppress(*LOST):
            if self._notices(seconds):
                self._look()

    def _connect(self) -> psycopg.Connection:
        if self.listener is None or self.listener.closed:
            params = connection.get_connection_params()
            self.listener = psycopg.connect(**params, autocommit=True)
            self.listener.execute(f"listen {WANTED}")
            for pk in list(self.held):  # locks fell with the old connection
                if not self._lock(
                    self.listener, pk
                ):  # another recorder was sooner; what only this one read goes in all the same
                    self._collect()
                    self._store()
                    self._drop(pk)
        return self.listener

    @staticmethod
    def _lock(listener: psycopg.Connection, pk: int) -> bool:
        row = listener.execute(
            "select pg_try_advisory_lock(%s, %s)", (RECORDER_LOCK, pk)
        ).fetchone()
        return bool(row and row[0])

    def _notices(self, timeout: float) -> bool:
        listener = self._connect()
        return any(True for _ in listener.notifies(timeout=timeout, stop_after=1))

    def _lost(self, trouble: BaseException) -> None:
        """The database is gone: keep what comes, try again, and shut throttles that nobody could
        close.
        """
        now = time.monotonic()
        self.patient_until = now + PATIENCE
        if math.isinf(self.down_since):
            self.down_since = now
            self.say(
                f"The database cannot be reached ({type(trouble).__name__}); rows are kept until it"
                " can."
            )
        if now - self.down_since > SHUT_AFTER:
            for held in self.held.values():
                if held.session.throttle > 0:
                    held.session.cut(
                        "The database could not be reached, so that nobody could have stopped the"
                        " part. The throttle was closed."
                    )
        with suppress(*LOST):
            connection.close()
        if self.listener is not None:
            with suppress(*LOST):
                self.listener.close()
            self.listener = None
        self.stopping.wait(0.2)

    def _stood_still(self, seconds: float) -> None:
        """After a pause of its own a recorder does not know what happened meanwhile: it turns
        nothing by rule, and blames nobody.
        """
        self.watched.clear()
        for held in self.held.values():
            if held.session.break_off(f"Broken off: the recorder stood still for {seconds:.0f} s."):
                held.session.events.append(
                    f"The recorder stood still for {seconds:.0f} s; what turned the throttle by"
                    " rule was broken off."
                )

    def _free(self, listener: psycopg.Connection, live: Live) -> bool:
        """Whether a recording can be taken up. It is taken from a recorder that lives but does
        nothing any more: its connection is ended.
        """
        now = time.monotonic()
        if now < self.patient_until:
            return False
        if self._lock(listener, live.pk):
            self.watched.pop(live.pk, None)
            return True
        heard, since = self.watched.setdefault(live.pk, (live.heard_at, now))
        if heard != live.heard_at:
            self.watched[live.pk] = (live.heard_at, now)
        elif now - since > HUNG:
            self.say(
                f"The recorder of live recording {live.pk} says nothing any more; it is taken over."
            )
            listener.execute(
                "select pg_terminate_backend(pid) from pg_locks where locktype = 'advisory' and"
                " granted and classid = %s::int and objid = %s::int and database = (select oid from"
                " pg_database where datname = current_database())",
                (RECORDER_LOCK, live.pk),
            )
            self.watched.pop(live.pk)
        return False

    def _look(self) -> None:
        """Take up new live recordings, do what is wanted, let go of those that ended."""
        listener = self._connect()
        wanted = {
            live.pk: live
            for live in Live.objects.filter(ended_at__isnull=True).select_related(
                "test__rig", "recording", "specimen"
            )
        }
        for pk in [pk for pk in self.held if pk not in wanted]:
            self._end(pk)
        self.watched = {pk: seen for pk, seen in self.watched.items() if pk in wanted}
        free = [
            live
            for pk, live in wanted.items()
            if pk not in self.held and self._free(listener, live)
        ]
        taken: list[tuple[Live, Held, int]] = []
        try:
            for live in free:  # all meters are read before the first history is
                taken.append((live, *take_up(live, self.clock)))
            open_lines([held for _, held, _ in taken])
            for live, held, next_tick in taken:
                if next_tick:
                    go_on(held, live, next_tick, self.clock())
                    # A sign of life for each: long histories of many benches take longer to read
                    # than another recorder waits.
                    Live.objects.filter(
                        pk__in=[one.pk for one in free], heard_at__isnull=False
                    ).update(heard_at=timezone.now())
                self.held[live.pk] = held
        except BaseException:
            for live, held, _ in taken:
                if live.pk not in self.held:
                    held.close()
            raise
        for pk, live in wanted.items():
            if pk in self.held:
                self._obey(self.held[pk], live.wanted)

    def _obey(self, held: Held, wanted: dict[str, Any]) -> None:
        """Do what is wanted, in order and once."""
        for wish in wanted.get("wishes", []):
            if wish["n"] <= held.seen:
                continue
            held.seen = wish["n"]
            late = self.clock() - held.origin - wish["at"]
            if late > STALE and (wish.get("throttle") or wish.get("task")):
                # Who asked for it has long turned to something else; a part must not begin to turn
                # for that.
                held.session.events.append(
                    f"The throttle was to be turned {late:.0f} s ago, while nobody recorded. It was"
                    " left as it is; ask again."
                )
                continue
            self._do(held, wish)
            held.urgent = True

    def _do(self, held: Held, wanted: dict[str, Any]) -> None:
        session = held.session
        if wanted.get("mounted") is not None and held.motor is not None and held.motor[1].mounted:
            held.motor[0].send(held.motor[1].part(wanted["mounted"]))
        if wanted.get("wave"):
            self._listen_to(held, float(wanted["wave"]))
        elif wanted.get("cut"):
            session.cut("The throttle was closed by hand.")
        elif wanted.get("task"):
            session.task = task_of(wanted["task"], session)
            session.task.begun = round(session.now, 2)
            if (
                isinstance(session.task.machine, Search)
                and session.throttle < session.task.machine.low
            ):
                session.turn(min(max(40.0, session.task.machine.low), session.task.machine.high))
        elif wanted.get("throttle") is not None:
            session.break_off("Stopped: the throttle was turned by hand.")
            session.turn(float(wanted["throttle"]))

    def _listen_to(self, held: Held, seconds: float) -> None:
        """Have the waveforms of all meters that have one fetched."""
        for link in held.links.values():
            for channel, reader in link.readers.items():
                if reader.profile.wave and reader.profile.wave_rate:
                    rate = reader.profile.wave_rate

                    def done(
                        samples: np.ndarray | None, channel: str = channel, rate: float = rate
                    ) -> None:
                        if samples is not None and samples.size:
                            held.waves.append((channel, held.session.now, rate, samples))

                    link.waveform(reader.profile.wave, seconds, done)

    def _keep_waves(self, pk: int, held: Held) -> None:
        """Store waveforms that came, and say what is wrong with them."""
        while held.waves:
            channel, at, rate, samples = held.waves[0]
            operator = Live.objects.select_related("operator").get(pk=pk).operator
            cut = clipping(samples).share if channel == "sound_level" else 0.0
            source = keep_file(operator, f"{channel}-{pk}-{at:.1f}s.wav", wav_bytes(samples, rate))
            Waveform.objects.create(
                recording_id=held.recording,
                channel=channel,
                at_s=round(at, 2),
                seconds=samples.size / rate,
                rate=rate,
                source=source,
                clipped=cut,
            )
            if cut:
                held.session.events.append(
                    f"The sound recorded at {at:.0f} s was clipped ({100 * cut:.1f} % of its"
                    " samples at the end of the scale). Choose a higher range and read again."
                )
            elif channel == "vibration":
                with suppress(ValueError):
                    held.session.events.append(
                        f"Vibration from the waveform at {at:.0f} s:"
                        f" {1000 * velocity_rms(samples, rate):.2f} mm/s r.m.s., 10 to 1000 Hz."
                    )
            held.waves.pop(0)

    def _collect(self) -> None:
        now = self.clock()
        for held in self.held.values():
            for link in held.links.values():
                for channel, samples in link.take().items():
                    held.session.grid.add(channel, samples)
            for piece in held.session.grid.ready(now):
                held.unsaved.append(piece)
                if piece.first >= held.session.recent_first + len(held.session.recent):
                    held.session.add(piece)
                else:
                    held.session.patch(piece)
            held.session.watch()
            held.session.tend()

    def _store(self) -> None:
        """Store all rows in one transaction, and tell whoever watches."""
        for pk, held in self.held.items():
            self._keep_waves(pk, held)
        waiting = [(pk, held) for pk, held in self.held.items() if held.unsaved]
        if not waiting:
            return
        pieces = [
            Piece(
                recording_id=held.recording,
                first=piece.first,
                count=len(piece.rows),
                data=np.ascontiguousarray(piece.rows, "<f8").tobytes(),
            )
            for _, held in waiting
            for piece in held.unsaved
        ]
        with transaction.atomic():
            Piece.objects.bulk_create(pieces)
            with connection.cursor() as cursor:
                for pk, held in waiting:
                    for piece in held.unsaved:
                        cursor.execute(
                            "select pg_notify(%s, %s)", [RECORDED, rows_notice(pk, piece, held)]
                        )
        for _, held in waiting:
            held.unsaved.clear()
            for _, minute in held.session.minutes_over():
                keep_minutes(held.recording, minute)

    def _keep_stale_minute(self) -> None:
        """Keep one minute by the second from what is stored: one that another recorder left, or
        into which a meter filled in what it had kept.
        """
        for held in self.held.values():
            if held.session.stale_minutes:
                number = min(held.session.stale_minutes)
                remake_minute(Recording.objects.get(pk=held.recording), number)
                held.session.stale_minutes.discard(number)
                return

    def _report(self, everything: bool = True) -> None:
        """Write what each bench says: all of them, or only those with something urgent."""
        for pk, held in list(self.held.items()):
            if not (everything or held.urgent or held.session.urgent):
                continue
            silent = [
                CHANNELS[c].label
                for link in held.links.values()
                if link.problem
                for c in link.readers
            ]
            said = held.session.status() | {"seen": held.seen, "silent": silent}
            Live.objects.filter(pk=pk).update(status=said, heard_at=timezone.now())
            with connection.cursor() as cursor:
                cursor.execute(
                    "select pg_notify(%s, %s)", [RECORDED, json.dumps({"live": pk, "status": said})]
                )
            held.urgent = held.session.urgent = False

    def _assess(self) -> None:
        """Forecasts and faults, in a thread of their own so that rows are never late for them."""
        while not self.stopping.wait(0.5):
            for held in list(self.held.values()):
                began = time.monotonic()
                try:
                    held.session.forecast = held.session.settle()
                    held.session.look()
                except Exception:  # no trouble of one bench may end the forecasts of all
                    log.exception("assessing failed")
                self.stopping.wait(
                    min(0.05 + time.monotonic() - began, 1.0)
                )  # at most half of one core

    def _end(self, pk: int) -> None:
        held = self.held[pk]
        if held.session.throttle > 0:
            held.session.turn(0.0)
            time.sleep(0.15)  # so that the closed throttle goes out before the line does
        self._collect()
        self._store()
        self._drop(pk)
        with suppress(*LOST):
            self._connect().execute("select pg_advisory_unlock(%s, %s)", (RECORDER_LOCK, pk))

    def _drop(self, pk: int) -> None:
        self.held.pop(pk).close()

    def _close(self) -> None:
        """An orderly end: nobody watches any more, so throttles are closed."""
        turning = [held.session for held in self.held.values() if held.session.throttle > 0]
        for session in turning:
            session.cut("The recorder was stopped. The throttle was closed.")
        if turning:
            time.sleep(0.2)
        with suppress(*LOST):
            self._collect()
            self._store()
            self._report()
        for pk in list(self.held):
            self._drop(pk)
        if self.listener is not None:
            self.listener.close()
        connection.close()


def rows_notice(pk: int, piece: Rows, held: Held) -> str:
    """Rows for the screen, or only where they are when they are too many for a notice."""
    rows = [
        [None if math.isnan(v) else float(f"{v:.5g}") for v in row] for row in piece.rows.tolist()
    ]
    newest = held.origin + (piece.first + len(rows) - 1) / held.session.rate
    text = json.dumps(
        {"live": pk, "first": piece.first, "rows": rows, "at": round(newest, 3)},
        separators=(",", ":"),
    )
    return (
        text
        if len(text) <= MOST_PAYLOAD
        else json.dumps({"live": pk, "first": piece.first, "many": len(rows)})
    )
