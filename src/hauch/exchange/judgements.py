"""What people judged in a round, out and in: panels, blind listening, guesses, limits and decisions,
kept scenarios. Links do not travel, and guesses only once they are sealed.
"""

from __future__ import annotations

import secrets
from collections.abc import Callable, Mapping
from dataclasses import dataclass
from typing import Any

from hauch.entries.models import Entry, Version
from hauch.exchange.plain import make, plain
from hauch.formats.bundle import BundleRefused
from hauch.panel.models import FacePicture, Judge, Mark, Sample, Sitting
from hauch.people.models import User
from hauch.rounds.models import Round, Test
from hauch.sound.models import Answer, Listener, Listening, Place, Played, SoundRecording
from hauch.stores.models import Picture, ReferenceSpecimen
from hauch.verdict.guessing import sealed
from hauch.verdict.models import Criterion, Decision, Guess, Guessing, Scenario
from hauch.workshop.models import Specimen


def judgements_of(round: Round) -> dict[str, Any]:
    """All of a round, by its place in round.json."""
    criteria = Criterion.objects.filter(round=round).select_related("test")
    sittings = round.sittings.select_related("test").order_by("opened_at", "pk")
    listenings = round.listenings.select_related("test").order_by("opened_at", "pk")
    return {
        "criteria": [plain(one) | {"test": one.test.key} for one in criteria.order_by("pk")],
        "scenarios": [plain(one) for one in round.scenarios.order_by("name")],
        "guesses": _guesses(round),
        "sittings": [_sitting(one) for one in sittings],
        "listenings": [_listening(one) for one in listenings],
    }


def decisions_of(version: Version) -> list[dict[str, Any]]:
    """What was decided of a version, the first one first."""
    return [plain(one) for one in version.decisions.order_by("at", "pk")]


def pictures_of(round: Round) -> list[Picture]:
    """Photographs that panels see."""
    rows = FacePicture.objects.filter(sample__sitting__round=round)
    return list(Picture.objects.filter(pk__in=rows.values("picture")))


def _guesses(round: Round) -> dict[str, Any] | None:
    found = Guessing.objects.filter(round=round).select_related("test").first()
    if found is None or not sealed(round):
        return None
    uids = dict(round.entries.values_list("pk", "uid"))
    return plain(found) | {
        "test": found.test.key if found.test else None,
        "guesses": [
            plain(one)
            | {
                "given": {
                    str(uids[int(entry)]): float(value)
                    for entry, value in one.given.items()
                    if int(entry) in uids
                }
            }
            for one in found.guesses.order_by("pk")
        ],
    }


def _subject(one: Sample) -> dict[str, str | None]:
    return {
        "specimen": str(one.specimen.uid) if one.specimen else None,
        "reference": str(one.reference.uid) if one.reference else None,
    }


def _sitting(sitting: Sitting) -> dict[str, Any]:
    samples = sitting.samples.select_related("specimen", "reference").prefetch_related(
        "pictures__picture"
    )
    return plain(sitting) | {
        "test": sitting.test.key,
        "samples": [
            plain(one)
            | _subject(one)
            | {"pictures": [plain(p) | {"picture": p.picture.sha256} for p in one.pictures.all()]}
            for one in samples
        ],
        "judges": [
            plain(judge)
            | {
                "marks": [
                    plain(mark) | {"sample": mark.sample.code}
                    for mark in judge.marks.select_related("sample").order_by(
                        "sample__code", "face", "criterion"
                    )
                ]
            }
            for judge in sitting.judges.order_by("pk")
        ],
    }


def _listening(listening: Listening) -> dict[str, Any]:
    return plain(listening) | {
        "test": listening.test.key if listening.test else None,
        "played": [
            plain(one) | {"recording": str(one.recording.uid)}
            for one in listening.played.select_related("recording")
        ],
        "listeners": [
            plain(listener)
            | {
                "answers": [plain(one) for one in listener.answers.all()],
                "places": [
                    plain(one) | {"played": one.played.code}
                    for one in listener.places.select_related("played").order_by("played__code")
                ],
            }
            for listener in listening.listeners.order_by("pk")
        ],
    }


@dataclass(frozen=True)
class Known:
    """What came in before, by its identity in the file."""

    user: User
    round: Round
    tests: Mapping[str, Test]
    specimens: Mapping[str, Specimen]
    references: Mapping[str, ReferenceSpecimen]
    sounds: Mapping[str, SoundRecording]
    picture: Callable[[str | None], Picture | None]


def bring_in(content: Mapping[str, Any], known: Known) -> None:
    """Store what people judged.

    Raises
    ------
    BundleRefused, LookupError : it contradicts itself, or names what is not there
    """
    for row in content["criteria"]:
        make(Criterion, row, round=known.round, test=known.tests[row["test"]])
    for row in content["scenarios"]:
        make(Scenario, row, round=known.round)
    if (row := content["guesses"]) is not None:
        _bring_guesses(row, known)
    for row in content["sittings"]:
        _bring_sitting(row, known)
    for row in content["listenings"]:
        _bring_listening(row, known)


def bring_decisions(rows: list[dict[str, Any]], version: Version) -> None:
    """Store what was decided of a version."""
    for row in rows:
        make(Decision, row, version=version)


def _bring_guesses(row: dict[str, Any], known: Known) -> None:
    guessing = make(
        Guessing,
        row,
        round=known.round,
        test=known.tests[row["test"]] if row["test"] else None,
        secret=secrets.token_urlsafe(24),
        opened_by=known.user,
    )
    keys = {
        str(uid): pk for uid, pk in Entry.objects.filter(round=known.round).values_list("uid", "pk")
    }
    for one in row["guesses"]:
        given = {str(keys[entry]): value for entry, value in one["given"].items()}
        make(Guess, one, guessing=guessing, given=given)


def _bring_sitting(row: dict[str, Any], known: Known) -> None:
    if not row["criteria"]:
        raise BundleRefused("A sitting of a panel has no criterion.")
    for name, count in (("weights", len(row["criteria"])), ("face_names", row["faces"])):
        if row[name] and len(row[name]) != count:
            raise BundleRefused(f"A sitting has {len(row[name])} {name} where it needs {count}.")
    sitting = make(
        Sitting, row, round=known.round, test=known.tests[row["test"]], opened_by=known.user
    )
    samples: dict[str, Sample] = {}
    for one in row["samples"]:
        samples[one["code"]] = sample = make(
            Sample,
            one,
            sitting=sitting,
            specimen=known.specimens[one["specimen"]] if one["specimen"] else None,
            reference=known.references[one["reference"]] if one["reference"] else None,
        )
        for picture in one["pictures"]:
            make(FacePicture, picture, sample=sample, picture=known.picture(picture["picture"]))
    for one in row["judges"]:
        # links do not travel: whoever runs the sitting gives new ones
        judge = make(Judge, one, sitting=sitting, digest=secrets.token_hex(32))
        for mark in one["marks"]:
            make(Mark, mark, judge=judge, sample=samples[mark["sample"]])


def _bring_listening(row: dict[str, Any], known: Known) -> None:
    listening = make(
        Listening,
        row,
        round=known.round,
        test=known.tests[row["test"]] if row["test"] else None,
        secret=secrets.token_urlsafe(24),
        opened_by=known.user,
    )
    played: dict[str, Played] = {}
    for one in row["played"]:
        played[one["code"]] = make(
            Played, one, listening=listening, recording=known.sounds[one["recording"]]
        )
    for one in row["listeners"]:
        listener = make(Listener, one, listening=listening)
        for answer in one["answers"]:
            make(Answer, answer, listener=listener)
        for place in one["places"]:
            make(Place, place, listener=listener, played=played[place["played"]])
