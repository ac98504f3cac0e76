"""The bench that is being recorded, and what was seen at it."""

from __future__ import annotations

import uuid
from datetime import timedelta

from django.conf import settings
from django.db import models
from django.db.models import Q
from django.db.models.functions import Now
from django.urls import reverse
from django.utils import timezone

from hauch.bench import steady
from hauch.bench.models.recordings import Recording
from hauch.bench.models.runs import Run
from hauch.rounds.models import Round, Setting, Test
from hauch.stores.models import Picture, ReferenceSpecimen
from hauch.workshop.models import Specimen


class Live(models.Model):
    """A bench that is being recorded: one part on one rig, from mounting to its results.

    The web server writes what is ``wanted`` and what was ``done``, the recorder what it found as
    ``status``; neither touches the other's.
    """

    uid = models.UUIDField(unique=True, default=uuid.uuid4, editable=False)
    round = models.ForeignKey(Round, on_delete=models.CASCADE, related_name="lives")
    test = models.ForeignKey(Test, on_delete=models.PROTECT, related_name="lives")
    setting = models.ForeignKey(Setting, on_delete=models.PROTECT, related_name="+")
    specimen = models.ForeignKey(
        Specimen, null=True, blank=True, on_delete=models.PROTECT, related_name="lives"
    )
    reference = models.ForeignKey(
        ReferenceSpecimen, null=True, blank=True, on_delete=models.PROTECT, related_name="lives"
    )
    recording = models.OneToOneField(Recording, on_delete=models.PROTECT, related_name="live")
    operator = models.ForeignKey(
        settings.AUTH_USER_MODEL, on_delete=models.PROTECT, related_name="+"
    )
    started_at = models.DateTimeField(default=timezone.now)
    boot = models.CharField(
        max_length=36, blank=True, default="", help_text="what boot_at is counted from"
    )
    boot_at = models.FloatField(
        null=True, blank=True, help_text="hauch.bench.steady, where the recording is 0 s"
    )
    ended_at = models.DateTimeField(null=True, blank=True)
    done = models.JSONField(default=dict, blank=True, help_text="hauch.live.protocol.Steps")
    windows = models.JSONField(
        default=list,
        blank=True,
        help_text="[from s, to s] of each reading of the run that is being taken",
    )
    beside = models.JSONField(
        default=dict, blank=True, help_text="background, tare -> [from s, to s]"
    )
    room = models.JSONField(
        default=dict, blank=True, help_text="temperature, pressure, humidity; SI"
    )
    wanted = models.JSONField(
        default=dict,
        blank=True,
        help_text="hauch.live.protocol.Wanted",
    )
    status = models.JSONField(
        default=dict,
        blank=True,
        help_text="what the recorder says, hauch.live.protocol.Status",
    )
    heard_at = models.DateTimeField(null=True, blank=True, help_text="when the recorder last wrote")
    watched_at = models.DateTimeField(
        db_default=Now(),
        help_text="when a page of somebody who may run it last said that it is there; the database's clock",
    )
    changes = models.PositiveIntegerField(
        default=0, help_text="counted up with each action, so that a page knows that it is behind"
    )
    ended_by = models.ForeignKey(
        settings.AUTH_USER_MODEL,
        null=True,
        blank=True,
        on_delete=models.PROTECT,
        related_name="+",
    )

    absence: timedelta
    """How long nobody has been there, where `live.presence.with_absence` asked."""

    class Meta:
        ordering = ["-started_at", "-id"]
        constraints = [
            models.CheckConstraint(
                condition=Q(specimen__isnull=False, reference__isnull=True)
                | Q(specimen__isnull=True, reference__isnull=False),
                name="live_of_one_specimen_or_reference",
            ),
        ]
        indexes = [
            models.Index(
                fields=["started_at"], condition=Q(ended_at__isnull=True), name="live_running"
            )
        ]

    def __str__(self) -> str:
        return f"{self.subject} on {self.test.rig}"

    def get_absolute_url(self) -> str:
        return reverse("live:page", args=[self.round.slug, self.pk])

    @property
    def cap(self) -> float | None:
        """What the part must not be spun above [1/min]; None where nothing is said."""
        part = self.specimen or self.reference
        return part.cap if part is not None else None

    @property
    def subject(self) -> str:
        """What is on the rig."""
        return self.specimen.version.entry.name if self.specimen else str(self.reference)

    @property
    def choice(self) -> str:
        """The subject as forms name it."""
        return f"s{self.specimen_id}" if self.specimen_id else f"r{self.reference_id}"

    def seconds(self) -> float:
        """Seconds of the recording, now: counted on this machine where the recording began on it, by
        the clock elsewhere.
        """
        if self.boot and self.boot == steady.boot() and self.boot_at is not None:
            return steady.counted() - self.boot_at
        return (timezone.now() - self.recording.started_at).total_seconds()


class Observation(models.Model):
    """What somebody saw: words, tags, a picture, and where on the trace."""

    class Tag(models.TextChoices):
        SMOKE = "smoke", "smoke"
        TUFTS = "tufts", "tufts"
        WHISTLE = "whistle", "whistle"
        VIBRATION = "vibration", "vibration"
        DAMAGE = "damage", "damage"
        LEAK = "leak", "leak"

    recording = models.ForeignKey(
        Recording, null=True, blank=True, on_delete=models.PROTECT, related_name="observations"
    )
    run = models.ForeignKey(
        Run, null=True, blank=True, on_delete=models.PROTECT, related_name="observations"
    )
    at_s = models.FloatField(
        null=True, blank=True, help_text="s of the recording; empty for all of the run"
    )
    text = models.CharField(max_length=1000, blank=True)
    tags = models.JSONField(default=list, blank=True)
    picture = models.ForeignKey(
        Picture, null=True, blank=True, on_delete=models.SET_NULL, related_name="+"
    )
    by = models.ForeignKey(settings.AUTH_USER_MODEL, on_delete=models.PROTECT, related_name="+")
    at = models.DateTimeField(default=timezone.now)

    class Meta:
        ordering = ["at_s", "id"]
        constraints = [
            models.CheckConstraint(
                condition=Q(recording__isnull=False) | Q(run__isnull=False),
                name="observation_of_something",
            ),
            models.CheckConstraint(
                condition=~Q(text="") | Q(picture__isnull=False) | ~Q(tags=[]),
                name="observation_says_something",
                violation_error_message="Write what you saw, choose a tag or add a picture.",
            ),
        ]

    def __str__(self) -> str:
        return self.text[:60] or ", ".join(self.tag_words)

    @property
    def tag_words(self) -> list[str]:
        """Tags in words."""
        return [str(self.Tag(tag).label) for tag in self.tags if tag in self.Tag.values]
