"""Reading the stores: what there is, what is due."""

from __future__ import annotations

from dataclasses import dataclass
from datetime import date, timedelta

from django.db.models import QuerySet

from hauch.people.clock import house_day
from hauch.stores.models import Calibration, Instrument, Rig

SOON = timedelta(days=30)


def rigs_now() -> QuerySet[Rig]:
    """Rigs in their present state."""
    return Rig.objects.current().order_by("kind", "name").prefetch_related("meters__instrument")


@dataclass(frozen=True)
class Due:
    """Where an instrument stands with its calibration: ``word`` is ``"late"``, ``"soon"``,
    ``"never"`` or ``""``.
    """

    instrument: Instrument
    calibration: Calibration | None
    day: date | None
    word: str


def due_of(instrument: Instrument) -> Due:
    """Whether an instrument is to be calibrated; its calibrations should be fetched with it."""
    calibration, today = instrument.calibration_at(), house_day()
    if calibration is None:
        return Due(
            instrument, None, None, "never" if instrument.recalibrate_after is not None else ""
        )
    day = instrument.due_on(calibration)
    if day is None:
        return Due(instrument, calibration, None, "")
    return Due(
        instrument,
        calibration,
        day,
        "late" if day <= today else "soon" if day <= today + SOON else "",
    )


def instruments_due(*, all_of_them: bool = False) -> list[Due]:
    """Instruments in use with where they stand; only those that need something unless all are asked
    for.
    """
    rows = [
        due_of(i) for i in Instrument.objects.filter(retired=False).prefetch_related("calibrations")
    ]
    return [row for row in rows if all_of_them or row.word]


def states_of(rig: Rig) -> list[Rig]:
    """All states of a rig, the present one first."""
    chain, now = [], Rig.objects.filter(name=rig.name).select_related("next").in_bulk()
    by_previous = {r.previous_id: r for r in now.values()}
    first = rig
    while first.previous_id in now:
        first = now[first.previous_id]
    at: Rig | None = first
    while at is not None:
        chain.append(at)
        at = by_previous.get(at.pk)
    return chain[::-1]
