"""What several rounds rely on: who has a say in it, and that those rounds hear of it."""

from __future__ import annotations

from django.core.exceptions import PermissionDenied

from hauch.people.audit import record
from hauch.people.models import User
from hauch.people.permissions import ANYWHERE, require
from hauch.stores.models import Instrument, RigMeter


def rounds_on(instrument: Instrument) -> set[int]:
    """Rounds with a test or a run on a rig that a meter reads on, in any of its states."""
    on = RigMeter.objects.filter(instrument=instrument)
    ids = set(on.values_list("rig__tests__round", flat=True))
    return (ids | set(on.values_list("rig__runs__test__round", flat=True))) - {None}


def others_on(user: User, instrument: Instrument) -> int:
    """How many rounds rely on a meter in which a person has no say; none for who keeps the
    installation.
    """
    if user.is_staff or instrument.pk is None:
        return 0
    relying = rounds_on(instrument)
    mine = user.memberships.filter(round__in=relying, role__in=ANYWHERE["stores.change"])
    return len(relying - set(mine.values_list("round", flat=True)))


def require_say(user: User, instrument: Instrument) -> None:
    """Raise PermissionDenied where a person may not change what rounds rely on: who keeps the
    installation may, and who is host or operator in all of them.
    """
    require(user, "stores.change")
    if count := others_on(user, instrument):
        raise PermissionDenied(
            f"{instrument} is relied on by {count} round{'s' if count > 1 else ''} in which you are"
            " neither host nor operator. Ask whoever keeps the installation, or take a meter of"
            " your own into the stores."
        )


def tell_rounds(user: User, action: str, instrument: Instrument, **detail: object) -> int:
    """Note in the trail of each round that relies on a meter what became of it; how many they
    are.
    """
    relying = rounds_on(instrument)
    for round_id in relying:
        record(user, action, instrument, round_id, **detail)
    return len(relying)
