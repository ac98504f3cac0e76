"""Who may do what: the one table that every action asks."""

from __future__ import annotations

from collections.abc import Iterable
from typing import Any, Protocol, TypeVar

from django.contrib.auth.models import AnonymousUser
from django.core.exceptions import PermissionDenied

from hauch.people.models import User


class InRound(Protocol):
    """A round, as far as permissions know it: who has which role in it, and whether everybody in it
    sees everything.
    """

    memberships: Any

    @property
    def is_published(self) -> bool:
        """Whether its standing is published."""
        ...


One = TypeVar("One", bound=InRound)

HOST, OPERATOR, DESIGNER, VIEWER = "host", "operator", "designer", "viewer"
ROLES = [(HOST, "Host"), (OPERATOR, "Bench operator"), (DESIGNER, "Designer"), (VIEWER, "Viewer")]

MATRIX: dict[str, frozenset[str]] = {
    "round.view": frozenset({HOST, OPERATOR, DESIGNER, VIEWER}),
    "round.change": frozenset({HOST}),
    "rules.change": frozenset({HOST}),
    "rules.ask": frozenset({HOST, OPERATOR, DESIGNER}),
    "rules.answer": frozenset({HOST}),
    "people.invite": frozenset({HOST}),
    "audit.view": frozenset({HOST}),
    "reference.change": frozenset({HOST, OPERATOR}),
    "round.export": frozenset({HOST, OPERATOR}),
    "round.publish": frozenset({HOST}),
    "entry.add": frozenset({HOST, DESIGNER}),
    "entry.view_all": frozenset({HOST, OPERATOR}),
    "entry.withdraw": frozenset({HOST}),
    "entry.change": frozenset({HOST}),
    "specimen.change": frozenset({HOST, OPERATOR}),
    "specimen.release": frozenset({HOST, OPERATOR}),
    "bench.view": frozenset({HOST, OPERATOR}),
    "run.record": frozenset({HOST, OPERATOR}),
    "run.void": frozenset({HOST, OPERATOR}),
    "verdict.view_early": frozenset({HOST, OPERATOR}),
}
"""Action -> roles that may do it in a round. After publication everybody in the round sees
everything in it.
"""

STAFF_ACTIONS = frozenset({"round.import", "people.manage", "installation.keep"})
"""Actions of those who keep the installation, in no round yet."""

ANYWHERE: dict[str, frozenset[str]] = {
    "stores.change": frozenset({HOST, OPERATOR}),
    "round.create": frozenset({HOST}),
    "season.change": frozenset({HOST}),
    "plan.view": frozenset({HOST, OPERATOR}),
    "plan.change": frozenset({HOST, OPERATOR}),
    "desk.use": frozenset({HOST, OPERATOR, DESIGNER, VIEWER}),
    "desk.measure": frozenset({HOST, OPERATOR}),
}
"""Actions in no round: for those who keep the installation, and whoever has one of these roles in
any round.
"""

WORDS = {
    "round.view": "see this round", "round.export": "export this round", "round.publish": "publish this round",
    "entry.add": "hand in an entry", "entry.view_all": "see entries of others before publication",
    "entry.withdraw": "withdraw an entry of somebody else", "specimen.change": "change specimens", "specimen.release": "let a specimen onto a bench", "bench.view": "see the bench",
    "run.record": "record runs", "run.void": "void a run", "verdict.view_early": "see the standing before publication",
    "round.import": "import a round", "people.manage": "manage the people of this installation",
    "installation.keep": "keep this installation", "round.change": "change the brief", "rules.change": "change the rules",
    "rules.ask": "ask about the rules", "rules.answer": "answer questions about the rules", "people.invite": "invite people",
    "audit.view": "see the audit trail", "reference.change": "change the reference", "stores.change": "change rigs, instruments and references",
    "round.create": "begin a round", "season.change": "begin or change a season", "plan.view": "see the plan of the day", "plan.change": "plan the day", "entry.change": "change an entry of somebody else", "desk.use": "use the Desk",
    "desk.measure": "send measured values back to the Desk",
}  # fmt: skip


def remember_role(user: User, round: One, role: str | None) -> One:
    """Keep a role that a query found, so that it is asked once in a request."""
    round.__dict__.setdefault("_roles", {})[user.pk] = role
    return round


def role_in(user: User | AnonymousUser, round: InRound) -> str | None:
    """The person's role in a round, None for a stranger. Kept on the round for the rest of the
    request.
    """
    if not user.is_authenticated:
        return None
    known: dict[int, str | None] = round.__dict__.get("_roles", {})
    if user.pk not in known:
        remember_role(
            user, round, round.memberships.filter(user=user).values_list("role", flat=True).first()
        )
    return round.__dict__["_roles"][user.pk]


def remember_roles(user: User, roles: Iterable[str]) -> None:
    """Keep all roles that a person has, found by a query for something else."""
    user.__dict__["_roles_anywhere"] = frozenset(roles)


def roles_anywhere(user: User) -> frozenset[str]:
    """The roles that a person has in any round. Kept on the person for the rest of the request."""
    if "_roles_anywhere" not in user.__dict__:
        remember_roles(user, user.memberships.values_list("role", flat=True).distinct())
    return user.__dict__["_roles_anywhere"]


def allowed(user: User | AnonymousUser, action: str, round: InRound | None = None) -> bool:
    """Whether a person may do an action; unknown actions raise KeyError so that no typo opens a
    door.
    """
    if not user.is_authenticated or not user.is_active:
        return False
    if action in STAFF_ACTIONS | ANYWHERE.keys():
        return bool(user.is_staff) or not roles_anywhere(user).isdisjoint(ANYWHERE.get(action, ()))
    roles = MATRIX[action]
    if round is None:
        return False
    role = role_in(user, round)
    if role is None:
        return False
    if action in {"entry.view_all", "verdict.view_early"} and round.is_published:
        return True
    return role in roles


def require(user: User | AnonymousUser, action: str, round: InRound | None = None) -> None:
    """Raise PermissionDenied with a sentence unless the person may do the action."""
    if not allowed(user, action, round):
        raise PermissionDenied(
            f"You may not {WORDS[action]}. Ask the host of the round for the role that may."
        )
