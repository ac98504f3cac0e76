"""Text that comes in is made such that it can be stored: without NUL, which PostgreSQL holds in no
text, wherever it stands (address, query, form). And pages of somebody are kept by nobody's browser.
"""

from __future__ import annotations

from collections.abc import Callable
from typing import Any

from asgiref.sync import iscoroutinefunction
from django.http import HttpRequest, HttpResponse, HttpResponseNotFound, QueryDict
from django.http.response import HttpResponseBase
from django.utils.decorators import sync_and_async_middleware

NUL = "\x00"
LONGEST_QUERY = 8_000
"""Characters after the question mark of an address."""


@sync_and_async_middleware
def clean(
    get_response: Callable[[HttpRequest], Any],
) -> Callable[[HttpRequest], Any]:
    """Middleware: takes NUL out of the query and the form; no address has one."""
    if iscoroutinefunction(get_response):

        async def answer_async(request: HttpRequest) -> HttpResponseBase:
            return _private(_refused(request) or await get_response(request))

        return answer_async

    def answer(request: HttpRequest) -> HttpResponseBase:
        return _private(_refused(request) or get_response(request))

    return answer


def _private(answer: HttpResponseBase) -> HttpResponseBase:
    """A page is not kept by what lies between, nor on the disk of a browser that others use."""
    if answer.get("Content-Type", "").startswith("text/html"):
        answer.headers.setdefault("Cache-Control", "private, no-store")
    return answer


def _refused(request: HttpRequest) -> HttpResponseBase | None:
    if NUL in request.path:
        return HttpResponseNotFound("There is no such page.", content_type="text/plain")
    if len(request.META.get("QUERY_STRING", "")) > LONGEST_QUERY:
        return HttpResponse("This address is too long.", status=414, content_type="text/plain")
    if "%00" in request.META.get("QUERY_STRING", ""):
        request.GET = cleaned(request.GET)  # type: ignore[assignment]
    parse = request._load_post_and_files  # type: ignore[attr-defined]

    def load() -> None:
        """Parse the form when it is asked for, as Django does, and clean it."""
        parse()
        request._post = cleaned(request._post)  # type: ignore[attr-defined]

    request._load_post_and_files = load  # type: ignore[method-assign]
    return None


def cleaned(data: QueryDict) -> QueryDict:
    """A form or query without NUL; itself where it had none."""
    if not any(NUL in text for key, texts in data.lists() for text in (key, *texts)):
        return data
    made = QueryDict(mutable=True, encoding=data.encoding)
    for key, texts in data.lists():
        made.setlist(key.replace(NUL, ""), [text.replace(NUL, "") for text in texts])
    made._mutable = False
    return made
