"""Writing the audit trail."""

from __future__ import annotations

from typing import Any

from hauch.people.models import AuditEntry, User


def record(user: User, action: str, target: object, round: Any = None, **detail: Any) -> AuditEntry:
    """Note who did what to what; call it inside the action's transaction.

    Parameters
    ----------
    round : in which it was done, or its key; None for what belongs to no round
    """
    return AuditEntry.objects.create(
        user=user,
        action=action,
        target=str(target)[:200],
        round_id=getattr(round, "pk", round),
        detail=detail,
    )
