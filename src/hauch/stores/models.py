"""Rigs, instruments, reference types and their specimens."""

from __future__ import annotations

import math
import uuid
from datetime import date, datetime, timedelta
from typing import Any

from django.conf import settings
from django.db import models
from django.db.models import F, Q
from django.urls import reverse
from django.utils import timezone

from hauch.core.measure.channels import CHANNELS, Channel
from hauch.core.measure.meter import Meter
from hauch.core.measure.rigs import RIGS, RigKind
from hauch.core.strength import material as printed
from hauch.people.clock import house_day
from hauch.people.keep import KeptPath


def channel_choices() -> list[tuple[str, str]]:
    """What a meter reads. A function, so that a new channel of the core needs no migration."""
    return [(c.key, c.label) for c in CHANNELS.values()]


def rig_choices() -> list[tuple[str, str]]:
    """Kinds of rigs, as the core knows them."""
    return [(k.key, k.label) for k in RIGS.values()]


class RigQuerySet(models.QuerySet):
    """Rigs."""

    def current(self) -> RigQuerySet:
        """In their present state."""
        return self.filter(next__isnull=True)


class Rig(models.Model):
    """A rig in one state. A change of the rig is a new row with the next state, so that old runs
    keep theirs.
    """

    uid = models.UUIDField(unique=True, default=uuid.uuid4, editable=False)
    name = models.CharField(max_length=80)
    kind = models.CharField(max_length=20, choices=rig_choices)
    state = models.PositiveSmallIntegerField(default=1)
    previous = models.OneToOneField(
        "self", null=True, blank=True, on_delete=models.PROTECT, related_name="next"
    )
    since = models.DateTimeField(default=timezone.now)
    change = models.TextField(blank=True, help_text="what is different from the state before")
    constants = models.JSONField(
        default=dict, blank=True, help_text="name -> [value, standard uncertainty], SI"
    )
    note = models.TextField(blank=True)
    instruments: models.ManyToManyField[Instrument, RigMeter] = models.ManyToManyField(
        "Instrument", through="RigMeter", related_name="rigs"
    )

    objects = RigQuerySet.as_manager()

    class Meta:
        ordering = ["name", "-state"]
        constraints = [
            models.UniqueConstraint(
                fields=["name", "state"],
                name="rig_state_once",
                violation_error_message="There is a rig of this name already.",
            ),
            models.CheckConstraint(condition=Q(state__gte=1), name="rig_state_from_one"),
        ]

    def __str__(self) -> str:
        return self.name if self.state == 1 else f"{self.name}, state {self.state}"

    def get_absolute_url(self) -> str:
        return reverse("stores:rig", args=[self.pk])

    @property
    def key(self) -> str:
        """Identity of the rig in this state, for causes of doubt that its runs share."""
        return f"{self.uid}:{self.state}"

    @property
    def how(self) -> RigKind:
        """The kind as the core knows it."""
        return RIGS[self.kind]

    @property
    def pairs(self) -> dict[str, tuple[float, float]]:
        """Constants with their standard uncertainty, as the core takes them."""
        return {name: (pair[0], pair[1]) for name, pair in self.constants.items()}


class RigCalibration(models.Model):
    """A guided calibration of a rig: what was read and the constants that it gave."""

    class Kind(models.TextChoices):
        TRAVERSE = "traverse", "traverse of the tube"
        BLANK_PLATE = "blank_plate", "blank plate"

    rig = models.ForeignKey(Rig, on_delete=models.CASCADE, related_name="calibrations")
    kind = models.CharField(max_length=12, choices=Kind.choices)
    readings = models.JSONField(help_text="as the core took them, SI")
    found = models.JSONField(help_text="constant -> [value, standard uncertainty]")
    text = models.TextField()
    note = models.TextField(blank=True)
    at = models.DateTimeField(default=timezone.now)
    by = models.ForeignKey(
        settings.AUTH_USER_MODEL, null=True, on_delete=models.PROTECT, related_name="+"
    )

    class Meta:
        ordering = ["-at", "-id"]

    def __str__(self) -> str:
        return f"{self.get_kind_display()} of {self.rig}"


class Instrument(models.Model):
    """A meter and what is known of it, in the SI unit of its channel."""

    class Principle(models.TextChoices):
        VANE = "vane", "vane"
        HOT_WIRE = "hot_wire", "hot wire (reads less in thin air)"

    uid = models.UUIDField(unique=True, default=uuid.uuid4, editable=False)
    name = models.CharField(
        max_length=80,
        unique=True,
        error_messages={"unique": "There is a meter of this name already."},
    )
    channel = models.CharField(max_length=30, choices=channel_choices)
    serial = models.CharField(max_length=40, blank=True)
    resolution = models.FloatField(default=0)
    accuracy = models.FloatField(default=0)
    accuracy_share = models.FloatField(default=0)
    low = models.FloatField(null=True, blank=True)
    high = models.FloatField(null=True, blank=True)
    response_time = models.FloatField(null=True, blank=True, help_text="time constant, s")
    principle = models.CharField(max_length=20, blank=True, choices=Principle.choices)
    recalibrate_after = models.PositiveIntegerField(null=True, blank=True, help_text="days")
    retired = models.BooleanField(default=False)
    resource = models.CharField(
        max_length=120, blank=True, help_text="VISA resource name, where it is read over a line"
    )
    profile = models.JSONField(
        default=dict, blank=True, help_text="reading profile: what is sent, and what comes back"
    )

    shared = models.BooleanField(
        default=False, help_text="several benches may read it at once; never what turns something"
    )

    class Meta:
        ordering = ["name"]
        constraints = [
            models.CheckConstraint(
                condition=Q(resolution__gte=0)
                & Q(accuracy__gte=0)
                & Q(accuracy_share__gte=0)
                & Q(accuracy_share__lt=1),
                name="instrument_specification_sane",
                violation_error_message=(
                    "Resolution and limits must be 0 or more, the limit as a share below 1."
                ),
            ),
            models.CheckConstraint(
                condition=Q(low__isnull=True) | Q(high__isnull=True) | Q(low__lt=F("high")),
                name="instrument_range_sane",
                violation_error_message="The range ends before it begins.",
            ),
            models.CheckConstraint(
                condition=Q(response_time__isnull=True) | Q(response_time__gte=0),
                name="instrument_response_sane",
                violation_error_message="The response time must be 0 or more.",
            ),
        ]

    def __str__(self) -> str:
        return self.name

    def get_absolute_url(self) -> str:
        return reverse("stores:instrument", args=[self.pk])

    @property
    def reads(self) -> Channel:
        """The channel as the core knows it."""
        return CHANNELS[self.channel]

    @property
    def accuracy_percent(self) -> float:
        """Limit as a share of the reading, in percent."""
        return 100 * self.accuracy_share

    def calibration_at(self, moment: datetime | None = None) -> Calibration | None:
        """The calibration that holds at a moment: the last before it, else the first after it."""
        valid = sorted(
            (c for c in self.calibrations.all() if not c.withdrawn), key=lambda c: (c.at, c.pk)
        )
        day = house_day(moment)
        before = [c for c in valid if c.at <= day]
        return before[-1] if before else valid[0] if valid else None

    def meter(self, moment: datetime | None = None) -> Meter:
        """The specification at a moment, as the core takes it."""
        c = self.calibration_at(moment)
        replaced = c is not None and c.replaces_limit
        known: dict[str, Any] = {} if c is None else c.as_line()
        for name, value in (("low", self.low), ("high", self.high)):
            if value is not None:
                known[name] = value
        return Meter(
            str(self.uid),
            self.name,
            self.resolution,
            accuracy=0.0 if replaced else self.accuracy,
            accuracy_share=0.0 if replaced else self.accuracy_share,
            principle=self.principle,
            **known,
        )

    def due_on(self, calibration: Calibration | None = None) -> date | None:
        """The day from which a new calibration is due; None where no interval is set."""
        if self.recalibrate_after is None:
            return None
        calibration = calibration or self.calibration_at()
        return calibration.at + timedelta(days=self.recalibrate_after) if calibration else date.min


class Calibration(models.Model):
    """A comparison of an instrument with a standard, and the line that it gave: true = slope *
    indicated + offset.
    """

    uid = models.UUIDField(unique=True, default=uuid.uuid4, editable=False)
    instrument = models.ForeignKey(
        Instrument, on_delete=models.CASCADE, related_name="calibrations"
    )
    at = models.DateField()
    standard = models.CharField(max_length=120, blank=True, help_text="what it was compared with")
    standard_u = models.FloatField(default=0)
    points = models.JSONField(
        default=list,
        blank=True,
        help_text="[[indicated, true]], SI; empty where only the line is known",
    )
    slope = models.FloatField(default=1)
    offset = models.FloatField(default=0)
    centre = models.FloatField(default=0)
    slope_u = models.FloatField(default=0)
    level_u = models.FloatField(default=0)
    dof = models.PositiveIntegerField(null=True, blank=True, help_text="empty for infinitely many")
    replaces_limit = models.BooleanField(default=False)
    note = models.TextField(blank=True)
    entered_by = models.ForeignKey(
        settings.AUTH_USER_MODEL, null=True, on_delete=models.PROTECT, related_name="+"
    )
    entered_at = models.DateTimeField(default=timezone.now)
    withdrawn = models.TextField(blank=True, help_text="why it no longer counts")

    class Meta:
        ordering = ["-at", "-id"]
        constraints = [
            models.CheckConstraint(
                condition=Q(slope__gt=0)
                & Q(slope_u__gte=0)
                & Q(level_u__gte=0)
                & Q(standard_u__gte=0),
                name="calibration_sane",
                violation_error_message="The slope must be above 0, doubts 0 or more.",
            )
        ]

    def __str__(self) -> str:
        return f"{self.instrument}, {self.at:%d %b %Y}"

    @property
    def known_dof(self) -> int | None:
        """Degrees of freedom of its doubt, at least 1; None for infinitely many."""
        return None if self.dof is None else max(self.dof, 1)

    def as_line(self) -> dict[str, Any]:
        """The line as fields of the core's meter."""
        return {
            "slope": self.slope,
            "offset": self.offset,
            "slope_u": self.slope_u,
            "centre": self.centre,
            "level_u": self.level_u,
            "calibration": str(self.uid),
            "calibration_dof": self.known_dof or math.inf,
        }


class RigMeter(models.Model):
    """Which instrument reads a channel on a rig."""

    rig = models.ForeignKey(Rig, on_delete=models.CASCADE, related_name="meters")
    channel = models.CharField(max_length=30, choices=channel_choices)
    instrument = models.ForeignKey(Instrument, on_delete=models.PROTECT, related_name="+")

    class Meta:
        ordering = ["rig", "channel"]
        constraints = [
            models.UniqueConstraint(fields=["rig", "channel"], name="one_meter_for_a_channel")
        ]

    def __str__(self) -> str:
        return f"{self.rig}, {self.channel}: {self.instrument}"


class ReferenceType(models.Model):
    """A type that entries are compared with, such as a stock fan."""

    uid = models.UUIDField(unique=True, default=uuid.uuid4, editable=False)
    name = models.CharField(max_length=80, unique=True)
    description = models.TextField(blank=True)

    class Meta:
        ordering = ["name"]

    def __str__(self) -> str:
        return self.name


class Picture(models.Model):
    """A picture that was checked and written anew, kept under its content hash."""

    sha256 = models.CharField(max_length=64, unique=True)
    path = KeptPath()
    width = models.PositiveIntegerField()
    height = models.PositiveIntegerField()
    added_by = models.ForeignKey(
        settings.AUTH_USER_MODEL, null=True, on_delete=models.PROTECT, related_name="+"
    )
    added_at = models.DateTimeField(default=timezone.now)

    def __str__(self) -> str:
        return self.sha256[:12]


class ReferenceSpecimen(models.Model):
    """One physical reference part."""

    class State(models.TextChoices):
        NEW = "new", "new"
        IN_USE = "in_use", "in use"
        RETIRED = "retired", "retired"
        BROKEN = "broken", "broken"

    uid = models.UUIDField(unique=True, default=uuid.uuid4, editable=False)
    type = models.ForeignKey(ReferenceType, on_delete=models.PROTECT, related_name="specimens")
    serial = models.CharField(max_length=40)
    state = models.CharField(max_length=10, choices=State.choices, default=State.NEW)
    hours = models.FloatField(default=0, help_text="hours before its first run here")
    cap = models.FloatField(
        null=True, blank=True, help_text="not to be spun above, 1/min; of a print that won a round"
    )
    note = models.TextField(blank=True)
    picture = models.ForeignKey(
        Picture, null=True, blank=True, on_delete=models.SET_NULL, related_name="+"
    )

    class Meta:
        ordering = ["type", "serial"]
        constraints = [
            models.UniqueConstraint(
                fields=["type", "serial"],
                name="reference_serial_once",
                violation_error_message="This serial exists already.",
            ),
            models.CheckConstraint(
                condition=Q(hours__gte=0),
                name="reference_hours_not_negative",
                violation_error_message="Hours must be 0 or more.",
            ),
            models.CheckConstraint(
                condition=Q(cap__isnull=True) | Q(cap__gt=0), name="reference_cap_sane"
            ),
        ]

    def __str__(self) -> str:
        return f"{self.type.name} {self.serial}"

    def get_absolute_url(self) -> str:
        return reverse("reference", args=[self.pk])

    @property
    def may_run(self) -> bool:
        """Whether it can still be put on a rig."""
        return self.state in {self.State.NEW, self.State.IN_USE}


class Material(models.Model):
    """A material that is printed with; its own test bars go before the typical values that a new
    installation begins with.
    """

    key = models.SlugField(max_length=20, unique=True)
    label = models.CharField(max_length=60, unique=True)
    density = models.FloatField(help_text="kg/m3")
    along = models.FloatField(help_text="tensile strength along the layers, Pa")
    across = models.FloatField(help_text="tensile strength across the layers, Pa")
    heat = models.FloatField(help_text="heat that it stands, degC")
    anneal = models.FloatField(
        null=True,
        blank=True,
        help_text="temperature at which it is annealed, degC; empty where it is not",
    )
    shrinks = models.FloatField(
        default=0.0, help_text="how much shorter it becomes along the layers by annealing, share"
    )
    grows = models.FloatField(
        default=0.0, help_text="how much taller it becomes across the layers, share"
    )
    stiffness = models.FloatField(default=2.0e9, help_text="Young's modulus, Pa")
    price = models.FloatField(default=25.0, help_text="of a kilogram")
    cautions = models.TextField(blank=True)
    retired = models.BooleanField(default=False)

    class Meta:
        ordering = ["label"]
        constraints = [
            models.CheckConstraint(
                condition=models.Q(
                    density__gte=100,
                    density__lte=23_000,
                    along__gt=0,
                    across__gt=0,
                    stiffness__gt=0,
                    price__gte=0,
                ),
                name="material_sane",
                violation_error_message=(
                    "Density lies between 100 and 23,000 kg/m3, strengths and stiffness are above 0, a"
                    " price is not negative."
                ),
            ),
            models.CheckConstraint(
                condition=models.Q(shrinks__gte=0, shrinks__lt=0.2, grows__gte=0, grows__lt=0.2),
                name="material_shrinks_little",
                violation_error_message="Annealing changes a size by less than 20 %.",
            ),
        ]

    def __str__(self) -> str:
        return self.label

    def get_absolute_url(self) -> str:
        return reverse("stores:material", args=[self.pk])

    @property
    def core(self) -> printed.Material:
        """As the computation knows it."""
        return printed.Material(
            self.key,
            self.label,
            self.density,
            self.along,
            self.across,
            self.heat,
            self.anneal,
            self.shrinks,
            self.grows,
            self.cautions,
            self.stiffness,
        )
