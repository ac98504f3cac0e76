"""What can be done with entries: hand in, withdraw, take back in."""

from __future__ import annotations

from django.core.exceptions import ValidationError
from django.db import transaction
from django.db.models import Max
from django.utils import timezone

from hauch.entries.models import Entry, Version
from hauch.entries.signals import entries_changed
from hauch.people.audit import record
from hauch.people.models import User
from hauch.people.permissions import allowed, require
from hauch.rounds.models import Round


def why_closed(user: User, round: Round) -> str:
    """Why the person cannot hand an entry in now; empty where they can. A host may add a late one until publication."""
    if round.state == Round.State.BRIEF:
        return "The brief is still being written. Entries are taken when the round is open."
    if round.is_published:
        return "The round is published; it takes no more entries."
    if allowed(user, "round.change", round):
        return ""
    if round.state != Round.State.OPEN:
        return "The round is on the bench; it takes no more entries. The host may still add one."
    if round.entries_until is not None and timezone.localdate() > round.entries_until:
        return f"Entries were taken until {round.entries_until:%d %B %Y}."
    return ""


@transaction.atomic
def add_entry(user: User, round: Round, name: str, story: str = "", designer_name: str = "") -> Entry:
    """Hand in an entry with its first version.

    Raises
    ------
    PermissionDenied, ValidationError : no name, or one that is in the round already
    """
    require(user, "entry.add", round)
    if closed := why_closed(user, round):
        raise ValidationError(closed)
    Round.objects.select_for_update().get(pk=round.pk)  # one at a time, so that marks differ
    top = round.entries.aggregate(top=Max("mark"))["top"]
    entry = Entry(round=round, name=name.strip(), story=story.strip(), designer=user, designer_name=designer_name.strip() or str(user))
    entry.mark = 0 if top is None else top + 1
    entry.full_clean()
    entry.save()
    Version.objects.create(entry=entry, number=1, changed="First version.")
    record(user, "entry.add", entry, round)
    return entry


@transaction.atomic
def withdraw(user: User, entry: Entry, reason: str) -> Entry:
    """Take an entry out of the round; its runs stay. Designers may withdraw their own, hosts any."""
    if entry.designer_id != user.pk:
        require(user, "entry.withdraw", entry.round)
    else:
        require(user, "entry.add", entry.round)
    if entry.state == Entry.State.WITHDRAWN:
        raise ValidationError(f"{entry} is withdrawn already.")
    return _set_state(user, entry, Entry.State.WITHDRAWN, "entry.withdraw", reason)


@transaction.atomic
def take_back_in(user: User, entry: Entry) -> Entry:
    """Undo a withdrawal."""
    require(user, "entry.withdraw", entry.round)
    return _set_state(user, entry, Entry.State.IN, "entry.take_back_in", "")


def _set_state(user: User, entry: Entry, state: str, action: str, reason: str) -> Entry:
    entry.state = state
    entry.save(update_fields=["state"])
    record(user, action, entry, entry.round, reason=reason.strip())
    entries_changed.send(Entry, round=entry.round)
    return entry
