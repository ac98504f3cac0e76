"""Blind listening: what is played, who listens by one link, and what they say."""

from __future__ import annotations

import secrets

from django.conf import settings
from django.db import models
from django.db.models import Q
from django.urls import reverse
from django.utils import timezone

from hauch.rounds.models import Round, Test
from hauch.sound.models.recordings import SoundRecording


def new_seed() -> int:
    """What a listener's own order comes from."""
    return secrets.randbelow(2**31)


class Listening(models.Model):
    """A blind test of two recordings (A, B, X), or a ranking of several; one link for all
    listeners.
    """

    class Kind(models.TextChoices):
        ABX = "abx", "Which of two is it? (A, B, X)"
        RANKING = "ranking", "Which is more pleasant? (a ranking)"

    class Equal(models.TextChoices):
        LEVEL = "level", "as much louder as they are"
        LOUDNESS = "loudness", "equally loud"

    round = models.ForeignKey(Round, on_delete=models.CASCADE, related_name="listenings")
    kind = models.CharField(max_length=7, choices=Kind.choices, verbose_name="What is asked")
    equal = models.CharField(
        max_length=8, choices=Equal.choices, default=Equal.LEVEL, verbose_name="Heard"
    )
    trials = models.PositiveSmallIntegerField(default=10, help_text="of each listener, A, B, X")
    secret = models.CharField(
        max_length=43, unique=True, help_text="of the link; opens nothing else"
    )
    test = models.ForeignKey(
        Test, null=True, blank=True, on_delete=models.PROTECT, related_name="listenings"
    )
    opened_by = models.ForeignKey(
        settings.AUTH_USER_MODEL, on_delete=models.PROTECT, related_name="+"
    )
    opened_at = models.DateTimeField(default=timezone.now)
    closed_at = models.DateTimeField(null=True, blank=True)

    class Meta:
        ordering = ["-opened_at", "-id"]
        constraints = [
            models.CheckConstraint(
                condition=Q(trials__gte=1, trials__lte=50), name="listening_trials_sane"
            )
        ]

    def __str__(self) -> str:
        return f"{self.get_kind_display()}, {timezone.localtime(self.opened_at):%-d %b %Y, %H:%M}"

    def get_absolute_url(self) -> str:
        return reverse("sound:listening", args=[self.round.slug, self.pk])

    @property
    def open(self) -> bool:
        """Whether answers are still taken."""
        return self.closed_at is None


class Played(models.Model):
    """A recording of a listening under a code that tells nothing; A and B by their order."""

    listening = models.ForeignKey(Listening, on_delete=models.CASCADE, related_name="played")
    recording = models.ForeignKey(SoundRecording, on_delete=models.PROTECT, related_name="played")
    code = models.CharField(max_length=4)

    class Meta:
        ordering = ["pk"]
        verbose_name_plural = "played"
        constraints = [
            models.UniqueConstraint(fields=["listening", "code"], name="played_code_once"),
            models.UniqueConstraint(fields=["listening", "recording"], name="played_once"),
        ]

    def __str__(self) -> str:
        return self.code


class Listener(models.Model):
    """Somebody who listens, with an own order."""

    listening = models.ForeignKey(Listening, on_delete=models.CASCADE, related_name="listeners")
    name = models.CharField(max_length=60)
    seed = models.PositiveIntegerField(default=new_seed)
    done_at = models.DateTimeField(null=True, blank=True)

    class Meta:
        ordering = ["pk"]
        constraints = [models.UniqueConstraint(fields=["listening", "name"], name="listener_once")]

    def __str__(self) -> str:
        return self.name


class Answer(models.Model):
    """What a listener took X for in one trial."""

    listener = models.ForeignKey(Listener, on_delete=models.CASCADE, related_name="answers")
    trial = models.PositiveSmallIntegerField()
    said = models.CharField(max_length=1, choices=[("A", "A"), ("B", "B")])
    right = models.BooleanField()

    class Meta:
        ordering = ["trial"]
        constraints = [
            models.UniqueConstraint(fields=["listener", "trial"], name="one_answer_a_trial")
        ]

    def __str__(self) -> str:
        return f"{self.listener}, {self.trial}: {self.said}"


class Place(models.Model):
    """Where a listener put a recording, 1 the most pleasant; ties have the same place."""

    listener = models.ForeignKey(Listener, on_delete=models.CASCADE, related_name="places")
    played = models.ForeignKey(Played, on_delete=models.CASCADE, related_name="places")
    place = models.PositiveSmallIntegerField()

    class Meta:
        constraints = [
            models.UniqueConstraint(fields=["listener", "played"], name="one_place_for_each"),
            models.CheckConstraint(condition=Q(place__gte=1), name="place_from_1_on"),
        ]

    def __str__(self) -> str:
        return f"{self.listener}: {self.played} {self.place}"
