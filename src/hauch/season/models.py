"""A season: rounds in their order, the rule of its table, and champions that were carried on."""

from __future__ import annotations

from django.conf import settings
from django.db import models
from django.db.models import F, Q
from django.urls import reverse
from django.utils import timezone

from hauch.entries.models import Entry
from hauch.rounds.models import Round
from hauch.stores.models import ReferenceSpecimen
from hauch.workshop.models import Specimen


class Season(models.Model):
    """Rounds in a row under one rule: points for the share of the others that are behind."""

    title = models.CharField(max_length=80, unique=True)
    slug = models.SlugField(max_length=80, unique=True)
    best = models.PositiveSmallIntegerField(
        null=True, blank=True, help_text="so many rounds of each count; empty for all"
    )
    created_by = models.ForeignKey(
        settings.AUTH_USER_MODEL, null=True, on_delete=models.SET_NULL, related_name="+"
    )
    created_at = models.DateTimeField(default=timezone.now)

    class Meta:
        ordering = ["-created_at"]
        constraints = [
            models.CheckConstraint(
                condition=Q(best__isnull=True) | Q(best__gte=1),
                name="season_counts_a_round",
                violation_error_message="At least one round of each counts.",
            )
        ]

    def __str__(self) -> str:
        return self.title

    def get_absolute_url(self) -> str:
        return reverse("season:season", args=[self.slug])


class SeasonRound(models.Model):
    """A round in its place in a season."""

    season = models.ForeignKey(Season, on_delete=models.CASCADE, related_name="places")
    round = models.ForeignKey(Round, on_delete=models.CASCADE, related_name="seasons")
    order = models.PositiveSmallIntegerField()

    class Meta:
        ordering = ["order"]
        constraints = [
            models.UniqueConstraint(fields=["season", "round"], name="round_once_in_a_season"),
            models.UniqueConstraint(fields=["season", "order"], name="one_round_in_a_place"),
        ]

    def __str__(self) -> str:
        return f"{self.season}, {self.order}. {self.round}"


class Champion(models.Model):
    """A print of a round's winner that is run in a later round as a second reference."""

    season = models.ForeignKey(Season, on_delete=models.CASCADE, related_name="champions")
    entry = models.ForeignKey(Entry, on_delete=models.CASCADE, related_name="championships")
    specimen = models.ForeignKey(Specimen, on_delete=models.CASCADE, related_name="+")
    origin = models.ForeignKey(Round, on_delete=models.CASCADE, related_name="champions_sent")
    into = models.ForeignKey(Round, on_delete=models.CASCADE, related_name="champions_taken")
    reference = models.ForeignKey(ReferenceSpecimen, on_delete=models.PROTECT, related_name="+")
    by = models.ForeignKey(
        settings.AUTH_USER_MODEL, null=True, on_delete=models.SET_NULL, related_name="+"
    )
    at = models.DateTimeField(default=timezone.now)

    class Meta:
        ordering = ["at"]
        constraints = [
            models.UniqueConstraint(
                fields=["specimen", "into"],
                name="print_carried_once_into_a_round",
                violation_error_message="This print is a reference of that round already.",
            ),
            models.CheckConstraint(
                condition=~Q(origin=F("into")), name="champion_goes_to_another_round"
            ),
        ]

    def __str__(self) -> str:
        return f"{self.entry} of {self.origin}, in {self.into}"
