"""What may be done in blind listening: open it, take part, answer, rank, close it into runs."""

from __future__ import annotations

import random
import secrets
from collections.abc import Mapping, Sequence
from dataclasses import dataclass

from django.core.exceptions import ValidationError
from django.db import IntegrityError, transaction
from django.utils import timezone

from hauch.bench.changes import many_runs
from hauch.bench.models import Run
from hauch.bench.runs import NewRun, Room, Typed, record_run
from hauch.core.judge.agreement import Agreement, agreement, places_given
from hauch.core.sound.blind import guessed
from hauch.people.audit import record
from hauch.people.models import User
from hauch.people.permissions import require
from hauch.rounds.models import Round, Test
from hauch.sound.models import (
    Answer,
    Listener,
    Listening,
    Place,
    Played,
    SoundAnalysis,
    SoundRecording,
)

CHANNEL = "listener_place"
LETTERS = "CDEFHJKLMNPRTUVW"
MOST_PLAYED, MOST_LISTENERS = 12, 500


@transaction.atomic
def open_listening(
    user: User,
    round: Round,
    kind: str,
    equal: str,
    recordings: Sequence[SoundRecording],
    *,
    trials: int = 10,
    test: Test | None = None,
) -> Listening:
    """Open a blind test of two recordings or a ranking of several.

    Raises
    ------
    PermissionDenied, ValidationError : too few or too many recordings, some that cannot be played
    """
    require(user, "run.record", round)
    count = len(recordings)
    if kind == Listening.Kind.ABX and count != 2:
        raise ValidationError(f"A, B, X needs two recordings; {count} are ticked.")
    if kind == Listening.Kind.RANKING and not 2 <= count <= MOST_PLAYED:
        raise ValidationError(f"A ranking needs 2 to {MOST_PLAYED} recordings; {count} are ticked.")
    for one in recordings:
        if (
            one.session.round_id != round.pk
            or one.state != SoundRecording.State.DONE
            or not one.analysis.is_current
        ):
            raise ValidationError(f"{one} is not analysed yet.")
    if test is not None and kind != Listening.Kind.RANKING:
        raise ValidationError("Only a ranking can count in a test.")
    made = Listening(
        round=round,
        kind=kind,
        equal=equal,
        trials=trials,
        test=test,
        opened_by=user,
        secret=secrets.token_urlsafe(24),
    )
    made.full_clean()
    made.save()
    codes = ["A", "B"] if kind == Listening.Kind.ABX else _codes(count)
    Played.objects.bulk_create(
        Played(listening=made, recording=one, code=code)
        for one, code in zip(recordings, codes, strict=True)
    )
    record(user, "listening.open", made, round, recordings=count)
    return made


def _codes(count: int) -> list[str]:
    found: set[str] = set()
    while len(found) < count:
        found.add(f"{secrets.choice(LETTERS)}{secrets.randbelow(90) + 10}")
    return random.SystemRandom().sample(sorted(found), count)


def take_part(listening: Listening, name: str) -> Listener:
    """Begin to listen under a name.

    Raises
    ------
    ValidationError : closed, no name, one that is taken, or too many listeners
    """
    _open(listening)
    name = " ".join(name.split())[:60]
    if not name:
        raise ValidationError("Say who listens: a name or initials.")
    if listening.listeners.count() >= MOST_LISTENERS:
        raise ValidationError(f"At most {MOST_LISTENERS} take part.")
    try:
        with transaction.atomic():
            return Listener.objects.create(listening=listening, name=name)
    except IntegrityError as problem:
        raise ValidationError(
            f"Somebody listens as “{name}” already. Take another name."
        ) from problem


def _open(listening: Listening) -> None:
    if not listening.open:
        raise ValidationError("This listening is closed. Thank you for coming.")


def x_of(listener: Listener, trial: int) -> int:
    """Which of the two X is in a trial: 0 for A, 1 for B."""
    return random.Random(f"{listener.seed}/{trial}").randrange(2)  # noqa: S311 no secret hangs on it


def in_own_order(listener: Listener) -> list[Played]:
    """What is played, in the listener's own order."""
    played = list(listener.listening.played.all())
    random.Random(listener.seed).shuffle(played)  # noqa: S311
    return played


def answer(listener: Listener, trial: int, said: str) -> None:
    """Say what X is in a trial; an answer that is there already stays.

    Raises
    ------
    ValidationError : closed, a trial that there is not, or neither A nor B
    """
    listening = listener.listening
    _open(listening)
    if said not in ("A", "B"):
        raise ValidationError("Say whether X is A or B.")
    if not 1 <= trial <= listening.trials:
        raise ValidationError("There is no such trial.")
    right = said == "AB"[x_of(listener, trial)]
    Answer.objects.get_or_create(
        listener=listener, trial=trial, defaults={"said": said, "right": right}
    )
    if listener.answers.count() >= listening.trials:
        Listener.objects.filter(pk=listener.pk, done_at=None).update(done_at=timezone.now())


@transaction.atomic
def rank(listener: Listener, given: Mapping[int, int]) -> None:
    """Put recordings in places, by their row; what is left out has none. It may be changed until the
    listening is closed.

    Raises
    ------
    ValidationError : closed, or places that cannot be
    """
    _open(listener.listening)
    played = {one.pk: one for one in listener.listening.played.all()}
    if any(not 1 <= place <= len(played) for place in given.values()) or not set(given) <= set(
        played
    ):
        raise ValidationError(f"Places go from 1 to {len(played)}.")
    if len(given) < 2:
        raise ValidationError("Put at least two in places.")
    Listener.objects.select_for_update().get(pk=listener.pk)
    listener.places.all().delete()
    Place.objects.bulk_create(
        Place(listener=listener, played=played[pk], place=place) for pk, place in given.items()
    )
    Listener.objects.filter(pk=listener.pk).update(done_at=timezone.now())


@dataclass(frozen=True, slots=True)
class Heard:
    """What A, B, X came to: right answers of all, and the probability of as many by guessing; of
    each listener (name, right, answers, probability).
    """

    right: int
    answers: int
    p: float | None
    by_listener: list[tuple[str, int, int, float | None]]


def heard(listening: Listening) -> Heard:
    """Answers so far."""
    rows = []
    for listener in listening.listeners.prefetch_related("answers"):
        given = [one.right for one in listener.answers.all()]
        rows.append(
            (
                listener.name,
                sum(given),
                len(given),
                guessed(sum(given), len(given)) if given else None,
            )
        )
    right, answers = sum(row[1] for row in rows), sum(row[2] for row in rows)
    return Heard(right, answers, guessed(right, answers) if answers else None, rows)


def ranked(listening: Listening) -> Agreement[str]:
    """Places so far, by code."""
    rankings = [
        {place.played.code: float(place.place) for place in listener.places.all()}
        for listener in listening.listeners.prefetch_related("places__played")
    ]
    return agreement(rankings, [one.code for one in listening.played.all()])


@transaction.atomic
def close(user: User, listening: Listening, room: Room | None = None) -> list[Run]:
    """End a listening; a ranking that counts in a test becomes a run of each recording that anybody
    ranked, with the place of each listener as a reading.

    Raises
    ------
    PermissionDenied, ValidationError : nothing is changed then
    """
    round = listening.round
    require(user, "run.record", round)
    locked = Listening.objects.select_for_update(of=("self",)).get(pk=listening.pk)
    _open(locked)
    made: list[Run] = []
    if locked.test is not None:
        if room is None:
            raise ValidationError("The air of the room is missing.")
        with many_runs():
            made = _runs(user, locked, room)
    locked.closed_at = timezone.now()
    locked.save(update_fields=["closed_at"])
    record(user, "listening.close", locked, round, runs=[run.pk for run in made])
    return made


def _runs(user: User, listening: Listening, room: Room) -> list[Run]:
    places: dict[int, list[float]] = {}
    for listener in listening.listeners.prefetch_related("places__played"):
        given = {place.played.code: float(place.place) for place in listener.places.all()}
        for code, share in places_given(given).items():
            places.setdefault(listening.played.get(code=code).pk, []).append(100 * share)
    if not places:
        raise ValidationError("Nobody has ranked anything yet.")
    made = []
    for played in listening.played.select_related(
        "recording__specimen__version__entry", "recording__reference__type"
    ):
        subject, shares = played.recording.subject, places.get(played.pk)
        if subject is None or not shares or listening.test is None:
            continue
        if played.recording.set_aside_at is not None:  # nothing is told of it any more
            continue
        readings = [
            Typed(value, f"{value:.4g}", "%", position)
            for position, value in enumerate(shares, start=1)
        ]
        made.append(
            record_run(
                user,
                NewRun(
                    test=listening.test,
                    subject=subject,
                    room=room,
                    started_at=timezone.now(),
                    readings={CHANNEL: readings},
                    note=f"Ranked by {len(shares)} listeners as {played.code}.",
                ),
            )
        )
    return made


def ready(listening: Listening) -> bool:
    """Whether all that is played is analysed by this version, as what is heard must be."""
    return all(one.is_current for one in playable(listening))


def playable(listening: Listening) -> list[SoundAnalysis]:
    """Analyses of what is played, in the order of the rows."""
    return [
        one.recording.analysis for one in listening.played.select_related("recording__analysis")
    ]
