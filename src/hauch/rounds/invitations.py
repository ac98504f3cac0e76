"""Invitations: a link with a secret, of which only the hash is kept."""

from __future__ import annotations

import hashlib
import secrets
from datetime import timedelta

from django.core.exceptions import ValidationError
from django.db import transaction
from django.utils import timezone

from hauch.people.audit import record
from hauch.people.models import User
from hauch.people.permissions import ROLES, require
from hauch.rounds.models import Invitation, Membership, Round

MOST_DAYS, MOST_USES = 60, 500
STRENGTH = [role for role, _ in ROLES]
"""Roles from the strongest to the weakest: an invitation never takes rights away."""


def _digest(secret: str) -> str:
    return hashlib.sha256(secret.encode()).hexdigest()


@transaction.atomic
def invite(
    user: User, round: Round, role: str, *, days: int = 14, uses: int = 1, whom: str = ""
) -> tuple[Invitation, str]:
    """Make an invitation; gives it with the secret of its link, which is shown once.

    Raises
    ------
    PermissionDenied, ValidationError : no such role, or limits that cannot be
    """
    require(user, "people.invite", round)
    if role not in STRENGTH:
        raise ValidationError({"role": "Choose a role."})
    if not 1 <= days <= MOST_DAYS:
        raise ValidationError({"days": f"An invitation holds 1 to {MOST_DAYS} days."})
    if not 1 <= uses <= MOST_USES:
        raise ValidationError({"uses": f"An invitation can be used 1 to {MOST_USES} times."})
    secret = secrets.token_urlsafe(24)
    made = Invitation.objects.create(
        round=round,
        role=role,
        digest=_digest(secret),
        whom=whom.strip()[:80],
        uses_left=uses,
        expires_at=timezone.now() + timedelta(days=days),
        created_by=user,
    )
    record(user, "people.invite", round, round, role=role, uses=uses, days=days, whom=made.whom)
    return made, secret


def find(secret: str) -> Invitation | None:
    """The invitation of a link, if it can still be used."""
    found = Invitation.objects.select_related("round").filter(digest=_digest(secret)).first()
    return found if found is not None and found.is_open else None


@transaction.atomic
def accept(user: User, secret: str) -> Membership:
    """Join a round by a link; somebody who has a stronger role already keeps it, and who is in it
    already stays.

    Raises
    ------
    ValidationError : the link is used up, revoked, too old or wrong
    """
    found = (
        Invitation.objects.select_for_update()
        .select_related("round")
        .filter(digest=_digest(secret))
        .first()
    )
    if found is not None and not found.is_open:  # sent twice: the first time used it up
        there = Membership.objects.filter(round=found.round, user=user).first()
        if there is not None and found.revoked_at is None:
            return there
    if found is None or not found.is_open:
        raise ValidationError(
            "This invitation does not hold any more. Ask the host for a new link."
        )
    membership, new = Membership.objects.get_or_create(
        round=found.round, user=user, defaults={"role": found.role}
    )
    if not new and STRENGTH.index(found.role) < STRENGTH.index(membership.role):
        membership.role = found.role
        membership.save(update_fields=["role"])
        new = True
    if new:
        found.uses_left -= 1
        found.save(update_fields=["uses_left"])
        record(user, "people.join", found.round, found.round, role=found.role)
    return membership


@transaction.atomic
def revoke(user: User, invitation: Invitation) -> None:
    """Take an invitation back."""
    require(user, "people.invite", invitation.round)
    if invitation.revoked_at is None:
        invitation.revoked_at = timezone.now()
        invitation.save(update_fields=["revoked_at"])
        record(
            user,
            "people.revoke",
            invitation.round,
            invitation.round,
            role=invitation.role,
            whom=invitation.whom,
        )


@transaction.atomic
def change_role(user: User, membership: Membership, role: str | None) -> None:
    """Give a member another role, or None to take them out of the round.

    Raises
    ------
    PermissionDenied, ValidationError : no such role, or the round would be without a host
    """
    round = membership.round
    require(user, "people.invite", round)
    if role is not None and role not in STRENGTH:
        raise ValidationError({"role": "Choose a role."})
    hosts = round.memberships.select_for_update().filter(role=STRENGTH[0])
    if membership.role == STRENGTH[0] and role != STRENGTH[0] and len(hosts) == 1:
        raise ValidationError(f"{membership.user} is the only host. Make somebody else host first.")
    before = membership.role
    if role is None:
        membership.delete()
    else:
        membership.role = role
        membership.save(update_fields=["role"])
    record(user, "people.change", membership.user, round, before=before, after=role or "")
