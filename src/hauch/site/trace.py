"""Each request has a number, which its log lines, its answer and its error page show."""

from __future__ import annotations

import json
import logging
import secrets
from collections.abc import Callable
from contextvars import ContextVar
from typing import Any

from asgiref.sync import iscoroutinefunction
from django.http import HttpRequest, HttpResponseServerError
from django.http.response import HttpResponseBase
from django.template import loader
from django.utils.decorators import sync_and_async_middleware

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


def server_error(request: HttpRequest) -> HttpResponseServerError:
    """The page of an error, with the number that its log lines have. Nothing is asked of the
    database for it.
    """
    page = loader.get_template("500.html").render({"number": number.get()})
    return HttpResponseServerError(page)


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
