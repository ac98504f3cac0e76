"""What people keep at the Desk: designs, values measured back, searches for a better rotor."""

from __future__ import annotations

import uuid
from dataclasses import dataclass
from typing import Any

from django.conf import settings
from django.db import models
from django.db.models import Q
from django.urls import reverse
from django.utils import timezone

from hauch.desk.tools import TOOLS, Tool
from hauch.rounds.models import Round
from hauch.stores.models import Rig


def tool_choices() -> list[tuple[str, str]]:
    """Tools of the Desk. A function, so that a new tool needs no migration."""
    return [(t.key, t.label) for t in TOOLS.values()]


@dataclass(frozen=True)
class Around:
    """What surrounds a design: the rig it runs on, the round whose envelope it must fit, the rotor
    that it drives.
    """

    rig: Rig | None = None
    fit: Round | None = None
    load: Design | None = None


class Design(models.Model):
    """A design that somebody keeps: the inputs of one tool under a name."""

    uid = models.UUIDField(unique=True, default=uuid.uuid4, editable=False)
    owner = models.ForeignKey(
        settings.AUTH_USER_MODEL, on_delete=models.CASCADE, related_name="designs"
    )
    tool = models.CharField(max_length=20, choices=tool_choices)
    name = models.CharField(max_length=60)
    inputs = models.JSONField(default=dict)
    rig = models.ForeignKey(Rig, null=True, blank=True, on_delete=models.SET_NULL, related_name="+")
    fit = models.ForeignKey(
        Round,
        null=True,
        blank=True,
        on_delete=models.SET_NULL,
        related_name="+",
        help_text="round whose envelope it must fit",
    )
    load = models.ForeignKey(
        "self",
        null=True,
        blank=True,
        on_delete=models.SET_NULL,
        related_name="+",
        help_text="rotor that a power pack drives",
    )
    created_at = models.DateTimeField(default=timezone.now)
    changed_at = models.DateTimeField(default=timezone.now)

    class Meta:
        ordering = ["tool", "-changed_at"]
        constraints = [
            models.UniqueConstraint(
                fields=["owner", "tool", "name"],
                name="design_name_once",
                violation_error_message="You have a design of this name already.",
            )
        ]
        indexes = [models.Index(fields=["owner", "tool", "-changed_at"])]

    def __str__(self) -> str:
        return self.name

    def get_absolute_url(self) -> str:
        return f"{reverse('desk:tool', args=[self.tool])}?design={self.pk}"

    @property
    def how(self) -> Tool:
        """Its tool."""
        return TOOLS[self.tool]

    @property
    def around(self) -> Around:
        """What surrounds it."""
        return Around(self.rig, self.fit, self.load)


class MeasuredBack(models.Model):
    """A measured value sent back to a model: what it foretold, and what a rig found. Several make
    its factor for that rig.
    """

    tool = models.CharField(max_length=20, choices=tool_choices)
    figure = models.CharField(max_length=30)
    rig = models.ForeignKey(Rig, on_delete=models.CASCADE, related_name="measured_back")
    design_name = models.CharField(max_length=60)
    predicted = models.FloatField()
    measured = models.FloatField()
    u_measured = models.FloatField(default=0.0)
    sent_by = models.ForeignKey(
        settings.AUTH_USER_MODEL, null=True, on_delete=models.SET_NULL, related_name="+"
    )
    sent_at = models.DateTimeField(default=timezone.now)
    withdrawn = models.BooleanField(default=False)

    class Meta:
        ordering = ["sent_at"]
        constraints = [
            models.CheckConstraint(
                condition=Q(predicted__gt=0, measured__gt=0, u_measured__gte=0),
                name="measured_back_above_0",
            )
        ]
        indexes = [models.Index(fields=["tool", "rig", "figure"])]

    def __str__(self) -> str:
        return f"{self.figure} of {self.design_name} on {self.rig}"

    @property
    def ratio(self) -> float:
        """Measured over predicted."""
        return self.measured / self.predicted


class Search(models.Model):
    """A search for a better rotor, done by the worker."""

    class State(models.TextChoices):
        WAITING = "waiting", "waiting for the worker"
        RUNNING = "running", "running"
        DONE = "done", "done"
        CANCELLED = "cancelled", "stopped"
        FAILED = "failed", "failed"

    uid = models.UUIDField(unique=True, default=uuid.uuid4, editable=False)
    owner = models.ForeignKey(
        settings.AUTH_USER_MODEL, on_delete=models.CASCADE, related_name="searches"
    )
    inputs = models.JSONField()
    rig = models.ForeignKey(Rig, null=True, blank=True, on_delete=models.SET_NULL, related_name="+")
    fit = models.ForeignKey(
        Round, null=True, blank=True, on_delete=models.SET_NULL, related_name="+"
    )
    aim = models.CharField(max_length=20)
    limits = models.JSONField(default=dict, help_text="figure key -> most, SI")
    state = models.CharField(max_length=10, choices=State.choices, default=State.WAITING)
    cancel = models.BooleanField(default=False)
    progress = models.FloatField(default=0.0)
    best = models.JSONField(
        default=dict, blank=True, help_text="inputs and figures of the best so far"
    )
    front = models.JSONField(
        default=list, blank=True, help_text="inputs and both aims of the trade-off front"
    )
    tried = models.PositiveIntegerField(default=0)
    reason = models.TextField(blank=True)
    created_at = models.DateTimeField(default=timezone.now)

    class Meta:
        ordering = ["-created_at"]
        constraints = [
            models.CheckConstraint(
                condition=Q(progress__gte=0, progress__lte=1), name="search_progress_share"
            )
        ]

    def __str__(self) -> str:
        return f"search for {self.aim}"

    @property
    def ended(self) -> bool:
        """Whether nothing more will come."""
        return self.state in {self.State.DONE, self.State.CANCELLED, self.State.FAILED}

    def as_values(self) -> dict[str, Any]:
        """Inputs of the best so far, or of the start."""
        return self.best.get("inputs") or self.inputs
