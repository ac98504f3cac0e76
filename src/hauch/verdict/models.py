"""Standings, as computed under one version of the rules."""

from __future__ import annotations

from django.conf import settings
from django.db import models
from django.db.models import F, Q
from django.urls import reverse
from django.utils import timezone

from hauch.entries.models import Entry, Version
from hauch.rounds.models import Round, RuleVersion, Test


class StandingQuerySet(models.QuerySet):
    """Standings."""

    def stale(self) -> StandingQuerySet:
        """Those that do not show all changes yet."""
        return self.filter(judged__lt=F("changes"))


class Standing(models.Model):
    """A computed standing. It is stale from the moment a run changes until it is computed again:
    ``changes`` are counted in the transactions that make them, ``judged`` says how many of them its
    rows show.
    """

    rules = models.OneToOneField(RuleVersion, on_delete=models.CASCADE, related_name="standing")
    computed_at = models.DateTimeField(null=True)
    changes = models.PositiveBigIntegerField(default=0)
    changed_at = models.DateTimeField(null=True, help_text="when it turned stale")
    judged = models.BigIntegerField(
        default=-1,
        help_text="how many of the changes its rows show; -1 before it was ever computed",
    )
    failure = models.CharField(
        max_length=300, blank=True, help_text="what went wrong when it was last computed"
    )
    core_version = models.CharField(max_length=20, blank=True)
    reference = models.JSONField(
        default=dict, help_text="the reference by test: value, doubt, drift, bridges"
    )
    notes = models.JSONField(default=list, help_text="sentences on what could not be compared")
    ground = models.FloatField(
        null=True, help_text="the reference's own score; empty where it has none"
    )

    ground_expanded = models.FloatField(
        default=0,
        help_text="half-width of the 95 % interval that the reference's repeats leave about it",
    )

    objects = StandingQuerySet.as_manager()

    @property
    def stale(self) -> bool:
        """Whether it does not show all changes yet."""
        return self.judged < self.changes

    def __str__(self) -> str:
        return f"standing under {self.rules}"


class StandingFigures(models.Model):
    """The differences that a standing is made of, for whoever wonders about other rules. On their own,
    since a round of a thousand entries has many of them and most pages need none.
    """

    standing = models.OneToOneField(Standing, on_delete=models.CASCADE, related_name="figures")
    deltas = models.JSONField(
        help_text="entries; by test the reference's figure and each entry's difference in y"
    )

    class Meta:
        verbose_name_plural = "standing figures"

    def __str__(self) -> str:
        return f"figures of {self.standing}"


class StandingRow(models.Model):
    """One entry in a standing."""

    class State(models.TextChoices):
        RANKED = "ranked", "ranked"
        INCOMPLETE = "incomplete", "not complete"
        DNF = "dnf", "did not finish"

    standing = models.ForeignKey(Standing, on_delete=models.CASCADE, related_name="rows")
    entry = models.ForeignKey(Entry, on_delete=models.CASCADE, related_name="standing_rows")
    version = models.PositiveSmallIntegerField(
        null=True, help_text="number of the version that takes part; empty while none was run"
    )
    named = models.BooleanField(default=False, help_text="that version was named to take part")
    place = models.PositiveIntegerField(help_text="order in the table, from 1")
    state = models.CharField(max_length=10, choices=State.choices)
    rank = models.PositiveIntegerField(null=True)
    score = models.FloatField(null=True)
    u = models.FloatField(null=True)
    expanded = models.FloatField(
        null=True, help_text="half-width of the 95 % interval of the score"
    )
    first = models.FloatField(null=True, help_text="probability of the first place")
    low = models.PositiveIntegerField(null=True)
    high = models.PositiveIntegerField(null=True)
    probabilities = models.JSONField(default=list, help_text="of each place; kept for small rounds")
    tests = models.JSONField(
        default=dict,
        help_text="test key -> value, u, delta, delta_u, word, probability, repeats, count",
    )
    kept = models.FloatField(
        null=True, help_text="probability of keeping all limits; empty where there are none"
    )
    outside = models.BooleanField(
        default=False, help_text="breaks a limit, so it comes after all that keep it"
    )
    reason = models.TextField(blank=True)

    class Meta:
        ordering = ["place"]
        constraints = [
            models.UniqueConstraint(fields=["standing", "entry"], name="entry_once_in_a_standing"),
            models.UniqueConstraint(fields=["standing", "place"], name="place_once_in_a_standing"),
            models.CheckConstraint(
                condition=Q(state="ranked", rank__isnull=False)
                | (~Q(state="ranked") & Q(rank__isnull=True)),
                name="ranked_rows_have_a_rank",
            ),
        ]

    def __str__(self) -> str:
        return f"{self.place}. {self.entry}"


class Settling(models.Model):
    """What would settle a standing's first place, worked out by the worker."""

    class State(models.TextChoices):
        WAITING = "waiting", "waiting for the worker"
        DONE = "done", "worked out"
        FAILED = "failed", "not worked out"

    standing = models.OneToOneField(Standing, on_delete=models.CASCADE, related_name="settling")
    asked = models.FloatField(help_text="probability of the first place")
    state = models.CharField(max_length=7, choices=State.choices, default=State.WAITING)
    judged = models.BigIntegerField(default=-1, help_text="the standing's, when it was worked out")
    result = models.JSONField(
        default=dict, help_text="leader, first, then, works, minutes, reached, steps, from"
    )
    problem = models.CharField(max_length=300, blank=True)
    at = models.DateTimeField(default=timezone.now)

    class Meta:
        constraints = [
            models.CheckConstraint(
                condition=Q(asked__gt=0, asked__lt=1), name="settling_asked_a_probability"
            )
        ]

    def __str__(self) -> str:
        return f"{self.standing}: {self.get_state_display()}"

    @property
    def current(self) -> bool:
        """Whether it is of the runs that the standing shows."""
        return self.judged == self.standing.judged


class Criterion(models.Model):
    """What a new version of a part must keep: a limit set beforehand, against the reference or the
    version before.
    """

    class Against(models.TextChoices):
        REFERENCE = "reference", "the reference"
        BEFORE = "before", "the version before"

    round = models.ForeignKey(Round, on_delete=models.CASCADE, related_name="criteria")
    test = models.ForeignKey(Test, on_delete=models.CASCADE, related_name="criteria")
    against = models.CharField(max_length=9, choices=Against.choices)
    most = models.FloatField(
        help_text=(
            "loss that is allowed, % or the figure's unit; 0 a gain that can be told, below 0 a gain"
            " of so much"
        )
    )
    set_at = models.DateTimeField(default=timezone.now)
    by = models.ForeignKey(
        settings.AUTH_USER_MODEL, null=True, on_delete=models.SET_NULL, related_name="+"
    )

    class Meta:
        ordering = ["test__order", "-against"]
        verbose_name_plural = "criteria"
        constraints = [models.UniqueConstraint(fields=["test", "against"], name="criterion_once")]

    def __str__(self) -> str:
        return f"{self.test}, {self.get_against_display()}: {self.most:g}"


class Decision(models.Model):
    """What a person decided of a version, with what the figures said then; the last one stands."""

    class Word(models.TextChoices):
        ACCEPTED = "accepted", "accepted"
        REJECTED = "rejected", "rejected"

    version = models.ForeignKey(Version, on_delete=models.CASCADE, related_name="decisions")
    word = models.CharField(max_length=8, choices=Word.choices)
    reason = models.CharField(max_length=500)
    said = models.TextField(blank=True, help_text="what the criteria said then, in a sentence")
    by = models.ForeignKey(
        settings.AUTH_USER_MODEL, null=True, on_delete=models.SET_NULL, related_name="+"
    )
    at = models.DateTimeField(default=timezone.now)

    class Meta:
        ordering = ["-at", "-pk"]
        constraints = [
            models.CheckConstraint(
                condition=~Q(reason=""),
                name="decision_has_a_reason",
                violation_error_message="Say why in a few words.",
            )
        ]

    def __str__(self) -> str:
        return f"{self.version} {self.get_word_display()}"


class Scenario(models.Model):
    """Rules that somebody wonders about, kept under a name; they judge nothing."""

    round = models.ForeignKey(Round, on_delete=models.CASCADE, related_name="scenarios")
    name = models.CharField(max_length=80)
    wish = models.JSONField(help_text="scheme, noise, weight and limit by test key")
    by = models.ForeignKey(
        settings.AUTH_USER_MODEL, null=True, on_delete=models.SET_NULL, related_name="+"
    )
    at = models.DateTimeField(default=timezone.now)

    class Meta:
        ordering = ["name"]
        constraints = [
            models.UniqueConstraint(fields=["round", "name"], name="scenario_once_in_a_round")
        ]

    def __str__(self) -> str:
        return self.name


class Guessing(models.Model):
    """Guesses of a round's order, or of its values in a test, by one link; sealed with the first run of
    an entry.
    """

    round = models.OneToOneField(Round, on_delete=models.CASCADE, related_name="guessing")
    test = models.ForeignKey(
        Test,
        null=True,
        blank=True,
        on_delete=models.PROTECT,
        related_name="+",
        help_text="whose values are guessed; empty: the order",
    )
    secret = models.CharField(
        max_length=43, unique=True, help_text="of the link; opens nothing else"
    )
    opened_by = models.ForeignKey(
        settings.AUTH_USER_MODEL, null=True, on_delete=models.SET_NULL, related_name="+"
    )
    opened_at = models.DateTimeField(default=timezone.now)

    def __str__(self) -> str:
        return f"guesses of {self.round}"

    def get_absolute_url(self) -> str:
        return reverse("verdict:guesses", args=[self.round.slug])


class Guess(models.Model):
    """What somebody guessed."""

    guessing = models.ForeignKey(Guessing, on_delete=models.CASCADE, related_name="guesses")
    name = models.CharField(max_length=60)
    given = models.JSONField(help_text="entry -> place from 1, or value in SI")
    at = models.DateTimeField(default=timezone.now)

    class Meta:
        ordering = ["pk"]
        verbose_name_plural = "guesses"
        constraints = [models.UniqueConstraint(fields=["guessing", "name"], name="guess_once")]

    def __str__(self) -> str:
        return self.name


class Publication(models.Model):
    """A standing as it was published: plain values that no later run changes. The newest one is the
    round's public page.
    """

    round = models.ForeignKey(Round, on_delete=models.CASCADE, related_name="publications")
    at = models.DateTimeField()
    by = models.ForeignKey(
        settings.AUTH_USER_MODEL, null=True, on_delete=models.SET_NULL, related_name="+"
    )
    content = models.JSONField(
        help_text="round, rules, tests, rows, reference: all that the page shows, SI"
    )
    core_version = models.CharField(max_length=20)

    class Meta:
        ordering = ["-at", "-id"]

    def __str__(self) -> str:
        return f"{self.round}, published {timezone.localtime(self.at):%d %b %Y}"

    def get_absolute_url(self) -> str:
        return reverse("published", args=[self.round.slug])
