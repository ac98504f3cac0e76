"""Rules of a round: what counts, how much, and what was asked about them."""

from __future__ import annotations

from django.conf import settings
from django.db import models
from django.db.models import Q
from django.utils import timezone

from hauch.rounds.models.round import Round
from hauch.rounds.models.tests import Test


class RuleVersion(models.Model):
    """How a round is scored, as agreed at a moment. Never changed; a change is the next version."""

    class Scheme(models.TextChoices):
        WEIGHTED = "weighted_percent", "weighted percent against the reference"
        SINGLE = "best_single", "best single metric"
        POINTS = "rank_points", "rank points with test weights"
        CONSTRAINT = "constraint", "constraint, then objective"
        SUM = "sum", "sum of the figures as they stand"
        FRONT = "front", "trade-off front, no single score"

    class Ties(models.TextChoices):
        TOO_CLOSE = "too_close", "shared rank while too close to call"
        EQUAL = "equal_score", "shared rank for equal scores only"

    class LevelAs(models.TextChoices):
        LEVEL = "level", "percent of the level as read"
        LOUDNESS = "loudness", "percent of loudness, halved by every 10 dB"

    round = models.ForeignKey(Round, on_delete=models.CASCADE, related_name="rules")
    number = models.PositiveSmallIntegerField()
    scheme = models.CharField(max_length=20, choices=Scheme.choices, default=Scheme.WEIGHTED)
    tie_rule = models.CharField(max_length=20, choices=Ties.choices, default=Ties.TOO_CLOSE)
    level_as = models.CharField(max_length=10, choices=LevelAs.choices, default=LevelAs.LEVEL)
    draws = models.PositiveIntegerField(default=20_000)
    seed = models.PositiveIntegerField(default=140)
    tests = models.ManyToManyField(
        Test, related_name="in_rules", help_text="all that is measured, scored or not"
    )
    brief = models.JSONField(
        default=dict,
        blank=True,
        help_text="what the brief said when the version was made: field -> value",
    )
    reason = models.TextField(blank=True)
    created_at = models.DateTimeField(default=timezone.now)
    created_by = models.ForeignKey(
        settings.AUTH_USER_MODEL, on_delete=models.PROTECT, related_name="+"
    )

    class Meta:
        ordering = ["-number"]
        constraints = [
            models.UniqueConstraint(fields=["round", "number"], name="rule_version_once"),
            models.CheckConstraint(
                condition=Q(draws__gte=1000) & Q(draws__lte=1_000_000), name="rule_draws_sane"
            ),
        ]

    def __str__(self) -> str:
        return f"rules v{self.number}"

    @property
    def score_unit(self) -> str:
        """What stands behind a score."""
        return {self.Scheme.POINTS: "points", self.Scheme.SUM: "in all"}.get(
            self.scheme, "% of the reference"
        )  # type: ignore[call-overload]

    @property
    def less_is_better(self) -> bool:
        """Whether a lower score is the better one."""
        return self.scheme == self.Scheme.SUM


class RuleTerm(models.Model):
    """What one test does in a rule version: a weight in the score, a limit that must be kept, or
    both.
    """

    rules = models.ForeignKey(RuleVersion, on_delete=models.CASCADE, related_name="terms")
    test = models.ForeignKey(Test, on_delete=models.PROTECT, related_name="terms")
    weight = models.FloatField(null=True, blank=True)
    most_loss = models.FloatField(
        null=True,
        blank=True,
        help_text=(
            "the most that an entry may lose against the reference: %, dB or points; below 0 asks"
            " for a gain"
        ),
    )

    class Meta:
        ordering = ["test__order", "test__key"]
        constraints = [
            models.UniqueConstraint(fields=["rules", "test"], name="one_weight_for_a_test"),
            models.CheckConstraint(
                condition=Q(weight__gt=0),
                name="weight_above_zero",
                violation_error_message="A weight must be above 0.",
            ),
            models.CheckConstraint(
                condition=Q(weight__isnull=False) | Q(most_loss__isnull=False),
                name="term_does_something",
                violation_error_message="A test in the rules has a weight or a limit.",
            ),
        ]

    def __str__(self) -> str:
        return f"{self.test}: {self.weight or 0:g}"


class RuleQuestion(models.Model):
    """A question about a version of the rules, or an objection to it, and the host's answer. Both
    stay with the version.
    """

    class Kind(models.TextChoices):
        QUESTION = "question", "question"
        OBJECTION = "objection", "objection"

    rules = models.ForeignKey(RuleVersion, on_delete=models.CASCADE, related_name="questions")
    kind = models.CharField(max_length=10, choices=Kind.choices, default=Kind.QUESTION)
    text = models.TextField(max_length=4000)
    asked_by = models.ForeignKey(
        settings.AUTH_USER_MODEL, on_delete=models.PROTECT, related_name="+"
    )
    asked_at = models.DateTimeField(default=timezone.now)
    answer = models.TextField(max_length=4000, blank=True)
    answered_by = models.ForeignKey(
        settings.AUTH_USER_MODEL, null=True, blank=True, on_delete=models.PROTECT, related_name="+"
    )
    answered_at = models.DateTimeField(null=True, blank=True)

    class Meta:
        ordering = ["asked_at", "id"]

    def __str__(self) -> str:
        return f"{self.kind} on {self.rules}"
