"""Signing in: who may try how often, in which browsers somebody is signed in, and how that ends."""

from __future__ import annotations

from datetime import timedelta
from typing import Any

from axes.models import AccessAttempt
from axes.utils import reset
from django.conf import settings
from django.contrib.auth import authenticate
from django.contrib.auth.models import AbstractBaseUser
from django.contrib.auth.tokens import default_token_generator
from django.contrib.sessions.models import Session
from django.db import transaction
from django.db.models import Sum
from django.http import HttpRequest
from django.urls import reverse
from django.utils import timezone
from django.utils.encoding import force_bytes
from django.utils.http import urlsafe_base64_encode

from hauch.people.audit import record
from hauch.people.models import SignIn, User
from hauch.people.permissions import require

MOST_FAILURES = 60
"""So often signing in may fail within the cool-off with one name from wherever, or from one address
with whatever name; with one name from one address `AXES_FAILURE_LIMIT` counts.
"""


def closed(request: HttpRequest, username: str) -> bool:
    """Whether nobody may try to sign in with this name, or from here, at the moment."""
    if not getattr(settings, "AXES_ENABLED", True):
        return False
    since = timezone.now() - timedelta(hours=settings.AXES_COOLOFF_TIME)
    recent = AccessAttempt.objects.filter(attempt_time__gte=since)
    for same in ({"ip_address": request.META.get("REMOTE_ADDR")}, {"username": username[:255]}):
        failed = recent.filter(**same).aggregate(n=Sum("failures_since_start"))["n"] or 0
        if failed >= MOST_FAILURES:
            return True
    return False


def knows_password(request: HttpRequest, user: User, password: str) -> bool:
    """Whether a password is a person's own. Wrong ones count as at the sign-in, so that a browser
    that was left open is no place to guess.
    """
    return authenticate(request, username=user.username, password=password) is not None


def remember(sender: Any, request: HttpRequest, user: AbstractBaseUser, **kwargs: Any) -> None:
    """Note the browser in which somebody has just signed in."""
    if not isinstance(user, User):
        return
    if not request.session.session_key:
        request.session.save()
    SignIn.objects.filter(user=user).exclude(session_key__in=_living()).delete()
    SignIn.objects.update_or_create(
        session_key=request.session.session_key,
        defaults={
            "user": user,
            "address": request.META.get("REMOTE_ADDR") or None,
            "browser": request.META.get("HTTP_USER_AGENT", "")[:200],
        },
    )


def _living() -> Any:
    return Session.objects.filter(expire_date__gt=timezone.now()).values("session_key")


def of(user: User) -> list[SignIn]:
    """Where somebody is signed in, newest first."""
    return list(user.sign_ins.filter(session_key__in=_living()))


def end(user: User, *, but: str | None = None, only: int | None = None) -> int:
    """End sessions of a person: all, all but the one of a key, or one; how many ended."""
    rows = user.sign_ins.all() if only is None else user.sign_ins.filter(pk=only)
    keys = [row.session_key for row in rows if row.session_key != but]
    ended = Session.objects.filter(session_key__in=keys).delete()[0]
    user.sign_ins.filter(session_key__in=keys).delete()
    return ended


@transaction.atomic
def link_for_password(keeper: User, person: User) -> str:
    """The path of a link by which a person sets a new password, once and within three days. What
    stood between them and signing in is forgotten.

    Raises
    ------
    PermissionDenied
    """
    require(keeper, "people.manage")
    uid = urlsafe_base64_encode(force_bytes(person.pk))
    reset(username=person.username)
    record(keeper, "people.password_link", person)
    return reverse("people:set_password", args=[uid, default_token_generator.make_token(person)])


@transaction.atomic
def set_active(keeper: User, person: User, *, active: bool) -> None:
    """Close somebody's account, which ends all their sessions, or open it again.

    Raises
    ------
    PermissionDenied
    """
    require(keeper, "people.manage")
    person.is_active = active
    person.save(update_fields=["is_active"])
    if not active:
        end(person)
    record(keeper, "people.active", person, active=active)
