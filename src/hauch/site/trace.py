"""Each request has a number, which its log lines, its answer and its error page show."""

from __future__ import annotations

import errno
import json
import logging
import secrets
import sys
from collections.abc import Callable
from contextlib import suppress
from contextvars import ContextVar
from dataclasses import dataclass
from typing import Any

import psycopg
from asgiref.sync import iscoroutinefunction
from django.db import InterfaceError, OperationalError
from django.http import HttpRequest, HttpResponse
from django.http.response import HttpResponseBase
from django.template import loader
from django.utils.decorators import sync_and_async_middleware
from psycopg_pool import PoolTimeout

HEADER = "X-Request-ID"
number: ContextVar[str] = ContextVar("request", default="-")


@sync_and_async_middleware
def numbered(get_response: Callable[[HttpRequest], Any]) -> Callable[[HttpRequest], Any]:
    """Middleware: give the request its number, and the answer too."""
    if iscoroutinefunction(get_response):

        async def answer_async(request: HttpRequest) -> HttpResponseBase:
            number.set(secrets.token_hex(4))
            found: HttpResponseBase = await get_response(request)
            found.headers[HEADER] = number.get()
            return found

        return answer_async

    def answer(request: HttpRequest) -> HttpResponseBase:
        number.set(secrets.token_hex(4))
        found: HttpResponseBase = get_response(request)
        found.headers[HEADER] = number.get()
        return found

    return answer


NO_ROOM = {errno.ENOSPC, errno.EDQUOT, errno.EROFS}


@dataclass(frozen=True)
class ErrorPage:
    """What somebody is told of an error."""

    status: int
    title: str
    text: str


USUAL = ErrorPage(
    500, "Something went wrong on the server", "Nothing was half-saved. Go back and try again."
)
AWAY = ErrorPage(
    503,
    "The database does not answer at the moment",
    "Nothing was half-saved. Go back, where what you typed still stands, and send it again in a"
    " minute.",
)
FULL = ErrorPage(
    507,
    "The server's disk cannot be written",
    "It is full, or read-only. Nothing was half-saved. Whoever keeps the installation has to see to"
    " it; then go back, where what you typed still stands, and send it again.",
)


def error_page_of(problem: BaseException | None) -> ErrorPage:
    """What is told of an error: that of a full disk and of a database that is away has a way out."""
    while problem is not None:
        if isinstance(problem, OSError) and problem.errno in NO_ROOM:
            return FULL
        if isinstance(problem, psycopg.errors.DiskFull):
            return FULL
        if isinstance(problem, (OperationalError, InterfaceError, PoolTimeout)):
            inner = problem.__cause__
            return FULL if isinstance(inner, psycopg.errors.DiskFull) else AWAY
        problem = problem.__cause__
    return USUAL


def server_error(request: HttpRequest) -> HttpResponse:
    """The page of an error, with the number that its log lines have. Nothing is asked of the
    database for it; the keeper's page hears of it where that answers.
    """
    problem = sys.exc_info()[1]
    told = error_page_of(problem)
    if told is USUAL and problem is not None:
        with suppress(Exception):  # whatever is wrong, the page goes out
            remember(request, problem)
    content = {"number": number.get(), "title": told.title, "text": told.text}
    page = loader.get_template("500.html").render(content)
    answer = HttpResponse(page, status=told.status)
    if told is AWAY:
        answer["Retry-After"] = "30"
    return answer


def remember(request: HttpRequest, problem: BaseException) -> None:
    """Note an error for the keeper's page, which shows the last ones."""
    from hauch.site.models import MOST_KEPT, Trouble

    user = getattr(request, "user", None)
    first = next(iter(str(problem).splitlines()), "")
    Trouble.objects.create(
        number=number.get(),
        what=f"{type(problem).__name__}: {first}"[:300],
        where=f"{request.method} {request.path}"[:300],
        who=str(getattr(user, "username", ""))[:150],
    )
    kept = Trouble.objects.values("pk")[:MOST_KEPT]
    Trouble.objects.exclude(pk__in=kept).delete()


class WithNumber(logging.Filter):
    """Gives each log line the number of the request that it was written in."""

    def filter(self, record: logging.LogRecord) -> bool:
        """Let everything through."""
        record.request_id = number.get()
        return True


class AsJson(logging.Formatter):
    """One JSON object a line, for those who gather logs (HAUCH_LOG=json)."""

    def format(self, record: logging.LogRecord) -> str:
        """Time, level, logger, request, text, and what was raised."""
        content = {
            "at": self.formatTime(record, "%Y-%m-%dT%H:%M:%S%z"),
            "level": record.levelname,
            "logger": record.name,
            "request": getattr(record, "request_id", "-"),
            "text": record.getMessage(),
        }
        if record.exc_info:
            content["raised"] = self.formatException(record.exc_info)
        return json.dumps(content, ensure_ascii=False)
