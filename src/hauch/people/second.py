"""The second factor: a code from an app besides the password, and codes on paper for the day when
the app is lost. Whoever wants it turns it on.

References
----------
RFC 6238 (codes by time). django-otp keeps the devices and slows guesses down.
"""

from __future__ import annotations

import secrets
import time
from typing import Any

from django.conf import settings
from django.core.exceptions import ValidationError
from django.db import transaction
from django.http import HttpRequest, HttpResponse
from django.shortcuts import redirect
from django.utils.deprecation import MiddlewareMixin
from django_otp import match_token
from django_otp.plugins.otp_static.models import StaticDevice
from django_otp.plugins.otp_totp.models import TOTPDevice

from hauch.people.audit import record
from hauch.people.models import User
from hauch.people.permissions import require

ON_PAPER = 8
"""Codes on paper."""
STAYS = 300
"""For so long [s] a right password waits for its code."""
STILL_OPEN = frozenset({"people:second_factor", "people:logout"})
"""What whoever must have it and has not may do."""
WAITS = "second"
"""Where a session notes who has given the password and not yet the code."""


def demanded_of(user: User) -> bool:
    """Whether somebody has to have it here: by `HAUCH_SECOND_FACTOR` nobody, who keeps the
    installation, or everybody.
    """
    return settings.SECOND_FACTOR == "all" or (
        settings.SECOND_FACTOR == "keepers" and user.is_staff
    )


class Demanded(MiddlewareMixin):
    """Whoever must have it and does not sees no page but the one that sets it up."""

    def process_view(
        self, request: HttpRequest, view: Any, args: Any, kwargs: Any
    ) -> HttpResponse | None:
        """Lead them there."""
        user = request.user
        if (
            not isinstance(user, User)
            or not getattr(view, "login_required", True)
            or request.resolver_match is None
            or request.resolver_match.view_name in STILL_OPEN
            or not demanded_of(user)
            or app_of(user) is not None
        ):
            return None
        return redirect("people:second_factor")


def app_of(user: User) -> TOTPDevice | None:
    """The app that a person's codes come from; None where they have no second factor."""
    return TOTPDevice.objects.filter(user=user, confirmed=True).first()


def left_on_paper(user: User) -> int:
    """How many codes on paper are not used yet."""
    return sum(device.token_set.count() for device in StaticDevice.objects.filter(user=user))


@transaction.atomic
def begin(user: User) -> TOTPDevice:
    """An app to be set up; it counts once a code of it was typed. A page that is loaded again shows
    the same one.
    """
    User.objects.select_for_update().get(pk=user.pk)
    device, _ = TOTPDevice.objects.get_or_create(
        user=user, confirmed=False, defaults={"name": "app"}
    )
    return device


@transaction.atomic
def confirm(user: User, code: str) -> list[str]:
    """Turn it on with a code of the app that is set up; gives the codes on paper, once.

    Raises
    ------
    ValidationError : it is on already, or the code is not right
    """
    User.objects.select_for_update().get(pk=user.pk)
    if app_of(user) is not None:
        raise ValidationError("It is on already.")
    device = begin(user)
    if not device.verify_token(_typed(code)):
        raise ValidationError(
            "This is not the code that the app shows now. Wait for the next one; does the clock of"
            " the phone go right?"
        )
    device.confirmed = True
    device.save(update_fields=["confirmed"])
    record(user, "people.second_on", user)
    return _paper(user)


def _paper(user: User) -> list[str]:
    StaticDevice.objects.filter(user=user).delete()
    device = StaticDevice.objects.create(user=user, name="paper")
    codes = [f"{secrets.randbelow(10**10):010d}" for _ in range(ON_PAPER)]
    for code in codes:
        device.token_set.create(token=code)
    return [f"{code[:5]} {code[5:]}" for code in codes]


def _typed(code: str) -> str:
    return "".join(code.split())[:16]


def right(user: User, code: str) -> bool:
    """Whether a code is one of the app's or on paper; one on paper holds once. After wrong ones it
    is not even looked at for a while that doubles.
    """
    return match_token(user, _typed(code)) is not None


def end(user: User, code: str) -> None:
    """Turn it off, with a code. That a guess was wrong is stored, so it is no part of what an error
    rolls back.

    Raises
    ------
    ValidationError : the code is not right
    """
    if not right(user, code):
        raise ValidationError(
            "This code is not right, or came too soon after a wrong one. Type the one that the app"
            " shows now."
        )
    with transaction.atomic():
        _forget(user)
        record(user, "people.second_off", user)


@transaction.atomic
def take_off(keeper: User, person: User) -> None:
    """Turn it off for somebody who has lost app and paper.

    Raises
    ------
    PermissionDenied
    """
    require(keeper, "people.manage")
    _forget(person)
    record(keeper, "people.second_off", person)


def _forget(user: User) -> None:
    TOTPDevice.objects.filter(user=user).delete()
    StaticDevice.objects.filter(user=user).delete()


def wait_for(session: Any, user: User, then: str) -> None:
    """Note in a session that the password was right and the code is waited for."""
    session[WAITS] = {"user": user.pk, "until": time.time() + STAYS, "then": then}


def waited_for(session: Any) -> tuple[User, str] | None:
    """Whose code is waited for, and where they go then; None where nobody's, or for too long."""
    noted = session.get(WAITS)
    if not noted or noted["until"] < time.time():
        return None
    user = User.objects.filter(pk=noted["user"], is_active=True).first()
    return None if user is None else (user, noted["then"])
