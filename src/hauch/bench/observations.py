"""What somebody saw at the bench, written down with its place on the trace."""

from __future__ import annotations

from django.core.exceptions import ValidationError
from django.db import transaction

from hauch.bench.models import Observation, Recording, Run
from hauch.people.audit import record
from hauch.people.models import User
from hauch.people.permissions import require
from hauch.rounds.models import Round
from hauch.stores.models import Picture


@transaction.atomic
def observe(
    user: User,
    round: Round,
    *,
    recording: Recording | None = None,
    run: Run | None = None,
    text: str = "",
    tags: list[str] | None = None,
    picture: Picture | None = None,
    at_s: float | None = None,
) -> Observation:
    """Write down what was seen in a run, or in a recording of which no run is made yet.

    Parameters
    ----------
    at_s : second of the recording; None for all of it

    Raises
    ------
    PermissionDenied, ValidationError : nothing was written
    """
    require(user, "run.record", round)
    seen = Observation(
        recording=recording or (run.recording if run else None),
        run=run,
        at_s=None if at_s is None else round_s(at_s),
        text=text.strip()[:1000],
        tags=[tag for tag in tags or [] if tag in Observation.Tag.values],
        picture=picture,
        by=user,
    )
    if not (seen.text or seen.tags or seen.picture):
        raise ValidationError("Write what you saw, choose a tag or add a picture.")
    seen.save()
    record(user, "bench.observe", seen, round)
    return seen


def round_s(seconds: float) -> float:
    """Seconds of a recording as they are kept."""
    return round(max(seconds, 0.0), 2)
