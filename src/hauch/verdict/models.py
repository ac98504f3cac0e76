"""Standings, as computed under one version of the rules."""

from __future__ import annotations

from django.db import models
from django.db.models import Q

from hauch.entries.models import Entry
from hauch.rounds.models import RuleVersion


class Standing(models.Model):
    """A computed standing. ``stale`` from the moment a run changes until it is computed again."""

    rules = models.OneToOneField(RuleVersion, on_delete=models.CASCADE, related_name="standing")
    computed_at = models.DateTimeField(null=True)
    stale = models.BooleanField(default=True)
    core_version = models.CharField(max_length=20, blank=True)
    reference = models.JSONField(default=dict, help_text="the reference by test: value, doubt, drift, bridges")
    notes = models.JSONField(default=list, help_text="sentences on what could not be compared")
    ground = models.FloatField(null=True, help_text="the reference's own score; empty where it has none")

    def __str__(self) -> str:
        return f"standing under {self.rules}"


class StandingRow(models.Model):
    """One entry in a standing."""

    class State(models.TextChoices):
        RANKED = "ranked", "ranked"
        INCOMPLETE = "incomplete", "not complete"
        DNF = "dnf", "did not finish"

    standing = models.ForeignKey(Standing, on_delete=models.CASCADE, related_name="rows")
    entry = models.ForeignKey(Entry, on_delete=models.CASCADE, related_name="standing_rows")
    place = models.PositiveIntegerField(help_text="order in the table, from 1")
    state = models.CharField(max_length=10, choices=State.choices)
    rank = models.PositiveIntegerField(null=True)
    score = models.FloatField(null=True)
    u = models.FloatField(null=True)
    first = models.FloatField(null=True, help_text="probability of the first place")
    low = models.PositiveIntegerField(null=True)
    high = models.PositiveIntegerField(null=True)
    probabilities = models.JSONField(default=list, help_text="of each place; kept for small rounds")
    tests = models.JSONField(default=dict, help_text="test key -> value, u, delta, delta_u, word, probability, repeats, count")
    kept = models.FloatField(null=True, help_text="probability of keeping all limits; empty where there are none")
    outside = models.BooleanField(default=False, help_text="breaks a limit, so it comes after all that keep it")
    reason = models.TextField(blank=True)

    class Meta:
        ordering = ["place"]
        constraints = [
            models.UniqueConstraint(fields=["standing", "entry"], name="entry_once_in_a_standing"),
            models.UniqueConstraint(fields=["standing", "place"], name="place_once_in_a_standing"),
            models.CheckConstraint(
                condition=Q(state="ranked", rank__isnull=False) | (~Q(state="ranked") & Q(rank__isnull=True)),
                name="ranked_rows_have_a_rank",
            ),
        ]

    def __str__(self) -> str:
        return f"{self.place}. {self.entry}"
