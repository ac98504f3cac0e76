"""Entries and their versions."""

from __future__ import annotations

import uuid

from django.conf import settings
from django.db import models
from django.db.models.functions import Lower
from django.urls import reverse
from django.utils import timezone

from hauch.rounds.models import Round


class Entry(models.Model):
    """What somebody hands in to a round. Its mark (shape and colour) stays with it in all charts and tables."""

    class State(models.TextChoices):
        IN = "in", "in"
        WITHDRAWN = "withdrawn", "withdrawn"

    uid = models.UUIDField(unique=True, default=uuid.uuid4, editable=False)
    round = models.ForeignKey(Round, on_delete=models.CASCADE, related_name="entries")
    name = models.CharField(max_length=60)
    designer = models.ForeignKey(settings.AUTH_USER_MODEL, null=True, blank=True, on_delete=models.SET_NULL, related_name="entries")
    designer_name = models.CharField(max_length=60, blank=True)
    story = models.TextField(blank=True)
    mark = models.PositiveIntegerField(default=0)
    state = models.CharField(max_length=10, choices=State.choices, default=State.IN)
    submitted_at = models.DateTimeField(default=timezone.now)

    class Meta:
        ordering = ["name", "id"]
        verbose_name_plural = "entries"
        constraints = [
            models.UniqueConstraint(
                Lower("name"), "round", name="entry_name_once_in_a_round", violation_error_message="An entry of this name is in the round already."
            )
        ]
        indexes = [models.Index(fields=["round", "state", "name"])]

    def __str__(self) -> str:
        return self.name

    def get_absolute_url(self) -> str:
        return reverse("entry", args=[self.round.slug, self.pk])


class Version(models.Model):
    """One version of an entry, and what it changed."""

    uid = models.UUIDField(unique=True, default=uuid.uuid4, editable=False)
    entry = models.ForeignKey(Entry, on_delete=models.CASCADE, related_name="versions")
    number = models.PositiveSmallIntegerField(default=1)
    changed = models.TextField(blank=True)
    created_at = models.DateTimeField(default=timezone.now)

    class Meta:
        ordering = ["number"]
        constraints = [models.UniqueConstraint(fields=["entry", "number"], name="version_once")]

    def __str__(self) -> str:
        return f"{self.entry} v{self.number}"
