"""Where to go after something was entered: back to the page that sent one there."""

from __future__ import annotations

from typing import Any

from django.http import HttpRequest
from django.utils.http import url_has_allowed_host_and_scheme


def next_of(request: HttpRequest) -> str:
    """The page that asked for what is entered here; empty where none did, or where it is not ours."""
    wanted = request.GET.get("next", "")
    return wanted if url_has_allowed_host_and_scheme(wanted, None) else ""


def back_or(request: HttpRequest, otherwise: Any) -> Any:
    """What `redirect` takes: the page that asked, else another one."""
    return next_of(request) or otherwise
