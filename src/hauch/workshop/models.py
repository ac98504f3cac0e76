"""Specimens: the physical prints of an entry's version."""

from __future__ import annotations

import uuid

from django.db import models
from django.db.models import Q

from hauch.entries.models import Version


class Specimen(models.Model):
    """One physical print."""

    class State(models.TextChoices):
        PRINTED = "printed", "printed"
        READY = "ready", "ready for the bench"
        BROKEN = "broken", "broken"

    uid = models.UUIDField(unique=True, default=uuid.uuid4, editable=False)
    version = models.ForeignKey(Version, on_delete=models.CASCADE, related_name="specimens")
    code = models.CharField(max_length=20)
    material = models.CharField(max_length=40, blank=True)
    mass = models.FloatField(null=True, blank=True, help_text="kg")
    state = models.CharField(max_length=10, choices=State.choices, default=State.PRINTED)
    note = models.TextField(blank=True)

    class Meta:
        ordering = ["code", "id"]
        constraints = [
            models.UniqueConstraint(fields=["version", "code"], name="specimen_code_once"),
            models.CheckConstraint(
                condition=Q(mass__isnull=True) | (Q(mass__gt=0) & Q(mass__lt=100)), name="specimen_mass_sane",
                violation_error_message="The mass must be above 0 g and below 100 kg.",
            ),
        ]  # fmt: skip

    def __str__(self) -> str:
        return self.code
