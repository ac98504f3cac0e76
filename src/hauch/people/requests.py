"""The request that views get: somebody has signed in, which middleware sees to."""

from __future__ import annotations

import re

from django.http import HttpRequest
from django_htmx.middleware import HtmxDetails

from hauch.people.models import User


class Request(HttpRequest):
    """A request of a person, with what htmx says of itself. Only pages that need no sign-in get a
    plain `HttpRequest`.
    """

    user: User
    htmx: HtmxDetails
    upload_too_large: bool


def whole(text: str | None) -> int | None:
    """A whole number that somebody chose, as a form or an address holds it; None for anything else,
    such as other scripts' digits or more of them than the database can hold.
    """
    return int(text) if text and re.fullmatch(r"[0-9]{1,18}", text) else None
