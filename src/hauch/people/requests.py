"""The request that views get: somebody has signed in, which middleware sees to."""

from __future__ import annotations

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
