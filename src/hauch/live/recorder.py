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
from collections.abc import Callable, Iterator
from contextlib import contextmanager, suppress
from typing import Any

import msgspec
import psycopg
from django.db import InterfaceError, OperationalError, connection
from django.utils import timezone

from hauch.bench import steady
from hauch.bench.models import Live, Recording
from hauch.bench.traces import RECORDER_LOCK, remake_minute
from hauch.core.measure.channels import CHANNELS
from hauch.core.quantity.mixups import mixups
from hauch.live.assessing import assessed
from hauch.live.held import REPORT_EVERY, Held, go_on, open_lines, take_up
from hauch.live.obeying import heed, obey
from hauch.live.presence import with_absence
from hauch.live.protocol import (
    RECORDED,
    WANTED,
    plain,
    wanted_of,
)
from hauch.live.storing import insert, keep_over, keep_waves

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
GOES_OUT = 0.15
"""So long a closed throttle needs to go out before the line does [s]."""
OUTAGE = (
    OperationalError,
    InterfaceError,
    psycopg.OperationalError,
    psycopg.InterfaceError,
    OSError,
)
"""The database cannot be reached. Whatever else goes wrong concerns one bench."""


class Recorder:
    """Records all live benches that nobody else records."""

    def __init__(self, say: Callable[[str], None] = log.warning):
        self.say = say
        self.held: dict[int, Held] = {}
        self.listener: psycopg.Connection | None = None
        self.down_since = math.inf
        self.patient_until = 0.0
        self.watched: dict[int, tuple[Any, float]] = {}
        """Recordings of others: when they were last heard of, as they say, and when this recorder
        saw that first.
        """
        self.failed: dict[int, tuple[Held | None, str]] = {}
        """Benches that were given up, until that is written down: what was held, and why."""
        self.stopping = threading.Event()
        self._assessor = threading.Thread(target=self._assess, daemon=True, name="assess")

    def run(self) -> None:
        """Record until stopped."""
        self._assessor.start()
        next_look = next_report = 0.0
        before = steady.counted()
        while not self.stopping.is_set():
            began, here = time.monotonic(), steady.counted()
            if here - before > HUNG:  # a machine that slept is known by this clock alone
                self._stood_still(here - before)
            before = here
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
            except OUTAGE as trouble:
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
        with suppress(*OUTAGE):
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
        with suppress(*OUTAGE):
            connection.close()
        if self.listener is not None:
            with suppress(*OUTAGE):
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

    @contextmanager
    def _alone(self, pk: int, database: bool = True) -> Iterator[None]:
        """What goes wrong with one bench stops that bench alone; a database that cannot be reached
        is everybody's, where it is asked for anything.
        """
        try:
            yield
        except OUTAGE as problem:
            if database:
                raise
            self._give_up(pk, problem)
        except Exception as problem:  # whatever meters, profiles and rows of one bench come to
            log.exception("live recording %s was stopped", pk)
            self._give_up(pk, problem)

    def _give_up(self, pk: int, problem: Exception) -> None:
        """Close the throttle of a bench and leave it, with the reason; nobody takes it up again."""
        held, told = self.held.pop(pk, None), False
        if held is not None:
            held.left_at = held.session.throttle
            with suppress(Exception):  # its line may be what is wrong
                held.session.cut("The throttle was closed.")
                told = held.session.send is not None
            if held.left_at > 0:
                time.sleep(GOES_OUT)
            with suppress(Exception):
                held.close()
        said = f"{type(problem).__name__}: {problem}"[:200]
        self.say(f"Live recording {pk} was stopped. {said}")
        throttle = (
            "The throttle was told to close; whether it did nobody has seen."
            if told
            else "The throttle could not be closed from here: switch the supply off by hand."
        )
        self.failed[pk] = (
            held,
            (
                "This bench is not recorded any more: something went wrong that concerns it alone"
                f" ({said}). {throttle} Nobody goes near before the part stands still. Then end this"
                " recording and begin another one."
            ),
        )

    def _tell_failed(self) -> None:
        """Write down which benches were given up."""
        for pk, (held, sentence) in list(self.failed.items()):
            if held is not None and held.unsaved:
                try:
                    insert({pk: held})
                except OUTAGE:
                    raise
                except Exception:  # they may be what is wrong
                    log.exception("the last rows of live recording %s cannot be stored", pk)
            # The throttle stays as it was last known: that it is closed nobody has seen.
            stored = Live.objects.filter(pk=pk).values_list("status", flat=True).first() or {}
            known = {"throttle": held.left_at} if held is not None else {}
            self._write(pk, stored | known | {"stopped": sentence, "calm": False})
            with suppress(*OUTAGE):
                self._connect().execute("select pg_advisory_unlock(%s, %s)", (RECORDER_LOCK, pk))
            del self.failed[pk]

    @staticmethod
    def _write(pk: int, status: dict[str, Any]) -> None:
        """Write what is said of a bench, and tell whoever watches."""
        Live.objects.filter(pk=pk).update(status=status, heard_at=timezone.now())
        with connection.cursor() as cursor:
            cursor.execute(
                "select pg_notify(%s, %s)", [RECORDED, json.dumps({"live": pk, "status": status})]
            )

    def _look(self) -> None:
        """Take up new live recordings, do what is wanted, let go of those that ended."""
        listener = self._connect()
        self._tell_failed()
        going_on = with_absence(
            Live.objects.filter(ended_at__isnull=True).select_related(
                "round", "test__rig", "recording", "specimen"
            )
        )
        wanted = {live.pk: live for live in going_on if not live.status.get("stopped")}
        for pk in [pk for pk in self.held if pk not in wanted]:
            with self._alone(pk):
                self._end(pk)
        self.watched = {pk: seen for pk, seen in self.watched.items() if pk in wanted}
        self._take_up(
            [
                live
                for pk, live in wanted.items()
                if pk not in self.held and self._free(listener, live)
            ]
        )
        for pk, live in wanted.items():
            if pk in self.held:
                with self._alone(pk):
                    obey(self.held[pk], wanted_of(live))
                    heed(self.held[pk].session, live)

    def _take_up(self, free: list[Live]) -> None:
        """Hold recordings that nobody holds: all meters are read before the first history is."""
        taken: list[tuple[Live, Held, int]] = []
        try:
            for live in free:
                with self._alone(live.pk):
                    taken.append((live, *take_up(live)))
            open_lines([held for _, held, _ in taken])
            for live, held, next_tick in taken:
                with self._alone(live.pk):
                    if next_tick:
                        go_on(held, live, next_tick)
                        # A sign of life for each: long histories of many benches take longer to
                        # read than another recorder waits.
                        Live.objects.filter(
                            pk__in=[one.pk for one in free], heard_at__isnull=False
                        ).update(heard_at=timezone.now())
                    self.held[live.pk] = held
        finally:
            for live, held, _ in taken:
                if live.pk not in self.held:
                    held.close()

    def _collect(self) -> None:
        for pk, held in list(self.held.items()):
            with self._alone(pk, database=False):
                self._collect_from(held)

    @staticmethod
    def _collect_from(held: Held) -> None:
        """Rows of one bench, and what they ask for at once."""
        session = held.session
        for link in held.links.values():
            for channel, samples in link.take().items():
                session.grid.add(channel, samples)
        for piece in session.grid.ready(held.clock()):
            held.unsaved.append(piece)
            if piece.first >= session.recent_first + len(session.recent):
                session.add(piece)
            else:
                session.patch(piece)
        while not held.findings.empty():
            session.take(held.findings.get())
        session.watch()
        session.tend()

    def _store(self) -> None:
        """Store all rows in one transaction, and tell whoever watches."""
        for pk, held in list(self.held.items()):
            with self._alone(pk):
                keep_waves(pk, held)
        waiting = {pk: held for pk, held in self.held.items() if held.unsaved}
        if not waiting:
            return
        try:
            insert(waiting)
        except OUTAGE:
            raise
        except Exception:  # those of one bench cannot be stored: each by itself
            for pk, held in waiting.items():
                with self._alone(pk):
                    insert({pk: held})
        for pk in waiting.keys() & self.held.keys():
            with self._seconds_of(pk):
                keep_over(self.held[pk])

    @contextmanager
    def _seconds_of(self, pk: int) -> Iterator[None]:
        """Seconds that cannot be kept stop nobody: whoever needs them reads the samples."""
        try:
            yield
        except OUTAGE:
            raise
        except Exception:
            log.exception("seconds of live recording %s are not kept", pk)

    def _keep_stale_minute(self) -> None:
        """Keep one minute by the second from what is stored: one that another recorder left, or
        into which a meter filled in what it had kept.
        """
        for pk, held in list(self.held.items()):
            if held.session.stale_minutes:
                number = min(held.session.stale_minutes)
                with self._seconds_of(pk):
                    remake_minute(Recording.objects.get(pk=held.recording), number)
                held.session.stale_minutes.discard(number)
                return

    def _report(self, everything: bool = True) -> None:
        """Write what each bench says: all of them, or only those with something urgent."""
        for pk, held in list(self.held.items()):
            if not (everything or held.urgent or held.session.urgent):
                continue
            with self._alone(pk):
                silent = [
                    CHANNELS[c].label
                    for link in held.links.values()
                    if link.silent
                    for c in link.readers
                ]
                said = msgspec.structs.replace(held.session.status(), seen=held.seen, silent=silent)
                self._write(pk, plain(said))
                held.urgent = held.session.urgent = False
        self._tell_failed()

    def _assess(self) -> None:
        """Forecasts and faults, in a thread of their own so that rows are never late for them."""
        mixups("air_speed")  # the table of units is made once, which takes a second
        while not self.stopping.wait(0.5):
            for held in list(self.held.values()):
                began = time.monotonic()
                try:
                    held.findings.put(assessed(held.session.snapshot()))
                except Exception:  # no trouble of one bench may end the forecasts of all
                    log.exception("assessing failed")
                self.stopping.wait(
                    min(0.05 + time.monotonic() - began, 1.0)
                )  # at most half of one core

    def _end(self, pk: int) -> None:
        held = self.held[pk]
        if held.session.throttle > 0:
            held.session.turn(0.0)
            time.sleep(GOES_OUT)
        self._collect()
        self._store()
        self._drop(pk)
        with suppress(*OUTAGE):
            self._connect().execute("select pg_advisory_unlock(%s, %s)", (RECORDER_LOCK, pk))

    def _drop(self, pk: int) -> None:
        if (held := self.held.pop(pk, None)) is not None:
            held.close()

    def _close(self) -> None:
        """An orderly end: nobody watches any more, so throttles are closed."""
        turning = [held.session for held in self.held.values() if held.session.throttle > 0]
        for session in turning:
            session.cut("The recorder was stopped. The throttle was closed.")
        if turning:
            time.sleep(GOES_OUT)
        with suppress(*OUTAGE):
            self._collect()
            self._store()
            self._report()
        for pk in list(self.held):
            self._drop(pk)
        if self.listener is not None:
            self.listener.close()
        connection.close()
