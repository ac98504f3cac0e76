"""What a version should measure: told before its first run, fixed from then on."""

from __future__ import annotations

import math
from datetime import datetime
from typing import Any

from django.core.exceptions import ValidationError
from django.db import transaction
from django.db.models import Q
from django.utils import timezone

from hauch.core import CORE_VERSION
from hauch.entries.actions import require_change
from hauch.entries.models import Prediction, Version
from hauch.people.audit import record
from hauch.people.models import User
from hauch.rounds.queries import procedures_of


@transaction.atomic
def predict(
    user: User,
    version: Version,
    procedure: str,
    value: float | None,
    u: float = 0.0,
    model: str = "",
    inputs: dict | None = None,
) -> Prediction | None:
    """Say what a version should measure, before its first run; a later word replaces an earlier
    one, None takes it back.

    Raises
    ------
    ValidationError : after the first run, or a figure that is none
    """
    require_change(user, version.entry)
    version = Version.objects.select_for_update().select_related("entry__round").get(pk=version.pk)
    if version.sealed_at is not None:
        raise ValidationError(
            f"{version} has been on the bench since"
            f" {timezone.localtime(version.sealed_at):%d %B %Y, %H:%M}; its predictions are fixed."
        )
    if procedure not in procedures_of({procedure}):
        raise ValidationError(f"“{procedure}” is no test that can be foretold.")
    source = Prediction.Source.MODEL if model else Prediction.Source.DESIGNER
    key: dict[str, Any] = {
        "version": version,
        "procedure": procedure,
        "source": source,
        "model": model,
    }
    if value is None:
        if Prediction.objects.filter(**key).delete()[0]:
            record(
                user,
                "entry.predict",
                version,
                version.entry.round,
                procedure=procedure,
                taken_back=True,
                model=model,
            )
        return None
    if not math.isfinite(value) or not math.isfinite(u) or u < 0:
        raise ValidationError(
            "A prediction needs a figure, and an uncertainty that is not negative."
        )
    made: dict[str, Any] = {
        "value": value,
        "u": u,
        "inputs": inputs or {},
        "core_version": CORE_VERSION,
        "made_by": user,
        "made_at": timezone.now(),
    }
    prediction, _ = Prediction.objects.update_or_create(**key, defaults=made)
    record(user, "entry.predict", version, version.entry.round, procedure=procedure, model=model)
    return prediction


def seal(version_id: int, at: datetime) -> None:
    """Fix a version's predictions: its first run is recorded. Part of the action that records the
    run.
    """
    Version.objects.filter(Q(sealed_at=None) | Q(sealed_at__gt=at), pk=version_id).update(
        sealed_at=at
    )
