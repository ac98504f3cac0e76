"""Reading rounds: which ones a person may see, and one of them with its rules."""

from __future__ import annotations

from django.db.models import F, Prefetch, QuerySet
from django.http import Http404

from hauch.core.measure.procedure import Procedure
from hauch.core.measure.procedures import PROCEDURES
from hauch.people.models import User
from hauch.people.permissions import remember_role, remember_roles, require
from hauch.people.requests import whole
from hauch.rounds.models import Round, RuleQuestion, RuleTerm, RuleVersion, Test


def visible_to(user: User) -> QuerySet[Round]:
    """Rounds in which a person has a role, with that role as ``role``."""
    return Round.objects.filter(memberships__user=user).annotate(role=F("memberships__role"))


def _role(round: Round) -> str:
    """The role that `visible_to` found."""
    return str(round.__dict__["role"])


def rounds_of(user: User) -> list[Round]:
    """Rounds in which a person has a role, newest first, ready for questions of permission."""
    roles = {round: _role(round) for round in visible_to(user)}
    remember_roles(user, set(roles.values()))
    return [remember_role(user, round, role) for round, role in roles.items()]


def round_for(user: User, slug: str, action: str = "round.view") -> Round:
    """One round, if the person may do the action in it.

    Raises
    ------
    Http404 : no such round, or none that this person may know of
    PermissionDenied : the person's role does not allow the action
    """
    round = visible_to(user).filter(slug=slug).first()
    if round is None:
        raise Http404("There is no such round, or you are not in it.")
    remember_role(user, round, _role(round))
    require(user, action, round)
    return round


def rules_of(round: Round) -> list[RuleVersion]:
    """Versions of the rules, newest first, with their terms."""
    return list(
        round.rules.prefetch_related(
            Prefetch("terms", RuleTerm.objects.select_related("test")),
            Prefetch("questions", RuleQuestion.objects.select_related("asked_by", "answered_by")),
        ).select_related("created_by")
    )


def procedures_of(keys: set[str]) -> dict[str, Procedure]:
    """Procedures by key, those of figures of one's own by the newest test that measures them; keys
    that no test has any more are left out.
    """
    found = {key: PROCEDURES[key] for key in keys if key in PROCEDURES}
    own = Test.objects.filter(procedure__in=keys - set(found)).order_by("id")
    return found | {test.procedure: test.how for test in own}


def round_tests(round: Round, rules: RuleVersion | None = None) -> list[Test]:
    """Tests of a version of the rules, in order; without one those in force: all that no other has
    replaced.
    """
    tests = Test.objects.filter(in_rules=rules) if rules is not None else round.tests.current()
    found = list(tests.select_related("rig", "setting", "replaces").order_by("order", "key"))
    for test in found:
        test.round = round
    return found


def current_rules(round: Round, number: str | None = None) -> RuleVersion | None:
    """The rules in force, or the version that is asked for."""
    rules = round.rules.order_by("-number")
    wanted = whole(number)
    if wanted is not None:
        return rules.filter(number=wanted).first() or rules.first()
    return rules.first()
