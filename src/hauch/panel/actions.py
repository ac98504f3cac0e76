"""What may be done at a sitting: open it, give points, finish, close it into runs."""

from __future__ import annotations

import hashlib
import random
import secrets
from collections import Counter
from collections.abc import Iterable, Sequence

from django.core.exceptions import ValidationError
from django.db import transaction
from django.utils import timezone

from hauch.bench.changes import many_runs
from hauch.bench.models import Run
from hauch.bench.reduction import places_of
from hauch.bench.runs import NewRun, Room, Subject, Typed, record_run
from hauch.core.measure.rigs import panel
from hauch.panel.models import BY_PLACES, FacePicture, Judge, Mark, Sample, Sitting
from hauch.panel.results import told
from hauch.people.audit import record
from hauch.people.models import User
from hauch.people.permissions import require
from hauch.rounds.models import Test
from hauch.stores.pictures import keep_picture

POINTS, PLACES = ("panel_points", "points"), ("panel_place", "%")
"""Channels with their units."""
LETTERS = "ACDEFHJKLMNPRTUVWXY"
"""Letters of codes: none that looks like another or like a figure."""
MOST_SAMPLES, MOST_CRITERIA, MOST_WEIGHT = 200, 8, 10.0


def is_panel(test: Test) -> bool:
    """Whether a test is judged by a panel."""
    return test.how.rig == panel.RIG.key


def _digest(secret: str) -> str:
    return hashlib.sha256(secret.encode()).hexdigest()


def _codes(count: int) -> list[str]:
    """Different codes of a letter and two figures, in no order."""
    found: set[str] = set()
    while len(found) < count:
        found.add(f"{secrets.choice(LETTERS)}{secrets.randbelow(90) + 10}")
    return random.SystemRandom().sample(sorted(found), count)


def _names(given: Iterable[str], what: str, longest: int) -> list[str]:
    names = [" ".join(name.split())[:longest] for name in given]
    names = [name for name in names if name]
    if len({name.casefold() for name in names}) != len(names):
        raise ValidationError(f"Two {what} have the same name. Give each its own.")
    return names


@transaction.atomic
def open_sitting(
    user: User,
    test: Test,
    subjects: Sequence[Subject],
    judges: Iterable[str],
    criteria: Sequence[tuple[str, float]],
    faces: Iterable[str] = (),
) -> tuple[Sitting, dict[str, str]]:
    """Open a sitting; gives it with the secret of each judge's link, which is shown once.

    Parameters
    ----------
    criteria : names with what each counts; none for the result as a whole
    faces : names of the faces or angles; none where numbers will do

    Raises
    ------
    PermissionDenied, ValidationError : not a panel, nothing to judge, or not as many judges as the
        test has
    """
    require(user, "run.record", test.round)
    if not is_panel(test):
        raise ValidationError(f"{test} is not judged by a panel.")
    names = _names(judges, "judges", 60)
    asked = _names((name for name, _ in criteria), "criteria", 40) or ["Result"]
    weights = [weight for name, weight in criteria if name.split()] or [1.0]
    wanted = places_of(test)
    if len(names) != wanted:
        raise ValidationError(
            f"The panel of this test has {wanted} {'judge' if wanted == 1 else 'judges'}, and"
            f" {len(names)} {'is' if len(names) == 1 else 'are'} named. Name as many, or change the rig."
        )
    if not subjects:
        raise ValidationError("Tick at least one sample that is judged.")
    if len(subjects) > MOST_SAMPLES or len(asked) > MOST_CRITERIA:
        raise ValidationError(
            f"A sitting has at most {MOST_SAMPLES} samples and {MOST_CRITERIA} criteria."
        )
    if any(not 0 <= one <= MOST_WEIGHT for one in weights) or not sum(weights):
        raise ValidationError(
            f"A criterion counts between 0 and {MOST_WEIGHT:g}, and one at least more than nothing."
        )
    for subject in subjects:
        subject.check(test.round)
    constants = test.rig.pairs
    count = int(constants.get("faces", (1.0, 0.0))[0])
    angles = _names(faces, "faces or angles", 40)
    if angles and len(angles) != count:
        raise ValidationError(
            f"The rig has {count} {'face or angle' if count == 1 else 'faces or angles'}, and"
            f" {len(angles)} {'is' if len(angles) == 1 else 'are'} named. Name as many, or none."
        )
    if test.procedure == BY_PLACES and len(subjects) < 2:
        raise ValidationError("Places need at least two samples. Tick another one.")
    sitting = Sitting.objects.create(
        round=test.round,
        test=test,
        criteria=asked,
        weights=weights if len(set(weights)) > 1 else [],
        faces=count,
        face_names=angles,
        most=constants.get("top", (10.0, 0.0))[0],
        opened_by=user,
    )
    Sample.objects.bulk_create(
        Sample(sitting=sitting, code=code, **subject.fields)
        for code, subject in zip(_codes(len(subjects)), subjects, strict=True)
    )
    links = {name: secrets.token_urlsafe(24) for name in names}
    Judge.objects.bulk_create(
        Judge(sitting=sitting, name=name, digest=_digest(secret)) for name, secret in links.items()
    )
    record(user, "panel.open", sitting, test.round, judges=len(names), samples=len(subjects))
    return sitting, links


@transaction.atomic
def new_link(user: User, judge: Judge) -> str:
    """Another link for a judge; the one before no longer opens."""
    sitting = judge.sitting
    require(user, "run.record", sitting.round)
    _still_open(sitting)
    secret = secrets.token_urlsafe(24)
    judge.digest = _digest(secret)
    judge.save(update_fields=["digest"])
    record(user, "panel.link", sitting, sitting.round, judge=judge.name)
    return secret


def judge_of(secret: str) -> Judge | None:
    """The judge of a link."""
    return (
        Judge.objects.select_related("sitting__round", "sitting__test")
        .filter(digest=_digest(secret))
        .first()
    )


def _still_open(sitting: Sitting) -> None:
    if not sitting.open:
        raise ValidationError("The sitting is closed; its points no longer change.")


def in_own_order(judge: Judge) -> list[Sample]:
    """Samples in the judge's own order, so that no sample is first for all."""
    samples = list(judge.sitting.samples.prefetch_related("pictures__picture"))
    random.Random(judge.seed).shuffle(samples)  # noqa: S311  # an order, no secret
    return samples


@transaction.atomic
def give(judge: Judge, points: dict[tuple[int, int, int], float | None]) -> int:
    """Keep points by sample, face and criterion; None takes them back. Gives how many are there now.

    Raises
    ------
    ValidationError : closed, no such place, or points that cannot be
    """
    sitting = _locked(judge)
    _still_open(sitting)
    samples = set(sitting.samples.values_list("pk", flat=True))
    for (sample, face, criterion), value in points.items():
        inside = 1 <= face <= sitting.faces and 0 <= criterion < len(sitting.criteria)
        if sample not in samples or not inside:
            raise ValidationError("There is no such sample in this sitting.")
        if value is None:
            judge.marks.filter(sample=sample, face=face, criterion=criterion).delete()
            Judge.objects.filter(pk=judge.pk).update(done_at=None)
            continue
        if sitting.by_places and not (1 <= value <= len(samples) and value == int(value)):
            raise ValidationError(
                f"Places are whole numbers from 1 to {len(samples)}; {value:g} cannot be."
            )
        if not sitting.by_places and not 0 <= value <= sitting.most:
            raise ValidationError(f"Points go from 0 to {sitting.most:g}; {value:g} cannot be.")
        Mark.objects.update_or_create(
            judge=judge,
            sample_id=sample,
            face=face,
            criterion=criterion,
            defaults={"points": value},
        )
    return judge.marks.count()


@transaction.atomic
def finish(judge: Judge) -> None:
    """The judge has given all points, or has put at least two samples in places for all that is
    judged.

    Raises
    ------
    ValidationError : closed, or some are missing
    """
    sitting = _locked(judge)
    _still_open(sitting)
    missing = sitting.points_expected * sitting.samples.count() - judge.marks.count()
    if sitting.by_places:
        _ranked_enough(judge, sitting)
    elif missing:
        raise ValidationError(
            f"{missing} {'place has' if missing == 1 else 'places have'} no points yet. Give them, then"
            " finish."
        )
    judge.done_at = timezone.now()
    judge.save(update_fields=["done_at"])


def _ranked_enough(judge: Judge, sitting: Sitting) -> None:
    given = Counter(judge.marks.values_list("face", "criterion"))
    for face in range(1, sitting.faces + 1):
        for criterion in range(len(sitting.criteria)):
            if given[(face, criterion)] < 2:
                raise ValidationError(
                    f"{sitting.item(face, criterion).capitalize()}: put at least two samples in places,"
                    " then finish."
                )


def _locked(judge: Judge) -> Sitting:
    """The sitting of a judge, held until the end of the transaction."""
    return (
        Sitting.objects.select_for_update(of=("self",))
        .select_related("test")
        .get(pk=judge.sitting_id)
    )


@transaction.atomic
def add_picture(user: User, sample: Sample, face: int, data: bytes) -> FacePicture:
    """A photograph of a face; one that was there is replaced.

    Raises
    ------
    PermissionDenied, ValidationError : closed, no such face, or not a picture
    """
    sitting = sample.sitting
    require(user, "run.record", sitting.round)
    _still_open(sitting)
    if not 1 <= face <= sitting.faces:
        raise ValidationError(f"A sample has faces 1 to {sitting.faces}.")
    made, _ = FacePicture.objects.update_or_create(
        sample=sample, face=face, defaults={"picture": keep_picture(user, data)}
    )
    return made


@transaction.atomic
def close(user: User, sitting: Sitting, room: Room) -> list[Run]:
    """Close a sitting: each sample becomes a run with the points of all judges.

    Raises
    ------
    PermissionDenied, ValidationError : closed already, or a judge is not done
    """
    require(user, "run.record", sitting.round)
    sitting = (
        Sitting.objects.select_for_update(of=("self",))
        .select_related("test__round", "test__rig", "test__setting", "round")
        .get(pk=sitting.pk)
    )
    _still_open(sitting)
    judges = list(sitting.judges.all())
    waiting = [judge.name for judge in judges if judge.done_at is None]
    if waiting:
        raise ValidationError(
            f"{', '.join(waiting)} {'has' if len(waiting) == 1 else 'have'} not finished yet."
        )
    channel, _ = PLACES if sitting.by_places else POINTS
    made = []
    with many_runs():
        for sample, readings in _readings(sitting, judges).items():
            if not readings:  # nobody put it in a place
                continue
            new = NewRun(
                sitting.test,
                Subject(specimen=sample.specimen, reference=sample.reference),
                room,
                timezone.now(),
                {channel: readings},
                note=f"Sitting {sitting.pk}, code {sample.code}: {sitting.criteria_told}.",
            )
            made.append(record_run(user, new))
    sitting.closed_at = timezone.now()
    sitting.save(update_fields=["closed_at"])
    record(user, "panel.close", sitting, sitting.round, runs=len(made))
    return made


def _readings(sitting: Sitting, judges: Sequence[Judge]) -> dict[Sample, list[Typed]]:
    """What the runs are read with, by sample: all points as they were given where all criteria count
    alike, else what each judge's points, or places, come to.
    """
    samples = list(sitting.samples.select_related("specimen__version__entry", "reference__type"))
    if not sitting.by_places and not sitting.weights:
        return {
            sample: [
                Typed(mark.points, f"{mark.points:g}", POINTS[1], place)
                for place, judge in enumerate(judges, 1)
                for mark in judge.marks.filter(sample=sample).order_by("face", "criterion")
            ]
            for sample in samples
        }
    _, unit = PLACES if sitting.by_places else POINTS
    totals = told(sitting).by_judge
    return {
        sample: [
            Typed(totals[judge.pk][sample.pk], f"{totals[judge.pk][sample.pk]:.4g}", unit, place)
            for place, judge in enumerate(judges, 1)
            if sample.pk in totals[judge.pk]
        ]
        for sample in samples
    }
