"""Printers and ovens, hours, what is out of order, wishes, and the plans that are made of all that."""

from __future__ import annotations

import uuid
from datetime import datetime, time, timedelta
from decimal import Decimal
from typing import Any

from django.conf import settings
from django.db import models
from django.db.models import F, Q
from django.urls import reverse
from django.utils import timezone

from hauch.core.plan.beds import Bed
from hauch.core.plan.house import Placed
from hauch.rounds.models import Round, Test
from hauch.stores.models import Material, ReferenceSpecimen
from hauch.workshop.models import Specimen, WorkStep


class Machine(models.Model):
    """A printer or an oven."""

    class Kind(models.TextChoices):
        PRINTER = "printer", "printer"
        OVEN = "oven", "oven"

    name = models.CharField(
        max_length=60,
        unique=True,
        error_messages={"unique": "There is a machine of this name already."},
    )
    kind = models.CharField(max_length=8, choices=Kind.choices, default=Kind.PRINTER)
    width = models.FloatField(default=0.22, help_text="of the bed or inside, m")
    depth = models.FloatField(default=0.22, help_text="m")
    height = models.FloatField(default=0.25, help_text="m")
    material = models.ForeignKey(
        Material,
        null=True,
        blank=True,
        on_delete=models.SET_NULL,
        related_name="+",
        help_text="that is loaded",
    )
    nights = models.BooleanField(default=False, help_text="it may print with nobody there")
    loud = models.BooleanField(default=True, help_text="it is heard at noise readings")
    retired = models.BooleanField(default=False)

    class Meta:
        ordering = ["kind", "name"]
        constraints = [
            models.CheckConstraint(
                condition=Q(width__gt=0, width__lt=5, depth__gt=0, depth__lt=5)
                & Q(height__gt=0, height__lt=5),
                name="machine_size_sane",
                violation_error_message="A bed is above 0 and below 5 m in each direction.",
            ),
            models.CheckConstraint(
                condition=Q(kind="printer") | Q(nights=False),
                name="oven_never_alone",
                violation_error_message="An oven never heats with nobody there.",
            ),
        ]

    def __str__(self) -> str:
        return self.name

    @property
    def key(self) -> str:
        """As plans know it."""
        return f"machine:{self.pk}"

    @property
    def bed(self) -> Bed:
        """As the packing of beds knows it."""
        return Bed(self.key, self.width, self.depth, self.height)


class Spool(models.Model):
    """What is left on a spool, as it was weighed without its reel."""

    material = models.ForeignKey(Material, on_delete=models.CASCADE, related_name="spools")
    colour = models.CharField(max_length=40, blank=True)
    left = models.FloatField(help_text="kg, when it was weighed")
    weighed_at = models.DateTimeField(default=timezone.now)

    class Meta:
        ordering = ["material", "colour", "pk"]
        constraints = [
            models.CheckConstraint(
                condition=Q(left__gte=0, left__lte=50),
                name="spool_mass_sane",
                violation_error_message="A spool holds 0 to 50 kg.",
            )
        ]

    def __str__(self) -> str:
        return f"{self.material}{f', {self.colour}' if self.colour else ''}"


class PrototypeMaterial(models.Model):
    """What versions are printed in until they are accepted; one row, none where it does not matter."""

    material = models.ForeignKey(Material, on_delete=models.CASCADE, related_name="+")

    def __str__(self) -> str:
        return str(self.material)


class Stock(models.Model):
    """How many of something on bills of materials lie in the drawer, and how long more takes to come."""

    name = models.CharField(max_length=80, unique=True)
    quantity = models.DecimalField(max_digits=10, decimal_places=2, default=Decimal(0))
    days = models.PositiveSmallIntegerField(default=7, help_text="from the order until it is there")

    class Meta:
        ordering = ["name"]
        constraints = [
            models.CheckConstraint(
                condition=Q(quantity__gte=0, days__lte=365),
                name="stock_sane",
                violation_error_message=(
                    "A stock is 0 or more, and what is ordered comes within a year."
                ),
            )
        ]

    def __str__(self) -> str:
        return self.name


class QuietHours(models.Model):
    """The hours in which noise is read; one row, none for always."""

    begin = models.TimeField()
    end = models.TimeField()

    class Meta:
        constraints = [
            models.CheckConstraint(
                condition=Q(begin__lt=F("end")),
                name="quiet_ends_after_it_begins",
                violation_error_message="The quiet hours end before they begin.",
            )
        ]

    def __str__(self) -> str:
        return f"{self.begin:%H:%M} to {self.end:%H:%M}"


class LoudBench(models.Model):
    """A bench that is heard at noise readings, such as one with a compressor."""

    rig = models.CharField(max_length=80, unique=True, help_text="name of the rig")

    def __str__(self) -> str:
        return self.rig


class Duty(models.Model):
    """When somebody is there, week by week."""

    DAYS = ("Monday", "Tuesday", "Wednesday", "Thursday", "Friday", "Saturday", "Sunday")

    user = models.ForeignKey(
        settings.AUTH_USER_MODEL, on_delete=models.CASCADE, related_name="duties"
    )
    weekday = models.PositiveSmallIntegerField(choices=list(enumerate(DAYS)))
    begin = models.TimeField(default=time(9))
    end = models.TimeField(default=time(17))

    class Meta:
        ordering = ["user", "weekday", "begin"]
        constraints = [
            models.CheckConstraint(
                condition=Q(begin__lt=F("end")) & Q(weekday__lte=6),
                name="duty_ends_after_it_begins",
                violation_error_message="Hours end after they begin, on the same day.",
            )
        ]

    def __str__(self) -> str:
        return f"{self.user}, {self.DAYS[self.weekday]} {self.begin:%H:%M} to {self.end:%H:%M}"


class Outage(models.Model):
    """A person, a bench or a machine that cannot be counted on for a while."""

    user = models.ForeignKey(
        settings.AUTH_USER_MODEL,
        null=True,
        blank=True,
        on_delete=models.CASCADE,
        related_name="outages",
    )
    machine = models.ForeignKey(
        Machine, null=True, blank=True, on_delete=models.CASCADE, related_name="outages"
    )
    rig = models.CharField(max_length=80, blank=True, help_text="name of the rig")
    begin = models.DateTimeField(default=timezone.now)
    end = models.DateTimeField(null=True, blank=True, help_text="empty until somebody says so")
    reason = models.CharField(max_length=120, blank=True)
    by = models.ForeignKey(
        settings.AUTH_USER_MODEL, null=True, on_delete=models.SET_NULL, related_name="+"
    )
    at = models.DateTimeField(default=timezone.now)

    class Meta:
        ordering = ["begin"]
        constraints = [
            models.CheckConstraint(
                condition=Q(user__isnull=False, machine__isnull=True, rig="")
                | Q(user__isnull=True, machine__isnull=False, rig="")
                | (Q(user__isnull=True, machine__isnull=True) & ~Q(rig="")),
                name="outage_of_one_thing",
            ),
            models.CheckConstraint(
                condition=Q(end__isnull=True) | Q(end__gt=F("begin")),
                name="outage_ends_after_it_begins",
                violation_error_message="It ends after it begins.",
            ),
        ]

    def __str__(self) -> str:
        return str(self.user or self.machine or self.rig)


class Deadline(models.Model):
    """The day by whose end a round's runs are to be done."""

    round = models.OneToOneField(Round, on_delete=models.CASCADE, related_name="deadline")
    day = models.DateField()

    def __str__(self) -> str:
        return f"{self.round} by {self.day:%j}"


class Wish(models.Model):
    """Something that somebody wants of a plan: a unit at a time, or a step done today."""

    class Kind(models.TextChoices):
        PIN = "pin", "begins then"
        TODAY = "today", "done that day"

    unit = models.CharField(max_length=120, unique=True)
    kind = models.CharField(max_length=5, choices=Kind.choices)
    at = models.DateTimeField(help_text="its begin, or the day by whose end it is done")
    place = models.CharField(max_length=100, blank=True)
    by = models.ForeignKey(
        settings.AUTH_USER_MODEL, null=True, on_delete=models.SET_NULL, related_name="+"
    )

    class Meta:
        ordering = ["at"]

    def __str__(self) -> str:
        return f"{self.unit} {self.get_kind_display()}"


class DayPlan(models.Model):
    """A plan: asked for, worked out by the worker, and in force until the next one is."""

    class State(models.TextChoices):
        WAITING = "waiting", "waiting for the worker"
        RUNNING = "running", "being worked out"
        DONE = "done", "worked out"
        FAILED = "failed", "not worked out"
        CANCELLED = "cancelled", "stopped"

    uid = models.UUIDField(unique=True, default=uuid.uuid4, editable=False)
    asked_by = models.ForeignKey(
        settings.AUTH_USER_MODEL, on_delete=models.PROTECT, related_name="+"
    )
    asked_at = models.DateTimeField(default=timezone.now)
    anew = models.BooleanField(default=False, help_text="not from the plan before it")
    previous = models.ForeignKey(
        "self", null=True, blank=True, on_delete=models.SET_NULL, related_name="+"
    )
    begin = models.DateTimeField(help_text="minute 0: midnight of its first day")
    now = models.PositiveIntegerField(default=0, help_text="minute from which it plans")
    days = models.PositiveSmallIntegerField(default=3)
    state = models.CharField(max_length=9, choices=State.choices, default=State.WAITING)
    cancel = models.BooleanField(default=False)
    progress = models.FloatField(default=0.0)
    score = models.FloatField(null=True)
    bound = models.FloatField(null=True)
    problems = models.JSONField(
        default=list, help_text="[text, url, words, round] of what is wrong"
    )
    missed = models.JSONField(default=list, help_text="[unit, wish, rules] of wishes not kept")
    changes = models.JSONField(default=list, help_text="[label, what, minutes, round, place]")
    chance = models.JSONField(default=dict, help_text="probabilities, and what it hangs on")
    made_at = models.DateTimeField(null=True)

    class Meta:
        ordering = ["-asked_at", "-pk"]
        indexes = [models.Index(fields=["state", "-made_at"])]

    def __str__(self) -> str:
        return f"plan of {self.begin:%j %b}"

    def get_absolute_url(self) -> str:
        return reverse("plan:plan")

    @property
    def ended(self) -> bool:
        """Whether nobody works on it any more."""
        return self.state not in {self.State.WAITING, self.State.RUNNING}

    @property
    def horizon(self) -> int:
        """Minutes that are planned."""
        return self.days * 24 * 60

    def moment(self, minute: float) -> datetime:
        """The moment of one of its minutes."""
        return self.begin + timedelta(minutes=minute)

    def minute(self, moment: datetime) -> int:
        """The minute of a moment."""
        return int((moment - self.begin).total_seconds() // 60)


class PlannedStep(models.Model):
    """A step of a plan, placed or left out."""

    plan = models.ForeignKey(DayPlan, on_delete=models.CASCADE, related_name="steps")
    key = models.CharField(max_length=120)
    unit = models.CharField(max_length=120)
    order = models.PositiveSmallIntegerField(help_text="in its unit, from 0")
    kind = models.CharField(max_length=10)
    label = models.CharField(max_length=160)
    subject = models.CharField(max_length=120, blank=True)
    round = models.ForeignKey(Round, null=True, on_delete=models.CASCADE, related_name="+")
    test = models.ForeignKey(Test, null=True, on_delete=models.CASCADE, related_name="+")
    specimen = models.ForeignKey(Specimen, null=True, on_delete=models.CASCADE, related_name="+")
    reference = models.ForeignKey(
        ReferenceSpecimen, null=True, on_delete=models.CASCADE, related_name="+"
    )
    together = models.JSONField(
        default=list, blank=True, help_text="keys of all specimens that are printed on one bed"
    )
    work = models.ForeignKey(WorkStep, null=True, on_delete=models.SET_NULL, related_name="+")
    repeat = models.PositiveIntegerField(null=True)
    place = models.CharField(max_length=100, blank=True)
    pieces = models.JSONField(default=list, help_text="[what, from min, to min, person or null]")
    begin = models.PositiveIntegerField(null=True, help_text="minute; empty where left out")
    end = models.PositiveIntegerField(null=True)
    low = models.FloatField(null=True, help_text="min, the shortest of four in five")
    high = models.FloatField(null=True)
    logged = models.PositiveIntegerField(null=True, help_text="how many of the record tell it")
    urgent = models.PositiveSmallIntegerField(default=2, help_text="core's Rank")
    quiet = models.BooleanField(default=False)
    pinned = models.BooleanField(default=False)

    class Meta:
        ordering = ["begin", "unit", "order"]
        constraints = [models.UniqueConstraint(fields=["plan", "key"], name="step_once_in_a_plan")]

    def __str__(self) -> str:
        return self.label

    @property
    def placed(self) -> Placed | None:
        """As the computation knows it; None where it was left out."""
        if self.begin is None:
            return None
        windows = tuple((int(p[1]), int(p[2])) for p in self.pieces)
        people = tuple("" if p[3] is None else f"person:{p[3]}" for p in self.pieces)
        return Placed(windows, self.place, people)

    def as_placed(self, placed: Placed | None, names: list[str]) -> dict[str, Any]:
        """Fields of a placing; pieces are called by ``names``."""
        if placed is None:
            return {"place": "", "pieces": [], "begin": None, "end": None}
        pieces = [
            [name, a, b, int(who.removeprefix("person:")) if who else None]
            for name, (a, b), who in zip(names, placed.pieces, placed.people, strict=True)
        ]
        return {
            "place": placed.place,
            "pieces": pieces,
            "begin": placed.begin,
            "end": placed.end,
        }
