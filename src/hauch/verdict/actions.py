"""Keeping standings current, and publishing them."""

from __future__ import annotations

import logging
from functools import partial

from django.core.exceptions import ValidationError
from django.db import transaction
from django.db.models import F
from django.utils import timezone

from hauch.bench.models import Run
from hauch.people.audit import record
from hauch.people.models import User
from hauch.people.permissions import require
from hauch.rounds.models import Round
from hauch.rounds.queries import current_rules
from hauch.verdict.jobs import defer_refresh
from hauch.verdict.judging import judge_round, refresh
from hauch.verdict.models import Standing
from hauch.verdict.publishing import keep_publication

AT_ONCE_UP_TO = 1500
"""Rounds of up to this many runs are judged right after the commit that changed them; larger ones
by the worker alone.
"""
log = logging.getLogger(__name__)
WORKER_AFTER = 20
"""Seconds after which the worker looks whether a round that was to be judged at once was: its
process may have died.
"""


@transaction.atomic
def results_have_changed(round: Round) -> None:
    """Note in the transaction of a change that the round's standings do not show it yet, and have
    it judged after the commit.

    The note, and with the first one the worker's job, are committed with the change or not at all.
    Whoever turns a standing stale makes the job: the row's lock puts changes and the storing of a
    standing in order, so that none falls between.
    """
    Standing.objects.bulk_create(
        (Standing(rules=rules) for rules in round.rules.filter(standing=None)),
        ignore_conflicts=True,
    )
    standings = list(Standing.objects.select_for_update().filter(rules__round=round).order_by("pk"))
    Standing.objects.filter(pk__in=[s.pk for s in standings]).update(changes=F("changes") + 1)
    newly = [s for s in standings if not s.stale or s.failure or s.changed_at is None]
    if not newly:
        return
    Standing.objects.filter(pk__in=[s.pk for s in newly]).update(changed_at=timezone.now())
    small = Run.objects.filter(test__round=round)[: AT_ONCE_UP_TO + 1].count() <= AT_ONCE_UP_TO
    defer_refresh(round.pk, WORKER_AFTER if small else 0)
    if small:
        transaction.on_commit(partial(judge_round, round.pk), robust=True)


NOT_FROM: dict[str, str] = {
    Round.State.BRIEF: "The brief is still being written. Open the round and measure first.",
    Round.State.OPEN: "Entries can still come in. Close the round for entries, then publish.",
    Round.State.PUBLISHED: (
        "The standing is published already. What was published stays; later runs stand beside it."
    ),
}
"""Why a standing cannot be published from other states than that on the bench."""


@transaction.atomic
def publish(user: User, round: Round) -> Round:
    """Publish a round's standing: to all its members, and as it is now on a page that anybody may
    read.

    Later runs make a provisional standing beside it; what was published stays.

    Raises
    ------
    PermissionDenied, ValidationError : there are no rules, or the standing cannot be computed
    """
    require(user, "round.publish", round)
    round = Round.objects.select_for_update().get(pk=round.pk)
    rules = current_rules(round)
    if rules is None:
        raise ValidationError("There are no rules yet, so nothing can be ranked or published.")
    if round.state != Round.State.BENCH:
        raise ValidationError(NOT_FROM[round.state])
    try:
        with transaction.atomic():
            refresh(rules)
    except Exception as problem:
        log.exception("the standing of round %s could not be published", round.pk)
        raise ValidationError(
            f"The standing cannot be computed ({type(problem).__name__}), so it is not published."
            " Nothing that was recorded is lost."
        ) from problem
    round.state, round.published_at = Round.State.PUBLISHED, timezone.now()
    round.save(update_fields=["state", "published_at"])
    keep_publication(round, user, round.published_at)
    record(user, "round.publish", round, round)
    return round
