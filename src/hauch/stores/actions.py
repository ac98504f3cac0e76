"""What can be done in the stores: instruments and their calibrations, rigs and their states,
references.
"""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from datetime import date
from typing import Any

from django.conf import settings
from django.core.exceptions import ValidationError
from django.db import transaction
from django.utils import timezone

from hauch.core.measure.calibration import (
    CalibrationRefused,
    Line,
    fit_line,
    leak_rate,
    profile_factor,
)
from hauch.core.measure.rigs import check_constants
from hauch.core.quantity import significant
from hauch.core.quantity.show import show
from hauch.instruments.address import problem_of
from hauch.instruments.ask import NoAnswer, ask
from hauch.people.audit import record
from hauch.people.clock import house_day
from hauch.people.models import User
from hauch.people.permissions import require
from hauch.stores.models import (
    Calibration,
    Instrument,
    Material,
    Picture,
    ReferenceSpecimen,
    ReferenceType,
    Rig,
    RigCalibration,
    RigMeter,
)
from hauch.stores.pictures import keep_picture
from hauch.stores.relied_on import require_say, tell_rounds
from hauch.stores.signals import meter_changed, rig_changed, rig_completed

Constants = Mapping[str, tuple[float, float]]


@transaction.atomic
def save_instrument(user: User, instrument: Instrument) -> Instrument:
    """Add an instrument or change what is known of it.

    Raises
    ------
    PermissionDenied, ValidationError : with a sentence for each field
    """
    require_say(user, instrument)
    new = instrument.pk is None
    before = None if new else Instrument.objects.get(pk=instrument.pk)
    instrument.full_clean()
    if instrument.resource and (
        problem := problem_of(instrument.resource, here=settings.LOCAL_METERS)
    ):
        raise ValidationError({"resource": problem})
    instrument.save()
    detail = {
        name: getattr(instrument, name)
        for name in (
            "resolution",
            "accuracy",
            "accuracy_share",
            "low",
            "high",
            "retired",
            "resource",
        )
    }
    record(user, "instrument.add" if new else "instrument.change", instrument, **detail)
    if before is not None:
        _meter_changed(
            user,
            "instrument.change",
            instrument,
            **{
                name: getattr(instrument, name)
                for name in OF_ITS_FIGURES
                if getattr(instrument, name) != getattr(before, name)
            },
        )
    return instrument


OF_ITS_FIGURES = ("resolution", "accuracy", "accuracy_share", "response_time", "principle")
"""What of a meter its runs' figures depend on."""


def _meter_changed(user: User, action: str, instrument: Instrument, **detail: Any) -> None:
    """Tell the rounds that rely on a meter, and have their runs computed again."""
    if detail:
        tell_rounds(user, action, instrument, **detail)
        meter_changed.send(Instrument, instrument=instrument)


def calibrations_came(user: User, instrument: Instrument, count: int) -> None:
    """Tell the rounds that rely on a meter of calibrations that an import has brought for it."""
    _meter_changed(user, "instrument.calibrate", instrument, imported=count)


@transaction.atomic
def save_material(user: User, material: Material) -> Material:
    """Add a material or change what is known of it.

    Raises
    ------
    PermissionDenied, ValidationError : with a sentence for each field
    """
    require(user, "stores.change")
    new = material.pk is None
    material.full_clean()
    material.save()
    detail = {
        name: getattr(material, name)
        for name in (
            "label",
            "density",
            "along",
            "across",
            "stiffness",
            "heat",
            "anneal",
            "price",
            "retired",
        )
    }
    record(user, "material.add" if new else "material.change", material, **detail)
    return material


def ask_instrument(user: User, instrument: Instrument) -> str:
    """What a meter on a line says: its identity and one reading, in a sentence.

    Raises
    ------
    PermissionDenied, ValidationError : it is on no line, or does not answer
    """
    require(user, "stores.change")
    if not instrument.resource:
        raise ValidationError("This meter is on no line. Enter its resource name first.")
    try:
        name, value = ask(instrument.resource, instrument.profile, instrument.channel)
    except NoAnswer as problem:
        raise ValidationError(
            f"{instrument} does not answer at {instrument.resource}: {problem}. Check"
            " the name, the cable and that it is on."
        ) from problem
    return f"{name or instrument.name} reads {show(value, instrument.reads.kind, user.units)}."


def line_of(
    instrument: Instrument, points: Sequence[tuple[float, float]], standard_u: float
) -> Line:
    """The calibration line of points (indicated, true) [SI].

    Raises
    ------
    ValidationError : with the reason for which there is none
    """
    try:
        return fit_line(
            [p[0] for p in points], [p[1] for p in points], standard_u, instrument.resolution
        )
    except CalibrationRefused as refusal:
        raise ValidationError({"points": str(refusal)}) from refusal


@transaction.atomic
def add_calibration(
    user: User,
    instrument: Instrument,
    at: date,
    points: Sequence[tuple[float, float]],
    *,
    standard: str = "",
    standard_u: float = 0.0,
    replaces_limit: bool = False,
    note: str = "",
) -> Calibration:
    """Calibrate an instrument from points (indicated, true) [SI]; it holds for runs from that day
    on.

    Raises
    ------
    PermissionDenied, ValidationError : no line can be drawn, or the day lies ahead
    """
    require(user, "stores.change")
    if at > house_day():
        raise ValidationError(
            {"at": f"{at:%d %b %Y} lies ahead. Give the day on which it was compared."}
        )
    line = line_of(instrument, points, standard_u)
    made = Calibration(
        instrument=instrument,
        at=at,
        standard=standard,
        standard_u=standard_u,
        points=[[float(a), float(b)] for a, b in points],
        note=note,
        slope=significant(line.slope),
        offset=significant(line.offset),
        centre=significant(line.centre),
        slope_u=significant(line.slope_u),
        level_u=significant(line.level_u),
        dof=line.dof or None,
        replaces_limit=replaces_limit,
        entered_by=user,
    )
    made.full_clean()
    made.save()
    record(
        user,
        "instrument.calibrate",
        instrument,
        at=at.isoformat(),
        slope=made.slope,
        offset=made.offset,
        points=len(points),
    )
    _meter_changed(user, "instrument.calibrate", instrument, at=at.isoformat(), points=len(points))
    return made


@transaction.atomic
def withdraw_calibration(user: User, calibration: Calibration, reason: str) -> Calibration:
    """Take a calibration out of use, with the reason; it stays on record. Who entered it may, and
    who has a say in all rounds that rely on the meter.
    """
    if calibration.entered_by_id == user.pk:
        require(user, "stores.change")
    else:
        require_say(user, calibration.instrument)
    if calibration.withdrawn:
        raise ValidationError("It is withdrawn already.")
    if not reason.strip():
        raise ValidationError({"reason": "Say in a few words why the calibration does not hold."})
    calibration.withdrawn = reason.strip()
    calibration.save(update_fields=["withdrawn"])
    record(user, "instrument.withdraw_calibration", calibration, reason=calibration.withdrawn)
    _meter_changed(
        user,
        "instrument.withdraw_calibration",
        calibration.instrument,
        of=calibration.at.isoformat(),
        reason=calibration.withdrawn,
    )
    return calibration


def check_rig(kind: Any, constants: Constants) -> None:
    """Raise ValidationError with a sentence for each constant that cannot be."""
    if problems := check_constants(kind, constants):
        raise ValidationError({name: [text] for name, text in problems.items()})


@transaction.atomic
def add_rig(user: User, rig: Rig, constants: Constants, meters: Mapping[str, Instrument]) -> Rig:
    """Put up a rig in its first state.

    Raises
    ------
    PermissionDenied, ValidationError : with a sentence for each field; nothing is saved then
    """
    require(user, "stores.change")
    check_rig(rig.how, constants)
    rig.constants = {name: [value, u] for name, (value, u) in constants.items()}
    rig.full_clean()
    rig.save()
    _set_meters(rig, meters)
    record(user, "rig.add", rig, constants=rig.constants)
    return rig


def _set_meters(rig: Rig, meters: Mapping[str, Instrument]) -> None:
    rig.meters.all().delete()
    RigMeter.objects.bulk_create(
        RigMeter(rig=rig, channel=channel, instrument=instrument)
        for channel, instrument in meters.items()
    )


def has_runs(rig: Rig) -> bool:
    """Whether anything was measured on the rig in this state."""
    return rig.runs.exists()


@transaction.atomic
def change_rig(
    user: User,
    rig: Rig,
    constants: Constants,
    meters: Mapping[str, Instrument],
    change: str,
    note: str | None = None,
) -> Rig:
    """Change a rig. Once it has runs the change is its next state, so that old runs keep theirs;
    gives the rig as it is now. Where nothing changed and a meter or a constant is only told that was
    not known yet, it belongs to the present state and its runs.

    Raises
    ------
    PermissionDenied, ValidationError : impossible constants, no word on what changed, or a state
        that is no longer the present one
    """
    require(user, "stores.change")
    rig = Rig.objects.select_for_update().get(pk=rig.pk)
    if hasattr(rig, "next"):
        raise ValidationError(f"{rig} was changed since. Change its present state, {rig.next}.")
    check_rig(rig.how, constants)
    stored = {name: [value, u] for name, (value, u) in constants.items()}
    note = rig.note if note is None else note
    had = {m.channel: m.instrument_id for m in rig.meters.all()}
    wanted = {channel: i.pk for channel, i in meters.items()}
    if stored == rig.constants and had == wanted:
        if note != rig.note:
            Rig.objects.filter(pk=rig.pk).update(note=note)
        return Rig.objects.get(pk=rig.pk)
    if not has_runs(rig):
        rig.constants, rig.note = stored, note
        rig.save(update_fields=["constants", "note"])
        _set_meters(rig, meters)
        record(user, "rig.change", rig, constants=stored, change=change)
        return rig
    added = {name: pair for name, pair in stored.items() if name not in rig.constants}
    only_more = rig.constants.items() <= stored.items() and had.items() <= wanted.items()
    if not change.strip() and only_more:
        # It was so all along, and only now somebody says it.
        more = {channel: meter for channel, meter in meters.items() if channel not in had}
        RigMeter.objects.bulk_create(
            RigMeter(rig=rig, channel=channel, instrument=meter) for channel, meter in more.items()
        )
        rig.constants, rig.note = stored, note
        rig.save(update_fields=["constants", "note"])
        if more:
            named = {channel: str(meter) for channel, meter in more.items()}
            record(user, "rig.meters", rig, added=named)
        if added:
            record(user, "rig.constants", rig, added=added)
        rig_completed.send(Rig, rig=rig)
        return rig
    if not change.strip():
        raise ValidationError(
            {
                "change": (
                    "Say what is different now: runs so far keep the rig as it was, and the change"
                    " stands beside the next ones."
                )
            }
        )
    new = Rig.objects.create(
        name=rig.name,
        kind=rig.kind,
        state=rig.state + 1,
        previous=rig,
        change=change.strip(),
        constants=stored,
        note=note,
        since=timezone.now(),
    )
    _set_meters(new, meters)
    record(user, "rig.change", new, constants=stored, before=rig.constants, change=new.change)
    rig_changed.send(Rig, old=rig, new=new)
    return new


def why_used(thing: Rig | Instrument) -> str:
    """What a rig or a meter is used for, so that it cannot be deleted; empty where it is not."""
    if isinstance(thing, Instrument):
        rigs = sorted({str(m.rig) for m in RigMeter.objects.filter(instrument=thing)})
        return f"It reads on {', '.join(rigs)}." if rigs else ""
    if has_runs(thing):
        return "It has runs, which are reduced with it."
    tests = thing.tests.select_related("round")[:3]
    if tests:
        return f"It is the rig of {', '.join(f'“{t.label}” in {t.round}' for t in tests)}."
    if thing.previous_id or hasattr(thing, "next"):
        return "It has other states."
    return ""


@transaction.atomic
def delete_unused(user: User, thing: Rig | Instrument) -> None:
    """Delete a rig or a meter that nothing was measured with.

    Raises
    ------
    PermissionDenied, ValidationError : it is used, with what for
    """
    require(user, "stores.change")
    if used := why_used(thing):
        raise ValidationError(f"{thing} cannot be deleted. {used}")
    kind = "rig" if isinstance(thing, Rig) else "instrument"
    record(user, f"{kind}.delete", thing, name=thing.name)
    thing.delete()


Found = dict[str, tuple[float, float]]


def find_constants(rig: Rig, kind: str, readings: Mapping[str, Any]) -> tuple[Found, str, Any]:
    """What a guided calibration gives: constants with standard uncertainty, in words, and the
    core's result for the picture.

    Raises
    ------
    ValidationError : readings that give nothing, with the reason
    """
    try:
        if kind == RigCalibration.Kind.TRAVERSE:
            profile = profile_factor(
                readings["speeds"], readings["centre"], readings.get("method", "log_linear")
            )
            return (
                {
                    "profile_factor": (
                        significant(profile.factor.value),
                        significant(profile.factor.u),
                    )
                },
                profile.factor.text,
                profile,
            )
        leak = leak_rate(readings["pressures"], readings["flows"])
    except CalibrationRefused as refusal:
        raise ValidationError({"readings": str(refusal)}) from refusal
    pairs = {"leak_coefficient": leak.coefficient, "leak_exponent": leak.exponent}
    return (
        {name: (significant(f.value), significant(f.u)) for name, f in pairs.items()},
        f"{leak.coefficient.text}; {leak.exponent.text}",
        leak,
    )


@transaction.atomic
def calibrate_rig(
    user: User, rig: Rig, kind: str, readings: Mapping[str, Any], note: str = ""
) -> Rig:
    """Calibrate a rig and use what was found from now on; gives the rig as it is now.

    Raises
    ------
    PermissionDenied, ValidationError : readings that give nothing; nothing is saved then
    """
    require(user, "stores.change")
    found, text, _ = find_constants(rig, kind, readings)
    meters = {m.channel: m.instrument for m in rig.meters.select_related("instrument")}
    now = change_rig(user, rig, rig.pairs | found, meters, f"Calibrated: {text}")
    RigCalibration.objects.create(
        rig=now,
        kind=kind,
        readings=dict(readings),
        found={name: list(pair) for name, pair in found.items()},
        text=text,
        note=note,
        by=user,
    )
    record(user, "rig.calibrate", now, kind=kind, found=found)
    return now


@transaction.atomic
def add_reference(
    user: User,
    type_name: str,
    serial: str,
    hours: float = 0.0,
    note: str = "",
    description: str = "",
) -> ReferenceSpecimen:
    """Take a reference specimen into the stores; its type is made where it is new.

    Raises
    ------
    PermissionDenied, ValidationError : the serial is there already, or hours that cannot be
    """
    require(user, "stores.change")
    type_name = type_name.strip()
    if not type_name:
        raise ValidationError({"type_name": "Give the type that the specimen is one of."})
    kind, _ = ReferenceType.objects.get_or_create(
        name=type_name[:80], defaults={"description": description}
    )
    specimen = ReferenceSpecimen(type=kind, serial=serial.strip(), hours=hours, note=note)
    specimen.full_clean()
    specimen.save()
    record(user, "reference.add", specimen, hours=hours)
    return specimen


@transaction.atomic
def change_reference(
    user: User, specimen: ReferenceSpecimen, *, note: str, picture: bytes | None = None
) -> ReferenceSpecimen:
    """Change the note of a reference specimen, and its picture where one is given.

    Raises
    ------
    PermissionDenied, ValidationError : the picture cannot be read
    """
    require(user, "stores.change")
    specimen.note = note
    if picture is not None:
        specimen.picture = keep_picture(user, picture)
    specimen.save(update_fields=["note", "picture"])
    record(
        user,
        "reference.note",
        specimen,
        note=note,
        picture=specimen.picture.sha256 if isinstance(specimen.picture, Picture) else "",
    )
    return specimen
