"""A set-up that somebody has begun: what was answered so far."""

from __future__ import annotations

from django.conf import settings
from django.db import models
from django.urls import reverse
from django.utils import timezone

from hauch.core.geometry.kinds import PART_KINDS
from hauch.rounds.models import Round
from hauch.setup.answers import Answers


class SetUp(models.Model):
    """A set-up in the making. It goes when its round is made, or when it is discarded."""

    user = models.ForeignKey(
        settings.AUTH_USER_MODEL, on_delete=models.CASCADE, related_name="set_ups"
    )
    answers = models.JSONField(default=dict, help_text="what was answered, as setup.answers has it")
    round = models.OneToOneField(
        Round, null=True, blank=True, on_delete=models.CASCADE, related_name="set_up"
    )
    began_at = models.DateTimeField(default=timezone.now)

    class Meta:
        ordering = ["-began_at", "-pk"]

    def __str__(self) -> str:
        return f"comparison of {PART_KINDS[self.said.part].plural}"

    def get_absolute_url(self) -> str:
        return reverse("setup:step", args=[self.pk, self.said.next_step()])

    @property
    def said(self) -> Answers:
        """The answers with their types."""
        return Answers.from_json(self.answers)
