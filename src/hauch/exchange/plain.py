"""Rows as plain values and back: which fields travel, and the stores that rounds and libraries
bring along.
"""

from __future__ import annotations

import uuid
from datetime import date, datetime
from decimal import Decimal
from typing import Any

from django.db.models import Model
from django.utils import timezone

from hauch.bench.models import (
    Exclusion,
    Observation,
    Reading,
    Recording,
    Result,
    Run,
    Waveform,
)
from hauch.core.measure.channels import CHANNELS
from hauch.core.measure.rigs import RIGS
from hauch.entries.models import AssemblyStep, BillItem, Entry, PartFile, Prediction, Version
from hauch.formats.bundle import BundleRefused
from hauch.panel.models import FacePicture, Judge, Mark, Sample, Sitting
from hauch.people.models import User
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
from hauch.stores.actions import calibrations_came
from hauch.stores.models import (
    Calibration,
    Instrument,
    Material,
    ReferenceSpecimen,
    ReferenceType,
    Rig,
    RigCalibration,
    RigMeter,
)
from hauch.verdict.models import Criterion, Decision, Guess, Guessing, Scenario
from hauch.workshop.models import Balance, Gate, Measure, PrintRun, Specimen, WorkStep

FIELDS: dict[type[Model], tuple[str, ...]] = {
    Round: (
        "uid", "slug", "number", "title", "place", "question", "part", "may_vary", "motors", "own_parts", "orientation", "equal", "equal_value",
        "envelope", "quick", "entries_until", "safety", "state", "created_at", "published_at",
    ),
    Rig: ("uid", "name", "kind", "state", "since", "change", "constants", "note"),
    RigCalibration: ("kind", "readings", "found", "text", "note", "at"),
    Instrument: (
        "uid", "name", "channel", "serial", "resolution", "accuracy", "accuracy_share", "low", "high", "response_time", "principle", "recalibrate_after",
        "retired",
    ),
    Calibration: (
        "uid", "at", "standard", "standard_u", "points", "slope", "offset", "centre", "slope_u", "level_u", "dof", "replaces_limit", "note", "withdrawn",
    ),
    ReferenceType: ("uid", "name", "description"),
    ReferenceSpecimen: ("uid", "serial", "state", "hours", "cap", "note"),
    Setting: ("label", "values"),
    Test: (
        "key", "label", "procedure", "own", "taking", "order", "repeats", "readings", "common_speed", "reporting_distance", "resolution", "soak", "soak_minutes", "baseline",
        "dropped",
    ),
    TestReference: ("since", "until", "bridging"),
    RuleVersion: ("number", "brief", "scheme", "tie_rule", "level_as", "draws", "seed", "reason", "created_at"),
    RuleTerm: ("weight", "most_loss"),
    RuleQuestion: ("kind", "text", "asked_at", "answer", "answered_at"),
    Entry: ("uid", "name", "designer_name", "story", "mark", "state", "submitted_at"),
    Version: ("uid", "number", "changed", "why", "outlets", "created_at", "named", "sealed_at"),
    PartFile: ("name", "sha256", "size", "added_at", "place", "count", "unit", "axis"),
    BillItem: ("order", "name", "quantity", "price"),
    AssemblyStep: ("order", "text"),
    Prediction: ("uid", "procedure", "source", "model", "value", "u", "inputs", "core_version", "made_at"),
    Specimen: ("uid", "code", "material", "mass", "state", "since", "due", "note", "layer", "line", "walls", "infill", "cap"),
    PrintRun: ("machine", "hours", "failed", "note", "at"),
    WorkStep: ("order", "kind", "text", "done_at"),
    Measure: ("kind", "place", "value", "at"),
    Balance: ("speed", "first", "first_angle", "trial", "trial_radius", "trial_angle", "second", "second_angle", "residual", "at"),
    Gate: ("power", "cautions", "cap", "working", "at"),
    Material: ("key", "label", "density", "along", "across", "stiffness", "heat", "anneal", "shrinks", "grows", "price", "cautions", "retired"),
    Recording: ("uid", "started_at", "columns", "rate", "shift", "shift_note", "created_at", "set_aside_at"),
    Run: (
        "uid", "replicate", "started_at", "state", "reason", "note", "temperature", "pressure", "humidity", "hours", "windows", "beside", "created_at",
    ),
    Waveform: ("channel", "at_s", "seconds", "rate", "clipped"),
    RecordingSession: (
        "uid", "held_at", "mounting", "distance", "spacing", "room", "device", "mains", "note", "calibration", "tone_level", "meter_level", "why_comparable",
    ),
    SoundRecording: (
        "uid", "name", "channel", "channels", "seconds", "rate", "coding", "lossy", "recorded_at", "kind", "speed", "blades", "second_speed", "second_blades",
        "poles", "switching", "from_s", "to_s", "why_chosen", "state", "created_at", "set_aside_at",
    ),
    Observation: ("at_s", "text", "tags", "at"),
    Exclusion: ("channel", "from_s", "to_s", "reason", "at", "undone_at"),
    Reading: ("channel", "position", "seq", "value", "typed", "unit"),
    Criterion: ("against", "most", "set_at"),
    Decision: ("word", "reason", "said", "at"),
    Scenario: ("name", "wish", "at"),
    Guessing: ("opened_at",),
    Guess: ("name", "at"),
    Sitting: ("criteria", "weights", "faces", "face_names", "most", "opened_at", "closed_at"),
    Sample: ("code",),
    FacePicture: ("face",),
    Judge: ("name", "seed", "done_at"),
    Mark: ("face", "criterion", "points"),
    Listening: ("kind", "equal", "trials", "opened_at", "closed_at"),
    Played: ("code",),
    Listener: ("name", "seed", "done_at"),
    Answer: ("trial", "said", "right"),
    Place: ("place",),
    Result: ("value", "u", "dof", "unit", "as_read", "parts", "working", "marks", "missing", "curve", "troubles", "core_version"),
}  # fmt: skip
"""Fields of each model that travel as they are."""

LINKS: dict[type[Model], tuple[str, ...]] = {
    Rig: ("previous", "instruments"),
    RigCalibration: ("rig",),
    Calibration: ("instrument",),
    ReferenceSpecimen: ("type",),
    Setting: ("round",),
    Test: ("round", "rig", "setting", "replaces"),
    TestReference: ("test", "specimen"),
    RuleVersion: ("round", "tests"),
    RuleTerm: ("rules", "test"),
    RuleQuestion: ("rules", "asked_by"),
    Entry: ("round",),
    Version: ("entry", "material"),
    PartFile: ("version",),
    BillItem: ("version",),
    AssemblyStep: ("version", "picture"),
    Prediction: ("version", "made_by"),
    Specimen: ("version", "printed_in"),
    PrintRun: ("specimen",),
    WorkStep: ("specimen",),
    Measure: ("specimen",),
    Balance: ("specimen",),
    Gate: ("specimen",),
    Recording: ("round", "source", "beside"),
    Run: (
        "test",
        "rig",
        "setting",
        "specimen",
        "reference",
        "recording",
        "carried_from",
        "picture",
    ),
    Reading: ("run",),
    Result: ("run",),
    Waveform: ("recording", "source"),
    RecordingSession: ("round", "microphone", "read_beside"),
    SoundRecording: ("session", "source", "specimen", "reference", "run", "counts"),
    Observation: ("recording", "run", "picture"),
    Exclusion: ("run", "reading"),
    Criterion: ("round", "test"),
    Decision: ("version",),
    Scenario: ("round",),
    Guessing: ("round", "test"),
    Guess: ("guessing", "given"),
    Sitting: ("round", "test"),
    Sample: ("sitting", "specimen", "reference"),
    FacePicture: ("sample", "picture"),
    Judge: ("sitting",),
    Mark: ("judge", "sample"),
    Listening: ("round", "test"),
    Played: ("listening", "recording"),
    Listener: ("listening",),
    Answer: ("listener",),
    Place: ("listener", "played"),
}
"""Relations that travel: by the identity of what they lead to, or by standing inside it."""

LEFT_OUT: dict[str, str] = {
    "Round.archived": "what is put away here may be of use elsewhere",
    "Round.presence": "who stays at a bench is decided where it stands",
    "Round.unattended": "who stays at a bench is decided where it stands",
    "Instrument.resource": "an imported file must not make this machine talk to others",
    "Instrument.profile": "goes with the resource name",
    "Instrument.shared": "goes with the resource name",
    "Recording.set_aside_by": "people do not travel",
    "RecordingSession.by": "people do not travel",
    "SoundRecording.by": "people do not travel",
    "SoundRecording.set_aside_by": "people do not travel",
    "SoundRecording.waveform": "a meter's waveform is handed in with its file",
    "SoundRecording.progress": "analyses are made anew by the core that is there",
    "SoundRecording.attempts": "analyses are made anew by the core that is there",
    "SoundRecording.problem": "analyses are made anew by the core that is there",
    "RigCalibration.by": "people do not travel",
    "Calibration.entered_by": "people do not travel",
    "Calibration.entered_at": "when it was typed here; the day of the calibration travels",
    "ReferenceSpecimen.picture": "stays with the installation for now",
    "RuleVersion.created_by": "people do not travel",
    "RuleQuestion.answered_by": "people do not travel",
    "Entry.designer": "people do not travel; the designer's name does",
    "PartFile.path": "follows from the content",
    "PartFile.added_by": "people do not travel",
    "PartFile.newest_check": "checks are made anew by the core that is there",
    "PrintRun.by": "people do not travel",
    "WorkStep.done_by": "people do not travel",
    "Measure.by": "people do not travel",
    "Balance.by": "people do not travel",
    "Gate.by": "people do not travel",
    "Run.operator": "people do not travel",
    "Run.form_key": "the form it was sent with here",
    "Result.computed_at": "when it was computed here",
    "Observation.by": "people do not travel",
    "Exclusion.by": "people do not travel",
    "Exclusion.undone_by": "people do not travel",
    "Criterion.by": "people do not travel",
    "Decision.by": "people do not travel",
    "Scenario.by": "people do not travel",
    "Guessing.secret": "of a link here",
    "Guessing.opened_by": "people do not travel",
    "Sitting.opened_by": "people do not travel",
    "Judge.digest": "of a link here",
    "Listening.secret": "of a link here",
    "Listening.opened_by": "people do not travel",
}
"""Model and field -> why it does not travel."""


WORKSHOP: dict[str, type[Model]] = {
    "prints": PrintRun,
    "steps": WorkStep,
    "measures": Measure,
    "balances": Balance,
    "gates": Gate,
}
"""What belongs to a specimen, by the name under which it stands there."""


def plain(instance: Model) -> dict[str, Any]:
    """The instance's own fields as JSON values."""
    values = {}
    for name in FIELDS[type(instance)]:
        value = getattr(instance, name)
        values[name] = (
            value.isoformat()
            if isinstance(value, (date, datetime))
            else str(value)
            if isinstance(value, (uuid.UUID, Decimal))
            else value
        )
    return values


def rig_content(rig: Rig) -> dict[str, Any]:
    """A rig in one state as plain data, with its meters by channel and its calibrations."""
    return plain(rig) | {
        "previous": str(rig.previous.uid) if rig.previous else None,
        "meters": {m.channel: str(m.instrument.uid) for m in rig.meters.all()},
        "calibrations": [plain(c) for c in rig.calibrations.all()],
    }


def instrument_content(instrument: Instrument) -> dict[str, Any]:
    """An instrument as plain data, with its calibrations."""
    return plain(instrument) | {"calibrations": [plain(c) for c in instrument.calibrations.all()]}


def values_of(model: type[Model], row: dict[str, Any]) -> dict[str, Any]:
    """The fields of a model from plain data. Raises LookupError, ValueError or BundleRefused for
    what cannot be.
    """
    values = {}
    for name in FIELDS[model]:
        value = row[name]
        kind = model._meta.get_field(name).get_internal_type()
        if kind == "DateTimeField" and value is not None:
            value = datetime.fromisoformat(value)
            if timezone.is_naive(value):
                raise BundleRefused(f"The time “{row[name]}” has no offset.")
        if kind == "DateField" and value is not None:
            value = date.fromisoformat(value)
        values[name] = value
    return values


def make(model: type[Model], row: dict[str, Any], **other: Any) -> Any:
    """A new row from plain data, checked field by field."""
    made = model(**(values_of(model, row) | other))
    unset = {
        field.name
        for field in model._meta.fields
        if field.null and getattr(made, field.attname) is None
    }
    made.full_clean(validate_unique=False, validate_constraints=False, exclude=unset | set(other))
    made.save(force_insert=True)
    return made


def shared(model: Any, row: dict[str, Any], name: str, **other: Any) -> Any:
    """Something in the stores: the one with the same identity, or a new one under a free name."""
    found = model.objects.filter(uid=row["uid"]).first()
    if found is not None:
        return found
    free = dict(row)
    while model.objects.filter(**{name: free[name]}, **other).exists():
        free[name] = f"{free[name][:60]} (imported)"
    return make(model, free, **other)


class StoresImporter:
    """Brings instruments and rigs in; what is here already with the same identity stays as it is."""

    def __init__(self, user: User) -> None:
        self.user = user
        self.instruments: dict[str, Instrument] = {}
        self.rigs: dict[str, Rig] = {}
        self.new: list[Instrument | Rig] = []

    def instrument(self, row: dict[str, Any]) -> Instrument:
        """One instrument with its calibrations."""
        if row["channel"] not in CHANNELS:
            raise BundleRefused(
                f"The meter “{row['name']}” reads “{row['channel']}”, which is not known here."
            )
        known = Instrument.objects.filter(uid=row["uid"]).exists()
        instrument = shared(Instrument, row, "name")
        if not known:
            self.new.append(instrument)
        uids = [one["uid"] for one in row["calibrations"]]
        here = {
            str(uid)
            for uid in Calibration.objects.filter(uid__in=uids).values_list("uid", flat=True)
        }
        coming = [one for one in row["calibrations"] if one["uid"] not in here]
        for calibration in reversed(coming):  # of one day, the later one holds
            make(Calibration, calibration, instrument=instrument)
        if known and coming:
            calibrations_came(self.user, instrument, len(coming))
        self.instruments[row["uid"]] = instrument
        return instrument

    def rig(self, row: dict[str, Any]) -> Rig:
        """One state of a rig; states before it must have come in before."""
        constants = row["constants"]
        if row["kind"] not in RIGS:
            raise BundleRefused(
                f"The rig “{row['name']}” is of the kind “{row['kind']}”, which is not known here."
            )
        known = Rig.objects.filter(uid=row["uid"]).first()
        if known is not None:
            if known.constants != constants:
                raise BundleRefused(
                    f"The rig “{known}” is here with other constants. Give the changed rig a new"
                    " state before it is imported."
                )
            self.rigs[row["uid"]] = known
            return known
        previous = self.rigs[row["previous"]] if row["previous"] else None
        if previous is not None and hasattr(previous, "next"):
            raise BundleRefused(
                f"The rig “{previous}” was changed here since, in another way than in this file."
            )
        if previous is not None:
            rig = make(Rig, row | {"name": previous.name}, previous=previous)
        else:
            rig = shared(Rig, row, "name")
        unknown = [uid for uid in row["meters"].values() if uid not in self.instruments]
        if unknown:
            raise BundleRefused(f"The rig “{rig}” names a meter that the file does not hold.")
        RigMeter.objects.bulk_create(
            RigMeter(rig=rig, channel=channel, instrument=self.instruments[uid])
            for channel, uid in row["meters"].items()
        )
        for calibration in reversed(row["calibrations"]):
            make(RigCalibration, calibration, rig=rig)
        self.rigs[row["uid"]] = rig
        self.new.append(rig)
        return rig
