"""Sessions of recordings, the recordings, and what each of them tells."""

from __future__ import annotations

import uuid
from functools import cached_property

import msgspec
from django.conf import settings
from django.db import models
from django.db.models import F, Q
from django.urls import reverse
from django.utils import timezone

from hauch.bench.models import Run, SourceFile, Waveform
from hauch.bench.runs import Subject
from hauch.core.sound import VERSION
from hauch.core.sound.doubt import Level
from hauch.core.sound.told import Analysis
from hauch.people.keep import KeptPath
from hauch.rounds.models import Round
from hauch.stores.models import Instrument, ReferenceSpecimen
from hauch.workshop.models import Specimen


class Mounting(models.TextChoices):
    """How the part ran while it was recorded."""

    LOADED = "loaded", "on the rig, under load"
    FREE = "free", "free, on foam"
    OTHER = "other", "another way (see the note)"


class Calibration(models.TextChoices):
    """What makes levels of a session sound pressure levels."""

    NONE = "none", "nothing: differences and tones only"
    TONE = "tone", "a calibrator's tone"
    METER = "meter", "a sound level meter read beside"
    WAVEFORM = "wave", "the files are a meter's waveforms, in pascals"


class RecordingSession(models.Model):
    """Recordings made in one go and in one way: microphone, gain, place, mounting. They share the
    calibration and the background.
    """

    uid = models.UUIDField(unique=True, default=uuid.uuid4, editable=False)
    round = models.ForeignKey(Round, on_delete=models.CASCADE, related_name="sound_sessions")
    held_at = models.DateTimeField(default=timezone.now)
    by = models.ForeignKey(settings.AUTH_USER_MODEL, on_delete=models.PROTECT, related_name="+")
    mounting = models.CharField(
        max_length=6, choices=Mounting.choices, default=Mounting.LOADED, verbose_name="The part ran"
    )
    distance = models.FloatField(null=True, blank=True, help_text="m, from the part")
    spacing = models.FloatField(
        null=True, blank=True, help_text="m, free space before and behind the part"
    )
    room = models.CharField(max_length=80, blank=True)
    microphone = models.ForeignKey(
        Instrument, null=True, blank=True, on_delete=models.PROTECT, related_name="+"
    )
    device = models.CharField(
        max_length=80, blank=True, help_text="recorder or phone, where it is not in the stores"
    )
    mains = models.PositiveSmallIntegerField(default=50, help_text="Hz")
    note = models.TextField(blank=True)
    calibration = models.CharField(
        max_length=5, choices=Calibration.choices, default=Calibration.NONE
    )
    tone_level = models.FloatField(null=True, blank=True, help_text="dB, of the calibrator")
    meter_level = models.FloatField(null=True, blank=True, help_text="dB(A), read beside")
    why_comparable = models.CharField(
        max_length=300,
        blank=True,
        help_text="why a host compares it with sessions that were held in another way",
    )
    read_beside = models.ForeignKey(
        "SoundRecording",
        null=True,
        blank=True,
        on_delete=models.SET_NULL,
        related_name="+",
        help_text="the recording during which the meter was read",
    )

    class Meta:
        ordering = ["-held_at", "-id"]
        constraints = [
            models.CheckConstraint(
                condition=(Q(distance__isnull=True) | Q(distance__gt=0))
                & (Q(spacing__isnull=True) | Q(spacing__gte=0)),
                name="sound_distance_above_zero",
            ),
            models.CheckConstraint(condition=Q(mains__in=(50, 60)), name="sound_mains_known"),
        ]

    def __str__(self) -> str:
        return f"session of {timezone.localtime(self.held_at):%-d %b %Y, %H:%M}"

    def get_absolute_url(self) -> str:
        return reverse("sound:session", args=[self.round.slug, self.pk])

    @property
    def heard_with(self) -> tuple[int | None, str]:
        """The microphone: of the stores, else as it was written down."""
        return self.microphone_id, "" if self.microphone_id else self.device.strip().casefold()


class RecordingQuerySet(models.QuerySet["SoundRecording"]):
    """What is asked of recordings."""

    def standing(self) -> RecordingQuerySet:
        """Recordings that were not taken out."""
        return self.filter(set_aside_at=None)

    def at_work(self) -> RecordingQuerySet:
        """Recordings that wait for their analysis, or that are being analysed."""
        return self.filter(state__in=(SoundRecording.State.WAITING, SoundRecording.State.RUNNING))


class SoundRecording(models.Model):
    """One channel of a sound file. The file is never changed; all else follows from it."""

    class Kind(models.TextChoices):
        PART = "part", "a part that runs"
        BACKGROUND = "room", "the room without the part"
        TONE = "tone", "the calibrator's tone"

    class State(models.TextChoices):
        NEW = "new", "to be confirmed"
        WAITING = "waiting", "waiting for the worker"
        RUNNING = "running", "being analysed"
        DONE = "done", "analysed"
        FAILED = "failed", "not analysed"

    uid = models.UUIDField(unique=True, default=uuid.uuid4, editable=False)
    session = models.ForeignKey(
        RecordingSession, on_delete=models.CASCADE, related_name="recordings"
    )
    source = models.ForeignKey(SourceFile, on_delete=models.PROTECT, related_name="sounds")
    waveform = models.ForeignKey(
        Waveform, null=True, blank=True, on_delete=models.PROTECT, related_name="sounds"
    )
    name = models.CharField(max_length=200, help_text="of the file as it was handed in")
    channel = models.PositiveSmallIntegerField(default=0, help_text="of the file, from 0 on")
    channels = models.PositiveSmallIntegerField(default=1)
    seconds = models.FloatField(help_text="s")
    rate = models.FloatField(help_text="samples a second")
    coding = models.CharField(max_length=40)
    lossy = models.BooleanField(default=False)
    recorded_at = models.DateTimeField()
    kind = models.CharField(max_length=5, choices=Kind.choices, default=Kind.PART)
    specimen = models.ForeignKey(
        Specimen, null=True, blank=True, on_delete=models.PROTECT, related_name="sounds"
    )
    reference = models.ForeignKey(
        ReferenceSpecimen, null=True, blank=True, on_delete=models.PROTECT, related_name="sounds"
    )
    run = models.ForeignKey(
        Run, null=True, blank=True, on_delete=models.PROTECT, related_name="sounds"
    )
    counts = models.ManyToManyField(
        Run, blank=True, related_name="told_by", help_text="runs that were made of what it tells"
    )
    speed = models.FloatField(null=True, blank=True, help_text="1/min; empty: read in the run")
    blades = models.PositiveSmallIntegerField(null=True, blank=True)
    second_speed = models.FloatField(null=True, blank=True, help_text="1/min, of a second rotor")
    second_blades = models.PositiveSmallIntegerField(null=True, blank=True)
    poles = models.PositiveSmallIntegerField(null=True, blank=True, help_text="of the motor")
    switching = models.FloatField(null=True, blank=True, help_text="Hz, of the controller")
    from_s = models.FloatField(null=True, blank=True, help_text="s, chosen by hand")
    to_s = models.FloatField(null=True, blank=True, help_text="s")
    why_chosen = models.CharField(max_length=300, blank=True)
    state = models.CharField(max_length=7, choices=State.choices, default=State.NEW)
    progress = models.FloatField(default=0.0)
    attempts = models.PositiveSmallIntegerField(default=0)
    problem = models.TextField(blank=True, help_text="why it was not analysed")
    created_at = models.DateTimeField(default=timezone.now)
    by = models.ForeignKey(settings.AUTH_USER_MODEL, on_delete=models.PROTECT, related_name="+")
    set_aside_at = models.DateTimeField(null=True, blank=True)
    set_aside_by = models.ForeignKey(
        settings.AUTH_USER_MODEL, null=True, blank=True, on_delete=models.PROTECT, related_name="+"
    )

    objects = RecordingQuerySet.as_manager()

    class Meta:
        ordering = ["recorded_at", "id"]
        constraints = [
            models.UniqueConstraint(
                fields=["session", "source", "channel"],
                condition=Q(set_aside_at__isnull=True),
                name="sound_once_in_a_session",
            ),
            models.CheckConstraint(
                condition=Q(specimen__isnull=True) | Q(reference__isnull=True),
                name="sound_of_one_part",
            ),
            models.CheckConstraint(
                condition=Q(kind="part") | Q(specimen__isnull=True, reference__isnull=True),
                name="sound_of_the_room_is_of_no_part",
            ),
            models.CheckConstraint(
                condition=Q(seconds__gte=0, rate__gt=0), name="sound_length_sane"
            ),
            models.CheckConstraint(
                condition=Q(from_s__isnull=True, to_s__isnull=True)
                | (Q(from_s__gte=0, to_s__gt=F("from_s")) & ~Q(why_chosen="")),
                name="sound_stretch_has_a_reason",
                violation_error_message="Say in a few words why this stretch is used.",
            ),
        ]
        indexes = [models.Index(fields=["specimen"]), models.Index(fields=["run"])]

    def __str__(self) -> str:
        return self.name

    def get_absolute_url(self) -> str:
        return reverse("sound:recording", args=[self.session.round.slug, self.pk])

    @property
    def at_work(self) -> bool:
        """Whether it waits for its analysis, or is being analysed."""
        return self.state in (self.State.WAITING, self.State.RUNNING)

    @property
    def subject(self) -> Subject | None:
        """What is heard; None for a room or a tone, or where it is not confirmed."""
        if self.specimen_id is None and self.reference_id is None:
            return None
        return Subject(specimen=self.specimen, reference=self.reference)

    @property
    def of(self) -> str:
        """What is heard, in words."""
        if self.specimen is not None:
            return self.specimen.version.entry.name
        if self.reference is not None:
            return str(self.reference)
        return {self.Kind.BACKGROUND: "The room", self.Kind.TONE: "Calibrator"}.get(
            self.Kind(self.kind), "not confirmed"
        )


class AnalysisQuerySet(models.QuerySet["SoundAnalysis"]):
    """What is asked of analyses."""

    def current(self) -> AnalysisQuerySet:
        """Those by the version that is here; others are made anew."""
        return self.filter(core_version=VERSION)


class SoundAnalysis(models.Model):
    """What a recording tells, by one version of the core; made from the file and made again."""

    recording = models.OneToOneField(
        SoundRecording, on_delete=models.CASCADE, related_name="analysis"
    )
    figures = models.JSONField(help_text="see hauch.core.sound.told.Analysis")
    pascals = models.FloatField(
        null=True, help_text="of a full-scale sample; empty: not calibrated"
    )
    level = models.FloatField(help_text="dB(A), without the background")
    level_doubt = models.FloatField(
        default=0.0, help_text="dB, standard uncertainty from the scatter within the stretch"
    )
    level_freedom = models.FloatField(default=1.0, help_text="degrees of freedom of it")
    loudness = models.FloatField(null=True, help_text="sone")
    sharpness = models.FloatField(null=True, help_text="acum")
    adjustment = models.FloatField(help_text="dB, for audible tones")
    spoilt = models.CharField(
        max_length=20, blank=True, help_text="why its level may not stand, such as clipped"
    )
    pictures = KeptPath()
    copy = KeptPath(help_text="FLAC of the stretch that is used, to listen to")
    copy_from = models.FloatField(help_text="s of the recording at which the copy begins")
    copy_scale = models.FloatField(help_text="a sample of the file over one of the copy")
    cut_off = models.BooleanField(default=False, help_text="the file breaks off before its end")
    core_version = models.CharField(max_length=20)
    computed_at = models.DateTimeField(default=timezone.now)

    objects = AnalysisQuerySet.as_manager()

    class Meta:
        verbose_name_plural = "sound analyses"

    def __str__(self) -> str:
        return f"{self.recording}: {self.level:.1f} dB(A)"

    @property
    def is_current(self) -> bool:
        """Whether it is by the version that is here, so that it can be read."""
        return self.core_version == VERSION

    @cached_property
    def told(self) -> Analysis:
        """The figures as the core gave them."""
        return msgspec.convert(self.figures, Analysis)

    @property
    def sure(self) -> Level:
        """The level with its standard uncertainty."""
        return Level(self.level, self.level_doubt)
