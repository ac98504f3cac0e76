"""Recordings and what is kept of them: files, traces, sound."""

from __future__ import annotations

import uuid

from django.conf import settings
from django.db import models
from django.db.models import F, Q
from django.urls import reverse
from django.utils import timezone

from hauch.people.keep import KeptPath
from hauch.rounds.models import Round
from hauch.stores.models import channel_choices


def trace_choices() -> list[tuple[str, str]]:
    """What a chunk holds: the seconds, or a channel."""
    return [("time", "Time"), *channel_choices()]


class SourceFile(models.Model):
    """An uploaded file, kept unchanged under its content hash."""

    sha256 = models.CharField(max_length=64, unique=True)
    name = models.CharField(max_length=200)
    size = models.PositiveBigIntegerField()
    path = KeptPath()
    uploaded_by = models.ForeignKey(
        settings.AUTH_USER_MODEL, on_delete=models.PROTECT, related_name="+"
    )
    uploaded_at = models.DateTimeField(default=timezone.now)

    def __str__(self) -> str:
        return self.name


class LogMapping(models.Model):
    """The confirmed meaning of the columns of one logger's layout."""

    fingerprint = models.CharField(max_length=64, unique=True)
    columns = models.JSONField(help_text="for each column: [channel, unit]")
    day_first = models.BooleanField(default=True)
    confirmed_by = models.ForeignKey(
        settings.AUTH_USER_MODEL, on_delete=models.PROTECT, related_name="+"
    )
    confirmed_at = models.DateTimeField(auto_now=True)

    def __str__(self) -> str:
        return self.fingerprint[:12]


class Recording(models.Model):
    """Traces of several channels over one stretch of time; several runs may be read from it."""

    uid = models.UUIDField(unique=True, default=uuid.uuid4, editable=False)
    round = models.ForeignKey(Round, on_delete=models.PROTECT, related_name="recordings")
    source = models.ForeignKey(
        SourceFile, null=True, on_delete=models.PROTECT, related_name="recordings"
    )
    started_at = models.DateTimeField()
    columns = models.JSONField(
        default=list,
        blank=True,
        help_text=(
            "of a file: [channel, unit]; of a live recording: its channels in the order of a piece"
        ),
    )
    rate = models.FloatField(null=True, blank=True, help_text="ticks a second of a live recording")
    beside = models.ForeignKey(
        "self",
        null=True,
        blank=True,
        on_delete=models.PROTECT,
        related_name="seconds",
        help_text="the recording that a second logger ran beside",
    )
    shift = models.FloatField(
        default=0.0,
        help_text=(
            "s to add to this recording's times to be on the clock of the one that it ran beside"
        ),
    )
    shift_note = models.CharField(max_length=300, blank=True, help_text="how the shift was found")
    created_at = models.DateTimeField(default=timezone.now)
    set_aside_at = models.DateTimeField(
        null=True,
        blank=True,
        help_text="when it was taken out: nothing is read from it any more, its rows stay",
    )
    set_aside_by = models.ForeignKey(
        settings.AUTH_USER_MODEL,
        null=True,
        blank=True,
        on_delete=models.PROTECT,
        related_name="+",
    )

    class Meta:
        constraints = [
            models.UniqueConstraint(
                fields=["round", "source"],
                condition=Q(set_aside_at__isnull=True),
                name="file_once_in_a_round",
            ),
            models.CheckConstraint(
                condition=Q(rate__isnull=True) | Q(rate__gt=0), name="recording_rate_above_zero"
            ),
        ]

    def __str__(self) -> str:
        return f"recording of {self.started_at:%Y-%m-%d %H:%M}"

    @property
    def loggers_beside(self) -> list[Recording]:
        """Recordings of second loggers that count."""
        return [one for one in self.seconds.all() if one.set_aside_at is None]


class Piece(models.Model):
    """Rows of a recording that is still going on, stored as they come: ticks from ``first`` on, all
    channels, little-endian 64-bit floats in SI, NaN where there is none.

    A later piece fills in what an earlier one lacks, when a meter that had dropped out hands in
    what it kept. When the recording has ended they become chunks; the database lets go of a piece
    only then.
    """

    recording = models.ForeignKey(Recording, on_delete=models.PROTECT, related_name="pieces")
    first = models.BigIntegerField()
    count = models.PositiveIntegerField()
    data = models.BinaryField()
    stored_at = models.DateTimeField(default=timezone.now)

    class Meta:
        indexes = [models.Index(fields=["recording", "first"])]
        constraints = [
            models.CheckConstraint(condition=Q(first__gte=0, count__gte=1), name="piece_has_rows")
        ]


class LogImport(models.Model):
    """A large file that the worker imports, and what became of it."""

    class State(models.TextChoices):
        WAITING = "waiting", "waiting for the worker"
        RUNNING = "running", "being imported"
        DONE = "done", "imported"
        FAILED = "failed", "not imported"

    round = models.ForeignKey(Round, on_delete=models.CASCADE, related_name="imports")
    source = models.ForeignKey(SourceFile, on_delete=models.PROTECT, related_name="imports")
    by = models.ForeignKey(settings.AUTH_USER_MODEL, on_delete=models.PROTECT, related_name="+")
    state = models.CharField(max_length=8, choices=State.choices, default=State.WAITING)
    asked = models.JSONField(help_text="what was confirmed, see bench.importing.Confirmed")
    stage = models.CharField(max_length=60, blank=True, help_text="what is being done")
    progress = models.FloatField(default=0.0, help_text="share that is done")
    recording = models.ForeignKey(
        Recording, null=True, blank=True, on_delete=models.SET_NULL, related_name="+"
    )
    told = models.TextField(blank=True, help_text="what it came to, in a sentence")
    problems = models.JSONField(default=list, blank=True, help_text="why it was not imported")
    rows = models.JSONField(default=list, blank=True, help_text="[line, why it cannot be read]")
    created_at = models.DateTimeField(default=timezone.now)
    ended_at = models.DateTimeField(null=True, blank=True)

    class Meta:
        ordering = ["-created_at", "-id"]
        constraints = [
            models.UniqueConstraint(
                fields=["round", "source"],
                condition=Q(ended_at__isnull=True),
                name="one_import_of_a_file_at_a_time",
            )
        ]

    def __str__(self) -> str:
        return f"{self.source}, {self.get_state_display()}"

    def get_absolute_url(self) -> str:
        return reverse("bench:importing", args=[self.round.slug, self.pk])

    @property
    def ended(self) -> bool:
        """Whether nothing more becomes of it."""
        return self.ended_at is not None

    @classmethod
    def under_way(cls, round: Round, source: SourceFile) -> LogImport | None:
        """The import of a file that waits or runs, if any."""
        return cls.objects.filter(round=round, source=source, ended_at=None).first()


class Waveform(models.Model):
    """Sound or acceleration as it was sampled, a few seconds of it, kept as a WAV file.
    Append-only.
    """

    recording = models.ForeignKey(Recording, on_delete=models.PROTECT, related_name="waveforms")
    channel = models.CharField(max_length=30, choices=channel_choices)
    at_s = models.FloatField(help_text="s of the recording at which it ends")
    seconds = models.FloatField()
    rate = models.FloatField(help_text="samples a second")
    source = models.ForeignKey(SourceFile, on_delete=models.PROTECT, related_name="waveforms")
    clipped = models.FloatField(
        default=0.0, help_text="share of the samples at the end of the scale"
    )

    class Meta:
        ordering = ["at_s", "id"]
        constraints = [
            models.CheckConstraint(
                condition=Q(rate__gt=0, seconds__gt=0, clipped__gte=0, clipped__lte=1),
                name="waveform_sane",
            )
        ]


class Chunk(models.Model):
    """A piece of one channel's trace: little-endian 64-bit floats in SI units, NaN where a sample
    is missing. The channel ``time`` holds the seconds of the samples.
    """

    recording = models.ForeignKey(Recording, on_delete=models.PROTECT, related_name="chunks")
    channel = models.CharField(max_length=30, choices=trace_choices)
    seq = models.PositiveIntegerField()
    from_s = models.FloatField(help_text="s of the recording of its first sample")
    to_s = models.FloatField(help_text="s of the recording of its last sample")
    count = models.PositiveIntegerField()
    data = models.BinaryField()

    class Meta:
        constraints = [
            models.UniqueConstraint(fields=["recording", "channel", "seq"], name="chunk_once"),
            models.CheckConstraint(
                condition=Q(to_s__gte=F("from_s")), name="chunk_ends_after_it_begins"
            ),
        ]
        indexes = [models.Index(fields=["recording", "channel", "from_s"], name="chunk_by_time")]


class Minute(models.Model):
    """A minute of a recording by the second, so that nobody reads each sample to draw hours: by
    channel the number of samples, their mean, least and most. Made from the samples and may be made
    again.
    """

    recording = models.ForeignKey(Recording, on_delete=models.CASCADE, related_name="minutes")
    number = models.IntegerField(help_text="minutes from the start of the recording")
    channels = models.JSONField(help_text="in the order of the data, the first one is time")
    data = models.BinaryField(
        help_text="64-bit floats of shape (4, channels, 60): number, mean, least, most"
    )

    class Meta:
        constraints = [models.UniqueConstraint(fields=["recording", "number"], name="minute_once")]
