"""A whole round out of the database and into another one."""

from __future__ import annotations

import uuid
from datetime import date, datetime
from typing import Any

from django.core.exceptions import ValidationError
from django.db import IntegrityError, transaction
from django.db.models import Model
from django.utils import timezone
from django.utils.text import slugify

from hauch import __version__
from hauch.bench import progress
from hauch.bench.actions import store_chunks
from hauch.bench.files import file_content, keep_file
from hauch.bench.models import Reading, Recording, Result, Run
from hauch.bench.queries import runs
from hauch.core import CORE_VERSION
from hauch.core.measure.channels import CHANNELS
from hauch.core.measure.procedures import PROCEDURES
from hauch.entries.models import Entry, Version
from hauch.formats import bundle as files
from hauch.formats.bundle import Bundle, BundleRefused
from hauch.formats.tables import to_csv
from hauch.people.audit import record
from hauch.people.models import User
from hauch.people.permissions import HOST, require
from hauch.rounds.models import Membership, Round, RuleTerm, RuleVersion, Setting, Test, TestReference
from hauch.stores.models import Instrument, ReferenceSpecimen, ReferenceType, Rig, RigMeter
from hauch.verdict.actions import refresh
from hauch.verdict.models import StandingRow
from hauch.workshop.models import Specimen

FIELDS: dict[type[Model], tuple[str, ...]] = {
    Round: ("uid", "slug", "number", "title", "place", "question", "part", "may_vary", "safety", "state", "created_at", "published_at"),
    Rig: ("uid", "name", "kind", "state", "constants", "note"),
    Instrument: (
        "uid", "name", "channel", "resolution", "accuracy", "accuracy_share", "slope", "offset", "slope_u", "principle", "calibrated_on",
    ),
    ReferenceType: ("uid", "name", "description"),
    ReferenceSpecimen: ("uid", "serial", "state", "hours", "note"),
    Setting: ("label", "values"),
    Test: ("key", "label", "procedure", "order", "repeats", "readings", "common_speed", "reporting_distance", "resolution"),
    TestReference: ("since", "until"),
    RuleVersion: ("number", "scheme", "tie_rule", "level_as", "draws", "seed", "reason", "created_at"),
    Entry: ("uid", "name", "designer_name", "story", "mark", "state", "submitted_at"),
    Version: ("uid", "number", "changed", "created_at"),
    Specimen: ("uid", "code", "material", "mass", "state", "note"),
    Recording: ("uid", "started_at", "columns", "created_at"),
    Run: ("uid", "replicate", "started_at", "state", "reason", "note", "temperature", "pressure", "humidity", "created_at"),
    Reading: ("channel", "position", "seq", "value", "typed", "unit"),
    Result: ("value", "u", "dof", "unit", "parts", "working", "marks", "missing", "core_version"),
}  # fmt: skip
STANDING_FIELDS = ("place", "state", "rank", "score", "u", "first", "low", "high", "reason")


def _plain(instance: Model) -> dict[str, Any]:
    """The instance's own fields as JSON values."""
    values = {}
    for name in FIELDS[type(instance)]:
        value = getattr(instance, name)
        values[name] = value.isoformat() if isinstance(value, (date, datetime)) else str(value) if isinstance(value, uuid.UUID) else value
    return values


def content_of(round: Round) -> dict[str, Any]:
    """A round as plain data."""
    tests = list(round.tests.select_related("rig", "setting").prefetch_related("references__specimen"))
    rigs = list(Rig.objects.filter(tests__in=tests).distinct().order_by("uid").prefetch_related("meters__instrument"))
    instruments = {m.instrument.uid: m.instrument for rig in rigs for m in rig.meters.all()}
    specimens = ReferenceSpecimen.objects.filter(pk__in={r.specimen_id for t in tests for r in t.references.all()} | _referenced(round))
    specimens = list(specimens.select_related("type").order_by("uid"))
    types = {s.type.uid: s.type for s in specimens}
    return {
        "exported_by": f"Hauch {__version__}",
        "core_version": CORE_VERSION,
        "round": _plain(round),
        "instruments": [_plain(i) for _, i in sorted(instruments.items())],
        "rigs": [_plain(r) | {"meters": {m.channel: str(m.instrument.uid) for m in r.meters.all()}} for r in rigs],
        "reference_types": [_plain(t) for _, t in sorted(types.items())],
        "reference_specimens": [_plain(s) | {"type": str(s.type.uid)} for s in specimens],
        "settings": [_plain(s) for s in round.settings.all()],
        "tests": [
            _plain(t) | {"rig": str(t.rig.uid), "setting": t.setting.label, "references": [_plain(r) | {"specimen": str(r.specimen.uid)} for r in t.references.all()]}
            for t in tests
        ],
        "rules": [
            _plain(v) | {"terms": {term.test.key: term.weight for term in v.terms.select_related("test")}} for v in round.rules.order_by("number")
        ],
        "entries": [
            _plain(e) | {"versions": [_plain(v) | {"specimens": [_plain(s) for s in v.specimens.all()]} for v in e.versions.all()]}
            for e in round.entries.order_by("uid").prefetch_related("versions__specimens")
        ],
        "recordings": [
            _plain(r) | {"source": {"sha256": r.source.sha256, "name": r.source.name} if r.source else None}
            for r in round.recordings.select_related("source").order_by("uid")
        ],
        "runs": [_run(run) for run in runs().with_names().filter(test__round=round).select_related("recording").prefetch_related("readings").order_by("started_at", "uid")],
        "standings": standings_of(round),
    }  # fmt: skip


def _referenced(round: Round) -> set[int]:
    return set(Run.objects.filter(test__round=round, reference__isnull=False).values_list("reference_id", flat=True))


def _run(run: Run) -> dict[str, Any]:
    result = getattr(run, "result", None)
    return _plain(run) | {
        "test": run.test.key, "setting": run.setting.label,
        "specimen": str(run.specimen.uid) if run.specimen else None, "reference": str(run.reference.uid) if run.reference else None,
        "recording": str(run.recording.uid) if run.recording else None,
        "readings": [_plain(reading) for reading in run.readings.all()], "result": _plain(result) if result else None,
    }  # fmt: skip


def standings_of(round: Round) -> dict[str, list[dict[str, Any]]]:
    """The standing's rows under each version of the rules, by entry."""
    rows = (
        StandingRow.objects.filter(standing__rules__round=round)
        .select_related("entry", "standing__rules")
        .order_by("standing__rules__number", "place")
    )
    out: dict[str, list[dict[str, Any]]] = {}
    for row in rows:
        tests = {key: {name: value for name, value in cell.items() if name != "runs"} for key, cell in row.tests.items()}
        fields = {name: getattr(row, name) for name in STANDING_FIELDS}
        out.setdefault(str(row.standing.rules.number), []).append({"entry": str(row.entry.uid), **fields, "tests": tests})
    return out


def export_round(user: User, round: Round) -> bytes:
    """The round as one ZIP file, with raw readings, rules, results with workings, and files."""
    if not user.is_staff:
        require(user, "round.export", round)
    content = content_of(round)
    traces, sources = {}, {}
    for recording in round.recordings.select_related("source"):
        times, channels = recording.arrays()
        traces[str(recording.uid)] = {"time": times, **channels}
        if recording.source is not None:
            sources[recording.source.sha256] = file_content(recording.source)
    tables = {"results.csv": results_csv(round), "standing.csv": standing_csv(round)}
    record(user, "round.export", round, round)
    return files.write(Bundle(content, traces, sources, tables))


def results_csv(round: Round) -> str:
    """One line for each run: what was run, and its result with doubt in SI units."""
    header = ["test", "procedure", "setting", "entry", "specimen", "reference", "repeat", "started_at", "state", "reason",
              "room_degC", "room_Pa", "room_percent", "value", "standard_uncertainty", "unit", "missing", "core_version"]  # fmt: skip
    rows = []
    for run in runs().with_names().filter(test__round=round).order_by("test__order", "started_at", "uid"):
        result = getattr(run, "result", None)
        figures = [result.value, result.u, result.unit, result.missing, result.core_version] if result else [None] * 5
        rows.append(
            [run.test.key, run.test.procedure, run.setting.label, run.specimen.version.entry.name if run.specimen else "",
             run.specimen.code if run.specimen else "", str(run.reference) if run.reference else "", run.replicate, run.started_at.isoformat(),
             run.state, run.reason, run.temperature, run.pressure, run.humidity, *figures]
        )  # fmt: skip
    return to_csv(header, rows)


def standing_csv(round: Round) -> str:
    """One line for each entry and version of the rules."""
    tests = list(round.tests.values_list("key", flat=True))
    columns = ("value", "u", "change", "change_expanded", "word")
    header = ["rules", "place", "rank", "entry", "state", "score_percent", "score_u", "first_probability", "place_low", "place_high", "reason",
              *(f"{test}_{column}" for test in tests for column in columns)]  # fmt: skip
    rows = []
    query = StandingRow.objects.filter(standing__rules__round=round).select_related("entry", "standing__rules")
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
def import_round(user: User, data: bytes) -> Round:
    """Read an exported round into this installation, all or nothing; the importer becomes its host.

    Raises
    ------
    BundleRefused : with the reason; nothing is saved then
    """
    require(user, "round.import")
    bundle = files.read(data)
    try:
        with transaction.atomic():
            round = _Importer(user, bundle).run()
    except BundleRefused:
        raise
    except (LookupError, TypeError, ValueError, ArithmeticError, AttributeError, ValidationError, IntegrityError) as problem:
        raise BundleRefused(f"round.json cannot be read: {type(problem).__name__}: {str(problem)[:300]}") from problem
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
        self.instruments = {row["uid"]: self._shared(Instrument, row, "name") for row in content["instruments"]}
        self.rigs = {row["uid"]: self._rig(row) for row in content["rigs"]}
        self.types = {row["uid"]: self._shared(ReferenceType, row, "name") for row in content["reference_types"]}
        self.references = {
            row["uid"]: self._shared(ReferenceSpecimen, row, "serial", type=self.types[row["type"]]) for row in content["reference_specimens"]
        }
        round = self._make(Round, content["round"], slug=self._free_slug(content["round"]["slug"]))
        Membership.objects.create(round=round, user=self.user, role=HOST)
        self.settings = {row["label"]: self._make(Setting, row, round=round) for row in content["settings"]}
        self.tests = {row["key"]: self._test(row, round) for row in content["tests"]}
        for row in content["rules"]:
            rules = self._make(RuleVersion, row, round=round, created_by=self.user)
            for key, weight in row["terms"].items():
                RuleTerm.objects.create(rules=rules, test=self.tests[key], weight=float(weight))
        self.specimens = self._entries(round)
        self.recordings = {row["uid"]: self._recording(row, round) for row in content["recordings"]}
        self._runs()
        progress.rebuild(round)
        for rules in round.rules.all():
            refresh(rules)
        return round

    def _values(self, model: type[Model], row: dict[str, Any]) -> dict[str, Any]:
        values = {}
        for name in FIELDS[model]:
            value = row[name]
            kind = model._meta.get_field(name).get_internal_type()
            if kind == "DateTimeField" and value is not None:
                value = datetime.fromisoformat(value)
                if timezone.is_naive(value):
                    raise BundleRefused(f"The time “{row[name]}” in round.json has no offset.")
            values[name] = value
        return values

    def _make(self, model: type[Model], row: dict[str, Any], **other: Any) -> Any:
        made = model(**(self._values(model, row) | other))
        unset = {field.name for field in model._meta.fields if field.null and getattr(made, field.attname) is None}
        made.full_clean(validate_unique=False, validate_constraints=False, exclude=unset | set(other))
        made.save(force_insert=True)
        return made

    def _shared(self, model: Any, row: dict[str, Any], name: str, **other: Any) -> Any:
        """Something in the stores: the one with the same identity, or a new one under a free name."""
        found = model.objects.filter(uid=row["uid"]).first()
        if found is not None:
            return found
        free = dict(row)
        while model.objects.filter(**{name: free[name]}, **other).exists():
            free[name] = f"{free[name][:60]} (imported)"
        return self._make(model, free, **other)

    def _rig(self, row: dict[str, Any]) -> Rig:
        if not all(
            isinstance(pair, list) and len(pair) == 2 and all(isinstance(v, (int, float)) for v in pair) for pair in row["constants"].values()
        ):
            raise BundleRefused(f"The constants of the rig “{row['name']}” are not pairs of numbers.")
        known = Rig.objects.filter(uid=row["uid"]).first()
        if known is not None:
            if known.constants != row["constants"]:
                raise BundleRefused(f"The rig “{known}” is here with other constants. Give the changed rig a new state before it is imported.")
            return known
        rig = self._shared(Rig, row, "name")
        RigMeter.objects.bulk_create(RigMeter(rig=rig, channel=channel, instrument=self.instruments[uid]) for channel, uid in row["meters"].items())
        return rig

    def _free_slug(self, wanted: str) -> str:
        slug, number = slugify(wanted)[:50] or "round", 2
        while Round.objects.filter(slug=slug).exists():
            slug, number = f"{slugify(wanted)[:50]}-{number}", number + 1
        return slug

    def _test(self, row: dict[str, Any], round: Round) -> Test:
        if row["procedure"] not in PROCEDURES:
            raise BundleRefused(f"The procedure “{row['procedure']}” is not known here. Update this installation first.")
        test = self._make(Test, row, round=round, rig=self.rigs[row["rig"]], setting=self.settings[row["setting"]])
        for reference in row["references"]:
            self._make(TestReference, reference, test=test, specimen=self.references[reference["specimen"]])
        return test

    def _entries(self, round: Round) -> dict[str, Specimen]:
        specimens = {}
        for row in self.content["entries"]:
            entry = self._make(Entry, row, round=round)
            for version_row in row["versions"]:
                version = self._make(Version, version_row, entry=entry)
                for specimen_row in version_row["specimens"]:
                    specimens[specimen_row["uid"]] = self._make(Specimen, specimen_row, version=version)
        return specimens

    def _recording(self, row: dict[str, Any], round: Round) -> Recording:
        source = None
        if row["source"] is not None:
            if row["source"]["sha256"] not in self.bundle.files:
                raise BundleRefused(f"The bundle lacks the file {row['source']['name']}.")
            source = keep_file(self.user, row["source"]["name"], self.bundle.files[row["source"]["sha256"]])
        recording = self._make(Recording, row, round=round, source=source)
        trace = dict(self.bundle.traces[row["uid"]])
        if unknown := set(trace) - set(CHANNELS) - {"time"}:
            raise BundleRefused(f"A trace holds the unknown channel “{sorted(unknown)[0]}”.")
        store_chunks(recording, trace.pop("time"), trace)
        return recording

    def _runs(self) -> None:
        for row in self.content["runs"]:
            run = self._make(
                Run, row, test=self.tests[row["test"]], setting=self.settings[row["setting"]], operator=self.user,
                specimen=self.specimens[row["specimen"]] if row["specimen"] else None,
                reference=self.references[row["reference"]] if row["reference"] else None,
                recording=self.recordings[row["recording"]] if row["recording"] else None,
            )  # fmt: skip
            for reading in row["readings"]:
                if reading["channel"] not in CHANNELS:
                    raise BundleRefused(f"A reading is of the unknown channel “{reading['channel']}”.")
            Reading.objects.bulk_create(Reading(run=run, **self._values(Reading, reading)) for reading in row["readings"])
            if row["result"] is not None:
                _check_result(row["result"])
                Result.objects.create(run=run, **self._values(Result, row["result"]))


def _check_result(result: dict[str, Any]) -> None:
    """Doubt and working of a result must have the shape that pages and standings read."""
    for key, name, scope, kind, dof, part in result["parts"]:
        if not all(isinstance(text, str) for text in (key, name)) or scope not in {"common", "own"} or kind not in {"A", "B"}:
            raise BundleRefused(f"A cause of doubt in round.json cannot be read: {str(key)[:60]}")
        if not isinstance(part, (int, float)) or not isinstance(dof, (int, float, type(None))):
            raise BundleRefused(f"The cause “{name[:60]}” in round.json has no number.")
    for step in result["working"]:
        if not isinstance(step["value"], (int, float)) or not all(
            isinstance(step[field], str) for field in ("name", "formula", "unit", "source", "note")
        ):
            raise BundleRefused("A step of working in round.json cannot be read.")
        for symbol, value, unit in step["inputs"]:
            if not isinstance(value, (int, float)) or not isinstance(symbol, str) or not isinstance(unit, str):
                raise BundleRefused(f"An input of “{step['name'][:60]}” in round.json cannot be read.")
