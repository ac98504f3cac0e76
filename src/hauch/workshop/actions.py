"""What can be done with specimens: add one, weigh it, say in which state it is."""

from __future__ import annotations

from django.core.exceptions import ValidationError
from django.db import transaction

from hauch.entries.models import Entry, Version
from hauch.people.audit import record
from hauch.people.models import User
from hauch.people.permissions import require
from hauch.workshop.models import Specimen


@transaction.atomic
def add_specimen(user: User, version: Version, code: str, material: str = "", mass: float | None = None) -> Specimen:
    """Add a printed specimen of a version; mass in kg.

    Raises
    ------
    PermissionDenied, ValidationError : withdrawn entry, a code that is taken, an impossible mass
    """
    round = version.entry.round
    require(user, "specimen.change", round)
    if version.entry.state == Entry.State.WITHDRAWN:
        raise ValidationError(f"{version.entry} was withdrawn, so it gets no further specimen.")
    if Specimen.objects.filter(version__entry__round=round, code__iexact=code.strip()).exists():
        raise ValidationError(f"The code {code.strip()} is on another specimen of this round. Choose another.")
    specimen = Specimen(version=version, code=code.strip(), material=material.strip(), mass=mass)
    specimen.full_clean()
    specimen.save()
    record(user, "specimen.add", specimen, round)
    return specimen


@transaction.atomic
def set_state(user: User, specimen: Specimen, state: str) -> Specimen:
    """Say in which state a specimen is."""
    round = specimen.version.entry.round
    require(user, "specimen.change", round)
    if state not in Specimen.State.values:
        raise ValidationError("Choose printed, ready for the bench, or broken.")
    before, specimen.state = specimen.state, state
    specimen.save(update_fields=["state"])
    record(user, "specimen.state", specimen, round, before=before, after=state)
    return specimen
