"""What may be done with a season: begin it, put rounds in and out, carry a champion on."""

from __future__ import annotations

from collections.abc import Sequence

from django.core.exceptions import PermissionDenied, ValidationError
from django.db import transaction
from django.utils.text import slugify

from hauch.bench.models import Run
from hauch.people.audit import record
from hauch.people.models import User
from hauch.people.permissions import allowed, require
from hauch.rounds.models import Round, Test, TestReference
from hauch.rounds.references import bring_in, withdraw
from hauch.rounds.signals import rules_changed
from hauch.season.models import Champion, Season, SeasonRound
from hauch.season.queries import may_change
from hauch.stores.models import ReferenceSpecimen, ReferenceType
from hauch.verdict.models import StandingRow
from hauch.verdict.queries import standing_now
from hauch.workshop.models import Specimen

MOST_ROUNDS = 60


def begin(user: User, title: str, best: int | None) -> Season:
    """Begin a season.

    Raises
    ------
    PermissionDenied, ValidationError : no title, or one that is taken
    """
    require(user, "season.change")
    title = " ".join(title.split())
    slug = slugify(title)[:70] or "season"
    wanted, number = slug, 2
    while Season.objects.filter(slug=slug).exists():
        slug, number = f"{wanted}-{number}", number + 1
    made = Season(title=title, slug=slug, best=best, created_by=user)
    made.full_clean()
    made.save()
    record(user, "season.begin", made, None)
    return made


def _require(user: User, season: Season) -> None:
    if not may_change(user, season):
        raise PermissionDenied(
            "You may not change this season. Ask who began it, or a host of one of its rounds."
        )


@transaction.atomic
def change(user: User, season: Season, title: str, best: int | None) -> None:
    """Give it another title, or count another number of rounds.

    Raises
    ------
    PermissionDenied, ValidationError : no title, one that is taken, or no round counts
    """
    _require(user, season)
    season.title, season.best = " ".join(title.split()), best
    season.full_clean()
    season.save()
    record(user, "season.change", season, None, best=best)


@transaction.atomic
def put_in(user: User, season: Season, round: Round) -> None:
    """Put a round behind the last one.

    Raises
    ------
    PermissionDenied, ValidationError : it is in already, or there are too many
    """
    _require(user, season)
    require(user, "round.change", round)
    Season.objects.select_for_update().get(pk=season.pk)
    orders = list(season.places.values_list("order", flat=True))
    if season.places.filter(round=round).exists():
        raise ValidationError(f"{round} is in the season already.")
    if len(orders) >= MOST_ROUNDS:
        raise ValidationError(f"A season has at most {MOST_ROUNDS} rounds.")
    SeasonRound.objects.create(season=season, round=round, order=max(orders, default=0) + 1)
    record(user, "season.put_in", season, round)


@transaction.atomic
def take_out(user: User, season: Season, round: Round) -> None:
    """Take a round out; those behind it move up. Champions that were carried stay references where
    they are run.
    """
    _require(user, season)
    Season.objects.select_for_update().get(pk=season.pk)
    season.places.filter(round=round).delete()
    for number, place in enumerate(season.places.order_by("order"), 1):
        SeasonRound.objects.filter(pk=place.pk).update(order=number)
    record(user, "season.take_out", season, round)


def prints_to_carry(origin: Round) -> list[Specimen]:
    """Prints that may be carried on from a round: of who is in the first place, ready for the bench,
    and run in that round.
    """
    _, standing = standing_now(origin)
    if standing is None:
        return []
    rows = standing.rows.filter(state=StandingRow.State.RANKED, rank=1, version__isnull=False)
    found: list[Specimen] = []
    for row in rows:
        found += (
            Specimen.objects.filter(
                version__entry=row.entry_id,
                version__number=row.version or 0,
                state=Specimen.State.READY,
                runs__test__round=origin,
                runs__state=Run.State.VALID,
            )
            .distinct()
            .select_related("version__entry")
        )
    return found


@transaction.atomic
def carry_on(
    user: User, season: Season, specimen: Specimen, into: Round, confirmed: bool
) -> Champion:
    """Have a winner's print run in a later round as a second reference, beside the round's own. Its
    limit of speed goes with it.

    Raises
    ------
    PermissionDenied, ValidationError : with what is missing; nothing is changed then
    """
    _require(user, season)
    require(user, "reference.change", into)
    origin = specimen.version.entry.round
    orders = dict(season.places.values_list("round", "order"))
    if not allowed(user, "verdict.view_early", origin) or specimen not in prints_to_carry(origin):
        raise ValidationError(
            f"{specimen} cannot be carried on: it must be a print of who won, be ready for the bench,"
            " and have been run in its round."
        )
    if not orders.get(origin.pk, 0) < orders.get(into.pk, 0):
        raise ValidationError(f"{into} does not come after {origin} in this season.")
    tests = _tests(origin, into)
    if not confirmed:
        raise ValidationError(
            "Look the print over first, and confirm it: no crack, balanced, guard up, and not above its"
            " limit of speed."
        )
    entry = specimen.version.entry
    if Champion.objects.filter(specimen=specimen, into=into).exists():
        raise ValidationError(f"{entry} is a second reference of {into} already.")
    kind, _ = ReferenceType.objects.get_or_create(
        name=f"{entry.name}, champion of {origin.title}"[:80],
        defaults={
            "description": "A print that won a round; run again in later ones, it tells what changed."
        },
    )
    reference, made = ReferenceSpecimen.objects.get_or_create(
        type=kind,
        serial=specimen.code,
        defaults={"cap": specimen.cap, "note": f"{specimen}, print of {entry}."},
    )
    if not made and not reference.may_run:
        raise ValidationError(f"{reference} is {reference.get_state_display()}.")
    bring_in(user, into, reference, tests)
    champion = Champion.objects.create(
        season=season,
        entry=entry,
        specimen=specimen,
        origin=origin,
        into=into,
        reference=reference,
        by=user,
    )
    record(user, "season.carry_on", champion, into, specimen=specimen.pk)
    return champion


def _tests(origin: Round, into: Round) -> Sequence[Test]:
    """Tests of a round in which a champion of another can be run: those that read the same figure and
    have a reference in use.

    Raises
    ------
    ValidationError : there is none
    """
    measured = set(origin.tests.current().values_list("procedure", flat=True))
    shared = list(into.tests.current().filter(procedure__in=measured))
    if not shared:
        raise ValidationError(f"{into} measures nothing that {origin} did: nothing can be bridged.")
    in_use = set(
        TestReference.objects.filter(
            test__in=shared, until__isnull=True, bridging=False
        ).values_list("test", flat=True)
    )
    found = [test for test in shared if test.pk in in_use]
    if not found:
        raise ValidationError(
            f"{into} has no reference in use yet. Bring its own in first: the champion is run beside it."
        )
    return found


def follow_print(specimen: Specimen) -> None:
    """Let references that are a print be what the workshop says of it: its limit of speed, and out of
    use once it is not ready for the bench any more.
    """
    found = ReferenceSpecimen.objects.filter(
        pk__in=Champion.objects.filter(specimen=specimen).values("reference")
    )
    found.exclude(cap=specimen.cap).update(cap=specimen.cap)
    if specimen.state == Specimen.State.READY:
        return
    for reference in found.filter(state__in=["new", "in_use"]).select_related("type"):
        touched = withdraw(
            reference,
            f"the print is {specimen.get_state_display()}.",
            broken=specimen.state == Specimen.State.BROKEN,
        )
        for round in touched.values():
            rules_changed.send(Round, round=round)
