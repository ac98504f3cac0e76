"""People and the audit trail."""

from __future__ import annotations

from django.contrib.auth.models import AbstractUser
from django.db import models
from django.utils import timezone

from hauch.core.quantity.units import system_of


class User(AbstractUser):
    """A person. ``is_staff`` keeps the installation: may import rounds and manage people."""

    class Units(models.TextChoices):
        SI = "si", "SI: m³/s, Pa, m/s"
        WORKSHOP = "workshop", "Workshop: m³/h, mmH2O, km/h"
        INCH = "inch", "Inch: cfm, inH2O, ft/min"

    preset = models.CharField(max_length=10, choices=Units.choices, default=Units.WORKSHOP)
    own_units = models.JSONField(
        default=dict, blank=True, help_text="kind of figure -> unit, where it is not the preset's"
    )

    link_mailed_at = models.DateTimeField(
        null=True, editable=False, help_text="when a link for a new password was mailed last"
    )

    @property
    def units(self) -> str:
        """The units of all kinds of figures, as `Kind.shown` takes them."""
        return system_of(self.preset, self.own_units)

    def __str__(self) -> str:
        return self.first_name or self.username


class SignIn(models.Model):
    """A browser in which somebody signed in. It counts as long as its session lives."""

    user = models.ForeignKey(User, on_delete=models.CASCADE, related_name="sign_ins")
    session_key = models.CharField(max_length=40, unique=True)
    at = models.DateTimeField(default=timezone.now)
    address = models.GenericIPAddressField(null=True)
    browser = models.CharField(max_length=200, blank=True, help_text="what it says that it is")

    class Meta:
        ordering = ["-at", "-pk"]

    def __str__(self) -> str:
        return f"{self.user}, {self.at:%Y-%m-%d %H:%M}"


class AuditEntry(models.Model):
    """One change of rules, raw data or state: who, when, what. Never changed or deleted."""

    at = models.DateTimeField(auto_now_add=True, db_index=True)
    user = models.ForeignKey(User, on_delete=models.PROTECT, related_name="+")
    action = models.CharField(max_length=60)
    round = models.ForeignKey(
        "rounds.Round", null=True, on_delete=models.PROTECT, related_name="audit"
    )
    target = models.CharField(max_length=200)
    detail = models.JSONField(default=dict)

    class Meta:
        ordering = ["-at", "-id"]
        verbose_name_plural = "audit entries"

    def __str__(self) -> str:
        return f"{self.at:%Y-%m-%d %H:%M} {self.user} {self.action} {self.target}"
