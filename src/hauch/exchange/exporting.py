"""A round as one file, out of this installation."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any, BinaryIO

import numpy as np
from django.db.models import Q

from hauch import __version__
from hauch.bench.models import Observation, Recording, Run, SourceFile
from hauch.bench.queries import runs
from hauch.bench.traces import trace_of
from hauch.core import CORE_VERSION
from hauch.desk.queries import may_see
from hauch.entries.models import AssemblyStep, PartFile, Prediction, Version
from hauch.exchange import schema
from hauch.exchange.judgements import decisions_of, judgements_of, pictures_of
from hauch.exchange.listings import results_csv, standing_csv
from hauch.exchange.plain import (
    WORKSHOP,
    instrument_content,
    plain,
    rig_content,
)
from hauch.formats import bundle as files
from hauch.formats.bundle import Bundle, Lazily
from hauch.people.audit import record
from hauch.people.keep import read_kept
from hauch.people.models import User
from hauch.people.permissions import HOST, require, role_in
from hauch.rounds.models import Round
from hauch.sound.models import RecordingSession, SoundRecording
from hauch.stores.models import Material, Picture, ReferenceSpecimen, Rig
from hauch.verdict.models import StandingRow
from hauch.workshop.models import Specimen

STANDING_FIELDS = (
    "place",
    "state",
    "rank",
    "score",
    "u",
    "first",
    "low",
    "high",
    "kept",
    "outside",
    "reason",
)


def content_of(
    round: Round, shown: Callable[[Prediction], bool] = lambda prediction: True
) -> dict[str, Any]:
    """A round as plain data, with the predictions that are shown to whoever it is for."""
    tests = list(
        round.tests.select_related("rig", "setting", "replaces")
        .order_by("pk")
        .prefetch_related("references__specimen")
    )
    rigs = _rigs_of(round)
    instruments = {m.instrument.uid: m.instrument for rig in rigs for m in rig.meters.all()}
    for session in round.sound_sessions.select_related("microphone"):
        if session.microphone is not None:
            instruments[session.microphone.uid] = session.microphone
    referenced = ReferenceSpecimen.objects.filter(
        pk__in={r.specimen_id for t in tests for r in t.references.all()}
        | _referenced(round)
        | _heard(round)
    )
    specimens = list(referenced.select_related("type").order_by("uid"))
    types = {s.type.uid: s.type for s in specimens}
    return {
        "exported_by": f"Hauch {__version__}",
        "core_version": CORE_VERSION,
        "round": plain(round),
        "instruments": [instrument_content(i) for _, i in sorted(instruments.items())],
        "rigs": [rig_content(r) for r in rigs],
        "reference_types": [plain(t) for _, t in sorted(types.items())],
        "reference_specimens": [plain(s) | {"type": str(s.type.uid)} for s in specimens],
        "materials": [plain(m) for m in _materials(round)],
        "settings": [plain(s) for s in round.settings.all()],
        "tests": [
            plain(t)
            | {
                "rig": str(t.rig.uid),
                "setting": t.setting.label,
                "replaces": t.replaces.key if t.replaces else None,
                "references": [
                    plain(r) | {"specimen": str(r.specimen.uid)} for r in t.references.all()
                ],
            }
            for t in tests
        ],
        "rules": [
            plain(v)
            | {
                "tests": [t.key for t in v.tests.all()],
                "terms": [
                    plain(term) | {"test": term.test.key} for term in v.terms.select_related("test")
                ],
                "questions": [
                    plain(q) | {"asked_by": str(q.asked_by)}
                    for q in v.questions.select_related("asked_by")
                ],
            }
            for v in round.rules.order_by("number").prefetch_related("tests")
        ],
        "entries": [
            plain(e) | {"versions": [_version(v, shown) for v in e.versions.all()]}
            for e in round.entries.order_by("uid").prefetch_related(
                "versions__specimens", "versions__files", "versions__predictions__made_by"
            )
        ],
        "recordings": [
            plain(r)
            | {
                "source": _source(r.source) if r.source else None,
                "beside": str(r.beside.uid) if r.beside else None,
                "observations": [
                    _observation(o)
                    for o in r.observations.filter(run=None).select_related("picture")
                ],
                "waveforms": [
                    plain(w) | {"source": _source(w.source)}
                    for w in r.waveforms.select_related("source")
                ],
            }
            for r in round.recordings.select_related("source", "beside").order_by("uid")
        ],
        "runs": [
            _run(run)
            for run in (
                runs()
                .with_names()
                .filter(test__round=round)
                .select_related("recording", "rig", "carried_from")
                .prefetch_related("readings", "exclusions__reading", "observations__picture")
                .select_related("picture")
                .order_by("started_at", "uid")
            )
        ],
        "sounds": [_session(one) for one in round.sound_sessions.order_by("uid")],
        "standings": standings_of(round),
        **judgements_of(round),
    }


def _source(source: SourceFile) -> dict[str, str]:
    return {"sha256": source.sha256, "name": source.name}


def _session(session: RecordingSession) -> dict[str, Any]:
    """Recordings with their conditions; what they tell is told anew where they come in."""
    return plain(session) | {
        "microphone": str(session.microphone.uid) if session.microphone else None,
        "read_beside": str(session.read_beside.uid) if session.read_beside else None,
        "recordings": [
            plain(one)
            | {
                "source": _source(one.source) | {"name": one.name},
                "specimen": str(one.specimen.uid) if one.specimen else None,
                "reference": str(one.reference.uid) if one.reference else None,
                "run": str(one.run.uid) if one.run else None,
                "counts": [str(run.uid) for run in one.counts.all()],
            }
            for one in session.recordings.select_related("source", "specimen", "reference", "run")
            .prefetch_related("counts")
            .order_by("uid")
        ],
    }


def _version(version: Version, shown: Callable[[Prediction], bool]) -> dict[str, Any]:
    return plain(version) | {
        "material": version.material.key if version.material else None,
        "bill": [plain(i) for i in version.bill.all()],
        "steps": [
            plain(s) | {"picture": s.picture.sha256 if s.picture else None}
            for s in version.steps.select_related("picture")
        ],
        "specimens": [_specimen(s) for s in version.specimens.select_related("printed_in")],
        "files": [plain(f) for f in version.files.all()],
        "decisions": decisions_of(version),
        "predictions": [
            plain(p) | {"made_by": str(p.made_by) if p.made_by else ""}
            for p in version.predictions.all()
            if shown(p)
        ],
    }


def _specimen(specimen: Specimen) -> dict[str, Any]:
    made = plain(specimen) | {
        "printed_in": specimen.printed_in.key if specimen.printed_in else None
    }
    return made | {
        name: [plain(row) for row in getattr(specimen, name).order_by("pk")] for name in WORKSHOP
    }


def _materials(round: Round) -> list[Material]:
    wished = Q(pk__in=Version.objects.filter(entry__round=round).values("material"))
    return list(
        Material.objects.filter(wished | Q(specimens__version__entry__round=round))
        .distinct()
        .order_by("key")
    )


def _rigs_of(round: Round) -> list[Rig]:
    """Rigs of the round's tests and runs, with all states before them, oldest first."""
    found: dict[int, Rig] = {}
    rows = Rig.objects.select_related("previous").prefetch_related(
        "meters__instrument__calibrations", "calibrations"
    )
    wanted = set(
        rows.filter(
            Q(tests__round=round) | Q(pk__in=Run.objects.filter(test__round=round).values("rig"))
        ).values_list("pk", flat=True)
    )
    while wanted - set(found):
        found |= {rig.pk: rig for rig in rows.filter(pk__in=wanted - set(found))}
        wanted |= {rig.previous_id for rig in found.values() if rig.previous_id}
    return sorted(found.values(), key=lambda rig: (rig.state, str(rig.uid)))


def _referenced(round: Round) -> set[int]:
    return set(
        Run.objects.filter(test__round=round, reference__isnull=False).values_list(
            "reference_id", flat=True
        )
    )


def _heard(round: Round) -> set[int]:
    """Reference specimens that recordings are of."""
    rows = SoundRecording.objects.filter(session__round=round, reference__isnull=False)
    return set(rows.values_list("reference_id", flat=True))


def _run(run: Run) -> dict[str, Any]:
    result = getattr(run, "result", None)
    return plain(run) | {
        "test": run.test.key,
        "rig": str(run.rig.uid),
        "setting": run.setting.label,
        "carried_from": str(run.carried_from.uid) if run.carried_from else None,
        "specimen": str(run.specimen.uid) if run.specimen else None,
        "reference": str(run.reference.uid) if run.reference else None,
        "recording": str(run.recording.uid) if run.recording else None,
        "readings": [plain(reading) for reading in run.readings.all()],
        "result": plain(result) if result else None,
        "picture": run.picture.sha256 if run.picture else None,
        "observations": [_observation(o) for o in run.observations.all()],
        "exclusions": [
            plain(e) | {"reading": [e.reading.position, e.reading.seq] if e.reading else None}
            for e in run.exclusions.all()
        ],
    }


def _observation(seen: Observation) -> dict[str, Any]:
    return plain(seen) | {"picture": seen.picture.sha256 if seen.picture else None}


def standings_of(round: Round) -> dict[str, list[dict[str, Any]]]:
    """The standing's rows under each version of the rules, by entry."""
    rows = (
        StandingRow.objects.filter(standing__rules__round=round)
        .select_related("entry", "standing__rules")
        .order_by("standing__rules__number", "place")
    )
    out: dict[str, list[dict[str, Any]]] = {}
    for row in rows:
        tests = {
            key: {name: value for name, value in cell.items() if name != "runs"}
            for key, cell in row.tests.items()
        }
        fields = {name: getattr(row, name) for name in STANDING_FIELDS}
        out.setdefault(str(row.standing.rules.number), []).append(
            {"entry": str(row.entry.uid), **fields, "tests": tests}
        )
    return out


def export_round(user: User, round: Round, out: BinaryIO) -> None:
    """Write the round as one ZIP file, with raw readings, rules, results with workings, and files;
    without predictions of others before the first run, which is said in the file.
    """
    if not user.is_staff:
        require(user, "round.export", round)
    role, sealed = role_in(user, round) or HOST, 0

    def shown(prediction: Prediction) -> bool:
        nonlocal sealed
        seen = may_see(user, prediction, role)
        sealed += not seen
        return seen

    content = content_of(round, shown)
    schema.check(content)  # nothing goes out that would not come in
    recordings = {str(r.uid): r for r in round.recordings.select_related("source")}
    paths = {r.source.sha256: r.source.path for r in recordings.values() if r.source is not None}
    for source in SourceFile.objects.filter(
        Q(waveforms__recording__round=round) | Q(sounds__session__round=round)
    ):
        paths[source.sha256] = source.path
    for file in PartFile.objects.filter(version__entry__round=round):
        paths[file.sha256] = file.path
    of_steps, of_runs = (
        AssemblyStep.objects.filter(version__entry__round=round),
        Run.objects.filter(test__round=round),
    )
    seen = Observation.objects.filter(Q(run__test__round=round) | Q(recording__round=round))
    for picture in Picture.objects.filter(
        Q(pk__in=of_steps.values("picture"))
        | Q(pk__in=of_runs.values("picture"))
        | Q(pk__in=seen.values("picture"))
    ):
        paths[picture.sha256] = picture.path
    for picture in pictures_of(round):
        paths[picture.sha256] = picture.path
    tables = {"results.csv": results_csv(round), "standing.csv": standing_csv(round)}
    if sealed:
        tables["left_out.txt"] = (
            f"{sealed} prediction{'s' if sealed > 1 else ''} of others, sealed until the first run"
            " of what they foretell.\n"
        )
    record(user, "round.export", round, round, sealed=sealed)
    files.write(
        Bundle(
            content,
            Lazily(recordings, lambda uid: _trace(recordings[uid])),
            Lazily(paths, lambda digest: read_kept(paths[digest])),
            tables,
        ),
        out,
    )


def _trace(recording: Recording) -> dict[str, np.ndarray]:
    stretch = trace_of(recording).own_window()
    return {"time": stretch.times, **stretch.channels}
