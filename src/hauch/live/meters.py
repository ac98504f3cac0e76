"""Which meters and controllers a recording holds, so that no second bench turns or reads them."""

from __future__ import annotations

from django.core.exceptions import ValidationError

from hauch.bench.models import Live
from hauch.stores.models import Instrument, Rig


def line_of(instrument: Instrument) -> tuple[str, str]:
    """What makes two entries in Stores one meter: where it is, however that is written, and what it
    is told or asked there.
    """
    where = instrument.resource.strip().upper()
    for kind in (
        "TCPIP",
        "ASRL",
        "USB",
        "GPIB",
    ):  # the board's number may be left out where it is 0
        where = where.replace(f"{kind}::", f"{kind}0::", 1)
    profile = instrument.profile
    buffer = profile.get("buffer") or {}
    kept = f"{buffer.get('query', '')} {buffer.get('column', 0)}" if buffer else ""
    return where, profile.get("set") or profile.get("query") or kept or instrument.channel


def _shared(instrument: Instrument) -> bool:
    """Whether several benches may read it; what turns something is never shared."""
    return instrument.shared and not instrument.profile.get("set")


def hold_meters(rig: Rig) -> None:
    """Hold the meters and controllers of a rig for a recording that begins.

    Raises
    ------
    ValidationError : another bench holds one of them, with its name
    """
    # Two benches that begin at once wait for each other here.
    list(Instrument.objects.select_for_update().exclude(resource="").order_by("pk"))
    mine = [m.instrument for m in rig.meters.exclude(instrument__resource="")]
    lines = {line_of(instrument): instrument for instrument in mine}
    others = (
        Live.objects.filter(ended_at__isnull=True)
        .exclude(test__rig=rig)
        .select_related("test__rig", "specimen__version__entry", "reference__type")
        .prefetch_related("test__rig__meters__instrument")
    )
    for there in others:
        for meter in there.test.rig.meters.all():
            held = lines.get(line_of(meter.instrument))
            if held is None or (_shared(held) and _shared(meter.instrument)):
                continue
            end = (
                "."
                if held.profile.get("set")
                else ", or say at the meter that several benches may read it."
            )
            raise ValidationError(
                f"{held} is held by another bench: {there.subject} is on {there.test.rig}, in"
                f" {there.test.label}. A motor or a meter works on one bench at a time. End that"
                f" recording first{end}"
            )
