"""Server-sent events of a live bench: what the recorder stores, to all who watch, as it comes.

One connection of each web process listens to the database; it is shared by all streams of the
process. A browser that comes back says which rows it has (Last-Event-ID) and gets the rest from the
table.

References
----------
Server-sent events: HTML Living Standard, 9.2.
"""

from __future__ import annotations

import asyncio
import json
import math
import time
from collections.abc import AsyncIterator, Callable
from contextlib import suppress
from typing import Any

import numpy as np
import psycopg
from asgiref.sync import sync_to_async
from django.db import connection

from hauch.bench.models import Live
from hauch.bench.traces import after, trace_of, with_products
from hauch.core.trace.thin import binned, seconds_binned
from hauch.live.protocol import RECORDED

KEPT_ALIVE = 10.0
"""A comment goes out after so long without an event [s], so that nobody in between closes the line."""

LOOKED_AFTER = 2.0
"""So often it is looked whether somebody may still watch [s]."""

MOST_WAITING = 600
"""Events that wait for one browser; a browser that is slower is cut off and comes back for the
rest.
"""

HISTORY_POINTS = 600
FINE_SECONDS = 150.0
"""So much of a recording is shown by quarters of a second; of a longer one the seconds do."""
CATCH_UP_ROWS = 3_000
"""A browser that lacks more rows than this gets thinned history instead."""


class Hub:
    """Passes notices of the database on to the streams of this process."""

    def __init__(self) -> None:
        self.queues: dict[int, set[asyncio.Queue[dict[str, Any]]]] = {}
        self.task: asyncio.Task[None] | None = None
        self.loop: asyncio.AbstractEventLoop | None = None

    def join(self, pk: int) -> asyncio.Queue[dict[str, Any]]:
        """A queue of events of one live bench."""
        loop = asyncio.get_running_loop()
        if self.task is None or self.task.done() or self.loop is not loop:
            self.loop, self.task, self.queues = loop, loop.create_task(self._listen()), {}
        queue: asyncio.Queue[dict[str, Any]] = asyncio.Queue(MOST_WAITING)
        self.queues.setdefault(pk, set()).add(queue)
        return queue

    def leave(self, pk: int, queue: asyncio.Queue[dict[str, Any]]) -> None:
        """No more events into a queue; the connection is closed with the last one."""
        self.queues.get(pk, set()).discard(queue)
        if not self.queues.get(pk):
            self.queues.pop(pk, None)
        if not self.queues and self.task is not None:
            self.task.cancel()
            self.task = None

    async def _listen(self) -> None:
        """Listen for good; a lost database is tried again until it is back."""
        while True:
            with suppress(psycopg.Error, OSError):
                params = await sync_to_async(connection.get_connection_params)()
                for key in ("cursor_factory", "context"):
                    params.pop(key, None)
                async with await psycopg.AsyncConnection.connect(
                    **params, autocommit=True
                ) as listener:
                    await listener.execute(f"listen {RECORDED}")
                    self._pass({"again": True}, list(self.queues))
                    async for notice in listener.notifies():
                        with suppress(ValueError):
                            event = json.loads(notice.payload)
                            self._pass(event, [event["live"]])
            await asyncio.sleep(0.3)

    def _pass(self, event: dict[str, Any], pks: list[int]) -> None:
        for pk in pks:
            for queue in list(self.queues.get(pk, ())):
                try:
                    queue.put_nowait(event)
                except asyncio.QueueFull:
                    self.leave(pk, queue)
                    queue.get_nowait()
                    queue.put_nowait({"slow": True})


hub = Hub()


def event(kind: str, data: dict[str, Any], number: int | None = None) -> str:
    """One event as it goes over the line."""
    head = f"id: {number}\n" if number is not None else ""
    return f"{head}event: {kind}\ndata: {json.dumps(data, separators=(',', ':'))}\n\n"


def rows_after(live: Live, tick: int) -> tuple[int, list[list[float | None]]]:
    """Rows that follow a tick, as they are stored: first tick and rows."""
    rate, columns = live.recording.rate or 1.0, live.recording.columns
    stretch = trace_of(live.recording).window(low=(tick + 0.5) / rate)
    if not stretch.times.size:
        return tick + 1, []
    rows = np.column_stack([stretch.channels[key] for key in columns])
    return round(float(stretch.times[0]) * rate), [
        [None if math.isnan(v) else float(f"{v:.5g}") for v in row] for row in rows.tolist()
    ]


def history(live: Live) -> dict[str, Any]:
    """All of a recording so far, for a screen: start, lowest, highest and mean of each stretch by
    channel, and the newest tick.
    """
    trace, rate = trace_of(live.recording), live.recording.rate or 1.0
    end = (trace.extent or (0.0, -1 / rate))[1]
    if end <= FINE_SECONDS:
        fine = with_products(trace.window())
        traces = {key: binned(fine.times, values, 0.25) for key, values in fine.channels.items()}
    else:
        seconds = trace.seconds()
        width = max(1.0, end / HISTORY_POINTS)
        traces = {key: seconds_binned(seconds, key, width) for key in seconds.mean}
    return {
        "traces": {
            key: [
                [float(f"{v:.6g}") for v in stretch]
                for stretch in zip(*(part.tolist() for part in parts), strict=True)
            ]
            for key, parts in traces.items()
        },
        "tick": round(end * rate),
        "status": live.status,
    }


def changes(pk: int) -> dict[str, Any]:
    """How far a bench is, so that a page knows whether it is behind, and whether it has ended."""
    count, ended = Live.objects.values_list("changes", "ended_at").get(pk=pk)
    return {"changes": count, "ended": ended is not None}


async def events(
    live: Live, last: int | None, may_still: Callable[[], bool] = lambda: True
) -> AsyncIterator[str]:
    """The stream of one browser: history, then what comes, as long as it may.

    Parameters
    ----------
    last : the newest row that the browser has; None for all
    may_still : asked every `LOOKED_AFTER` seconds; the stream ends where the answer is no
    """
    queue = hub.join(live.pk)
    try:
        yield "retry: 700\n\n"
        yield event("changed", await sync_to_async(changes)(live.pk))
        known = -1 if last is None else last
        if last is None:
            told = await sync_to_async(history)(live)
            known = told["tick"]
            yield event("history", told, known)
        else:
            async for text in _missed(live, known):
                yield text
        async for got in _notices(queue, may_still):
            if not got:
                yield ": still here\n\n"
            elif got.get("slow"):
                return
            elif "rows" in got:
                newest = got["first"] + len(got["rows"]) - 1
                known = max(known, newest)
                yield event(
                    "rows", {"first": got["first"], "rows": got["rows"], "at": got["at"]}, known
                )
            elif "status" in got:
                yield event("status", got["status"])
            elif "changed" in got:
                yield event("changed", await sync_to_async(changes)(live.pk))
            else:  # too many rows for one notice, or the database was away
                yield event("changed", await sync_to_async(changes)(live.pk))
                async for text in _missed(live, known):
                    yield text
                    known = int(text.partition("id: ")[2].partition("\n")[0] or known)
    finally:
        hub.leave(live.pk, queue)


async def _notices(
    queue: asyncio.Queue[dict[str, Any]], may_still: Callable[[], bool]
) -> AsyncIterator[dict[str, Any]]:
    """What comes for one browser, an empty notice after a silence, until it may not see more."""
    said = looked = time.monotonic()
    while True:
        now = time.monotonic()
        if now - looked >= LOOKED_AFTER:
            looked = now
            if not await sync_to_async(may_still)():
                return
        try:
            yield await asyncio.wait_for(queue.get(), LOOKED_AFTER)
            said = time.monotonic()
        except TimeoutError:
            if now - said >= KEPT_ALIVE:
                said = now
                yield {}


async def _missed(live: Live, known: int) -> AsyncIterator[str]:
    """Rows from the table that a browser does not have yet."""
    if await sync_to_async(after)(live.recording) - known > CATCH_UP_ROWS:
        told = await sync_to_async(history)(live)
        yield event("history", told, told["tick"])
        return
    first, rows = await sync_to_async(rows_after)(live, known)
    if rows:
        yield event("rows", {"first": first, "rows": rows}, first + len(rows) - 1)
