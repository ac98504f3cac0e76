"""Rigs, instruments, reference types and their specimens."""

from __future__ import annotations

import uuid

from django.db import models
from django.db.models import Q

from hauch.core.measure.channels import CHANNELS
from hauch.core.measure.meter import Meter

RIG_KINDS = {"tunnel": "Tunnel", "chamber": "Chamber", "sound_spot": "Sound spot", "hot_block": "Hot block", "power": "Power supply"}
RIG_CONSTANTS = {
    "bore": ("Bore of the tube", "m", "length"),
    "profile_factor": ("Profile factor", "", "number"),
    "distance": ("Distance of the sound level meter", "m", "length"),
    "standby_power": ("Standby power", "W", "power"),
}


class Rig(models.Model):
    """A rig in one state. A change of the rig is a new row with the next state, so that old runs keep theirs."""

    uid = models.UUIDField(unique=True, default=uuid.uuid4, editable=False)
    name = models.CharField(max_length=80)
    kind = models.CharField(max_length=20, choices=list(RIG_KINDS.items()))
    state = models.PositiveSmallIntegerField(default=1)
    constants = models.JSONField(default=dict, blank=True, help_text="name -> [value, standard uncertainty], SI")
    note = models.TextField(blank=True)
    instruments = models.ManyToManyField("Instrument", through="RigMeter", related_name="rigs")

    class Meta:
        ordering = ["name", "-state"]
        constraints = [
            models.UniqueConstraint(fields=["name", "state"], name="rig_state_once", violation_error_message="This rig already has that state.")
        ]

    def __str__(self) -> str:
        return self.name if self.state == 1 else f"{self.name}, state {self.state}"

    @property
    def key(self) -> str:
        """Identity of the rig in this state, for causes of doubt that its runs share."""
        return f"{self.uid}:{self.state}"


class Instrument(models.Model):
    """A meter and what is known of it, in the SI unit of its channel."""

    uid = models.UUIDField(unique=True, default=uuid.uuid4, editable=False)
    name = models.CharField(max_length=80, unique=True)
    channel = models.CharField(max_length=30, choices=[(c.key, c.label) for c in CHANNELS.values()])
    resolution = models.FloatField(default=0)
    accuracy = models.FloatField(default=0)
    accuracy_share = models.FloatField(default=0)
    slope = models.FloatField(default=1)
    offset = models.FloatField(default=0)
    slope_u = models.FloatField(default=0)
    principle = models.CharField(max_length=20, blank=True)
    calibrated_on = models.DateField(null=True, blank=True)

    class Meta:
        ordering = ["name"]
        constraints = [
            models.CheckConstraint(
                condition=Q(resolution__gte=0) & Q(accuracy__gte=0) & Q(accuracy_share__gte=0) & Q(slope_u__gte=0) & Q(slope__gt=0),
                name="instrument_specification_sane",
                violation_error_message="Resolution, accuracy and doubt must be 0 or more, the slope above 0.",
            )
        ]

    def __str__(self) -> str:
        return self.name

    @property
    def accuracy_percent(self) -> float:
        """Limit as a share of the reading, in percent."""
        return 100 * self.accuracy_share

    def meter(self) -> Meter:
        """The specification as the core takes it."""
        return Meter(
            str(self.uid), self.name, self.resolution, self.accuracy, self.accuracy_share, self.slope, self.offset, self.slope_u, self.principle
        )  # fmt: skip


class RigMeter(models.Model):
    """Which instrument reads a channel on a rig."""

    rig = models.ForeignKey(Rig, on_delete=models.CASCADE, related_name="meters")
    channel = models.CharField(max_length=30, choices=[(c.key, c.label) for c in CHANNELS.values()])
    instrument = models.ForeignKey(Instrument, on_delete=models.PROTECT, related_name="+")

    class Meta:
        ordering = ["rig", "channel"]
        constraints = [models.UniqueConstraint(fields=["rig", "channel"], name="one_meter_for_a_channel")]

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


class ReferenceSpecimen(models.Model):
    """One physical reference part."""

    class State(models.TextChoices):
        NEW = "new", "new"
        IN_USE = "in_use", "in use"
        RETIRED = "retired", "retired"

    uid = models.UUIDField(unique=True, default=uuid.uuid4, editable=False)
    type = models.ForeignKey(ReferenceType, on_delete=models.PROTECT, related_name="specimens")
    serial = models.CharField(max_length=40)
    state = models.CharField(max_length=10, choices=State.choices, default=State.NEW)
    hours = models.FloatField(default=0)
    note = models.TextField(blank=True)

    class Meta:
        ordering = ["type", "serial"]
        constraints = [
            models.UniqueConstraint(fields=["type", "serial"], name="reference_serial_once", violation_error_message="This serial exists already."),
            models.CheckConstraint(condition=Q(hours__gte=0), name="reference_hours_not_negative"),
        ]

    def __str__(self) -> str:
        return f"{self.type.name} {self.serial}"
