"""A round from one file, into this installation."""

from __future__ import annotations

from typing import Any, BinaryIO

import numpy as np
from django.core.exceptions import ValidationError
from django.db import IntegrityError, transaction

from hauch.bench import progress
from hauch.bench.files import keep_file
from hauch.bench.models import (
    Exclusion,
    Observation,
    Reading,
    Recording,
    Result,
    Run,
    SourceFile,
    Waveform,
)
from hauch.bench.traces import store
from hauch.core.measure.channels import CHANNELS
from hauch.core.measure.procedures import PROCEDURES
from hauch.core.quantity.units import KINDS
from hauch.core.trace.source import Held
from hauch.entries.actions import ask_check, safe_name
from hauch.entries.models import AssemblyStep, BillItem, Entry, PartFile, Prediction, Version
from hauch.exchange import schema
from hauch.exchange.judgements import Known, bring_decisions, bring_in
from hauch.exchange.plain import (
    WORKSHOP,
    StoresImporter,
    make,
    shared,
    values_of,
)
from hauch.formats.bundle import Bundle, BundleRefused
from hauch.formats.bundle_apart import opened
from hauch.people.audit import record
from hauch.people.keep import keep
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
from hauch.rounds.queries import procedures_of
from hauch.rounds.sheet import rule_sheet
from hauch.sound.analysing import ask
from hauch.sound.models import RecordingSession, SoundRecording
from hauch.stores.models import Material, Picture, ReferenceSpecimen, ReferenceType
from hauch.stores.pictures import keep_picture
from hauch.verdict.judging import refresh
from hauch.workshop.models import Specimen


@transaction.atomic
def import_round(user: User, source: bytes | BinaryIO) -> Round:
    """Read an exported round into this installation, all or nothing; the importer becomes its host.

    Raises
    ------
    BundleRefused : with the reason; nothing is saved then
    """
    require(user, "round.import")
    with opened(source) as bundle:
        schema.check(bundle.content)
        round = _imported(user, bundle)
        record(user, "round.import", round, round, core_version=bundle.content.get("core_version"))
    return round


def _imported(user: User, bundle: Bundle) -> Round:
    """What a bundle holds, stored; everything that can be wrong with it is a sentence."""
    try:
        with transaction.atomic():
            return _Importer(user, bundle).run()
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


LONGEST_TRACE = 366 * 86_400.0
"""A trace that reaches further from its start than this is none [s]."""


class _Importer:
    """Brings the parts of one bundle in, in the order in which they depend on each other."""

    def __init__(self, user: User, bundle: Bundle):
        self.user, self.bundle, self.content = user, bundle, bundle.content

    def run(self) -> Round:
        content = self.content
        if (here := Round.objects.filter(uid=content["round"]["uid"]).first()) is not None:
            raise BundleRefused(f"This round is here already, as “{here.title}” ({here.slug}).")
        stores = StoresImporter(self.user)
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
                told = question | {"text": _with_who_asked(question)}
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
        self._sounds(round)
        bring_in(
            content,
            Known(
                self.user,
                round,
                self.tests,
                self.specimens,
                self.references,
                self.sounds,
                self._picture,
            ),
        )
        progress.rebuild(round)
        for rules in round.rules.all():
            refresh(rules)
        return round

    def _test(self, row: dict[str, Any], round: Round) -> Test:
        if row["own"] is None and row["procedure"] not in PROCEDURES:
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
                bring_decisions(version_row["decisions"], version)
                for prediction_row in version_row["predictions"]:
                    if prediction_row["procedure"] not in procedures_of(
                        {prediction_row["procedure"]}
                    ):
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
        source = self._source(row["source"]) if row["source"] is not None else None
        recording = make(
            Recording,
            row,
            round=round,
            source=source,
            beside=self.recordings[row["beside"]] if row["beside"] else None,
        )
        self._observations(row["observations"], recording=recording)
        for wave in row["waveforms"]:
            if wave["channel"] not in CHANNELS:
                raise BundleRefused(f"A waveform is of the unknown channel “{wave['channel']}”.")
            make(Waveform, wave, recording=recording, source=self._source(wave["source"]))
        trace = dict(self.bundle.traces[row["uid"]])
        if unknown := set(trace) - set(CHANNELS) - {"time"}:
            raise BundleRefused(f"A trace holds the unknown channel “{sorted(unknown)[0]}”.")
        times = trace.pop("time")
        if not np.isfinite(times).all() or (np.diff(times) <= 0).any():
            raise BundleRefused(f"The times of the trace {row['uid']} do not rise from row to row.")
        if times.size and max(-times[0], times[-1]) > LONGEST_TRACE:
            raise BundleRefused(f"The trace {row['uid']} is longer than a year.")
        if row["rate"] is not None and not all(isinstance(c, str) for c in row["columns"]):
            raise BundleRefused(f"The channels of the live recording {row['uid']} have no names.")
        store(recording, Held(times, trace))
        return recording

    def _source(self, row: dict[str, Any]) -> SourceFile:
        if row["sha256"] not in self.bundle.files:
            raise BundleRefused(f"The bundle lacks the file {row['name']}.")
        return keep_file(self.user, row["name"], self.bundle.files[row["sha256"]])

    def _sounds(self, round: Round) -> None:
        """Sound recordings; what they tell is told anew by the core that is here."""
        self.sounds: dict[str, SoundRecording] = {}
        for row in self.content["sounds"]:
            session = make(
                RecordingSession,
                row,
                round=round,
                by=self.user,
                microphone=self.instruments[row["microphone"]] if row["microphone"] else None,
            )
            made = {one["uid"]: self._sound(one, session) for one in row["recordings"]}
            self.sounds |= made
            if row["read_beside"]:
                session.read_beside = made[row["read_beside"]]
                session.save(update_fields=["read_beside"])
            ask(session.recordings.standing().exclude(state=SoundRecording.State.NEW))

    def _sound(self, row: dict[str, Any], session: RecordingSession) -> SoundRecording:
        recording: SoundRecording = make(
            SoundRecording,
            row | {"name": safe_name(row["name"])},
            session=session,
            source=self._source(row["source"]),
            by=self.user,
            specimen=self.specimens[row["specimen"]] if row["specimen"] else None,
            reference=self.references[row["reference"]] if row["reference"] else None,
            run=self.runs[row["run"]] if row["run"] else None,
        )
        recording.counts.set([self.runs[uid] for uid in row["counts"]])
        return recording

    def _observations(self, rows: list[dict[str, Any]], **of: Any) -> None:
        for row in rows:
            make(Observation, row, picture=self._picture(row["picture"]), by=self.user, **of)

    def _runs(self) -> None:
        self.runs: dict[str, Run] = {}
        for row in sorted(self.content["runs"], key=lambda row: row["carried_from"] is not None):
            self.runs[row["uid"]] = run = make(
                Run,
                row,
                test=self.tests[row["test"]],
                rig=self.rigs[row["rig"]],
                setting=self.settings[row["setting"]],
                operator=self.user,
                carried_from=self.runs[row["carried_from"]] if row["carried_from"] else None,
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


ASKED_BY = "\n(asked by "


def _with_who_asked(question: dict[str, Any]) -> str:
    """The text of a question with who asked it first: people do not travel, their words do."""
    text = str(question["text"])
    return text if ASKED_BY in text else f"{text}{ASKED_BY}{question['asked_by']})"


CAME = (
    "Came from elsewhere: it passes the safety gate here, where its part is checked and its speed"
    " limit worked out."
)


def _behind_the_gate(specimen: Specimen) -> None:
    """A rotor that was ready elsewhere is not ready here: its limit may come from an older rule."""
    if not specimen.version.entry.round.kind.spins:
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
