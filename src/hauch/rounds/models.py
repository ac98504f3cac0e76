"""A round: its question, tests, settings and versions of its rules."""

from __future__ import annotations

import uuid

from django.conf import settings
from django.db import models
from django.db.models import Q
from django.urls import reverse
from django.utils import timezone

from hauch.core.measure.procedures import PROCEDURES, Procedure
from hauch.people.permissions import ROLES
from hauch.stores.models import ReferenceSpecimen, Rig


class Round(models.Model):
    """One question put to the bench."""

    class State(models.TextChoices):
        BRIEF = "brief", "brief being written"
        OPEN = "open", "open for entries"
        BENCH = "bench", "on the bench"
        PUBLISHED = "published", "published"

    class Part(models.TextChoices):
        ROTOR = "rotor", "rotor"
        DUCT = "duct", "duct"
        RING = "ring", "bladeless ring"
        INTAKE = "intake", "intake"

    uid = models.UUIDField(unique=True, default=uuid.uuid4, editable=False)
    slug = models.SlugField(max_length=60, unique=True)
    number = models.PositiveIntegerField(default=1)
    title = models.CharField(max_length=80)
    place = models.CharField(max_length=80, blank=True)
    question = models.CharField(max_length=200)
    part = models.CharField(max_length=10, choices=Part.choices)
    may_vary = models.TextField(blank=True)
    safety = models.TextField(blank=True)
    state = models.CharField(max_length=10, choices=State.choices, default=State.BRIEF)
    created_at = models.DateTimeField(default=timezone.now)
    published_at = models.DateTimeField(null=True, blank=True)

    class Meta:
        ordering = ["-number", "title"]
        constraints = [
            models.CheckConstraint(
                condition=Q(state="published", published_at__isnull=False) | (~Q(state="published") & Q(published_at__isnull=True)),
                name="published_rounds_have_a_date",
            )
        ]

    def __str__(self) -> str:
        return self.title

    @property
    def is_published(self) -> bool:
        """Whether the standing is public."""
        return self.state == self.State.PUBLISHED

    def get_absolute_url(self) -> str:
        return reverse("rounds:brief", args=[self.slug])


class Membership(models.Model):
    """A person's role in a round."""

    round = models.ForeignKey(Round, on_delete=models.CASCADE, related_name="memberships")
    user = models.ForeignKey(settings.AUTH_USER_MODEL, on_delete=models.CASCADE, related_name="memberships")
    role = models.CharField(max_length=10, choices=ROLES)

    class Meta:
        constraints = [models.UniqueConstraint(fields=["round", "user"], name="one_role_in_a_round")]

    def __str__(self) -> str:
        return f"{self.user}, {self.role} of {self.round}"


class Setting(models.Model):
    """What is adjustable on a part or rig, as set for a run: lid on, nozzle narrow, throttle 75 %."""

    round = models.ForeignKey(Round, on_delete=models.CASCADE, related_name="settings")
    label = models.CharField(max_length=80)
    values = models.JSONField(default=dict, blank=True, help_text="what is set -> to what, such as throttle -> 75 %")

    class Meta:
        ordering = ["label"]
        constraints = [models.UniqueConstraint(fields=["round", "label"], name="setting_once_in_a_round")]

    def __str__(self) -> str:
        return self.label


class Test(models.Model):
    """A measurement procedure in a round, on one rig, at one scored setting."""

    round = models.ForeignKey(Round, on_delete=models.CASCADE, related_name="tests")
    key = models.SlugField(max_length=40)
    label = models.CharField(max_length=80)
    procedure = models.CharField(max_length=30, choices=[(p.key, p.label) for p in PROCEDURES.values()])
    rig = models.ForeignKey(Rig, on_delete=models.PROTECT, related_name="tests")
    setting = models.ForeignKey(Setting, on_delete=models.PROTECT, related_name="tests")
    order = models.PositiveSmallIntegerField(default=1)
    repeats = models.PositiveSmallIntegerField(default=3)
    readings = models.PositiveSmallIntegerField(default=5)
    common_speed = models.FloatField(null=True, blank=True)
    reporting_distance = models.FloatField(null=True, blank=True)
    resolution = models.FloatField(null=True, blank=True, help_text="what a settled temperature must resolve, K")

    class Meta:
        ordering = ["order", "key"]
        constraints = [
            models.UniqueConstraint(fields=["round", "key"], name="test_key_once_in_a_round"),
            models.CheckConstraint(
                condition=Q(repeats__gte=1) & Q(readings__gte=1) & (Q(common_speed__isnull=True) | Q(common_speed__gt=0)),
                name="test_counts_sane",
                violation_error_message="Repeats and readings must be 1 or more, a common speed above 0.",
            ),
        ]

    def __str__(self) -> str:
        return self.label

    @property
    def how(self) -> Procedure:
        """The procedure as the core knows it."""
        return PROCEDURES[self.procedure]


class TestReference(models.Model):
    """Which reference specimen a test is bracketed with, and from when."""

    test = models.ForeignKey(Test, on_delete=models.CASCADE, related_name="references")
    specimen = models.ForeignKey(ReferenceSpecimen, on_delete=models.PROTECT, related_name="tests")
    since = models.DateTimeField(default=timezone.now)
    until = models.DateTimeField(null=True, blank=True)

    class Meta:
        ordering = ["since", "id"]
        constraints = [
            models.UniqueConstraint(
                fields=["test"], condition=Q(until__isnull=True), name="one_active_reference_for_a_test",
                violation_error_message="This test already has a reference specimen in use. Retire it first.",
            ),
            models.CheckConstraint(condition=Q(until__isnull=True) | Q(until__gte=models.F("since")), name="reference_ends_after_start"),
        ]  # fmt: skip

    def __str__(self) -> str:
        return f"{self.test}: {self.specimen}"


class RuleVersion(models.Model):
    """How a round is scored, as agreed at a moment. Never changed; a change is the next version."""

    class Scheme(models.TextChoices):
        WEIGHTED = "weighted_percent", "weighted percent against the reference"
        SINGLE = "best_single", "best single metric"

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
    reason = models.TextField(blank=True)
    created_at = models.DateTimeField(default=timezone.now)
    created_by = models.ForeignKey(settings.AUTH_USER_MODEL, on_delete=models.PROTECT, related_name="+")

    class Meta:
        ordering = ["-number"]
        constraints = [
            models.UniqueConstraint(fields=["round", "number"], name="rule_version_once"),
            models.CheckConstraint(condition=Q(draws__gte=1000) & Q(draws__lte=1_000_000), name="rule_draws_sane"),
        ]

    def __str__(self) -> str:
        return f"rules v{self.number}"


class RuleTerm(models.Model):
    """The weight of one test in a rule version."""

    rules = models.ForeignKey(RuleVersion, on_delete=models.CASCADE, related_name="terms")
    test = models.ForeignKey(Test, on_delete=models.PROTECT, related_name="terms")
    weight = models.FloatField()

    class Meta:
        ordering = ["test__order", "test__key"]
        constraints = [
            models.UniqueConstraint(fields=["rules", "test"], name="one_weight_for_a_test"),
            models.CheckConstraint(condition=Q(weight__gt=0), name="weight_above_zero", violation_error_message="A weight must be above 0."),
        ]

    def __str__(self) -> str:
        return f"{self.test}: {self.weight:g}"
