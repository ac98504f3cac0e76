"""Keeping standings current."""

from __future__ import annotations

from django.db import transaction
from django.utils import timezone

from hauch.bench.models import Run
from hauch.core import CORE_VERSION
from hauch.people.audit import record
from hauch.people.models import User
from hauch.people.permissions import require
from hauch.rounds.models import Round, RuleVersion
from hauch.verdict.compute import judge
from hauch.verdict.models import Standing, StandingRow

AT_ONCE_UP_TO = 1500
"""Rounds of up to this many runs are judged in the request that changed them; larger ones by the worker."""


@transaction.atomic
def refresh(rules: RuleVersion) -> Standing:
    """Compute a standing anew and replace its rows."""
    standing, _ = Standing.objects.get_or_create(rules=rules)
    standing = Standing.objects.select_for_update().get(pk=standing.pk)
    judged = judge(rules)
    standing.rows.all().delete()
    StandingRow.objects.bulk_create(StandingRow(standing=standing, **row) for row in judged.rows)
    standing.computed_at, standing.stale, standing.core_version = timezone.now(), False, CORE_VERSION
    standing.reference, standing.notes, standing.ground = judged.reference, judged.notes, judged.ground
    standing.save()
    return standing


def results_have_changed(round: Round) -> None:
    """Judge a small round now; mark a large one stale and leave it to the worker, once."""
    from hauch.verdict.jobs import defer_refresh  # jobs call back into this module

    rules = list(round.rules.all())
    if Run.objects.filter(test__round=round).count() <= AT_ONCE_UP_TO:
        for version in rules:
            refresh(version)
        return
    for version in rules:
        Standing.objects.update_or_create(rules=version, defaults={"stale": True})
    transaction.on_commit(lambda: defer_refresh(round.pk))


@transaction.atomic
def publish(user: User, round: Round) -> Round:
    """Publish a round's standing to all its members."""
    require(user, "round.publish", round)
    round = Round.objects.select_for_update().get(pk=round.pk)
    round.state, round.published_at = Round.State.PUBLISHED, timezone.now()
    round.save(update_fields=["state", "published_at"])
    record(user, "round.publish", round, round)
    return round
