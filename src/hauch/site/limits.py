"""What comes in is bounded before anything of it is kept: how long a body may be for its address and
its sender, and how slowly it may come.

Django would spool a body of any length to disk before a view could refuse it, whoever sends it.
"""

from __future__ import annotations

import asyncio
import time
from collections.abc import Awaitable, Callable, MutableMapping
from http.cookies import CookieError, SimpleCookie
from typing import Any

from asgiref.sync import sync_to_async
from django.conf import settings
from django.contrib.auth import SESSION_KEY
from django.contrib.sessions.backends.db import SessionStore
from django.urls import Resolver404, resolve

from hauch.formats.logger_csv import MOST_BYTES
from hauch.formats.sound import MOST_BYTES as MOST_SOUND_BYTES

Message = MutableMapping[str, Any]
Receive = Callable[[], Awaitable[Message]]
Send = Callable[[Message], Awaitable[None]]
App = Callable[[Message, Receive, Send], Awaitable[None]]

MOST_OF_A_STRANGER = 64_000
"""Bytes of a form of somebody who has not signed in: a name and a password."""
MOST_OF_A_FORM = 4_000_000
"""Bytes of a form without files: a table pasted from a spreadsheet."""
MOST_OF_A_PIECE = 6_000_000
"""Bytes of a piece of a file that goes up in pieces, with what goes around it."""
MOST_OF_A_PICTURE = 30_000_000
MOST_OF_A_FILE = MOST_BYTES + 1_000_000
"""A file with the form around it."""
MOST_OF_A_SOUND = MOST_SOUND_BYTES + 1_000_000
TOLD_FROM = 65_536
"""So much [bytes] of a file that is too long is handed on, so that its form can say so in its place."""
MOST_DROPPED = 4_000_000_000
"""So much [bytes] is read and dropped at most, to get an answer to a browser."""
LONGEST_SILENCE = 30.0
"""A body of which nothing came for so long [s] ends."""
SLOWEST = 4_000.0
"""Bytes a second below which a body ends, after the first `LONGEST_SILENCE` seconds."""

FILES = {
    **dict.fromkeys(
        (
            "bench:upload",
            "entries:edit",
            "entries:upload",
            "exchange:import",
        ),
        MOST_OF_A_FILE,
    ),
    "entries:piece": MOST_OF_A_PIECE,
    "sound:hand_in": MOST_OF_A_SOUND,
    **dict.fromkeys(
        (
            "bench:dnf",
            "bench:observe",
            "desk:load",
            "exchange:import_library",
            "live:dnf",
            "live:note",
            "panel:add_picture",
            "stores:note_reference",
            "workshop:change",
        ),
        MOST_OF_A_PICTURE,
    ),
}
"""Addresses that take files, by name, and how long a body may be there [bytes]."""


def most_bytes(path: str, *, known: bool) -> int:
    """How many bytes a body may have at an address.

    Parameters
    ----------
    path : of the request
    known : whether somebody has signed in
    """
    if not known:
        return MOST_OF_A_STRANGER
    try:
        name = resolve(path).view_name
    except Resolver404:
        return MOST_OF_A_STRANGER
    return FILES.get(name, MOST_OF_A_FORM)


class _Ended(Exception):
    """A body is not read further: status, and the sentence that says why."""

    def __init__(self, status: int, sentence: str):
        super().__init__(sentence)
        self.status, self.sentence = status, sentence


class Limits:
    """ASGI middleware around the whole application."""

    def __init__(self, app: App, silence: float = LONGEST_SILENCE):
        self.app, self.silence = app, silence

    async def __call__(self, scope: Message, receive: Receive, send: Send) -> None:
        if scope["type"] != "http":
            await self.app(scope, receive, send)
            return
        body = _Body(scope, receive, self.silence)
        try:
            await body.check_announced()
            await self.app(scope, body.receive, send)
        except _Ended as ended:
            await _refuse(send, ended)


class _Body:
    """What comes in of one request."""

    def __init__(self, scope: Message, receive: Receive, silence: float):
        self.scope, self.outer, self.silence = scope, receive, silence
        self.most, self.asked = MOST_OF_A_STRANGER, False
        self.came, self.began, self.whole = 0, time.monotonic(), False

    async def check_announced(self) -> None:
        """Refuse a body whose announced length is too long; what somebody who has signed in sends
        is read and dropped first, so that their browser gets to the answer.
        """
        announced = next((v for k, v in self.scope["headers"] if k == b"content-length"), b"0")
        length = int(announced) if announced.isdigit() and len(announced) < 16 else 0
        if length > self.most:
            await self._ask()
        if length <= self.most:
            return
        if self.most == MOST_OF_A_STRANGER:
            raise _Ended(
                413, "This is more than a form of somebody who has not signed in can hold."
            )
        if length > MOST_DROPPED:
            raise _Ended(413, "This is far more than anything here takes.")
        first = b""
        while not self.whole:
            message = await self._next()
            first += message.get("body", b"")[: TOLD_FROM - len(first)]
        if self.most < MOST_OF_A_FILE:
            raise _Ended(
                413,
                f"At most {self.most / 1e6:.0f} MB are taken here. Go back, where what you typed still"
                " stands, and choose a smaller file.",
            )
        self.outer = _once({"type": "http.request", "body": first, "more_body": False})
        self.whole, self.came = False, 0

    async def _ask(self) -> None:
        """Once it matters, look who it is."""
        if not self.asked:
            self.asked = True
            known = await sync_to_async(_signed_in)(self.scope["headers"])
            self.most = most_bytes(self.scope["path"], known=known)

    async def receive(self) -> Message:
        """The next piece of the body, for the application."""
        if self.whole:
            return await self.outer()  # waits for the line to be closed
        message = await self._next()
        if self.came > self.most:
            await self._ask()
        if self.came > self.most:
            raise _Ended(413, "More came in than this address takes.")
        return message

    async def _next(self) -> Message:
        try:
            message = await asyncio.wait_for(self.outer(), self.silence)
        except TimeoutError as late:
            raise _Ended(408, "Nothing came for too long. Send it again.") from late
        self.came += len(message.get("body", b""))
        self.whole = message["type"] != "http.request" or not message.get("more_body")
        took = time.monotonic() - self.began - self.silence
        if not self.whole and took > 0 and self.came < SLOWEST * took:
            raise _Ended(408, "It comes too slowly. Send it again over a better line.")
        return message


def _once(message: Message) -> Receive:
    """A body that is here already."""
    waiting = [message]

    async def receive() -> Message:
        if waiting:
            return waiting.pop()
        await asyncio.Event().wait()
        raise AssertionError

    return receive


def _signed_in(headers: list[tuple[bytes, bytes]]) -> bool:
    """Whether the session that a request names is somebody's."""
    sent = b"; ".join(value for key, value in headers if key == b"cookie").decode("latin-1")
    try:
        cookie = SimpleCookie(sent).get(settings.SESSION_COOKIE_NAME)
    except CookieError:
        return False
    return cookie is not None and SESSION_KEY in SessionStore(cookie.value)


async def _refuse(send: Send, ended: _Ended) -> None:
    page = (
        "<!doctype html><html lang=en><title>Not taken – Hauch</title>"
        f"<h1>Not taken</h1><p>{ended.sentence}</p></html>"
    ).encode()
    headers = [
        (b"content-type", b"text/html; charset=utf-8"),
        (b"content-length", str(len(page)).encode()),
        (b"connection", b"close"),
        (b"content-security-policy", b"default-src 'none'"),
        (b"x-content-type-options", b"nosniff"),
    ]
    await send({"type": "http.response.start", "status": ended.status, "headers": headers})
    await send({"type": "http.response.body", "body": page})
