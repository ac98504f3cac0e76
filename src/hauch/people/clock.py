"""Whose clock it is: moments are shown and typed in the reader's own zone, which their browser says;
days that decide something (until when entries are taken, when a calibration holds) are those of the
installation, so that they end for all at once.
"""

from __future__ import annotations

import zoneinfo
from collections.abc import Awaitable, Callable
from datetime import date, datetime

from asgiref.sync import iscoroutinefunction
from django.http import HttpRequest
from django.http.response import HttpResponseBase
from django.utils import timezone
from django.utils.decorators import sync_and_async_middleware

COOKIE = "zone"
"""What `ui/hauch.js` keeps the browser's zone in."""


def house_day(moment: datetime | None = None) -> date:
    """The day that it is, or was at a moment, at the installation's place."""
    return timezone.localdate(moment, timezone=timezone.get_default_timezone())


def zone_of(request: HttpRequest) -> zoneinfo.ZoneInfo | None:
    """The zone that the reader's browser says; None where it says none that there is."""
    name = request.COOKIES.get(COOKIE, "")
    if not 0 < len(name) <= 60:
        return None
    try:
        return zoneinfo.ZoneInfo(name)
    except (zoneinfo.ZoneInfoNotFoundError, ValueError, OSError):
        return None


@sync_and_async_middleware
def in_the_readers_zone(
    get_response: Callable[[HttpRequest], HttpResponseBase | Awaitable[HttpResponseBase]],
) -> Callable[[HttpRequest], HttpResponseBase | Awaitable[HttpResponseBase]]:
    """Middleware: what is answered is in the reader's zone."""
    if iscoroutinefunction(get_response):

        async def answer_async(request: HttpRequest) -> HttpResponseBase:
            with timezone.override(zone_of(request)):
                answer: HttpResponseBase = await get_response(request)  # type: ignore[misc]
            return answer

        return answer_async

    def answer(request: HttpRequest) -> HttpResponseBase:
        with timezone.override(zone_of(request)):
            return get_response(request)  # type: ignore[return-value]

    return answer
