"""What can be done in the stores: instruments and their calibrations, rigs and their states,
references.
"""

from __future__ import annotations

from collections.abc import Sequence
from datetime import date
from typing import Any

from django.conf import settings
from django.core.exceptions import ValidationError
from django.db import transaction

from hauch.core.measure.calibration import (
    CalibrationRefused,
    Line,
    fit_line,
)
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
)
from hauch.stores.pictures import keep_picture
from hauch.stores.relied_on import require_say, tell_rounds
from hauch.stores.signals import meter_changed


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
