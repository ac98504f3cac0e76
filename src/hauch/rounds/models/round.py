"""A round: its question, its people and who is invited."""

from __future__ import annotations

import uuid

from django.conf import settings
from django.db import models
from django.db.models import Q
from django.urls import reverse
from django.utils import timezone

from hauch.core.geometry.envelope import Envelope
from hauch.core.geometry.kinds import PART_KINDS, PartKind
from hauch.people.permissions import ROLES


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
