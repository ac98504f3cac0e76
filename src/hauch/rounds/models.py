"""A round: its question, tests, settings and versions of its rules."""

from __future__ import annotations

import uuid
from typing import Any

from django.conf import settings
from django.core.exceptions import ValidationError
from django.db import models
from django.db.models import Q
from django.urls import reverse
from django.utils import timezone

from hauch.core.geometry.envelope import Envelope
from hauch.core.geometry.kinds import PART_KINDS, PartKind
from hauch.core.measure.own import KEY, FormulaWrong, Own, checked, own_procedure
from hauch.core.measure.procedures import PROCEDURES, Procedure
from hauch.core.measure.taking import HIGHEST, MEAN
from hauch.people.permissions import ROLES
from hauch.stores.models import ReferenceSpecimen, Rig


def part_choices() -> list[tuple[str, str]]:
    """Kinds of parts. A function, so that a new kind of the core needs no migration."""
    return [(k.key, k.label) for k in PART_KINDS.values()]


class Round(models.Model):
    """One question put to the bench."""

    class State(models.TextChoices):
        BRIEF = "brief", "brief being written"
        OPEN = "open", "open for entries"
        BENCH = "bench", "on the bench"
        PUBLISHED = "published", "published"

    class Equal(models.TextChoices):
        THROTTLE = "throttle", "full throttle"
        POWER = "power", "equal electrical power"
        NOISE = "noise", "equal noise"
        DUTY = "duty", "the same duty point"

    uid = models.UUIDField(unique=True, default=uuid.uuid4, editable=False)
    slug = models.SlugField(max_length=60, unique=True)
    number = models.PositiveIntegerField(default=1)
    title = models.CharField(max_length=80)
    place = models.CharField(max_length=80, blank=True)
    question = models.CharField(max_length=200)
    part = models.CharField(max_length=10, choices=part_choices)
    may_vary = models.TextField(blank=True)
    motors = models.PositiveSmallIntegerField(default=1)
    own_parts = models.BooleanField(default=False)
    orientation = models.CharField(max_length=80, blank=True)
    equal = models.CharField(max_length=10, choices=Equal.choices, default=Equal.THROTTLE)
    equal_value = models.FloatField(
        null=True, blank=True, help_text="W, dB(A) or m3/s, by what is equal"
    )
    envelope = models.JSONField(
        default=dict, blank=True, help_text="values [m] by parameter, keep-outs"
    )
    quick = models.BooleanField(
        default=False,
        help_text="a quick comparison: no envelope is asked for, and prints go straight to the bench",
    )
    entries_until = models.DateField(null=True, blank=True)
    safety = models.TextField(blank=True)
    presence = models.PositiveSmallIntegerField(
        default=60,
        help_text="s without a page of somebody who may run the bench, then the throttle closes",
    )
    unattended = models.PositiveSmallIntegerField(
        null=True, blank=True, help_text="min for which a soak may run with nobody there"
    )
    archived = models.BooleanField(
        default=False, help_text="put away: in no list of rounds that go on; all of it stays"
    )
    state = models.CharField(max_length=10, choices=State.choices, default=State.BRIEF)
    created_at = models.DateTimeField(default=timezone.now)
    published_at = models.DateTimeField(null=True, blank=True)

    class Meta:
        ordering = ["-number", "title"]
        constraints = [
            models.CheckConstraint(
                condition=Q(state="published", published_at__isnull=False)
                | (~Q(state="published") & Q(published_at__isnull=True)),
                name="published_rounds_have_a_date",
            ),
            models.CheckConstraint(
                condition=Q(motors__gte=1) & Q(motors__lte=12),
                name="round_motors_sane",
                violation_error_message="Allow 1 to 12 motors.",
            ),
            models.CheckConstraint(
                condition=Q(equal_value__isnull=True) | Q(equal_value__gt=0),
                name="round_equal_value_sane",
                violation_error_message="What is held equal must be above 0.",
            ),
            models.CheckConstraint(
                condition=Q(presence__gte=20) & Q(presence__lte=600),
                name="round_presence_sane",
                violation_error_message=(
                    "The throttle closes after 20 to 600 s with nobody at the bench's page."
                ),
            ),
            models.CheckConstraint(
                condition=Q(unattended__isnull=True)
                | Q(unattended__gte=1) & Q(unattended__lte=480),
                name="round_unattended_sane",
                violation_error_message="A soak runs 1 to 480 min with nobody there, or not at all.",
            ),
        ]

    def __str__(self) -> str:
        return self.title

    @property
    def is_published(self) -> bool:
        """Whether the standing is public."""
        return self.state == self.State.PUBLISHED

    def get_absolute_url(self) -> str:
        return reverse("rounds:brief", args=[self.slug])

    @property
    def kind(self) -> PartKind:
        """What its parts are, as the core knows it."""
        return PART_KINDS[self.part]

    @property
    def straight_to_the_bench(self) -> bool:
        """Whether its prints need neither work steps nor the gate: a quick comparison of parts that
        neither spin nor hold compressed air.
        """
        return self.quick and not self.kind.needs_gate

    @property
    def equal_agreed(self) -> str:
        """What is compared at, once the round was opened; empty while brief and rules are still
        being written side by side.
        """
        return "" if self.is_draft else self.equal

    @property
    def is_draft(self) -> bool:
        """Whether its rules are still being written, so that they change in place."""
        return self.state == self.State.BRIEF

    @property
    def equal_kind(self) -> str:
        """Kind of figure that ``equal_value`` is."""
        kinds: dict[str, str] = {
            self.Equal.POWER: "power",
            self.Equal.NOISE: "level",
            self.Equal.DUTY: "volume_flow",
        }
        return kinds.get(self.equal, "")

    @property
    def what(self) -> Envelope:
        """The envelope as the core takes it."""
        return Envelope.from_json(self.part, self.envelope)


BRIEF_FIELDS = {
    "question": "question",
    "part": "kind of part",
    "quick": "quick comparison",
    "may_vary": "what may vary",
    "motors": "motors",
    "own_parts": "own parts",
    "orientation": "orientation",
    "equal": "what equal means",
    "equal_value": "what is held equal",
    "envelope": "envelope",
    "safety": "safety note",
}
"""What of a round belongs to its rules, so that a change after opening makes a new version; field
-> in words.
"""


HELD_EQUAL = {"power": Round.Equal.POWER, "sound_level": Round.Equal.NOISE}
"""Channel that a procedure holds equal -> what the brief calls it."""


class Membership(models.Model):
    """A person's role in a round."""

    round = models.ForeignKey(Round, on_delete=models.CASCADE, related_name="memberships")
    user = models.ForeignKey(
        settings.AUTH_USER_MODEL, on_delete=models.CASCADE, related_name="memberships"
    )
    role = models.CharField(max_length=10, choices=ROLES)

    class Meta:
        constraints = [
            models.UniqueConstraint(fields=["round", "user"], name="one_role_in_a_round")
        ]

    def __str__(self) -> str:
        return f"{self.user}, {self.role} of {self.round}"


class Invitation(models.Model):
    """A link by which people join a round in a role. Only the hash of its secret is kept."""

    round = models.ForeignKey(Round, on_delete=models.CASCADE, related_name="invitations")
    role = models.CharField(max_length=10, choices=ROLES)
    digest = models.CharField(max_length=64, unique=True)
    whom = models.CharField(max_length=80, blank=True)
    uses_left = models.PositiveSmallIntegerField(default=1)
    expires_at = models.DateTimeField()
    created_at = models.DateTimeField(default=timezone.now)
    created_by = models.ForeignKey(
        settings.AUTH_USER_MODEL, on_delete=models.PROTECT, related_name="+"
    )
    revoked_at = models.DateTimeField(null=True, blank=True)

    class Meta:
        ordering = ["-created_at"]

    def __str__(self) -> str:
        return f"invitation to {self.round} as {self.role}"

    @property
    def is_open(self) -> bool:
        """Whether it can still be used."""
        return self.revoked_at is None and self.uses_left > 0 and self.expires_at > timezone.now()


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


PHYSICAL = ("rig_id", "soak", "soak_minutes", "resolution")
"""Fields of a test that say what is done at the bench: where one changes, runs must be made again."""


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
