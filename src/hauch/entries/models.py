"""Entries and their versions."""

from __future__ import annotations

import uuid
from decimal import Decimal

from django.conf import settings
from django.db import models
from django.db.models.functions import Lower
from django.urls import reverse
from django.utils import timezone

from hauch.core.part.pose import FILE_TURNS, UNITS
from hauch.formats.mesh_in import kind_of
from hauch.people.keep import KeptPath
from hauch.rounds.models import Round
from hauch.stores.models import Material, Picture


class Entry(models.Model):
    """What somebody hands in to a round. Its mark (shape and colour) stays with it in all charts
    and tables.
    """

    class State(models.TextChoices):
        IN = "in", "in"
        WITHDRAWN = "withdrawn", "withdrawn"

    uid = models.UUIDField(unique=True, default=uuid.uuid4, editable=False)
    round = models.ForeignKey(Round, on_delete=models.CASCADE, related_name="entries")
    name = models.CharField(max_length=60)
    designer = models.ForeignKey(
        settings.AUTH_USER_MODEL,
        null=True,
        blank=True,
        on_delete=models.SET_NULL,
        related_name="entries",
    )
    designer_name = models.CharField(max_length=60, blank=True)
    story = models.TextField(blank=True)
    mark = models.PositiveIntegerField(default=0)
    state = models.CharField(max_length=10, choices=State.choices, default=State.IN)
    submitted_at = models.DateTimeField(default=timezone.now)

    class Meta:
        ordering = ["name", "id"]
        verbose_name_plural = "entries"
        constraints = [
            models.UniqueConstraint(
                Lower("name"),
                "round",
                name="entry_name_once_in_a_round",
                violation_error_message="An entry of this name is in the round already.",
            )
        ]
        indexes = [models.Index(fields=["round", "state", "name"])]

    def __str__(self) -> str:
        return self.name

    def get_absolute_url(self) -> str:
        return reverse("entry", args=[self.round.slug, self.pk])


MOST_OUTLETS = 60


class Version(models.Model):
    """One version of an entry, and what it changed."""

    uid = models.UUIDField(unique=True, default=uuid.uuid4, editable=False)
    entry = models.ForeignKey(Entry, on_delete=models.CASCADE, related_name="versions")
    number = models.PositiveSmallIntegerField(default=1)
    changed = models.TextField(blank=True)
    why = models.TextField(blank=True, help_text="why it should be better")
    material = models.ForeignKey(
        Material,
        null=True,
        blank=True,
        on_delete=models.SET_NULL,
        related_name="+",
        help_text="wish of the designer",
    )
    outlets = models.PositiveSmallIntegerField(
        null=True,
        blank=True,
        help_text="outlets that it has, where not as many as the rig reads",
    )
    created_at = models.DateTimeField(default=timezone.now)
    named = models.BooleanField(
        default=False,
        help_text="takes part whatever was run later; with none named, the newest with a run does",
    )
    sealed_at = models.DateTimeField(
        null=True,
        blank=True,
        help_text=(
            "when its first run was recorded; predictions are fixed from then on and may be seen"
        ),
    )

    class Meta:
        ordering = ["number"]
        constraints = [
            models.UniqueConstraint(fields=["entry", "number"], name="version_once"),
            models.UniqueConstraint(
                fields=["entry"], condition=models.Q(named=True), name="one_version_named"
            ),
            models.CheckConstraint(
                condition=models.Q(outlets__isnull=True)
                | models.Q(outlets__gte=2, outlets__lte=MOST_OUTLETS),
                name="version_outlets_sane",
                violation_error_message=f"A row has 2 to {MOST_OUTLETS} outlets.",
            ),
        ]

    def __str__(self) -> str:
        return f"{self.entry} v{self.number}"

    @property
    def cost(self) -> Decimal | None:
        """What one part costs by its bill of materials; None without one."""
        items = self.bill.all()
        return sum((item.sum for item in items), Decimal(0)) if items else None


class PartFile(models.Model):
    """A file of a version, kept unchanged under its content hash. A mesh is a part: it has a place,
    a count, and what its designer says of it.
    """

    version = models.ForeignKey(Version, on_delete=models.CASCADE, related_name="files")
    name = models.CharField(max_length=120)
    sha256 = models.CharField(max_length=64, db_index=True)
    size = models.PositiveIntegerField()
    path = KeptPath()
    added_by = models.ForeignKey(
        settings.AUTH_USER_MODEL, null=True, on_delete=models.SET_NULL, related_name="+"
    )
    added_at = models.DateTimeField(default=timezone.now)
    place = models.CharField(max_length=60, blank=True, help_text="where it sits")
    count = models.PositiveSmallIntegerField(default=1, help_text="how many of it one entry needs")
    unit = models.CharField(
        max_length=6,
        blank=True,
        choices=[(key, label) for key, (label, _) in UNITS.items()],
        help_text="as its designer says",
    )
    axis = models.CharField(
        max_length=2,
        blank=True,
        choices=[(a, a) for a in FILE_TURNS],
        help_text="file axis along the flow, as its designer says",
    )

    newest_check = models.OneToOneField(
        "PartCheck", null=True, blank=True, on_delete=models.SET_NULL, related_name="newest_of"
    )

    class Meta:
        ordering = ["name"]
        constraints = [
            models.UniqueConstraint(fields=["version", "name"], name="part_file_once_in_a_version"),
            models.CheckConstraint(
                condition=models.Q(count__gte=1, count__lte=200),
                name="part_count_sane",
                violation_error_message="An entry needs 1 to 200 of a part.",
            ),
        ]

    def __str__(self) -> str:
        return self.name

    def get_absolute_url(self) -> str:
        entry = self.version.entry
        return reverse("entries:part", args=[entry.round.slug, entry.pk, self.pk])

    @property
    def is_mesh(self) -> bool:
        """Whether it is a part to be checked, and not a note or a drawing."""
        return bool(kind_of(self.name))


class PartCheckQuerySet(models.QuerySet["PartCheck"]):
    """Checks of parts."""

    def newest(self) -> PartCheckQuerySet:
        """The newest one of each part."""
        return self.filter(newest_of__isnull=False)

    def at_work(self) -> PartCheckQuerySet:
        """Those that wait or are at work."""
        return self.filter(state__in=[PartCheck.State.WAITING, PartCheck.State.RUNNING])


class PartCheck(models.Model):
    """A check of a part: waiting, at work, or what it found. Another one is asked for when the
    file, the envelope or what its designer says changes; earlier ones stay.
    """

    class State(models.TextChoices):
        WAITING = "waiting", "waits for the worker"
        RUNNING = "running", "at work"
        DONE = "done", "done"
        STOPPED = "stopped", "stopped"
        FAILED = "failed", "failed"

    class Verdict(models.TextChoices):
        READY = "ready", "ready to print"
        CARE = "care", "print with care"
        BACK = "back", "sent back"

    file = models.ForeignKey(PartFile, on_delete=models.CASCADE, related_name="checks")
    state = models.CharField(max_length=8, choices=State.choices, default=State.WAITING)
    stage = models.PositiveSmallIntegerField(default=0)
    cancel = models.BooleanField(default=False)
    attempts = models.PositiveSmallIntegerField(default=0)
    verdict = models.CharField(max_length=6, choices=Verdict.choices, blank=True)
    reasons = models.JSONField(
        default=list, blank=True, help_text="[level, sentence], the worst first"
    )
    figures = models.JSONField(
        default=list, blank=True, help_text="key, group, label, kind and quantity of each"
    )
    data = models.JSONField(default=dict, blank=True)
    view = KeptPath(blank=True, help_text="path of the turning view (GLB)")
    still = KeptPath(blank=True, help_text="path of the picture (PNG)")
    mended = KeptPath(blank=True, help_text="path of the mended copy (STL)")
    core_version = models.CharField(max_length=20, blank=True)
    asked_at = models.DateTimeField(default=timezone.now)
    ended_at = models.DateTimeField(null=True, blank=True)
    seconds = models.FloatField(null=True, blank=True)

    objects = PartCheckQuerySet.as_manager()

    class Meta:
        ordering = ["-asked_at", "-id"]
        indexes = [models.Index(fields=["state", "asked_at"])]
        constraints = [
            models.CheckConstraint(
                condition=models.Q(state="done", verdict__gt="") | ~models.Q(state="done"),
                name="check_done_has_a_verdict",
            ),
            models.UniqueConstraint(
                fields=["file"],
                condition=models.Q(state__in=["waiting", "running"]),
                name="one_check_at_a_time",
            ),
        ]

    def __str__(self) -> str:
        return f"check of {self.file}"

    @property
    def at_work(self) -> bool:
        """Whether there is still something to wait for."""
        return self.state in {self.State.WAITING, self.State.RUNNING}

    def figure(self, key: str) -> dict | None:
        """One figure as it was stored."""
        return next((f for f in self.figures if f["key"] == key), None)

    def value(self, key: str) -> float | None:
        """The value of a figure in SI."""
        found = self.figure(key)
        return found["quantity"]["value"] if found else None


class BillItem(models.Model):
    """A line of a version's bill of materials."""

    version = models.ForeignKey(Version, on_delete=models.CASCADE, related_name="bill")
    order = models.PositiveSmallIntegerField(default=0)
    name = models.CharField(max_length=80)
    quantity = models.DecimalField(max_digits=8, decimal_places=2, default=Decimal(1))
    price = models.DecimalField(
        max_digits=9, decimal_places=2, default=Decimal(0), help_text="of one"
    )

    class Meta:
        ordering = ["order", "id"]
        constraints = [
            models.CheckConstraint(
                condition=models.Q(quantity__gt=0, price__gte=0),
                name="bill_item_sane",
                violation_error_message="A quantity is above 0 and a price not negative.",
            )
        ]

    def __str__(self) -> str:
        return self.name

    @property
    def sum(self) -> Decimal:
        """Quantity times price."""
        return self.quantity * self.price


class AssemblyStep(models.Model):
    """One step of putting a version together, in order."""

    version = models.ForeignKey(Version, on_delete=models.CASCADE, related_name="steps")
    order = models.PositiveSmallIntegerField(default=0)
    text = models.CharField(max_length=300)
    picture = models.ForeignKey(
        Picture, null=True, blank=True, on_delete=models.SET_NULL, related_name="+"
    )

    class Meta:
        ordering = ["order", "id"]

    def __str__(self) -> str:
        return self.text


class Upload(models.Model):
    """A file that comes in pieces, so that a lost connection loses nothing; it becomes a file of
    the version when it is whole.
    """

    key = models.UUIDField(unique=True, default=uuid.uuid4, editable=False)
    version = models.ForeignKey(Version, on_delete=models.CASCADE, related_name="uploads")
    user = models.ForeignKey(settings.AUTH_USER_MODEL, on_delete=models.CASCADE, related_name="+")
    name = models.CharField(max_length=120)
    size = models.PositiveBigIntegerField()
    received = models.PositiveBigIntegerField(default=0)
    began_at = models.DateTimeField(default=timezone.now)

    def __str__(self) -> str:
        return self.name


class Prediction(models.Model):
    """What a version should measure in one kind of test, fixed before its first run: by its
    designer, or by a model of the Desk.
    """

    class Source(models.TextChoices):
        DESIGNER = "designer", "designer"
        MODEL = "model", "model"

    uid = models.UUIDField(unique=True, default=uuid.uuid4, editable=False)
    version = models.ForeignKey(Version, on_delete=models.CASCADE, related_name="predictions")
    procedure = models.CharField(
        max_length=30, help_text="key of the procedure whose figure is foretold"
    )
    source = models.CharField(max_length=10, choices=Source.choices)
    model = models.CharField(
        max_length=20, blank=True, help_text="key of the Desk's tool; empty for a designer's own"
    )
    value = models.FloatField(help_text="SI unit of the procedure's kind")
    u = models.FloatField(
        default=0.0, help_text="standard uncertainty, same unit; 0 where none was told"
    )
    inputs = models.JSONField(default=dict, blank=True, help_text="what the model was given")
    core_version = models.CharField(max_length=20, blank=True)
    made_by = models.ForeignKey(
        settings.AUTH_USER_MODEL, null=True, on_delete=models.SET_NULL, related_name="predictions"
    )
    made_at = models.DateTimeField(default=timezone.now)

    class Meta:
        ordering = ["procedure", "source"]
        constraints = [
            models.UniqueConstraint(
                fields=["version", "procedure", "source", "model"], name="prediction_once"
            ),
            models.CheckConstraint(
                condition=models.Q(u__gte=0), name="prediction_doubt_not_negative"
            ),
            models.CheckConstraint(
                condition=models.Q(source="model", model__gt="")
                | models.Q(source="designer", model=""),
                name="model_named_where_one_predicts",
            ),
        ]

    def __str__(self) -> str:
        return f"{self.procedure} of {self.version}"
