"""Judging a round anew: always after what changed was committed, in transactions of its own."""

from __future__ import annotations

import logging
from datetime import datetime

from django.db import transaction
from django.db.models import F, Q
from django.utils import timezone

from hauch.core import CORE_VERSION
from hauch.core.judge.round import Judged
from hauch.rounds.models import RuleVersion
from hauch.verdict.compute import judge
from hauch.verdict.models import Standing, StandingFigures, StandingRow

MOST_PASSES = 10
"""Changes that arrive while a round is judged are judged right after it, this often at most; what
is left is left to the worker.
"""
log = logging.getLogger(__name__)


def refresh(rules: RuleVersion) -> Standing:
    """Compute a standing and replace its rows.

    Nothing is locked while it is judged, so that a run can be recorded meanwhile. Which changes the
    judged data holds is read before the data: a change that comes in between leaves the standing
    stale.
    """
    standing, _ = Standing.objects.get_or_create(rules=rules)
    return _store(standing.pk, judge(rules), standing.changes)


@transaction.atomic
def _store(pk: int, judged: Judged, changes: int) -> Standing:
    standing = Standing.objects.select_for_update().get(pk=pk)
    if standing.judged > changes:  # somebody who began later was quicker
        return standing
    standing.rows.all().delete()
    StandingRow.objects.bulk_create(StandingRow(standing=standing, **row) for row in judged.rows)
    standing.judged, standing.failure = changes, ""
    standing.computed_at, standing.core_version = timezone.now(), CORE_VERSION
    standing.reference, standing.notes = judged.reference, judged.notes
    standing.ground, standing.ground_expanded = judged.ground, judged.ground_expanded
    standing.save()
    StandingFigures.objects.update_or_create(standing=standing, defaults={"deltas": judged.deltas})
    return standing


def judge_round(round_id: int) -> None:
    """Judge a round under all versions of its rules whose standing is stale; safe to run twice, and
    beside itself.

    What goes wrong is logged and told on the standing. It never reaches what was recorded: that was
    committed before.
    """
    for rules in RuleVersion.objects.filter(round_id=round_id).select_related("round"):
        for _ in range(MOST_PASSES):
            if not Standing.objects.stale().filter(rules=rules).exists():
                break
            if not _judged(rules):
                break


def _judged(rules: RuleVersion) -> bool:
    """Whether a standing could be computed."""
    try:
        refresh(rules)
    # whatever the figures of strangers come to: the standing before it stays, and says so
    except Exception as problem:
        log.exception(
            "the standing of round %s under %s could not be computed", rules.round_id, rules
        )
        Standing.objects.filter(rules=rules).update(
            failure=f"{type(problem).__name__}: {problem}"[:300]
        )
        return False
    return True


def left_behind(before: datetime) -> list[int]:
    """Rounds whose standing is stale since before a moment, so that nobody seems to be at it any
    more; one that failed waits for the next change.
    """
    stale = Standing.objects.stale().filter(
        Q(changed_at__lt=before) | Q(changed_at=None), failure=""
    )
    return list(stale.order_by().values_list(F("rules__round"), flat=True).distinct())
