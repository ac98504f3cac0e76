"""Background work of the verdict."""

from __future__ import annotations

from datetime import timedelta

from django.utils import timezone
from procrastinate.contrib.django import app

from hauch.rounds.models import Round
from hauch.verdict.judging import judge_round, left_behind
from hauch.verdict.publishing import keep_publication
from hauch.verdict.settling import work_out

LEFT_BEHIND_AFTER = timedelta(minutes=5)


@app.task(name="verdict.refresh_standings")
def refresh_standings(round_id: int) -> None:
    """Judge a round anew where that is still to be done; safe to run twice."""
    judge_round(round_id)


def defer_refresh(round_id: int, seconds: int = 0) -> None:
    """Leave a round to the worker, inside the transaction that changed it: both are committed, or
    neither is.
    """
    refresh_standings.configure(
        lock=f"standing-{round_id}", schedule_in={"seconds": seconds}
    ).defer(round_id=round_id)


@app.task(name="verdict.settle")
def work_out_settling(settling_id: int) -> None:
    """Work out what would settle a round; safe to run twice."""
    work_out(settling_id)


@app.periodic(cron="*/5 * * * *")
@app.task(name="verdict.sweep", queueing_lock="verdict-sweep")
def sweep(timestamp: int) -> None:
    """Judge what is stale though its job is gone, such as one that killed its worker too often;
    keep what was published before publications were kept.
    """
    for round_id in left_behind(timezone.now() - LEFT_BEHIND_AFTER):
        judge_round(round_id)
    for round in Round.objects.filter(state=Round.State.PUBLISHED, publications=None):
        keep_publication(round, None, round.published_at or timezone.now())
