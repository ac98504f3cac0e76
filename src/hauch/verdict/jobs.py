"""Background work of the verdict."""

from __future__ import annotations

from contextlib import suppress

from django.db import transaction
from procrastinate.contrib.django import app
from procrastinate.exceptions import AlreadyEnqueued

from hauch.rounds.models import Round
from hauch.verdict.actions import refresh


@app.task(name="verdict.refresh_standings")
def refresh_standings(round_id: int) -> None:
    """Judge a round anew under all versions of its rules; safe to run twice."""
    for rules in Round.objects.get(pk=round_id).rules.all():
        refresh(rules)


def defer_refresh(round_id: int) -> None:
    """Leave a round to the worker, unless it waits there already."""
    with suppress(AlreadyEnqueued), transaction.atomic():  # the refusal undoes only itself
        refresh_standings.configure(queueing_lock=f"standing-{round_id}").defer(round_id=round_id)
