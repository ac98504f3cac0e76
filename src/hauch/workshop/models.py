"""Specimens: the physical prints of an entry's version, from the printer to the bench."""

from __future__ import annotations

import uuid

from django.conf import settings
from django.db import models
from django.db.models import Q
from django.urls import reverse
from django.utils import timezone

from hauch.core.part.printing import USUAL, Settings
from hauch.entries.models import Version
from hauch.people.clock import house_day
from hauch.stores.models import Material


class Specimen(models.Model):
    """One physical print."""

    class State(models.TextChoices):
        PLANNED = "planned", "to be printed"
        PRINTING = "printing", "on the printer"
        PRINTED = "printed", "printed"
        OVEN = "oven", "in the oven"
        GLUED = "glued", "glue sets"
        READY = "ready", "ready for the bench"
        BROKEN = "broken", "broken"

    uid = models.UUIDField(unique=True, default=uuid.uuid4, editable=False)
    version = models.ForeignKey(Version, on_delete=models.CASCADE, related_name="specimens")
    code = models.CharField(max_length=20)
    material = models.CharField(max_length=40, blank=True, help_text="as written on the spool")
    printed_in = models.ForeignKey(
        Material, null=True, blank=True, on_delete=models.SET_NULL, related_name="specimens"
    )
    mass = models.FloatField(null=True, blank=True, help_text="kg")
    state = models.CharField(max_length=10, choices=State.choices, default=State.PRINTED)
    since = models.DateTimeField(default=timezone.now, help_text="when it came into its state")
    due = models.DateField(null=True, blank=True, help_text="when it should be ready")
    note = models.TextField(blank=True)
    layer = models.FloatField(default=USUAL.layer, help_text="m")
    line = models.FloatField(default=USUAL.line, help_text="m")
    walls = models.PositiveSmallIntegerField(default=USUAL.walls)
    infill = models.FloatField(default=USUAL.infill, help_text="share")
    cap = models.FloatField(
        null=True, blank=True, help_text="not to be spun above, 1/min; from the safety gate"
    )

    class Meta:
        ordering = ["code", "id"]
        indexes = [models.Index(fields=["state", "since"])]
        constraints = [
            models.UniqueConstraint(fields=["version", "code"], name="specimen_code_once"),
            models.CheckConstraint(
                condition=Q(mass__isnull=True) | (Q(mass__gt=0) & Q(mass__lt=100)),
                name="specimen_mass_sane",
                violation_error_message="The mass must be above 0 g and below 100 kg.",
            ),
            models.CheckConstraint(
                condition=Q(
                    layer__gt=0,
                    layer__lt=0.002,
                    line__gt=0,
                    line__lt=0.005,
                    infill__gte=0,
                    infill__lte=1,
                    walls__gte=1,
                ),
                name="specimen_settings_sane",
                violation_error_message=(
                    "Layers are 0.02 to 1 mm high, lines 0.1 to 2 mm wide, infill 0 to 100 %, walls"
                    " 1 or more."
                ),
            ),
            models.CheckConstraint(
                condition=Q(cap__isnull=True) | Q(cap__gt=0), name="specimen_cap_sane"
            ),
        ]

    def __str__(self) -> str:
        return self.code

    def get_absolute_url(self) -> str:
        return reverse("workshop:specimen", args=[self.version.entry.round.slug, self.pk])

    @property
    def settings(self) -> Settings:
        """As the computation knows them."""
        return Settings(self.layer, self.line, self.walls, self.infill)

    @property
    def late(self) -> bool:
        """Whether it should be ready by now and is not."""
        return (
            self.due is not None
            and self.due < house_day()
            and self.state not in {self.State.READY, self.State.BROKEN}
        )


class PrintRun(models.Model):
    """One print: machine, hours, and how it went."""

    specimen = models.ForeignKey(Specimen, on_delete=models.CASCADE, related_name="prints")
    machine = models.CharField(max_length=60)
    hours = models.FloatField(null=True, blank=True)
    failed = models.BooleanField(default=False)
    note = models.CharField(max_length=300, blank=True)
    by = models.ForeignKey(
        settings.AUTH_USER_MODEL, null=True, on_delete=models.SET_NULL, related_name="+"
    )
    at = models.DateTimeField(default=timezone.now)

    class Meta:
        ordering = ["-at", "-id"]
        constraints = [
            models.CheckConstraint(
                condition=Q(hours__isnull=True) | Q(hours__gt=0, hours__lt=2000),
                name="print_hours_sane",
                violation_error_message="A print takes more than 0 and less than 2,000 hours.",
            )
        ]

    def __str__(self) -> str:
        return f"{self.machine}, {self.hours or 0:g} h"


class WorkStep(models.Model):
    """One step after the print, or of the assembly, in order; done by somebody at a moment."""

    class Kind(models.TextChoices):
        SUPPORTS = "supports", "supports off"
        SAND = "sand", "sand"
        GLUE = "glue", "glue"
        GASKET = "gasket", "gasket at a joint"
        INSERT = "insert", "threaded inserts"
        ANNEAL = "anneal", "anneal"
        ASSEMBLE = "assemble", "assemble"
        OTHER = "other", "other"

    specimen = models.ForeignKey(Specimen, on_delete=models.CASCADE, related_name="steps")
    order = models.PositiveSmallIntegerField(default=0)
    kind = models.CharField(max_length=10, choices=Kind.choices, default=Kind.OTHER)
    text = models.CharField(max_length=300)
    done_at = models.DateTimeField(null=True, blank=True)
    done_by = models.ForeignKey(
        settings.AUTH_USER_MODEL, null=True, blank=True, on_delete=models.SET_NULL, related_name="+"
    )

    class Meta:
        ordering = ["order", "id"]

    def __str__(self) -> str:
        return self.text


class Measure(models.Model):
    """A size that was measured on the specimen, to be held against the design. Append-only: a later
    one at the same place counts.
    """

    class Kind(models.TextChoices):
        BORE = "bore", "bore"
        TIP_GAP = "tip_gap", "tip gap"
        SLOT = "slot", "slot width"
        WALL = "wall", "wall"
        OUTER = "outer", "outer diameter"
        DEPTH = "depth", "depth"

    specimen = models.ForeignKey(Specimen, on_delete=models.CASCADE, related_name="measures")
    kind = models.CharField(max_length=8, choices=Kind.choices)
    place = models.PositiveSmallIntegerField(default=1)
    value = models.FloatField(help_text="m")
    by = models.ForeignKey(
        settings.AUTH_USER_MODEL, null=True, on_delete=models.SET_NULL, related_name="+"
    )
    at = models.DateTimeField(default=timezone.now)

    class Meta:
        ordering = ["kind", "place", "-at", "-id"]
        constraints = [
            models.CheckConstraint(
                condition=Q(value__gte=0, value__lt=5, place__gte=1, place__lte=8),
                name="measure_sane",
                violation_error_message="A size lies between 0 and 5 m, a place between 1 and 8.",
            )
        ]

    def __str__(self) -> str:
        return f"{self.get_kind_display()} {self.place}"


class Balance(models.Model):
    """A balancing in one plane: readings without and with a trial mass, and what follows."""

    specimen = models.ForeignKey(Specimen, on_delete=models.CASCADE, related_name="balances")
    speed = models.FloatField(help_text="1/min")
    first = models.FloatField(help_text="reading as it is, any unit")
    first_angle = models.FloatField(help_text="rad")
    trial = models.FloatField(help_text="trial mass, kg")
    trial_radius = models.FloatField(help_text="m")
    trial_angle = models.FloatField(help_text="rad")
    second = models.FloatField(help_text="reading with the trial mass")
    second_angle = models.FloatField(help_text="rad")
    residual = models.FloatField(null=True, blank=True, help_text="reading after the correction")
    by = models.ForeignKey(
        settings.AUTH_USER_MODEL, null=True, on_delete=models.SET_NULL, related_name="+"
    )
    at = models.DateTimeField(default=timezone.now)

    class Meta:
        ordering = ["-at", "-id"]
        constraints = [
            models.CheckConstraint(
                condition=Q(
                    speed__gt=0, first__gte=0, second__gte=0, trial__gt=0, trial_radius__gt=0
                ),
                name="balance_sane",
            )
        ]

    def __str__(self) -> str:
        return f"balance of {self.specimen}"


class Gate(models.Model):
    """The safety gate: somebody confirmed the cautions that apply, and which speed is not to be
    passed.
    """

    specimen = models.ForeignKey(Specimen, on_delete=models.CASCADE, related_name="gates")
    power = models.CharField(max_length=20)
    cautions = models.JSONField(help_text="key and sentence of each that was confirmed")
    cap = models.FloatField(null=True, blank=True, help_text="1/min")
    working = models.CharField(max_length=300, blank=True, help_text="where the cap comes from")
    by = models.ForeignKey(
        settings.AUTH_USER_MODEL, null=True, on_delete=models.SET_NULL, related_name="+"
    )
    at = models.DateTimeField(default=timezone.now)

    class Meta:
        ordering = ["-at", "-id"]

    def __str__(self) -> str:
        return f"gate of {self.specimen}"
