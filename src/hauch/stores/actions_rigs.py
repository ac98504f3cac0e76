"""What can be done with rigs: their states, calibrations, and taking away what nothing relies on."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any

from django.core.exceptions import ValidationError
from django.db import transaction
from django.utils import timezone

from hauch.core.measure.calibration import (
    CalibrationRefused,
    leak_rate,
    profile_factor,
)
from hauch.core.measure.rigs import check_constants
from hauch.core.quantity import significant
from hauch.people.audit import record
from hauch.people.models import User
from hauch.people.permissions import require
from hauch.stores.models import (
    Instrument,
    Rig,
    RigCalibration,
    RigMeter,
)
from hauch.stores.signals import rig_changed, rig_completed

Found = dict[str, tuple[float, float]]


Constants = Mapping[str, tuple[float, float]]


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
