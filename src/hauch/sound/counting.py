"""What a recording tells becomes runs of the rules' tests: level, loudness, tones, sharpness."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

from django.core.exceptions import ValidationError
from django.db import transaction

from hauch.bench.models import Run
from hauch.bench.runs import NewRun, Room, Typed, record_run, void_run
from hauch.core.measure.channels import CHANNELS
from hauch.core.measure.procedures import fed_by
from hauch.core.measure.rigs import sound_spot
from hauch.people.audit import record
from hauch.people.models import User
from hauch.people.permissions import require
from hauch.rounds.models import Round, Test
from hauch.rounds.queries import round_tests
from hauch.sound.models import SoundAnalysis, SoundRecording
from hauch.sound.queries import recorded_unlike

MOST_OFF = 0.03
"""A reading of a counted run and what the recording tells now differ by less than this [dB, sone,
acum]: digits of what was stored."""


def readings_of(stored: SoundAnalysis) -> dict[str, float]:
    """What an analysis gives to a run, by channel."""
    told = stored.told
    found: dict[str, float | None] = {
        "sound_level": told.weighted["A"].mean,
        "background_level": told.background,
        "loudness": told.loudness,
        "sharpness": told.sharpness,
        "tonal_adjustment": told.adjustment,
        "tone_audibility": told.audibility,
    }
    return {key: round(value, 3) for key, value in found.items() if value is not None}


@dataclass(frozen=True, slots=True)
class Countable:
    """A test that a recording can be counted in, the run that it was counted in, and whether that is
    of an earlier analysis.
    """

    test: Test
    run: Run | None = None
    stale: bool = False


def countable(recording: SoundRecording, stored: SoundAnalysis, round: Round) -> list[Countable]:
    """Tests of the round's sound spots that a recording feeds."""
    if recording.subject is None or why_not(recording, stored):
        return []
    at_hand = readings_of(stored)
    counted = {
        run.test_id: run
        for run in recording.counts.exclude(state=Run.State.VOID).prefetch_related("readings")
    }
    heard = recording.run  # what a meter read meanwhile is not counted a second time
    if heard is not None and heard.state == Run.State.VALID:
        counted.setdefault(heard.test_id, heard)
    found = []
    for test in round_tests(round):
        if test.how.rig != sound_spot.RIG.key or not fed_by(test.how, set(at_hand)):
            continue
        run = counted.get(test.pk)
        stale = run is not None and run != heard and _stale(run, at_hand)
        found.append(Countable(test, run, stale))
    return found


def _stale(run: Run, at_hand: dict[str, float]) -> bool:
    return any(
        abs(one.value - at_hand.get(one.channel, one.value)) > MOST_OFF
        for one in run.readings.all()
    )


def why_not(recording: SoundRecording, stored: SoundAnalysis) -> str:
    """Why a recording cannot be counted; empty where it can."""
    if recording.state != SoundRecording.State.DONE:
        return "It is not analysed yet."
    if stored.pascals is None:
        return "Its session is not calibrated, so its levels are no sound pressure levels."
    if (spoilt := stored.told.spoilt) is not None:
        return f"No level can be told: {spoilt.fault}."
    return ""


@transaction.atomic
def count(user: User, recording: SoundRecording, tests: Sequence[Test], room: Room) -> list[Run]:
    """Make what a recording tells a run of each of the tests. A run that was made of an earlier
    analysis of it becomes void.

    Raises
    ------
    PermissionDenied, ValidationError : nothing is saved then
    """
    round = recording.session.round
    require(user, "run.record", round)
    locked = (
        SoundRecording.objects.select_for_update(of=("self",))
        .select_related("session", "specimen__version__entry", "reference__type")
        .get(pk=recording.pk)
    )
    locked.session.round = round
    stored = SoundAnalysis.objects.current().filter(recording=locked).first()
    if stored is None or locked.subject is None:
        raise ValidationError("Only an analysed recording of a part can be counted.")
    if reason := why_not(locked, stored):
        raise ValidationError(reason)
    offered = {one.test.pk: one for one in countable(locked, stored, round)}
    wanted = [offered[test.pk] for test in tests if test.pk in offered]
    if not wanted:
        raise ValidationError("Tick at least one test that the recording is counted in.")
    note = _held_alike(locked, [one.test for one in wanted])
    made = []
    for one in wanted:
        if one.run is not None and not one.stale:
            continue
        if one.run is not None:
            void_run(user, one.run, "Its recording was analysed anew, and is counted again.")
        readings = _typed(stored, one.test)
        made.append(
            record_run(
                user,
                NewRun(
                    test=one.test,
                    subject=locked.subject,
                    room=room,
                    started_at=locked.recorded_at,
                    readings=readings,
                    note=f"From the recording {locked.name}. {note}".strip(),
                ),
            )
        )
    if not made:
        raise ValidationError("It is counted in these tests already.")
    locked.counts.add(*made)
    record(user, "sound.count", locked, round, runs=[run.pk for run in made])
    return made


def _typed(stored: SoundAnalysis, test: Test) -> dict[str, list[Typed]]:
    """What an analysis gives to a test, as readings."""
    used = {channel for group in test.how.needs for channel in group}
    return {
        key: [Typed(value, f"{value:g}", CHANNELS[key].unit)]
        for key, value in readings_of(stored).items()
        if key in used
    }


def _held_alike(recording: SoundRecording, tests: Sequence[Test]) -> str:
    """Refuse what was recorded in another way than what the tests hold already, unless a host allows
    it: then the note that stays with the run.

    Raises
    ------
    ValidationError : with what differs
    """
    others = (
        SoundRecording.objects.filter(counts__test__in=tests)
        .exclude(counts__state=Run.State.VOID)
        .exclude(pk=recording.pk)
        .select_related("session", "run")
        .order_by("pk")
    )
    first = others.first()
    if first is None or not (differs := recorded_unlike(recording, first)):
        return ""
    if recording.session.why_comparable:
        return (
            f"Recorded in another way than {first.name} ({differs}); a host allowed it:"
            f" {recording.session.why_comparable}"
        )
    raise ValidationError(
        f"What is counted in this test was recorded in another way: {differs}. Record it in the same"
        " way, or have a host allow it on the page of its session, with the reason."
    )
