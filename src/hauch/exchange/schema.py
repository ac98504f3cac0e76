"""The content of round.json as types: what an export writes is what an import reads.

Fields that travel as they are come from `plain.FIELDS` with the type of the model's field; what
hangs on a row, and the shape of what is kept as JSON, stands here. ``docs/round.schema.json`` is
made from it (`json_schema`).
"""

from __future__ import annotations

import re
import uuid
from datetime import date, datetime
from decimal import Decimal
from typing import Annotated, Any, Literal

import msgspec
from django.apps import apps
from django.db import IntegrityError
from django.db.models import JSONField, Model
from msgspec import Meta, Struct

from hauch.bench.models import (
    Exclusion,
    Observation,
    Reading,
    Recording,
    Result,
    Run,
    Waveform,
)
from hauch.entries.models import AssemblyStep, BillItem, Entry, PartFile, Prediction, Version
from hauch.exchange.plain import FIELDS
from hauch.formats.bundle import SCHEMA, SCHEMA_VERSION, BundleRefused
from hauch.panel.models import FacePicture, Judge, Mark, Sample, Sitting
from hauch.rounds.models import (
    Round,
    RuleQuestion,
    RuleTerm,
    RuleVersion,
    Setting,
    Test,
    TestReference,
)
from hauch.sound.models import (
    Answer,
    Listener,
    Listening,
    Place,
    Played,
    RecordingSession,
    SoundRecording,
)
from hauch.stores.models import (
    Calibration,
    Instrument,
    Material,
    ReferenceSpecimen,
    ReferenceType,
    Rig,
    RigCalibration,
)
from hauch.verdict.models import Criterion, Decision, Guess, Guessing, Scenario
from hauch.workshop.models import Balance, Gate, Measure, PrintRun, Specimen, WorkStep

Moment = Annotated[datetime, Meta(tz=True)]
Digest = Annotated[str, Meta(pattern="^[0-9a-f]{64}$")]
Pair = tuple[float, float]
Kept = dict[str, Any]
"""Written and read by one app alone, which copes with what it does not know."""

KINDS: dict[str, Any] = {
    "UUIDField": uuid.UUID,
    "DateTimeField": Moment,
    "DateField": date,
    "DecimalField": Decimal,
    "BooleanField": bool,
    "FloatField": float,
    "IntegerField": int,
    "PositiveIntegerField": int,
    "PositiveSmallIntegerField": int,
    "PositiveBigIntegerField": int,
    "CharField": str,
    "TextField": str,
    "SlugField": str,
}
"""Kind of a model's field -> its type."""


class Step(Struct):
    """A step of a working: its formula, what went in [(symbol, value, unit)], what it came to."""

    name: str
    formula: str
    inputs: list[tuple[str, float, str]]
    value: float
    unit: str
    source: str
    note: str


class Curve(Struct):
    """A curve: its points [x, half-width, y, half-width], its line, the system's line and where
    both meet.
    """

    x_kind: str
    y_kind: str
    x_label: str
    y_label: str
    points: list[tuple[float, float, float, float]]
    line: list[Pair]
    system: list[Pair]
    at: Pair | None


class OwnFigure(Struct):
    """A figure of one's own: its formula over what a kind of rig reads, and how it is compared."""

    rig: str
    formula: str
    unit: str
    direction: Literal[-1, 1]
    log: bool


class Wish(Struct, forbid_unknown_fields=True):
    """Rules that somebody wonders about: by test key what it weighs, and the loss that is allowed."""

    scheme: Annotated[str, Meta(pattern=f"^({'|'.join(RuleVersion.Scheme.values)})$")]
    noise: Annotated[str, Meta(pattern=f"^({'|'.join(RuleVersion.LevelAs.values)})$")]
    weights: dict[str, float]
    limits: dict[str, float]


Cause = tuple[str, str, Literal["common", "own"], Literal["A", "B"], float | None, float]
"""A cause of doubt: key, name, scope, kind, degrees of freedom, signed contribution."""

SHAPES: dict[type[Model], dict[str, Any]] = {
    Round: {"envelope": Kept},
    Rig: {"constants": dict[str, Pair]},
    RigCalibration: {"readings": Kept, "found": Kept},
    Calibration: {"points": list[Pair]},
    Setting: {"values": Kept},
    Test: {"own": OwnFigure | None},
    RuleVersion: {"brief": Kept},
    Prediction: {"inputs": Kept},
    Gate: {"cautions": list[tuple[str, str]], "working": list[Step]},
    Material: {"cautions": list[str]},
    Recording: {"columns": list[str | tuple[str, str]]},
    Run: {"windows": list[Pair], "beside": dict[Literal["background", "tare"], Pair]},
    Observation: {"tags": list[str]},
    Sitting: {"criteria": list[str], "weights": list[float], "face_names": list[str]},
    Scenario: {"wish": Wish},
    Result: {
        "parts": list[Cause],
        "working": list[Step],
        "marks": list[tuple[str, str, float, float, int]],
        "curve": Curve | None,
        "troubles": list[str],
    },
}
"""Fields that are kept as JSON -> their shape."""


def row(model: type[Model], **more: Any) -> type[Struct]:
    """The type of a model's row: its fields that travel, and what hangs on it."""
    fields = {}
    for name in FIELDS[model]:
        field = model._meta.get_field(name)
        if isinstance(field, JSONField):
            fields[name] = SHAPES[model][name]
        else:
            kind = KINDS[field.get_internal_type()]
            fields[name] = kind | None if field.null else kind
    return msgspec.defstruct(model.__name__, [*fields.items(), *more.items()])


Ref = uuid.UUID | None
"""The identity of another row of the file."""

SeenRow = row(Observation, picture=Digest | None)


class SourceRow(Struct):
    """The file that a recording came from."""

    sha256: Digest
    name: str


SpecimenRow = row(
    Specimen,
    printed_in=str | None,
    prints=list[row(PrintRun)],  # type: ignore[misc]
    steps=list[row(WorkStep)],  # type: ignore[misc]
    measures=list[row(Measure)],  # type: ignore[misc]
    balances=list[row(Balance)],  # type: ignore[misc]
    gates=list[row(Gate)],  # type: ignore[misc]
)
VersionRow = row(
    Version,
    material=str | None,
    bill=list[row(BillItem)],  # type: ignore[misc]
    steps=list[row(AssemblyStep, picture=Digest | None)],  # type: ignore[misc]
    specimens=list[SpecimenRow],  # type: ignore[valid-type]
    files=list[row(PartFile)],  # type: ignore[misc]
    predictions=list[row(Prediction, made_by=str)],  # type: ignore[misc]
    decisions=list[row(Decision)],  # type: ignore[misc]
)
RecordingRow = row(
    Recording,
    source=SourceRow | None,
    beside=Ref,
    observations=list[SeenRow],  # type: ignore[valid-type]
    waveforms=list[row(Waveform, source=SourceRow)],  # type: ignore[misc]
)
SoundRow = row(
    SoundRecording,
    source=SourceRow,
    specimen=Ref,
    reference=Ref,
    run=Ref,
    counts=list[uuid.UUID],
)
SessionRow = row(
    RecordingSession,
    microphone=Ref,
    read_beside=Ref,
    recordings=list[SoundRow],  # type: ignore[valid-type]
)
RuleRow = row(
    RuleVersion,
    tests=list[str],
    terms=list[row(RuleTerm, test=str)],  # type: ignore[misc]
    questions=list[row(RuleQuestion, asked_by=str)],  # type: ignore[misc]
)
RunRow = row(
    Run,
    test=str,
    rig=uuid.UUID,
    setting=str,
    carried_from=Ref,
    specimen=Ref,
    reference=Ref,
    recording=Ref,
    readings=list[row(Reading)],  # type: ignore[misc]
    result=row(Result) | None,
    picture=Digest | None,
    observations=list[SeenRow],  # type: ignore[valid-type]
    exclusions=list[row(Exclusion, reading=tuple[int, int] | None)],  # type: ignore[misc]
)
InstrumentRow = row(Instrument, calibrations=list[row(Calibration)])  # type: ignore[misc]
RigRow = row(
    Rig,
    previous=Ref,
    meters=dict[str, uuid.UUID],
    calibrations=list[row(RigCalibration)],  # type: ignore[misc]
)
TestRow = row(
    Test,
    rig=uuid.UUID,
    setting=str,
    replaces=str | None,
    references=list[row(TestReference, specimen=uuid.UUID)],  # type: ignore[misc]
)
SampleRow = row(
    Sample,
    specimen=Ref,
    reference=Ref,
    pictures=list[row(FacePicture, picture=Digest)],  # type: ignore[misc]
)
ListenerRow = row(
    Listener,
    answers=list[row(Answer)],  # type: ignore[misc]
    places=list[row(Place, played=str)],  # type: ignore[misc]
)
SittingRow = row(
    Sitting,
    test=str,
    samples=list[SampleRow],  # type: ignore[valid-type]
    judges=list[row(Judge, marks=list[row(Mark, sample=str)])],  # type: ignore[misc]
)
ListeningRow = row(
    Listening,
    test=str | None,
    played=list[row(Played, recording=uuid.UUID)],  # type: ignore[misc]
    listeners=list[ListenerRow],  # type: ignore[valid-type]
)
GuessingRow = row(
    Guessing,
    test=str | None,
    guesses=list[row(Guess, given=dict[uuid.UUID, float])],  # type: ignore[misc]
)
RoundFile = msgspec.defstruct(
    "RoundFile",
    [
        ("exported_by", str),
        ("core_version", str),
        ("round", row(Round)),
        ("instruments", list[InstrumentRow]),  # type: ignore[valid-type]
        ("rigs", list[RigRow]),  # type: ignore[valid-type]
        ("reference_types", list[row(ReferenceType)]),  # type: ignore[misc]
        ("reference_specimens", list[row(ReferenceSpecimen, type=uuid.UUID)]),  # type: ignore[misc]
        ("materials", list[row(Material)]),  # type: ignore[misc]
        ("settings", list[row(Setting)]),  # type: ignore[misc]
        ("tests", list[TestRow]),  # type: ignore[valid-type]
        ("rules", list[RuleRow]),  # type: ignore[valid-type]
        ("entries", list[row(Entry, versions=list[VersionRow])]),  # type: ignore[misc,valid-type]
        ("recordings", list[RecordingRow]),  # type: ignore[valid-type]
        ("runs", list[RunRow]),  # type: ignore[valid-type]
        ("sounds", list[SessionRow]),  # type: ignore[valid-type]
        ("standings", dict[str, list[Kept]]),
        ("criteria", list[row(Criterion, test=str)]),  # type: ignore[misc]
        ("scenarios", list[row(Scenario)]),  # type: ignore[misc]
        ("guesses", GuessingRow | None),
        ("sittings", list[SittingRow]),  # type: ignore[valid-type]
        ("listenings", list[ListeningRow]),  # type: ignore[valid-type]
    ],
)


LibraryFile = msgspec.defstruct(
    "LibraryFile",
    [
        ("instruments", list[InstrumentRow]),  # type: ignore[valid-type]
        ("rigs", list[RigRow]),  # type: ignore[valid-type]
    ],
)


def check(
    content: dict[str, Any], kind: type[Struct] = RoundFile, name: str = "round.json"
) -> None:
    """Raise BundleRefused where the content of a file is not what its types say: where, and what."""
    try:
        msgspec.convert(content, kind)
    except msgspec.ValidationError as problem:
        raise BundleRefused(f"{name} cannot be read: {in_words(str(problem))}") from problem


def contradiction(problem: IntegrityError) -> str:
    """Which rule of the data a file breaks, in words."""
    found = getattr(getattr(problem.__cause__, "diag", None), "constraint_name", None) or ""
    rules = {
        rule.name: (model._meta.verbose_name, rule)
        for model in apps.get_models()
        for rule in model._meta.constraints
    }
    if found not in rules:
        return "something stands in it twice, or contradicts what else stands in it."
    of, rule = rules[found]
    said = str(rule.violation_error_message or "")
    if not said or said == str(rule.default_violation_error_message):
        said = f"The rule “{found.replace('_', ' ')}” of a {of} is broken."
    return f"what stands in it contradicts itself. {said}"


def in_words(problem: str) -> str:
    """What msgspec says is wrong, with its place as people count.

    >>> in_words("Expected `float`, got `str` - at `$.runs[3].result.value`")
    'runs, no. 4, result, value: expected a number, found text.'
    """
    said, _, place = problem.partition(" - at ")
    words = {"float": "a number", "int": "a whole number", "str": "text", "bool": "yes or no"}
    words |= {"array": "a list", "object": "an object", "null": "nothing", "datetime": "a time"}

    def plain(found: re.Match) -> str:
        return " or ".join(words.get(word.strip(), word.strip()) for word in found[1].split("|"))

    said = re.sub(r"Object missing required field `(\w+)`", r"“\1” is missing", said)
    said = re.sub(r"`([^`]*)`", plain, said).replace(", got ", ", found ")
    parts = re.findall(r"\.(\w+)|\[(\d+|\.\.\.)\]", place)
    where = ", ".join(
        name or (f"no. {int(number) + 1}" if number.isdigit() else "one of them")
        for name, number in parts
    )
    return f"{where + ': ' if where else ''}{said[:1].lower() + said[1:]}."


def json_schema() -> dict[str, Any]:
    """The schema of round.json for other programs, as JSON Schema."""
    made = msgspec.json.schema(RoundFile)
    root = made["$defs"]["RoundFile"]
    root["properties"] = {
        "schema": {"const": SCHEMA},
        "schema_version": {"const": SCHEMA_VERSION},
        **root["properties"],
    }
    root["required"] = ["schema", "schema_version", *root["required"]]
    return {
        "$schema": "https://json-schema.org/draft/2020-12/schema",
        "title": f"An exported round, version {SCHEMA_VERSION}",
        **made,
    }
