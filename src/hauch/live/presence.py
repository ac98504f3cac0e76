"""Who is at a live bench: the throttle stays open only while somebody who may run it is there.

A page says every `BEAT` seconds that it is open. All times are the database's, so that the clocks of
web server, recorder and browser need not agree.
"""

from __future__ import annotations

from django.db.models import F, QuerySet
from django.db.models.functions import Now

from hauch.bench.models import Live, Run
from hauch.bench.runs import Subject
from hauch.live.protocol import status_of
from hauch.people.models import User
from hauch.people.permissions import require
from hauch.rounds.models import Test
from hauch.workshop.models import Gate

BEAT = 8.0
"""A page says so often that it is there [s]: twice within the shortest time that a round may set."""


def here(user: User, live: Live) -> None:
    """Somebody who may run the bench has its page open.

    Raises
    ------
    PermissionDenied : whoever only looks on does not keep a rotor turning
    """
    require(user, "run.record", live.round)
    Live.objects.filter(pk=live.pk, ended_at=None).update(watched_at=Now())


def with_absence(lives: QuerySet[Live]) -> QuerySet[Live]:
    """Live recordings with ``absence``, the time since somebody was there."""
    return lives.annotate(absence=Now() - F("watched_at"))  # type: ignore[no-redef]


def may_be_alone(live: Live) -> float:
    """For how long nobody need be there while the throttle is open [s]: what the round says, and
    longer in a soak where the host allowed that and the part has run since its safety gate.
    """
    short, long = float(live.round.presence), 60.0 * (live.round.unattended or 0)
    task = status_of(live).task
    turned_by_rule = task is not None and not task.done
    if long <= short or live.test.soak == Test.Soak.NONE or turned_by_rule:
        return short
    return long if _ran_since_gate(live) else short


def _ran_since_gate(live: Live) -> bool:
    """Whether the part on the bench ran before, as it is now."""
    ran = Run.objects.filter(state=Run.State.VALID, **Subject(live.specimen, live.reference).fields)
    gate = Gate.objects.filter(specimen=live.specimen_id).order_by("-at").first()
    return ran.filter(started_at__gte=gate.at).exists() if gate else ran.exists()


def why_closed(live: Live, absent: float) -> str:
    """Why the throttle closes now: nobody was there for too long [s]. Empty where it may stay open."""
    if absent <= live.round.presence:
        return ""
    allowed = may_be_alone(live)
    if absent <= allowed:
        return ""
    most = f"{allowed:.0f} s" if allowed < 120 else f"{allowed / 60:.0f} min"
    return (
        f"Nobody had this bench's page open for {most}, the most that the round allows. The throttle"
        " was closed."
    )
