"""What the recorder stores, passed on as it comes to whoever may see it."""

from __future__ import annotations

from collections import deque
from collections.abc import AsyncIterator, Callable
from contextlib import suppress
from functools import partial

from asgiref.sync import sync_to_async
from django.contrib.sessions.models import Session
from django.http import HttpResponseBase, StreamingHttpResponse

from hauch.bench.models import Live
from hauch.live.stream import events
from hauch.live.views import live_for
from hauch.people.models import User
from hauch.people.permissions import allowed
from hauch.people.requests import Request, whole
from hauch.rounds.models import Round
from hauch.rounds.queries import round_for


def _stream_of(request: Request, slug: str, pk: int) -> Live:
    round = round_for(request.user, slug, "bench.view")
    request.user.pk  # noqa: B018 the session is read here, where the database may be asked
    return live_for(request, round, pk)


def _may_watch(session_key: str | None, user_pk: int | None, one: Live) -> bool:
    """Whether somebody who watches a bench is still signed in, and still in the round with a role
    that sees it.
    """
    user = User.objects.filter(pk=user_pk or 0, is_active=True).first()
    if user is None or not Session.objects.filter(session_key=session_key).exists():
        return False
    round = Round.objects.get(pk=one.test.round_id)
    return allowed(user, "bench.view", round)


MOST_STREAMS = 12
"""So many streams one person has open in one web process; one more ends the oldest."""
_open: dict[int, deque[object]] = {}


def _one_more(user_pk: int, may: Callable[[], bool]) -> Callable[[], bool]:
    """Count a stream of a person; gives what tells whether it may go on, which it may not once it
    is the oldest of too many.
    """
    mine, streams = object(), _open.setdefault(user_pk, deque(maxlen=MOST_STREAMS))
    streams.append(mine)
    return lambda: mine in streams and may()


async def _counted(
    one: Live, tick: int | None, user_pk: int, may: Callable[[], bool]
) -> AsyncIterator[str]:
    """A stream that counts among those of a person as long as it is open."""
    before = set(_open.get(user_pk, ()))
    may_still = _one_more(user_pk, may)
    mine = [token for token in _open[user_pk] if token not in before]
    try:
        async for text in events(one, tick, may_still):
            yield text
    finally:
        for token in mine:
            with suppress(ValueError):
                _open[user_pk].remove(token)


async def stream(request: Request, slug: str, pk: int) -> HttpResponseBase:
    """What the recorder stores, as it comes."""
    one = await sync_to_async(_stream_of)(request, slug, pk)
    last = request.headers.get("Last-Event-ID") or request.GET.get("last", "")
    tick = -1 if last == "-1" else whole(last)
    may = partial(_may_watch, request.session.session_key, request.user.pk, one)
    answer = StreamingHttpResponse(
        _counted(one, tick, request.user.pk, may),
        content_type="text/event-stream",
    )
    answer["Cache-Control"] = "no-cache"
    answer["X-Accel-Buffering"] = "no"
    return answer
