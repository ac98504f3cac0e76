"""A whole round out of the database and into another one."""

from __future__ import annotations

from typing import Any, BinaryIO

import numpy as np
from django.core.exceptions import ValidationError
from django.db import IntegrityError, transaction
from django.db.models import Model, Q

from hauch import __version__
from hauch.bench import progress
from hauch.bench.files import keep_file
from hauch.bench.models import Exclusion, Observation, Reading, Recording, Result, Run
from hauch.bench.queries import runs
from hauch.bench.traces import store, trace_of
from hauch.core import CORE_VERSION
from hauch.core.measure.channels import CHANNELS
from hauch.core.measure.procedures import PROCEDURES
from hauch.core.quantity.units import KINDS
from hauch.core.trace.source import Held
from hauch.entries.actions import ask_check, safe_name
from hauch.entries.models import AssemblyStep, BillItem, Entry, PartFile, Prediction, Version
from hauch.exchange import schema
from hauch.exchange.plain import (
    StoresImporter,
    instrument_content,
    make,
    plain,
    rig_content,
    shared,
    values_of,
)
from hauch.formats import bundle as files
from hauch.formats.bundle import Bundle, BundleRefused, Lazily
from hauch.formats.tables import to_csv
from hauch.people.audit import record
from hauch.people.keep import keep, kept
from hauch.people.models import User
from hauch.people.permissions import HOST, require
from hauch.rounds.actions import free_slug
from hauch.rounds.models import (
    Membership,
    Round,
    RuleQuestion,
    RuleTerm,
    RuleVersion,
    Setting,
    Test,
    TestReference,
)
from hauch.rounds.sheet import rule_sheet
from hauch.stores.models import Material, Picture, ReferenceSpecimen, ReferenceType, Rig
from hauch.stores.pictures import keep_picture
from hauch.verdict.judging import refresh
from hauch.verdict.models import StandingRow
from hauch.workshop.models import Balance, Gate, Measure, PrintRun, Specimen, WorkStep

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


def content_of(round: Round) -> dict[str, Any]:
    """A round as plain data."""
    tests = list(
        round.tests.select_related("rig", "setting", "replaces")
        .order_by("pk")
        .prefetch_related("references__specimen")
    )
    rigs = _rigs_of(round)
    instruments = {m.instrument.uid: m.instrument for rig in rigs for m in rig.meters.all()}
    referenced = ReferenceSpecimen.objects.filter(
        pk__in={r.specimen_id for t in tests for r in t.references.all()} | _referenced(round)
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
            plain(e) | {"versions": [_version(v) for v in e.versions.all()]}
            for e in round.entries.order_by("uid").prefetch_related(
                "versions__specimens", "versions__files", "versions__predictions__made_by"
            )
        ],
        "recordings": [
            plain(r)
            | {
                "source": {"sha256": r.source.sha256, "name": r.source.name} if r.source else None,
                "beside": str(r.beside.uid) if r.beside else None,
                "observations": [
                    _observation(o)
                    for o in r.observations.filter(run=None).select_related("picture")
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
        "standings": standings_of(round),
    }


def _version(version: Version) -> dict[str, Any]:
    return plain(version) | {
        "material": version.material.key if version.material else None,
        "bill": [plain(i) for i in version.bill.all()],
        "steps": [
            plain(s) | {"picture": s.picture.sha256 if s.picture else None}
            for s in version.steps.select_related("picture")
        ],
        "specimens": [_specimen(s) for s in version.specimens.select_related("printed_in")],
        "files": [plain(f) for f in version.files.all()],
        "predictions": [
            plain(p) | {"made_by": str(p.made_by) if p.made_by else ""}
            for p in version.predictions.all()
        ],
    }


WORKSHOP: dict[str, type[Model]] = {
    "prints": PrintRun,
    "steps": WorkStep,
    "measures": Measure,
    "balances": Balance,
    "gates": Gate,
}
"""What belongs to a specimen, by the name under which it stands there."""


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
    """Write the round as one ZIP file, with raw readings, rules, results with workings, and files."""
    if not user.is_staff:
        require(user, "round.export", round)
    content = content_of(round)
    schema.check(content)  # nothing goes out that would not come in
    recordings = {str(r.uid): r for r in round.recordings.select_related("source")}
    paths = {r.source.sha256: r.source.path for r in recordings.values() if r.source is not None}
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
    tables = {"results.csv": results_csv(round), "standing.csv": standing_csv(round)}
    record(user, "round.export", round, round)
    files.write(
        Bundle(
            content,
            Lazily(recordings, lambda uid: _trace(recordings[uid])),
            Lazily(paths, lambda digest: kept(paths[digest])),
            tables,
        ),
        out,
    )


def _trace(recording: Recording) -> dict[str, np.ndarray]:
    stretch = trace_of(recording).own_window()
    return {"time": stretch.times, **stretch.channels}


def results_csv(round: Round) -> str:
    """One line for each run: what was run, and its result with doubt in SI units."""
    header = [
        "test",
        "procedure",
        "setting",
        "entry",
        "specimen",
        "reference",
        "repeat",
        "started_at",
        "state",
        "reason",
        "room_degC",
        "room_Pa",
        "room_percent",
        "value",
        "standard_uncertainty",
        "unit",
        "missing",
        "core_version",
    ]
    rows = []
    for run in (
        runs().with_names().filter(test__round=round).order_by("test__order", "started_at", "uid")
    ):
        result = getattr(run, "result", None)
        figures = (
            [result.value, result.u, result.unit, result.missing, result.core_version]
            if result
            else [None] * 5
        )
        rows.append(
            [
                run.test.key,
                run.test.procedure,
                run.setting.label,
                run.specimen.version.entry.name if run.specimen else "",
                run.specimen.code if run.specimen else "",
                str(run.reference) if run.reference else "",
                run.replicate,
                run.started_at.isoformat(),
                run.state,
                run.reason,
                run.temperature,
                run.pressure,
                run.humidity,
                *figures,
            ]
        )
    return to_csv(header, rows)


def standing_csv(round: Round) -> str:
    """One line for each entry and version of the rules."""
    tests = list(round.tests.values_list("key", flat=True))
    columns = ("value", "u", "change", "change_expanded", "word")
    header = [
        "rules",
        "place",
        "rank",
        "entry",
        "state",
        "score_percent",
        "score_u",
        "first_probability",
        "place_low",
        "place_high",
        "reason",
        *(f"{test}_{column}" for test in tests for column in columns),
    ]
    rows = []
    query = StandingRow.objects.filter(standing__rules__round=round).select_related(
        "entry", "standing__rules"
    )
    for row in query.order_by("-standing__rules__number", "place"):
        cells = [row.tests.get(test, {}).get(column) for test in tests for column in columns]
        rows.append(
            [
                row.standing.rules.number,
                row.place,
                row.rank,
                row.entry.name,
                row.state,
                row.score,
                row.u,
                row.first,
                row.low,
                row.high,
                row.reason,
                *cells,
            ]
        )
    return to_csv(header, rows)


@transaction.atomic
def import_round(user: User, source: bytes | BinaryIO) -> Round:
    """Read an exported round into this installation, all or nothing; the importer becomes its host.

    Raises
    ------
    BundleRefused : with the reason; nothing is saved then
    """
    require(user, "round.import")
    bundle = files.read(source)
    schema.check(bundle.content)
    try:
        with transaction.atomic():
            round = _Importer(user, bundle).run()
    except BundleRefused:
        raise
    except (
        LookupError,
        TypeError,
        ValueError,
        ArithmeticError,
        AttributeError,
        ValidationError,
    ) as problem:
        raise BundleRefused(
            f"round.json cannot be read: {type(problem).__name__}: {str(problem)[:300]}"
        ) from problem
    except IntegrityError as problem:
        raise BundleRefused(
            f"round.json was not imported: {schema.contradiction(problem)}"
        ) from problem
    record(user, "round.import", round, round, core_version=bundle.content.get("core_version"))
    return round


class _Importer:
    """Brings the parts of one bundle in, in the order in which they depend on each other."""

    def __init__(self, user: User, bundle: Bundle):
        self.user, self.bundle, self.content = user, bundle, bundle.content

    def run(self) -> Round:
        content = self.content
        if (here := Round.objects.filter(uid=content["round"]["uid"]).first()) is not None:
            raise BundleRefused(f"This round is here already, as “{here.title}” ({here.slug}).")
        stores = StoresImporter()
        self.instruments = {row["uid"]: stores.instrument(row) for row in content["instruments"]}
        self.rigs = {
            row["uid"]: stores.rig(row)
            for row in sorted(content["rigs"], key=lambda row: row["state"])
        }
        self.types = {
            row["uid"]: shared(ReferenceType, row, "name") for row in content["reference_types"]
        }
        self.references = {
            row["uid"]: shared(ReferenceSpecimen, row, "serial", type=self.types[row["type"]])
            for row in content["reference_specimens"]
        }
        round = make(Round, content["round"], slug=free_slug(content["round"]["slug"]))
        _check_envelope(round)
        Membership.objects.create(round=round, user=self.user, role=HOST)
        self.settings = {
            row["label"]: make(Setting, row, round=round) for row in content["settings"]
        }
        self.tests: dict[str, Test] = {}
        for row in content["tests"]:
            self.tests[row["key"]] = self._test(row, round)
        for row in content["rules"]:
            rules = make(RuleVersion, row, round=round, created_by=self.user)
            rules.tests.set(self.tests[key] for key in row["tests"])
            for term in row["terms"]:
                make(RuleTerm, term, rules=rules, test=self.tests[term["test"]])
            for question in row["questions"]:
                told = question | {"text": f"{question['text']}\n(asked by {question['asked_by']})"}
                make(
                    RuleQuestion,
                    told,
                    rules=rules,
                    asked_by=self.user,
                    answered_by=self.user if question["answer"] else None,
                )
        for rules in round.rules.all():
            rule_sheet(
                round, rules, "si"
            )  # what a version keeps of its brief must be such that it can be read out
        self.materials = {
            row["key"]: Material.objects.filter(key=row["key"]).first() or make(Material, row)
            for row in content["materials"]
        }
        self.specimens = self._entries(round)
        self.recordings: dict[str, Recording] = {}
        for row in sorted(content["recordings"], key=lambda row: row["beside"] is not None):
            self.recordings[row["uid"]] = self._recording(row, round)
        self._runs()
        progress.rebuild(round)
        for rules in round.rules.all():
            refresh(rules)
        return round

    def _test(self, row: dict[str, Any], round: Round) -> Test:
        if row["procedure"] not in PROCEDURES:
            raise BundleRefused(
                f"The procedure “{row['procedure']}” is not known here. Update this installation"
                " first."
            )
        test = make(
            Test,
            row,
            round=round,
            rig=self.rigs[row["rig"]],
            setting=self.settings[row["setting"]],
            replaces=self.tests[row["replaces"]] if row["replaces"] else None,
        )
        for reference in row["references"]:
            make(
                TestReference, reference, test=test, specimen=self.references[reference["specimen"]]
            )
        return test

    def _entries(self, round: Round) -> dict[str, Specimen]:
        specimens = {}
        for row in self.content["entries"]:
            entry = make(Entry, row, round=round)
            for version_row in row["versions"]:
                version = make(
                    Version,
                    version_row,
                    entry=entry,
                    material=self._material(version_row["material"]),
                )
                for item in version_row["bill"]:
                    make(BillItem, item, version=version)
                for step in version_row["steps"]:
                    make(
                        AssemblyStep, step, version=version, picture=self._picture(step["picture"])
                    )
                for specimen_row in version_row["specimens"]:
                    specimens[specimen_row["uid"]] = self._specimen(specimen_row, version)
                for file_row in version_row["files"]:
                    self._file(file_row, version)
                for prediction_row in version_row["predictions"]:
                    if prediction_row["procedure"] not in PROCEDURES:
                        raise BundleRefused(
                            f"A prediction of {entry.name} is for the test"
                            f" “{prediction_row['procedure']}”, which is not known here."
                        )
                    make(Prediction, prediction_row, version=version)
        return specimens

    def _material(self, key: str | None) -> Material | None:
        return self.materials[key] if key else None

    def _picture(self, digest: str | None) -> Picture | None:
        if digest is None:
            return None
        if digest not in self.bundle.files:
            raise BundleRefused("The bundle lacks a picture.")
        return keep_picture(self.user, self.bundle.files[digest])

    def _specimen(self, row: dict[str, Any], version: Version) -> Specimen:
        specimen = make(
            Specimen, row, version=version, printed_in=self._material(row["printed_in"])
        )
        for name, model in WORKSHOP.items():
            for item in row[name]:
                make(model, item, specimen=specimen)
        _behind_the_gate(specimen)
        return specimen

    def _file(self, row: dict[str, Any], version: Version) -> None:
        if row["sha256"] not in self.bundle.files:
            raise BundleRefused(f"The bundle lacks the file {row['name']}.")
        data = self.bundle.files[row["sha256"]]
        _, path = keep(data)
        file = make(
            PartFile,
            row | {"size": len(data), "name": safe_name(row["name"])},
            version=version,
            path=path,
            added_by=self.user,
        )
        if file.is_mesh:
            ask_check(file)  # checks do not travel: they are made anew by the core that is here

    def _recording(self, row: dict[str, Any], round: Round) -> Recording:
        source = None
        if row["source"] is not None:
            if row["source"]["sha256"] not in self.bundle.files:
                raise BundleRefused(f"The bundle lacks the file {row['source']['name']}.")
            source = keep_file(
                self.user, row["source"]["name"], self.bundle.files[row["source"]["sha256"]]
            )
        recording = make(
            Recording,
            row,
            round=round,
            source=source,
            beside=self.recordings[row["beside"]] if row["beside"] else None,
        )
        self._observations(row["observations"], recording=recording)
        trace = dict(self.bundle.traces[row["uid"]])
        if unknown := set(trace) - set(CHANNELS) - {"time"}:
            raise BundleRefused(f"A trace holds the unknown channel “{sorted(unknown)[0]}”.")
        store(recording, Held(trace.pop("time"), trace))
        return recording

    def _observations(self, rows: list[dict[str, Any]], **of: Any) -> None:
        for row in rows:
            make(Observation, row, picture=self._picture(row["picture"]), by=self.user, **of)

    def _runs(self) -> None:
        made: dict[str, Run] = {}
        for row in sorted(self.content["runs"], key=lambda row: row["carried_from"] is not None):
            made[row["uid"]] = run = make(
                Run,
                row,
                test=self.tests[row["test"]],
                rig=self.rigs[row["rig"]],
                setting=self.settings[row["setting"]],
                operator=self.user,
                carried_from=made[row["carried_from"]] if row["carried_from"] else None,
                specimen=self.specimens[row["specimen"]] if row["specimen"] else None,
                reference=self.references[row["reference"]] if row["reference"] else None,
                recording=self.recordings[row["recording"]] if row["recording"] else None,
                picture=self._picture(row["picture"]),
            )
            _check_run(row)
            Reading.objects.bulk_create(
                Reading(run=run, **values_of(Reading, reading)) for reading in row["readings"]
            )
            kept = {(r.channel, r.position, r.seq): r for r in run.readings.all()}
            for out in row["exclusions"]:
                reading = kept[out["channel"], *out["reading"]] if out["reading"] else None
                make(
                    Exclusion,
                    out,
                    run=run,
                    reading=reading,
                    by=self.user,
                    undone_by=self.user if out["undone_at"] else None,
                )
            self._observations(row["observations"], run=run)
            if row["result"] is not None:
                Result.objects.create(run=run, **values_of(Result, row["result"]))


CAME = (
    "Came from elsewhere: it passes the safety gate here, where its part is checked and its speed"
    " limit worked out."
)


def _behind_the_gate(specimen: Specimen) -> None:
    """A rotor that was ready elsewhere is not ready here: its limit may come from an older rule."""
    if specimen.version.entry.round.part != Round.Part.ROTOR:
        return
    specimen.cap = None
    if specimen.state == Specimen.State.READY:
        specimen.state, specimen.note = Specimen.State.PRINTED, f"{specimen.note}\n{CAME}".strip()
    specimen.save(update_fields=["cap", "state", "note"])


def _check_run(row: dict[str, Any]) -> None:
    """What a run says must be known here: its channels, the kinds of its curve; and a stretch that
    was read ends after it begins.
    """
    for reading in row["readings"]:
        if reading["channel"] not in CHANNELS:
            raise BundleRefused(f"A reading is of the unknown channel “{reading['channel']}”.")
    if not all(low <= high for low, high in [*row["windows"], *row["beside"].values()]):
        raise BundleRefused(f"A stretch that was read in run {row['uid']} ends before it begins.")
    curve = row["result"] and row["result"]["curve"]
    if curve and not {curve["x_kind"], curve["y_kind"]} <= set(KINDS):
        raise BundleRefused("A curve in round.json is of a kind that is not known here.")


def _check_envelope(round: Round) -> None:
    """The envelope must be one that pages can read."""
    if problems := round.what.problems():
        raise BundleRefused(
            f"The envelope in round.json cannot be: {next(iter(problems.values()))}"
        )
