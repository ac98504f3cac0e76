"""Exported rounds for tests."""

import io

from hauch.exchange.exporting import export_round
from hauch.people.models import User
from hauch.rounds.models import Round


def exported(user: User, round: Round) -> bytes:
    """A round as the bytes of its bundle."""
    out = io.BytesIO()
    export_round(user, round, out)
    return out.getvalue()
