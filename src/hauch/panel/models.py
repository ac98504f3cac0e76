"""A sitting of a panel: samples under blind codes, judges with a link each, and the points or places
they give.
"""

from __future__ import annotations

import secrets

from django.conf import settings
from django.db import models
from django.db.models import Q
from django.urls import reverse
from django.utils import timezone

from hauch.rounds.models import Round, Test
from hauch.stores.models import Picture, ReferenceSpecimen
from hauch.workshop.models import Specimen

BY_PLACES = "panel_places"
"""Procedure whose judges rank; those of the other one give points."""


class Sitting(models.Model):
    """Samples of one test that are judged together: faces by criteria, points up to the most, or
    places.
    """

    round = models.ForeignKey(Round, on_delete=models.CASCADE, related_name="sittings")
    test = models.ForeignKey(Test, on_delete=models.PROTECT, related_name="sittings")
    criteria = models.JSONField(help_text="names, such as overhang and bridging")
    weights = models.JSONField(
        default=list, blank=True, help_text="of the criteria; empty where all count alike"
    )
    faces = models.PositiveSmallIntegerField()
    face_names = models.JSONField(
        default=list, blank=True, help_text="of faces or angles; empty: by number"
    )
    most = models.FloatField(help_text="points at most")
    opened_by = models.ForeignKey(
        settings.AUTH_USER_MODEL, on_delete=models.PROTECT, related_name="+"
    )
    opened_at = models.DateTimeField(default=timezone.now)
    closed_at = models.DateTimeField(null=True, blank=True)

    class Meta:
        ordering = ["-opened_at"]
        constraints = [
            models.CheckConstraint(
                condition=Q(faces__gte=1, faces__lte=60, most__gt=0), name="sitting_sane"
            )
        ]

    def __str__(self) -> str:
        return f"sitting of {self.test}"

    def get_absolute_url(self) -> str:
        return reverse("panel:sitting", args=[self.round.slug, self.pk])

    @property
    def points_expected(self) -> int:
        """Points that each judge is asked for on one sample."""
        return self.faces * len(self.criteria)

    @property
    def by_places(self) -> bool:
        """Whether judges rank the samples, instead of giving points."""
        return self.test.procedure == BY_PLACES

    @property
    def weighed(self) -> list[tuple[str, float]]:
        """Criteria with what each counts."""
        weights = self.weights or [1.0] * len(self.criteria)
        return list(zip(self.criteria, weights, strict=True))

    @property
    def criteria_told(self) -> str:
        """Criteria in words, with what each counts where they do not count alike."""
        if not self.weights:
            return ", ".join(self.criteria)
        return ", ".join(f"{name} × {weight:g}" for name, weight in self.weighed)

    def item(self, face: int, criterion: int) -> str:
        """What is judged at a time: a criterion, at a face where there are several."""
        if self.faces == 1:
            return self.criteria[criterion]
        return f"{self.criteria[criterion]}, {self.face(face)}"

    def face(self, face: int) -> str:
        """Name of a face or angle."""
        return self.face_names[face - 1] if self.face_names else f"face {face}"

    @property
    def open(self) -> bool:
        """Whether points are still given."""
        return self.closed_at is None


class Sample(models.Model):
    """What one specimen made, under a code that tells nothing."""

    sitting = models.ForeignKey(Sitting, on_delete=models.CASCADE, related_name="samples")
    code = models.CharField(max_length=4)
    specimen = models.ForeignKey(
        Specimen, null=True, blank=True, on_delete=models.PROTECT, related_name="+"
    )
    reference = models.ForeignKey(
        ReferenceSpecimen, null=True, blank=True, on_delete=models.PROTECT, related_name="+"
    )

    class Meta:
        ordering = ["code"]
        constraints = [
            models.UniqueConstraint(fields=["sitting", "code"], name="sample_code_once"),
            models.CheckConstraint(
                condition=Q(specimen__isnull=False, reference__isnull=True)
                | Q(specimen__isnull=True, reference__isnull=False),
                name="sample_of_a_specimen_or_the_reference",
            ),
        ]

    def __str__(self) -> str:
        return self.code

    @property
    def name(self) -> str:
        """What it is of, for those who may know."""
        if self.specimen is not None:
            return f"{self.specimen.version.entry.name}, specimen {self.specimen.code}"
        return f"{self.reference}, reference"

    @property
    def short_name(self) -> str:
        """The entry, or the reference."""
        if self.specimen is not None:
            return self.specimen.version.entry.name
        return str(self.reference)


class FacePicture(models.Model):
    """A photograph of one face of a sample."""

    sample = models.ForeignKey(Sample, on_delete=models.CASCADE, related_name="pictures")
    face = models.PositiveSmallIntegerField()
    picture = models.ForeignKey(Picture, on_delete=models.PROTECT, related_name="+")

    class Meta:
        ordering = ["face"]
        constraints = [
            models.UniqueConstraint(fields=["sample", "face"], name="picture_once_of_a_face")
        ]

    def __str__(self) -> str:
        return f"{self.sample}, face {self.face}"


def new_seed() -> int:
    """What a judge's own order of samples comes from."""
    return secrets.randbelow(2**31)


class Judge(models.Model):
    """One judge with the digest of the link's secret, and the own order of samples."""

    sitting = models.ForeignKey(Sitting, on_delete=models.CASCADE, related_name="judges")
    name = models.CharField(max_length=60)
    digest = models.CharField(max_length=64, unique=True)
    seed = models.PositiveIntegerField(default=new_seed)
    done_at = models.DateTimeField(null=True, blank=True)

    class Meta:
        ordering = ["pk"]
        constraints = [
            models.UniqueConstraint(fields=["sitting", "name"], name="judge_once_in_a_sitting")
        ]

    def __str__(self) -> str:
        return self.name


class Mark(models.Model):
    """Points that a judge gave to one face of a sample for one criterion, or its place among all."""

    judge = models.ForeignKey(Judge, on_delete=models.CASCADE, related_name="marks")
    sample = models.ForeignKey(Sample, on_delete=models.CASCADE, related_name="marks")
    face = models.PositiveSmallIntegerField()
    criterion = models.PositiveSmallIntegerField()
    points = models.FloatField()

    class Meta:
        constraints = [
            models.UniqueConstraint(
                fields=["judge", "sample", "face", "criterion"], name="points_once"
            ),
            models.CheckConstraint(condition=Q(points__gte=0), name="points_not_below_0"),
        ]

    def __str__(self) -> str:
        return f"{self.judge} on {self.sample}: {self.points:g}"
