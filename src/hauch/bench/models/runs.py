"""Runs with their readings and results, what was left out of them, and how many there are."""

from __future__ import annotations

import math
import uuid
from typing import NamedTuple

from django.conf import settings
from django.db import models
from django.db.models import Exists, F, OuterRef, Q, Subquery
from django.db.models.functions import Coalesce, Greatest
from django.urls import reverse
from django.utils import timezone

from hauch.bench.models.recordings import Recording
from hauch.core.quantity import contributions, effective_dof, expanded
from hauch.entries.models import Entry, Version
from hauch.rounds.models import Setting, Test
from hauch.stores.models import Picture, ReferenceSpecimen, Rig, channel_choices
from hauch.workshop.models import Specimen


def excluded_choices() -> list[tuple[str, str]]:
    """What may be left out: all channels, or one."""
    return [("time", "All channels"), *channel_choices()]


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
            models.Index(fields=["rig", "started_at"]),
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
    as_read = models.FloatField(
        null=True,
        help_text=(
            "the figure in the air and at the speed in which it was read; empty where nothing was"
            " converted"
        ),
    )
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


class AskedRepeatsQuerySet(models.QuerySet["AskedRepeats"]):
    """What is asked for beyond the rules."""

    def open(self):
        """Those that are not in yet, with how many are ``left``; none of an entry that withdrew or
        did not finish.
        """
        steps = Progress.objects.filter(entry=OuterRef("entry"))
        gave_up = steps.filter(dnf__gt=0, test__successor__isnull=True, test__dropped=False)
        counted = Coalesce(Subquery(steps.filter(test=OuterRef("test")).values("counted")), 0)
        reached = Greatest(counted, F("test__repeats"), output_field=models.IntegerField())
        return self.filter(
            ~Exists(gave_up),
            entry__state=Entry.State.IN,
            test__successor__isnull=True,
            test__dropped=False,
            repeats__gt=reached,
        ).annotate(left=F("repeats") - reached)


class AskedRepeats(models.Model):
    """So many repeats are asked for of an entry in a test, more than the rules ask of all: what would
    settle the first place.
    """

    test = models.ForeignKey(Test, on_delete=models.CASCADE, related_name="asked")
    entry = models.ForeignKey(Entry, on_delete=models.CASCADE, related_name="asked")
    repeats = models.PositiveIntegerField(help_text="in all, those that are in with them")
    by = models.ForeignKey(
        settings.AUTH_USER_MODEL, null=True, on_delete=models.SET_NULL, related_name="+"
    )
    at = models.DateTimeField(default=timezone.now)

    objects = AskedRepeatsQuerySet.as_manager()

    class Meta:
        verbose_name_plural = "asked repeats"
        constraints = [models.UniqueConstraint(fields=["test", "entry"], name="repeats_asked_once")]

    def __str__(self) -> str:
        return f"{self.entry}, {self.test}: {self.repeats}"


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
