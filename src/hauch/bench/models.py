"""Runs, their raw readings and recordings, and the results computed from them.

Raw data (`Reading`, `Chunk`, `SourceFile`) is append-only: the database refuses to change or delete it.
"""

from __future__ import annotations

import math
import uuid

import numpy as np
from django.conf import settings
from django.db import models
from django.db.models import Q
from django.urls import reverse
from django.utils import timezone

from hauch.core.measure.channels import CHANNELS
from hauch.core.quantity import coverage_factor
from hauch.entries.models import Entry
from hauch.rounds.models import Round, Setting, Test
from hauch.stores.models import ReferenceSpecimen, Rig
from hauch.workshop.models import Specimen

CHANNEL_CHOICES = [(c.key, c.label) for c in CHANNELS.values()]


class SourceFile(models.Model):
    """An uploaded file, kept unchanged under its content hash."""

    sha256 = models.CharField(max_length=64, unique=True)
    name = models.CharField(max_length=200)
    size = models.PositiveBigIntegerField()
    path = models.CharField(max_length=200)
    uploaded_by = models.ForeignKey(settings.AUTH_USER_MODEL, on_delete=models.PROTECT, related_name="+")
    uploaded_at = models.DateTimeField(default=timezone.now)

    def __str__(self) -> str:
        return self.name


class LogMapping(models.Model):
    """The confirmed meaning of the columns of one logger's layout."""

    fingerprint = models.CharField(max_length=64, unique=True)
    columns = models.JSONField(help_text="for each column: [channel, unit]")
    day_first = models.BooleanField(default=True)
    confirmed_by = models.ForeignKey(settings.AUTH_USER_MODEL, on_delete=models.PROTECT, related_name="+")
    confirmed_at = models.DateTimeField(auto_now=True)

    def __str__(self) -> str:
        return self.fingerprint[:12]


class Recording(models.Model):
    """Traces of several channels over one stretch of time; several runs may be read from it."""

    uid = models.UUIDField(unique=True, default=uuid.uuid4, editable=False)
    round = models.ForeignKey(Round, on_delete=models.PROTECT, related_name="recordings")
    source = models.ForeignKey(SourceFile, null=True, on_delete=models.PROTECT, related_name="recordings")
    started_at = models.DateTimeField()
    columns = models.JSONField(default=list, blank=True)
    created_at = models.DateTimeField(default=timezone.now)

    class Meta:
        constraints = [models.UniqueConstraint(fields=["round", "source"], name="file_once_in_a_round")]

    def __str__(self) -> str:
        return f"recording of {self.started_at:%Y-%m-%d %H:%M}"

    def arrays(self) -> tuple[np.ndarray, dict[str, np.ndarray]]:
        """Seconds from the start and values by channel [SI], shape (n,), from all chunks."""
        parts: dict[str, list[np.ndarray]] = {}
        for chunk in self.chunks.order_by("channel", "seq"):
            parts.setdefault(chunk.channel, []).append(np.frombuffer(chunk.data, dtype="<f8"))
        channels = {key: np.concatenate(arrays) for key, arrays in parts.items()}
        return channels.pop("time", np.zeros(0)), channels


class Chunk(models.Model):
    """A piece of one channel's trace: little-endian 64-bit floats in SI units, NaN where a sample is missing."""

    recording = models.ForeignKey(Recording, on_delete=models.PROTECT, related_name="chunks")
    channel = models.CharField(max_length=30, choices=[("time", "Time"), *CHANNEL_CHOICES])
    seq = models.PositiveIntegerField()
    count = models.PositiveIntegerField()
    data = models.BinaryField()

    class Meta:
        constraints = [models.UniqueConstraint(fields=["recording", "channel", "seq"], name="chunk_once")]


class Run(models.Model):
    """One specimen, one test, one repeat."""

    class State(models.TextChoices):
        VALID = "valid", "valid"
        VOID = "void", "void"
        DNF = "dnf", "did not finish"

    uid = models.UUIDField(unique=True, default=uuid.uuid4, editable=False)
    test = models.ForeignKey(Test, on_delete=models.PROTECT, related_name="runs")
    rig = models.ForeignKey(Rig, on_delete=models.PROTECT, related_name="runs", help_text="in the state in which it was")
    setting = models.ForeignKey(Setting, on_delete=models.PROTECT, related_name="runs")
    specimen = models.ForeignKey(Specimen, null=True, blank=True, on_delete=models.PROTECT, related_name="runs")
    reference = models.ForeignKey(ReferenceSpecimen, null=True, blank=True, on_delete=models.PROTECT, related_name="runs")
    replicate = models.PositiveIntegerField()
    started_at = models.DateTimeField()
    operator = models.ForeignKey(settings.AUTH_USER_MODEL, on_delete=models.PROTECT, related_name="+")
    state = models.CharField(max_length=5, choices=State.choices, default=State.VALID)
    reason = models.TextField(blank=True)
    note = models.TextField(blank=True)
    temperature = models.FloatField(null=True, help_text="degC")
    pressure = models.FloatField(null=True, help_text="Pa")
    humidity = models.FloatField(null=True, help_text="%")
    recording = models.ForeignKey(Recording, null=True, blank=True, on_delete=models.PROTECT, related_name="runs")
    carried_from = models.ForeignKey(
        "self", null=True, blank=True, on_delete=models.PROTECT, related_name="carried_to", help_text="the run whose readings this one is made of"
    )
    hours = models.FloatField(default=0, help_text="for which the part ran")
    form_key = models.UUIDField(unique=True, default=uuid.uuid4, help_text="the form it was sent with, so that sending twice records once")
    created_at = models.DateTimeField(default=timezone.now)

    class Meta:
        ordering = ["started_at", "id"]
        constraints = [
            models.CheckConstraint(
                condition=Q(specimen__isnull=False, reference__isnull=True) | Q(specimen__isnull=True, reference__isnull=False),
                name="run_of_one_specimen_or_reference",
            ),
            models.UniqueConstraint(
                fields=["test", "setting", "specimen", "replicate"], condition=Q(specimen__isnull=False), name="repeat_once_for_a_specimen"
            ),
            models.UniqueConstraint(
                fields=["test", "setting", "reference", "replicate"], condition=Q(reference__isnull=False), name="repeat_once_for_a_reference"
            ),
            models.UniqueConstraint(fields=["test", "carried_from"], condition=Q(carried_from__isnull=False), name="run_carried_once"),
            models.CheckConstraint(condition=Q(hours__gte=0), name="run_hours_not_negative"),
            models.CheckConstraint(
                condition=Q(state="valid") | ~Q(reason=""), name="void_and_dnf_have_a_reason", violation_error_message="Say why, in a few words."
            ),
            models.CheckConstraint(
                condition=~Q(state="valid")
                | Q(
                    temperature__isnull=False, temperature__gte=-40, temperature__lte=60, pressure__isnull=False, pressure__gte=50_000,
                    pressure__lte=120_000, humidity__isnull=False, humidity__gte=0, humidity__lte=100,
                ),
                name="room_readings_sane",
                violation_error_message="Room temperature, air pressure and humidity are missing or cannot be.",
            ),
        ]  # fmt: skip
        indexes = [
            models.Index(fields=["test", "started_at"]),
            models.Index(fields=["specimen", "test"]),
            models.Index(fields=["created_at"]),
            models.Index(fields=["started_at"]),
            models.Index(fields=["reference", "started_at"], condition=Q(reference__isnull=False), name="run_of_reference"),
        ]

    def __str__(self) -> str:
        return f"{self.subject}, {self.test.label}, repeat {self.replicate}"

    def get_absolute_url(self) -> str:
        return reverse("bench:run", args=[self.test.round.slug, self.pk])

    @property
    def subject(self) -> str:
        """What was run: the entry with its specimen, or the reference specimen."""
        if self.specimen_id:
            return f"{self.specimen.version.entry.name}"
        return str(self.reference)


class Reading(models.Model):
    """One reading by hand, as typed and in SI."""

    run = models.ForeignKey(Run, on_delete=models.PROTECT, related_name="readings")
    channel = models.CharField(max_length=30, choices=CHANNEL_CHOICES)
    position = models.PositiveSmallIntegerField(default=0, help_text="point of a traverse; 0 where none")
    seq = models.PositiveIntegerField()
    value = models.FloatField(help_text="SI unit of the channel")
    typed = models.CharField(max_length=40)
    unit = models.CharField(max_length=20)

    class Meta:
        ordering = ["channel", "position", "seq"]
        constraints = [models.UniqueConstraint(fields=["run", "channel", "position", "seq"], name="reading_once")]

    def __str__(self) -> str:
        return f"{self.get_channel_display()} {self.typed} {self.unit}"


class Result(models.Model):
    """What a run came to, with doubt by cause and working, by one version of the core."""

    run = models.OneToOneField(Run, on_delete=models.PROTECT, related_name="result")
    value = models.FloatField(null=True)
    u = models.FloatField(null=True)
    dof = models.FloatField(null=True, help_text="empty for infinitely many")
    unit = models.CharField(max_length=10, blank=True)
    parts = models.JSONField(default=list, help_text="[key, cause, scope, kind, dof, signed contribution]")
    working = models.JSONField(default=list)
    marks = models.JSONField(default=list, help_text="[channel, kind, from s, to s, samples]")
    missing = models.TextField(blank=True, help_text="why there is no value")
    core_version = models.CharField(max_length=20)
    computed_at = models.DateTimeField(auto_now=True)

    class Meta:
        constraints = [
            models.CheckConstraint(
                condition=Q(value__isnull=False, u__isnull=False, missing="") | (Q(value__isnull=True) & ~Q(missing="")),
                name="result_or_reason",
            ),
            models.CheckConstraint(condition=Q(u__isnull=True) | Q(u__gte=0), name="doubt_not_negative"),
        ]
        indexes = [models.Index(fields=["run"], condition=Q(value__isnull=True), name="result_missing")]

    def __str__(self) -> str:
        return f"{self.value} {self.unit}" if self.value is not None else self.missing

    @property
    def expanded(self) -> float | None:
        """Half-width of the 95 % interval, SI unit of the value."""
        return None if self.u is None else coverage_factor(self.dof or math.inf) * self.u


class Progress(models.Model):
    """How far an entry is in a test: runs that count, runs without result, did not finish. Kept by `bench.progress`.

    Without an entry the row counts the runs of reference specimens.
    """

    test = models.ForeignKey(Test, on_delete=models.CASCADE, related_name="progress")
    entry = models.ForeignKey(Entry, null=True, blank=True, on_delete=models.CASCADE, related_name="progress")
    counted = models.PositiveIntegerField(default=0)
    missing = models.PositiveIntegerField(default=0)
    dnf = models.PositiveIntegerField(default=0)

    class Meta:
        verbose_name_plural = "progress"
        constraints = [models.UniqueConstraint(fields=["test", "entry"], name="progress_once", nulls_distinct=False)]

    def __str__(self) -> str:
        return f"{self.entry}, {self.test}: {self.counted}"
