"""What a person sets for themselves."""

from __future__ import annotations

from datetime import timedelta
from typing import Any

from django import forms
from django.contrib.auth.forms import PasswordChangeForm, PasswordResetForm
from django.http import HttpRequest
from django.utils import timezone

from hauch.core.quantity.units import CHOICES, KINDS
from hauch.people.models import User
from hauch.people.sessions import knows_password


class UnitsForm(forms.ModelForm):
    """A preset, and other units for single kinds of figures."""

    class Meta:
        model = User
        fields = ["preset"]
        widgets = {"preset": forms.RadioSelect}

    def __init__(self, *args: Any, **kwargs: Any):
        super().__init__(*args, **kwargs)
        for kind, units in CHOICES.items():
            self.fields[f"unit_{kind}"] = forms.ChoiceField(
                label=KINDS[kind].label,
                required=False,
                choices=[("", "as above"), *((u, u) for u in units)],
                initial=self.instance.own_units.get(kind, ""),
            )

    @property
    def own(self) -> list[Any]:
        """Fields of single kinds."""
        return [self[f"unit_{kind}"] for kind in CHOICES]

    def save(self, commit: bool = True) -> User:
        """Keep the units that differ from the preset."""
        self.instance.own_units = {
            kind: unit for kind in CHOICES if (unit := self.cleaned_data.get(f"unit_{kind}"))
        }
        saved: User = super().save(commit)
        return saved


class NewPasswordForm(PasswordChangeForm):
    """The old password and, twice, the new one."""

    def __init__(self, *args: Any, request: HttpRequest, **kwargs: Any):
        self.request = request
        super().__init__(*args, **kwargs)

    def clean_old_password(self) -> str:
        """Raise ValidationError where it is not the person's."""
        return _own(self.request, self.user, self.cleaned_data["old_password"])


class MailForm(forms.ModelForm):
    """The address to which links for a new password go; the password is asked for, since whoever
    has such a link has the account.
    """

    class Meta:
        model = User
        fields = ["email"]
        labels = {"email": "Mail address (empty: none)"}

    password = forms.CharField(
        label="Your password", strip=False, widget=forms.PasswordInput, max_length=400
    )

    def __init__(self, *args: Any, request: HttpRequest, **kwargs: Any):
        self.request = request
        super().__init__(*args, **kwargs)

    def clean_password(self) -> str:
        """Raise ValidationError where it is not the person's."""
        return _own(self.request, self.instance, self.cleaned_data["password"])


def _own(request: HttpRequest, user: User, password: str) -> str:
    if not knows_password(request, user, password):
        raise forms.ValidationError("This is not your password.")
    return password


class LinkByMailForm(PasswordResetForm):
    """Asks for a link by mail; one person is sent one every `AGAIN_AFTER` at most."""

    AGAIN_AFTER = timedelta(minutes=10)

    def get_users(self, email: str) -> list[User]:
        """Those to whom a link goes now."""
        late = timezone.now() - self.AGAIN_AFTER
        found = [
            user
            for user in super().get_users(email)
            if isinstance(user, User) and (user.link_mailed_at or late) <= late
        ]
        User.objects.filter(pk__in=[u.pk for u in found]).update(link_mailed_at=timezone.now())
        return found
