"""Tests of a round: on which rig, at which setting, how often, against which reference."""

from __future__ import annotations

from typing import Any

from django.core.exceptions import ValidationError
from django.db import models
from django.db.models import Q
from django.utils import timezone

from hauch.core.measure.own import KEY, FormulaWrong, Own, checked, own_procedure
from hauch.core.measure.procedures import PROCEDURES, Procedure
from hauch.core.measure.taking import HIGHEST, MEAN
from hauch.rounds.models.round import Round
from hauch.stores.models import ReferenceSpecimen, Rig

PHYSICAL = ("rig_id", "soak", "soak_minutes", "resolution")
"""Fields of a test that say what is done at the bench: where one changes, runs must be made again."""


class Setting(models.Model):
    """What is adjustable on a part or rig, as set for a run: lid on, nozzle narrow, throttle 75 %."""

    round = models.ForeignKey(Round, on_delete=models.CASCADE, related_name="settings")
    label = models.CharField(max_length=80)
    values = models.JSONField(
        default=dict, blank=True, help_text="what is set -> to what, such as throttle -> 75 %"
    )

    class Meta:
        ordering = ["label"]
        constraints = [
            models.UniqueConstraint(fields=["round", "label"], name="setting_once_in_a_round")
        ]

    def __str__(self) -> str:
        return self.label


class TestQuerySet(models.QuerySet):
    """Tests."""

    def current(self) -> TestQuerySet:
        """Those that are still measured: not dropped and not replaced by another."""
        return self.filter(successor__isnull=True, dropped=False)


def procedure_choices() -> list[tuple[str, str]]:
    """Ways of testing, as older migrations name them."""
    return [(p.key, p.label) for p in PROCEDURES.values()]


class Test(models.Model):
    """A measurement procedure in a round, on one rig, at one scored setting.

    Once it has runs, what it measures stays: a change makes a successor that ``replaces`` it from a
    version of the rules on.
    """

    class Soak(models.TextChoices):
        NONE = "none", "no soak"
        MINUTES = "minutes", "fixed minutes"
        SETTLED = "settled", "until settled"

    round = models.ForeignKey(Round, on_delete=models.CASCADE, related_name="tests")
    key = models.SlugField(max_length=40)
    label = models.CharField(max_length=80)
    procedure = models.CharField(max_length=30)
    own = models.JSONField(
        null=True,
        blank=True,
        help_text="a figure of one's own: formula, unit, and how it is compared",
    )
    rig = models.ForeignKey(Rig, on_delete=models.PROTECT, related_name="tests")
    setting = models.ForeignKey(Setting, on_delete=models.PROTECT, related_name="tests")
    order = models.PositiveSmallIntegerField(default=1)
    repeats = models.PositiveSmallIntegerField(default=3)
    readings = models.PositiveSmallIntegerField(default=5)
    common_speed = models.FloatField(null=True, blank=True)
    reporting_distance = models.FloatField(null=True, blank=True)
    resolution = models.FloatField(
        null=True, blank=True, help_text="what a settled temperature must resolve, K"
    )
    soak = models.CharField(max_length=10, choices=Soak.choices, default=Soak.NONE)
    soak_minutes = models.FloatField(null=True, blank=True)
    taking = models.CharField(
        max_length=10,
        choices=[(MEAN, "mean of what was read"), (HIGHEST, "highest steady value")],
        default=MEAN,
        help_text="what of the readings counts",
    )
    baseline = models.FloatField(
        default=1.0,
        help_text="how well the reference must repeat before entries are run: %, dB or points",
    )
    dropped = models.BooleanField(default=False, help_text="no longer measured; its runs are kept")
    replaces = models.OneToOneField(
        "self", null=True, blank=True, on_delete=models.PROTECT, related_name="successor"
    )

    objects = TestQuerySet.as_manager()

    class Meta:
        ordering = ["order", "key"]
        constraints = [
            models.UniqueConstraint(fields=["round", "key"], name="test_key_once_in_a_round"),
            models.CheckConstraint(
                condition=Q(repeats__gte=1)
                & Q(readings__gte=1)
                & (Q(common_speed__isnull=True) | Q(common_speed__gt=0)),
                name="test_counts_sane",
                violation_error_message=(
                    "Repeats and readings must be 1 or more, a common speed above 0."
                ),
            ),
            models.CheckConstraint(
                condition=~Q(soak="minutes") | Q(soak_minutes__gt=0),
                name="test_soak_has_minutes",
                violation_error_message="A soak of fixed minutes needs the minutes, above 0.",
            ),
            models.CheckConstraint(
                condition=Q(own__isnull=True) & ~Q(procedure__startswith=KEY)
                | Q(own__isnull=False) & Q(procedure__startswith=KEY),
                name="test_formula_goes_with_its_key",
            ),
            models.CheckConstraint(
                condition=Q(baseline__gt=0),
                name="test_baseline_above_zero",
                violation_error_message="What the reference must repeat to must be above 0.",
            ),
        ]

    def __str__(self) -> str:
        return self.label

    @property
    def same_readings(self) -> int | None:
        """The test that this one replaces, where it is still read in the same way and only
        converted otherwise.
        """
        old = self.replaces
        if old is None:
            return None
        return (
            old.pk if all(getattr(self, name) == getattr(old, name) for name in PHYSICAL) else None
        )

    @property
    def how(self) -> Procedure:
        """The procedure as the core knows it, or that of a figure of one's own."""
        return how_of(self.procedure, self.own, self.label)

    def clean(self) -> None:
        """A procedure that is known; a formula that can be computed."""
        if self.own is None:
            if self.procedure not in PROCEDURES:
                raise ValidationError({"procedure": f"“{self.procedure}” is no way of testing."})
            return
        try:
            own = Own.from_json(self.own)
            checked(own)
        except (FormulaWrong, KeyError, TypeError) as problem:
            raise ValidationError({"own": f"“{self.label}”: {problem}"}) from problem
        if self.procedure != own.key:
            raise ValidationError(
                {"procedure": f"“{self.label}”: key and formula do not belong together."}
            )


def how_of(procedure: str, own: dict[str, Any] | None, called: str) -> Procedure:
    """The procedure of a test, stored or wanted."""
    return PROCEDURES[procedure] if own is None else own_procedure(Own.from_json(own), called)


class TestReference(models.Model):
    """Which reference specimen a test is bracketed with, and from when; a ``bridging`` one is run
    beside the one in use.
    """

    test = models.ForeignKey(Test, on_delete=models.CASCADE, related_name="references")
    specimen = models.ForeignKey(ReferenceSpecimen, on_delete=models.PROTECT, related_name="tests")
    since = models.DateTimeField(default=timezone.now)
    until = models.DateTimeField(null=True, blank=True)
    bridging = models.BooleanField(default=False)

    class Meta:
        ordering = ["since", "id"]
        constraints = [
            models.UniqueConstraint(
                fields=["test"],
                condition=Q(until__isnull=True, bridging=False),
                name="one_active_reference_for_a_test",
                violation_error_message=(
                    "This test already has a reference specimen in use. Retire it first."
                ),
            ),
            models.CheckConstraint(
                condition=Q(until__isnull=True) | Q(until__gte=models.F("since")),
                name="reference_ends_after_start",
            ),
        ]

    def __str__(self) -> str:
        return f"{self.test}: {self.specimen}"
