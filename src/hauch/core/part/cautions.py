"""The usual cautions before a part is put on a bench, by what it is, what drives it and what it is
made of. They warn; they certify nothing.
"""

from __future__ import annotations

from dataclasses import dataclass

from hauch.core.geometry.kinds import PART_KINDS

POWER = {
    "supply": "a bench supply below 60 V",
    "cells": "lithium cells",
    "mains": "mains or a variable transformer",
    "air": "compressed air",
    "shaft": "a driven shaft or belt",
    "engine": "a vehicle's engine",
}
"""What can drive a part on a bench."""
FIRST = (
    "Local codes and licensed practice come first: where they ask for more, or for a licensed"
    " person, that holds. Nothing here certifies a part."
)
NOT_IN_IT = (
    "Flaws of the print, fatigue, creep, blows, resonance and what holds it on its shaft are not in"
    " that limit."
)
"""What the speed limit does not know."""
AIR = (
    "Compressed air: never at skin or eyes, low nozzle pressure, relief valve and guard; the printed"
    " part is no pressure vessel."
)
LOUD = 85.0
"""Level from which ears are protected [dB(A)]."""


@dataclass(frozen=True, slots=True)
class Caution:
    """One caution: key and sentence, to be confirmed."""

    key: str
    text: str


def cautions(
    part: str,
    power: str,
    tip_speed: float | None,
    cap: float | None,
    material: str,
    heater: bool,
    level: float | None = None,
) -> list[Caution]:
    """The cautions that apply.

    Parameters
    ----------
    part : kind of part, key in `PART_KINDS`
    power : key in `POWER`
    tip_speed : of a rotor at its test speed [m/s]
    cap : speed that is not to be passed [1/min]
    material : its own cautions, as the stores tell them
    heater : whether a heater runs in a test of the round
    level : loudest level that is expected [dB(A)]
    """
    found = [Caution("code", FIRST)]
    kind = PART_KINDS[part]
    if kind.spins:
        fast = f" Its tips run at {tip_speed:.0f} m/s." if tip_speed else ""
        found += [
            Caution(
                "guard",
                "The guard is closed, eye protection is on, nobody stands in the plane of the"
                f" rotor, the throttle is remote and starts low.{fast}",
            ),
            Caution(
                "cap",
                (
                    f"It is not spun above {cap:,.0f} 1/min, and the throttle is limited to that."
                    f" {NOT_IN_IT}"
                    if cap
                    else (
                        "No speed limit could be told: it is spun only behind a guard that holds"
                        " its pieces, and no faster than the stock part."
                    )
                ),
            ),
            Caution(
                "wear",
                "It turns freely by hand, does not rub, is fixed on its shaft, and is never worn or"
                " held while it spins.",
            ),
        ]
    else:
        found.append(
            Caution(
                "inside",
                "The fan behind or inside it has its guard: nobody reaches in, and nothing loose"
                " can be drawn in.",
            )
        )
    if kind.pressurised and power != "air":
        found.append(Caution("air", AIR))
    found += {
        "supply": [
            Caution("supply", "The supply's current limit is set before it is switched on.")
        ],
        "cells": [
            Caution(
                "cells",
                "Lithium cells: protection board, matched cells, the right charger, fire-safe"
                " charging, a bucket of sand near; no swollen or dented cell.",
            )
        ],
        "mains": [
            Caution(
                "mains",
                "Mains and variable transformers are guarded and worked on only by people competent"
                " in it; a residual-current device protects the outlet.",
            )
        ],
        "air": [Caution("air", AIR)],
        "shaft": [
            Caution(
                "shaft",
                "Belts, pulleys and shafts are covered; no loose cloth, hair or gloves near them.",
            )
        ],
        "engine": [
            Caution(
                "engine",
                "Running engines: hot parts, belts, fumes; debris or water drawn in destroys them;"
                " changes may be illegal. A licensed workshop decides.",
            )
        ],
    }.get(power, [])
    if heater:
        found.append(Caution("heater", "The heater has a thermal cut-out and is never left alone."))
    if level is not None and level >= LOUD:
        found.append(
            Caution(
                "loud", f"{level:.0f} dB(A) are expected: hearing protection, and a short time."
            )
        )
    if material:
        found.append(Caution("material", material))
    return found
