"""/health/: whether database and worker are there, for people and monitors."""

from __future__ import annotations

from django.contrib.auth.decorators import login_not_required
from django.db import DatabaseError
from django.http import HttpRequest, JsonResponse

from hauch import __version__
from hauch.core import CORE_VERSION
from hauch.ui.worker import GONE_AFTER, worker_heard


@login_not_required
def health(request: HttpRequest) -> JsonResponse:
    """Database, worker and version as JSON; status 503 when the database does not answer."""
    answer: dict[str, object] = {"version": __version__, "core_version": CORE_VERSION}
    try:
        age = worker_heard()
    except DatabaseError:
        return JsonResponse(
            answer | {"database": "does not answer", "worker": "unknown"}, status=503
        )
    worker = "none" if age is None else "ok" if age <= GONE_AFTER else "gone"
    return JsonResponse(answer | {"database": "ok", "worker": worker})
