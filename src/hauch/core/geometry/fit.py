"""Whether a part, told by its greatest and least sizes, fits the envelope of a round."""

from __future__ import annotations

from collections.abc import Mapping

MOST = {
    "swept": ("sweeps", "the bore less its tip gap leaves"),
    "depth": ("is", "deep is allowed"),
    "outer": ("is", "across is allowed"),
    "length": ("is", "long is allowed"),
    "width": ("is", "wide is allowed"),
    "height": ("is", "high is allowed"),
}
"""Sizes that must not be above the envelope's."""
LEAST = {
    "hub": ("hub is", "is the least"),
    "wall": ("thinnest place is", "is the least"),
    "opening": ("opening is", "must stay free"),
}
"""Sizes that must not be below the envelope's."""
EQUAL = {"neck": ("neck is", "is asked for"), "shaft": ("shaft is", "is asked for")}
"""Sizes that must be those of the envelope, within a tenth of a millimetre."""
PLAY = 1e-7
SAME = 1e-4


def misfits(extent: Mapping[str, float], envelope: Mapping[str, float], of: str = "") -> list[str]:
    """A sentence for each size of a part that the envelope does not allow.

    Parameters
    ----------
    extent : sizes of the part [m]; ``swept`` is the rotor's greatest diameter
    envelope : the envelope's values by parameter [m]; a rotor's swept diameter is its bore less
        twice the tip gap
    of : whose envelope it is
    """
    room = dict(envelope)
    if "bore" in room and "tip_gap" in room:
        room["swept"] = room["bore"] - 2 * room["tip_gap"]
    named = f" in {of}" if of else ""

    def mm(v):
        return f"{1000 * v:.4g} mm"

    found = []
    for key, (does, allowed) in MOST.items():
        if key in extent and key in room and extent[key] > room[key] + PLAY:
            found.append(
                f"It {does} {mm(extent[key])}; {mm(room[key])} {allowed}{named}."
                if key != "swept"
                else f"It sweeps {mm(extent[key])}; {allowed} {mm(room[key])}{named}."
            )
    for key, (does, allowed) in LEAST.items():
        if key in extent and key in room and extent[key] < room[key] - PLAY:
            found.append(f"Its {does} {mm(extent[key])}; {mm(room[key])} {allowed}{named}.")
    for key, (does, allowed) in EQUAL.items():
        if key in extent and key in room and abs(extent[key] - room[key]) > SAME:
            found.append(f"Its {does} {mm(extent[key])}; {mm(room[key])} {allowed}{named}.")
    return found
