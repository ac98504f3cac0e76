"""/health/: whether database and worker are there, for people and monitors."""

from __future__ import annotations

from django.contrib.auth.decorators import login_not_required
from django.db import DatabaseError, connection
from django.http import HttpRequest, JsonResponse

from hauch import __version__
from hauch.core import CORE_VERSION

WORKER_GONE_AFTER = 35
"""Seconds without a heartbeat after which a worker counts as gone (it beats every 10 s)."""


@login_not_required
def health(request: HttpRequest) -> JsonResponse:
    """Database, worker and version as JSON; status 503 when the database does not answer."""
    answer: dict[str, object] = {"version": __version__, "core_version": CORE_VERSION}
    try:
        with connection.cursor() as cursor:
            cursor.execute(
                "select extract(epoch from now() - max(last_heartbeat)) from procrastinate_workers"
            )
            age = cursor.fetchone()[0]
    except DatabaseError:
        return JsonResponse(
            answer | {"database": "does not answer", "worker": "unknown"}, status=503
        )
    worker = "none" if age is None else "ok" if age <= WORKER_GONE_AFTER else "gone"
    return JsonResponse(answer | {"database": "ok", "worker": worker})
