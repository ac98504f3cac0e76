"""The reference of a round: brought in, bridged, changed, retired, broken."""

from __future__ import annotations

from collections.abc import Sequence
from datetime import datetime

from django.core.exceptions import ValidationError
from django.db import transaction
from django.utils import timezone

from hauch.people.audit import record
from hauch.people.clock import house_day
from hauch.people.models import User
from hauch.people.permissions import require
from hauch.rounds.models import Round, Test, TestReference
from hauch.rounds.signals import reference_out, rules_changed
from hauch.stores.models import ReferenceSpecimen


def _check_tests(round: Round, tests: Sequence[Test]) -> None:
    if not tests:
        raise ValidationError({"tests": "Choose at least one test."})
    if any(test.round_id != round.pk for test in tests):
        raise ValidationError({"tests": "A test is not of this round."})


def _check_specimen(specimen: ReferenceSpecimen) -> None:
    if not specimen.may_run:
        raise ValidationError(
            {
                "specimen": (
                    f"{specimen} is {specimen.get_state_display()}. Choose one that can still be"
                    " run."
                )
            }
        )


@transaction.atomic
def bring_in(
    user: User,
    round: Round,
    specimen: ReferenceSpecimen,
    tests: Sequence[Test],
    since: datetime | None = None,
) -> None:
    """Let a specimen be run beside the one in use, so that the two are bridged.

    Raises
    ------
    PermissionDenied, ValidationError : it cannot be run, or no test is chosen
    """
    require(user, "reference.change", round)
    _check_tests(round, tests)
    _check_specimen(specimen)
    since = since or timezone.now()
    for test in tests:
        if not test.references.filter(specimen=specimen, until__isnull=True).exists():
            in_use = test.references.filter(until__isnull=True, bridging=False).exists()
            TestReference.objects.create(test=test, specimen=specimen, since=since, bridging=in_use)
    if specimen.state == ReferenceSpecimen.State.NEW:
        ReferenceSpecimen.objects.filter(pk=specimen.pk).update(
            state=ReferenceSpecimen.State.IN_USE
        )
    record(user, "reference.bring_in", specimen, round, tests=[test.key for test in tests])
    rules_changed.send(Round, round=round)


@transaction.atomic
def change_to(
    user: User,
    round: Round,
    specimen: ReferenceSpecimen,
    tests: Sequence[Test],
    reason: str,
    since: datetime | None = None,
) -> None:
    """Bracket tests with another specimen from a moment on.

    Raises
    ------
    PermissionDenied, ValidationError : it cannot be run, no test, no reason, or a moment before the
        one in use began
    """
    require(user, "reference.change", round)
    _check_tests(round, tests)
    _check_specimen(specimen)
    if not reason.strip():
        raise ValidationError({"reason": "Say in a few words why the reference changes."})
    since = since or timezone.now()
    for test in tests:
        active = (
            test.references.select_for_update()
            .filter(until__isnull=True, bridging=False)
            .exclude(specimen=specimen)
        )
        for row in active:
            if row.since > since:
                raise ValidationError(
                    {
                        "since": (
                            f"{row.specimen} is the reference of {test.label} only since"
                            f" {timezone.localtime(row.since):%d %b %Y %H:%M}. Give a later moment."
                        )
                    }
                )
            row.until = since
            row.save(update_fields=["until"])
        mine = test.references.filter(specimen=specimen, until__isnull=True).first()
        if mine is None:
            TestReference.objects.create(test=test, specimen=specimen, since=since)
        elif mine.bridging:
            mine.bridging = False
            mine.save(update_fields=["bridging"])
    ReferenceSpecimen.objects.filter(pk=specimen.pk).update(state=ReferenceSpecimen.State.IN_USE)
    record(
        user,
        "reference.change",
        specimen,
        round,
        tests=[test.key for test in tests],
        reason=reason.strip(),
    )
    rules_changed.send(Round, round=round)


@transaction.atomic
def take_out(
    user: User, round: Round, specimen: ReferenceSpecimen, reason: str, *, broken: bool
) -> None:
    """Retire a specimen, or note that it broke: it is run no more, in no round. Its runs stay and
    count.

    Raises
    ------
    PermissionDenied, ValidationError : no reason, or it is out already
    """
    require(user, "reference.change", round)
    if not reason.strip():
        raise ValidationError({"reason": "Say in a few words what happened to it."})
    specimen = ReferenceSpecimen.objects.select_for_update().get(pk=specimen.pk)
    _check_specimen(specimen)
    touched = withdraw(specimen, reason, broken=broken)
    record(
        user,
        "reference.broken" if broken else "reference.retire",
        specimen,
        round,
        reason=reason.strip(),
    )
    for one in {**touched, round.pk: round}.values():
        rules_changed.send(Round, round=one)


def withdraw(specimen: ReferenceSpecimen, reason: str, *, broken: bool) -> dict[int, Round]:
    """Mark a specimen as out, and end its use in all tests; the rounds of those, by key."""
    specimen.state = ReferenceSpecimen.State.BROKEN if broken else ReferenceSpecimen.State.RETIRED
    today = house_day().strftime("%d %b %Y")
    specimen.note = f"{specimen.note} {specimen.get_state_display().capitalize()} on {today}: {reason.strip()}".strip()
    specimen.save(update_fields=["state", "note"])
    reference_out.send(ReferenceSpecimen, specimen=specimen)
    rows = TestReference.objects.filter(specimen=specimen, until__isnull=True).select_related(
        "test__round"
    )
    touched = {row.test.round_id: row.test.round for row in rows}
    rows.filter(since__lte=timezone.now()).update(until=timezone.now())
    rows.filter(since__gt=timezone.now()).delete()
    return touched
