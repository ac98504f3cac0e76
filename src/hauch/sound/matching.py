"""Which part and which run a sound file belongs to, guessed from its name and its time; a person
confirms it.
"""

from __future__ import annotations

import re
from dataclasses import dataclass
from datetime import datetime, timedelta

from django.db.models import Q

from hauch.bench.models import Run
from hauch.bench.queries import runs
from hauch.bench.runs import Subject
from hauch.entries.models import Entry
from hauch.rounds.models import Round
from hauch.sound.models import SoundRecording
from hauch.stores.models import ReferenceSpecimen
from hauch.workshop.models import Specimen

ROOM_WORDS = ("background", "room", "ambient", "noise floor", "silence", "hintergrund", "fremdger")
TONE_WORDS = ("calib", "kalib", "94db", "94 db", "114db", "114 db", "pistonphone")
REFERENCE_WORDS = ("reference", "referenz", "stock")
NEAR = timedelta(minutes=20)
"""A run that began within this of a recording may be the one that is heard."""


@dataclass(frozen=True, slots=True)
class Guess:
    """What a file is taken for, and by what: its name, its time, or nothing."""

    kind: str
    specimen: Specimen | None = None
    reference: ReferenceSpecimen | None = None
    run: Run | None = None
    by: str = ""


def plain(text: str) -> str:
    """Letters and figures of a name, in small letters with single spaces."""
    return " ".join(re.findall(r"[^\W_]+", text.casefold()))


def guess(round: Round, name: str, recorded_at: datetime) -> Guess:
    """Take a file for something.

    Parameters
    ----------
    name : of the file
    recorded_at : when it began, as far as its file or the browser tells
    """
    words = plain(name.rpartition(".")[0] or name)
    specimen = _named_specimen(round, words)
    beside = words  # an entry may be called after a room
    if specimen is not None:
        beside = beside.replace(plain(specimen.version.entry.name), "")
    if _begins(beside, TONE_WORDS):
        return Guess(SoundRecording.Kind.TONE, by="name")
    if _begins(beside, ROOM_WORDS):
        return Guess(SoundRecording.Kind.BACKGROUND, by="name")
    known = runs().filter(test__round=round).with_names()
    numbered = re.search(r"\brun (\d{1,12})\b", words)
    if numbered and (run := known.filter(pk=int(numbered[1])).first()) is not None:
        return of_run(run, "name")
    reference = None if specimen is not None else _named_reference(round, words)
    if specimen is not None or reference is not None:
        run = run_near(round, recorded_at, Subject(specimen, reference))
        return Guess(SoundRecording.Kind.PART, specimen, reference, run, by="name")
    run = run_near(round, recorded_at)
    return of_run(run, "time") if run is not None else Guess(SoundRecording.Kind.PART)


def run_near(round: Round, recorded_at: datetime, subject: Subject | None = None) -> Run | None:
    """The run that began nearest to a recording, within `NEAR`: of one part, or of any."""
    near = (
        runs()
        .filter(test__round=round)
        .filter(started_at__gte=recorded_at - NEAR, started_at__lte=recorded_at + NEAR)
        .with_names()
    )
    if subject is not None:
        near = near.filter(specimen=subject.specimen, reference=subject.reference)
    return _nearest(near, recorded_at)


def _begins(words: str, known: tuple[str, ...]) -> bool:
    """Whether a word begins as one that is known; a mushroom is no room."""
    return any(f" {word}" in f" {words}" for word in known)


def of_run(run: Run, by: str) -> Guess:
    """The part of a run."""
    return Guess(SoundRecording.Kind.PART, run.specimen, run.reference, run, by)


def _nearest(found, recorded_at: datetime) -> Run | None:
    """The run that began nearest; of several of one start that of a sound spot."""
    rows = sorted(
        found[:200],
        key=lambda r: (abs(r.started_at - recorded_at), r.test.how.rig != "sound_spot", r.pk),
    )
    return rows[0] if rows else None


def _named_specimen(round: Round, words: str) -> Specimen | None:
    """The specimen whose entry's name, or whose code, stands in the words; the longest name where
    several do.
    """
    prints = Specimen.objects.filter(
        ~Q(version__entry__state=Entry.State.WITHDRAWN), version__entry__round=round
    ).select_related("version__entry")
    text = f" {words} "
    best: tuple[int, int, Specimen] | None = None
    for one in prints.order_by("-version__number", "pk")[:2000]:
        score = sum(
            len(part)
            for part in (plain(one.version.entry.name), plain(one.code))
            if part and f" {part} " in text
        )
        if score and (best is None or score > best[0]):
            best = (score, one.pk, one)
    return best[2] if best else None


def _named_reference(round: Round, words: str) -> ReferenceSpecimen | None:
    found = ReferenceSpecimen.objects.filter(
        Q(runs__test__round=round) | Q(tests__test__round=round)
    ).select_related("type")
    rows = list(found.distinct())
    text = f" {words} "
    for one in rows:
        if f" {plain(one.serial)} " in text or f" {plain(one.type.name)} " in text:
            return one
    in_use = [one for one in rows if one.may_run]
    if any(f" {word} " in text for word in REFERENCE_WORDS) and len(in_use) == 1:
        return in_use[0]
    return None
