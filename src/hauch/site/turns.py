"""So many pages are worked on at once in a web process; the others wait for their turn, in the order
in which they came.

A hundred threads that all compute get less done than six, and each waits for all others: with a
hundred readers a page took twice the processor time, and connections to the database ran out.
"""

from __future__ import annotations

import asyncio
from weakref import WeakKeyDictionary

from hauch.site.limits import App, Message, Receive, Send

AT_ONCE = 6
"""Fewer than the connections that a process may have to the database."""


class Turns:
    """ASGI middleware. A turn begins when all of a request has come in, so that nobody who sends
    slowly holds one, and ends where the answer begins.
    """

    def __init__(self, app: App, at_once: int = AT_ONCE):
        self.app, self.at_once = app, at_once
        self.free: WeakKeyDictionary[asyncio.AbstractEventLoop, asyncio.Semaphore] = (
            WeakKeyDictionary()
        )

    async def __call__(self, scope: Message, receive: Receive, send: Send) -> None:
        if scope["type"] != "http":
            await self.app(scope, receive, send)
            return
        turn = _Turn(self._free())

        async def received() -> Message:
            message = await receive()
            if message["type"] == "http.request" and not message.get("more_body"):
                await turn.begin()
            return message

        async def sent(message: Message) -> None:
            if message["type"] == "http.response.start":
                turn.end()
            await send(message)

        try:
            await self.app(scope, received, sent)
        finally:
            turn.end()

    def _free(self) -> asyncio.Semaphore:
        loop = asyncio.get_running_loop()
        if loop not in self.free:
            self.free[loop] = asyncio.Semaphore(self.at_once)
        return self.free[loop]


class _Turn:
    """One request's."""

    def __init__(self, free: asyncio.Semaphore):
        self.free, self.had, self.ended = free, False, False

    async def begin(self) -> None:
        """Wait for it."""
        if self.had or self.ended:
            return
        await self.free.acquire()
        self.had = True

    def end(self) -> None:
        """Give it to the next one; twice is once."""
        if self.had and not self.ended:
            self.free.release()
        self.ended = True
