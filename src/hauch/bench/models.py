"""Runs, their raw readings and recordings, and the results computed from them.

Raw data (`Reading`, `Chunk`, `SourceFile`) is append-only: the database refuses to change or delete
it. A `Piece` goes when it has become part of a chunk.
"""

from __future__ import annotations

import math
import uuid
from datetime import datetime
from typing import NamedTuple

from django.conf import settings
from django.db import models
from django.db.models import F, Q
from django.urls import reverse
from django.utils import timezone

from hauch.core.quantity import contributions, effective_dof, expanded
from hauch.entries.models import Entry, Version
from hauch.rounds.models import Round, Setting, Test
from hauch.stores.models import Picture, ReferenceSpecimen, Rig, channel_choices
from hauch.workshop.models import Specimen


def trace_choices() -> list[tuple[str, str]]:
    """What a chunk holds: the seconds, or a channel."""
    return [("time", "Time"), *channel_choices()]


def excluded_choices() -> list[tuple[str, str]]:
    """What may be left out: all channels, or one."""
    return [("time", "All channels"), *channel_choices()]


class SourceFile(models.Model):
    """An uploaded file, kept unchanged under its content hash."""

    sha256 = models.CharField(max_length=64, unique=True)
    name = models.CharField(max_length=200)
    size = models.PositiveBigIntegerField()
    path = models.CharField(max_length=200)
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

    class Meta:
        constraints = [
            models.UniqueConstraint(fields=["round", "source"], name="file_once_in_a_round"),
            models.CheckConstraint(
                condition=Q(rate__isnull=True) | Q(rate__gt=0), name="recording_rate_above_zero"
            ),
        ]

    def __str__(self) -> str:
        return f"recording of {self.started_at:%Y-%m-%d %H:%M}"


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
    asked = models.JSONField(help_text="what was confirmed, see bench.importing.Asked")
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


class Run(models.Model):
    """One specimen, one test, one repeat."""

    class State(models.TextChoices):
        VALID = "valid", "valid"
        VOID = "void", "void"
        DNF = "dnf", "did not finish"

    uid = models.UUIDField(unique=True, default=uuid.uuid4, editable=False)
    test = models.ForeignKey(Test, on_delete=models.PROTECT, related_name="runs")
    rig = models.ForeignKey(
        Rig, on_delete=models.PROTECT, related_name="runs", help_text="in the state in which it was"
    )
    setting = models.ForeignKey(Setting, on_delete=models.PROTECT, related_name="runs")
    specimen = models.ForeignKey(
        Specimen, null=True, blank=True, on_delete=models.PROTECT, related_name="runs"
    )
    reference = models.ForeignKey(
        ReferenceSpecimen, null=True, blank=True, on_delete=models.PROTECT, related_name="runs"
    )
    replicate = models.PositiveIntegerField()
    started_at = models.DateTimeField()
    operator = models.ForeignKey(
        settings.AUTH_USER_MODEL, on_delete=models.PROTECT, related_name="+"
    )
    state = models.CharField(max_length=5, choices=State.choices, default=State.VALID)
    reason = models.TextField(blank=True)
    note = models.TextField(blank=True)
    temperature = models.FloatField(null=True, help_text="degC")
    pressure = models.FloatField(null=True, help_text="Pa")
    humidity = models.FloatField(null=True, help_text="%")
    recording = models.ForeignKey(
        Recording, null=True, blank=True, on_delete=models.PROTECT, related_name="runs"
    )
    carried_from = models.ForeignKey(
        "self",
        null=True,
        blank=True,
        on_delete=models.PROTECT,
        related_name="carried_to",
        help_text="the run whose readings this one is made of",
    )
    hours = models.FloatField(default=0, help_text="for which the part ran")
    windows = models.JSONField(
        default=list,
        blank=True,
        help_text=(
            "[from s, to s] of each reading taken from the recording; empty for its last quarter"
        ),
    )
    beside = models.JSONField(
        default=dict,
        blank=True,
        help_text="background, tare -> [from s, to s] in the recording, read without the part",
    )
    picture = models.ForeignKey(
        Picture, null=True, blank=True, on_delete=models.SET_NULL, related_name="+"
    )
    form_key = models.UUIDField(
        unique=True,
        default=uuid.uuid4,
        help_text="the form it was sent with, so that sending twice records once",
    )
    created_at = models.DateTimeField(default=timezone.now)

    class Meta:
        ordering = ["started_at", "id"]
        constraints = [
            models.CheckConstraint(
                condition=Q(specimen__isnull=False, reference__isnull=True)
                | Q(specimen__isnull=True, reference__isnull=False),
                name="run_of_one_specimen_or_reference",
            ),
            models.UniqueConstraint(
                fields=["test", "setting", "specimen", "replicate"],
                condition=Q(specimen__isnull=False),
                name="repeat_once_for_a_specimen",
            ),
            models.UniqueConstraint(
                fields=["test", "setting", "reference", "replicate"],
                condition=Q(reference__isnull=False),
                name="repeat_once_for_a_reference",
            ),
            models.UniqueConstraint(
                fields=["test", "carried_from"],
                condition=Q(carried_from__isnull=False),
                name="run_carried_once",
            ),
            models.CheckConstraint(condition=Q(hours__gte=0), name="run_hours_not_negative"),
            models.CheckConstraint(
                condition=Q(state="valid") | ~Q(reason=""),
                name="void_and_dnf_have_a_reason",
                violation_error_message="Say why, in a few words.",
            ),
            models.CheckConstraint(
                condition=~Q(state="valid")
                | Q(
                    temperature__isnull=False,
                    temperature__gte=-40,
                    temperature__lte=60,
                    pressure__isnull=False,
                    pressure__gte=50_000,
                    pressure__lte=120_000,
                    humidity__isnull=False,
                    humidity__gte=0,
                    humidity__lte=100,
                ),
                name="room_readings_sane",
                violation_error_message=(
                    "Room temperature, air pressure and humidity are missing or cannot be."
                ),
            ),
        ]
        indexes = [
            models.Index(fields=["test", "started_at"]),
            models.Index(fields=["specimen", "test"]),
            models.Index(fields=["created_at"]),
            models.Index(fields=["started_at"]),
            models.Index(
                fields=["reference", "started_at"],
                condition=Q(reference__isnull=False),
                name="run_of_reference",
            ),
        ]

    def __str__(self) -> str:
        return f"{self.subject}, {self.test.label}, repeat {self.replicate}"

    def get_absolute_url(self) -> str:
        return reverse("bench:run", args=[self.test.round.slug, self.pk])

    @property
    def subject(self) -> str:
        """What was run: the entry with its specimen, or the reference specimen."""
        return self.specimen.version.entry.name if self.specimen else str(self.reference)


class Reading(models.Model):
    """One reading by hand, as typed and in SI."""

    run = models.ForeignKey(Run, on_delete=models.PROTECT, related_name="readings")
    channel = models.CharField(max_length=30, choices=channel_choices)
    position = models.PositiveSmallIntegerField(
        default=0, help_text="point of a traverse; 0 where none"
    )
    seq = models.PositiveIntegerField()
    value = models.FloatField(help_text="SI unit of the channel")
    typed = models.CharField(max_length=40)
    unit = models.CharField(max_length=20)

    class Meta:
        ordering = ["channel", "position", "seq"]
        constraints = [
            models.UniqueConstraint(
                fields=["run", "channel", "position", "seq"], name="reading_once"
            )
        ]

    def __str__(self) -> str:
        return f"{self.get_channel_display()} {self.typed} {self.unit}"


class StoredMark(NamedTuple):
    """A mark of a recording as it is kept with a result: ``kind`` is a key of the core's `WORDS`."""

    channel: str
    kind: str
    from_s: float
    to_s: float
    samples: int


class Result(models.Model):
    """What a run came to, with doubt by cause and working, by one version of the core."""

    run = models.OneToOneField(Run, on_delete=models.PROTECT, related_name="result")
    value = models.FloatField(null=True)
    u = models.FloatField(null=True)
    dof = models.FloatField(null=True, help_text="empty for infinitely many")
    unit = models.CharField(max_length=10, blank=True)
    parts = models.JSONField(
        default=list, help_text="[key, cause, scope, kind, dof, signed contribution]"
    )
    working = models.JSONField(default=list)
    marks = models.JSONField(default=list, help_text="[channel, kind, from s, to s, samples]")
    curve = models.JSONField(null=True, blank=True, help_text="points and line of a sweep, SI")
    troubles = models.JSONField(
        default=list, help_text="sentences: what was found, and what was done about it"
    )
    missing = models.TextField(blank=True, help_text="why there is no value")
    core_version = models.CharField(max_length=20)
    computed_at = models.DateTimeField(auto_now=True)

    class Meta:
        constraints = [
            models.CheckConstraint(
                condition=Q(value__isnull=False, u__isnull=False, missing="")
                | (Q(value__isnull=True) & ~Q(missing="")),
                name="result_or_reason",
            ),
            models.CheckConstraint(
                condition=Q(u__isnull=True) | Q(u__gte=0), name="doubt_not_negative"
            ),
        ]
        indexes = [
            models.Index(fields=["run"], condition=Q(value__isnull=True), name="result_missing")
        ]

    def __str__(self) -> str:
        return f"{self.value} {self.unit}" if self.value is not None else self.missing

    @property
    def expanded(self) -> float | None:
        """Half-width of the 95 % interval, SI unit of the value."""
        return None if self.u is None else expanded(self.u, self.dof)

    @property
    def found(self) -> list[StoredMark]:
        """What was found in the recording."""
        return [StoredMark(*one) for one in self.marks]

    @property
    def own_expanded(self) -> float:
        """The same of what is this run's own, without the causes that all runs on the rig share."""
        own = [one for one in contributions(self.parts) if one.scope == "own"]
        dof = effective_dof((one.u, one.cause.dof) for one in own)
        return expanded(math.sqrt(sum(one.u**2 for one in own)), dof)


class Progress(models.Model):
    """How far an entry is in a test: runs that count, runs without result, did not finish. Kept by
    `bench.progress`.

    Runs of the version that takes part are counted, ``version``. Without an entry the row counts
    the runs of reference specimens.
    """

    test = models.ForeignKey(Test, on_delete=models.CASCADE, related_name="progress")
    entry = models.ForeignKey(
        Entry, null=True, blank=True, on_delete=models.CASCADE, related_name="progress"
    )
    version = models.ForeignKey(
        Version, null=True, blank=True, on_delete=models.CASCADE, related_name="+"
    )
    counted = models.PositiveIntegerField(default=0)
    missing = models.PositiveIntegerField(default=0)
    dnf = models.PositiveIntegerField(default=0)

    class Meta:
        verbose_name_plural = "progress"
        constraints = [
            models.UniqueConstraint(
                fields=["test", "entry"], name="progress_once", nulls_distinct=False
            )
        ]

    def __str__(self) -> str:
        return f"{self.entry}, {self.test}: {self.counted}"


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
    def subject(self) -> str:
        """What is on the rig."""
        return self.specimen.version.entry.name if self.specimen else str(self.reference)

    @property
    def choice(self) -> str:
        """The subject as forms name it."""
        return f"s{self.specimen_id}" if self.specimen_id else f"r{self.reference_id}"

    def seconds(self, moment: datetime | None = None) -> float:
        """Seconds of the recording at a moment."""
        return ((moment or timezone.now()) - self.recording.started_at).total_seconds()


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


class Exclusion(models.Model):
    """A stretch of a run's recording, or one typed reading, that somebody left out, with the
    reason. Taking it back is written too.
    """

    run = models.ForeignKey(Run, on_delete=models.PROTECT, related_name="exclusions")
    channel = models.CharField(max_length=30, choices=excluded_choices)
    from_s = models.FloatField(null=True, blank=True)
    to_s = models.FloatField(null=True, blank=True)
    reading = models.ForeignKey(
        Reading, null=True, blank=True, on_delete=models.PROTECT, related_name="exclusions"
    )
    reason = models.CharField(max_length=300)
    by = models.ForeignKey(settings.AUTH_USER_MODEL, on_delete=models.PROTECT, related_name="+")
    at = models.DateTimeField(default=timezone.now)
    undone_at = models.DateTimeField(null=True, blank=True)
    undone_by = models.ForeignKey(
        settings.AUTH_USER_MODEL, null=True, blank=True, on_delete=models.PROTECT, related_name="+"
    )

    class Meta:
        ordering = ["at", "id"]
        constraints = [
            models.CheckConstraint(
                condition=~Q(reason=""),
                name="exclusion_has_a_reason",
                violation_error_message="Say why, in a few words.",
            ),
            models.CheckConstraint(
                condition=Q(reading__isnull=False)
                | Q(from_s__isnull=False, to_s__isnull=False, to_s__gte=models.F("from_s")),
                name="exclusion_of_something",
                violation_error_message="The stretch ends before it begins.",
            ),
        ]

    def __str__(self) -> str:
        return self.reason

    @property
    def stands(self) -> bool:
        """Whether it still counts."""
        return self.undone_at is None
