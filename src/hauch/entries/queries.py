"""Reading entries: which ones a person may see."""

from __future__ import annotations

from django.db.models import QuerySet
from django.http import Http404

from hauch.entries.models import Entry
from hauch.people.models import User
from hauch.people.permissions import allowed
from hauch.rounds.models import Round


def visible_to(user: User, round: Round) -> QuerySet[Entry]:
    """Entries of a round that a person may see: all for host and operator, own ones before publication, all after."""
    entries = round.entries.all()
    if allowed(user, "entry.view_all", round):
        return entries
    return entries.filter(designer=user)


def entry_for(user: User, round: Round, pk: int) -> Entry:
    """One entry, or Http404 where this person may not know of it."""
    entry = visible_to(user, round).filter(pk=pk).select_related("designer").first()
    if entry is None:
        raise Http404("There is no such entry, or it is not published yet.")
    entry.round = round
    return entry
