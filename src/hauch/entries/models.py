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
    sealed_at = models.DateTimeField(
        null=True, blank=True, help_text="when its first run was recorded; predictions are fixed from then on and may be seen"
    )

    class Meta:
        ordering = ["number"]
        constraints = [models.UniqueConstraint(fields=["entry", "number"], name="version_once")]

    def __str__(self) -> str:
        return f"{self.entry} v{self.number}"


class PartFile(models.Model):
    """A file of a version, kept unchanged under its content hash."""

    version = models.ForeignKey(Version, on_delete=models.CASCADE, related_name="files")
    name = models.CharField(max_length=120)
    sha256 = models.CharField(max_length=64, db_index=True)
    size = models.PositiveIntegerField()
    path = models.CharField(max_length=200)
    added_by = models.ForeignKey(settings.AUTH_USER_MODEL, null=True, on_delete=models.SET_NULL, related_name="+")
    added_at = models.DateTimeField(default=timezone.now)

    class Meta:
        ordering = ["name"]
        constraints = [models.UniqueConstraint(fields=["version", "name"], name="part_file_once_in_a_version")]

    def __str__(self) -> str:
        return self.name


class Prediction(models.Model):
    """What a version should measure in one kind of test, fixed before its first run: by its designer, or by a model of the Desk."""

    class Source(models.TextChoices):
        DESIGNER = "designer", "designer"
        MODEL = "model", "model"

    uid = models.UUIDField(unique=True, default=uuid.uuid4, editable=False)
    version = models.ForeignKey(Version, on_delete=models.CASCADE, related_name="predictions")
    procedure = models.CharField(max_length=30, help_text="key of the procedure whose figure is foretold")
    source = models.CharField(max_length=10, choices=Source.choices)
    model = models.CharField(max_length=20, blank=True, help_text="key of the Desk's tool; empty for a designer's own")
    value = models.FloatField(help_text="SI unit of the procedure's kind")
    u = models.FloatField(default=0.0, help_text="standard uncertainty, same unit; 0 where none was told")
    inputs = models.JSONField(default=dict, blank=True, help_text="what the model was given")
    core_version = models.CharField(max_length=20, blank=True)
    made_by = models.ForeignKey(settings.AUTH_USER_MODEL, null=True, on_delete=models.SET_NULL, related_name="predictions")
    made_at = models.DateTimeField(default=timezone.now)

    class Meta:
        ordering = ["procedure", "source"]
        constraints = [
            models.UniqueConstraint(fields=["version", "procedure", "source", "model"], name="prediction_once"),
            models.CheckConstraint(condition=models.Q(u__gte=0), name="prediction_doubt_not_negative"),
            models.CheckConstraint(
                condition=models.Q(source="model", model__gt="") | models.Q(source="designer", model=""), name="model_named_where_one_predicts"
            ),
        ]

    def __str__(self) -> str:
        return f"{self.procedure} of {self.version}"
