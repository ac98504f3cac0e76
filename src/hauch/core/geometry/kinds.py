"""Kinds of parts that move air or stand in its way: what each is called, whether it spins or holds
compressed air, and which family of envelopes describes its place.
"""

from __future__ import annotations

from dataclasses import dataclass


@dataclass(frozen=True, slots=True)
class PartKind:
    """One kind of part.

    ``family`` names the envelope: ``rotor`` (a frame with a bore and a shaft), ``ring`` (on a neck)
    or ``mounted`` (on a plate with a bore, in a space).
    """

    key: str
    label: str
    plural: str
    what: str
    family: str = "mounted"
    spins: bool = False
    pressurised: bool = False

    @property
    def needs_gate(self) -> bool:
        """Whether it can hurt by itself, so that nobody runs it without the safety gate."""
        return self.spins or self.pressurised


PART_KINDS: dict[str, PartKind] = {
    kind.key: kind
    for kind in (
        PartKind("rotor", "rotor", "rotors", "axial or mixed-flow, in a frame or free", "rotor", spins=True),
        PartKind("wheel", "centrifugal wheel", "centrifugal wheels", "blower wheel, with or without its scroll", "rotor", spins=True),
        PartKind("duct", "duct", "ducts", "nozzle, splitter, part-cooling duct, any number of outlets"),
        PartKind("ring", "bladeless ring", "bladeless rings", "slit jet that draws room air along", "ring"),
        PartKind("intake", "intake", "intakes", "bell mouth, scoop, air box, screen"),
        PartKind("silencer", "silencer", "silencers", "chambers, absorbers, quarter-wave tubes"),
        PartKind("shroud", "shroud or guard", "shrouds or guards", "stands around or before a fan"),
        PartKind("plenum", "plenum or cushion", "plenums or cushions", "box or skirt that spreads the air"),
        PartKind("slit", "compressed-air slit", "compressed-air slits", "air knife, amplifier, blow gun tip", pressurised=True),
        PartKind("other", "other part that stands still", "other parts", "anything else that guides air"),
        PartKind("spinning", "other part that spins", "other spinning parts", "anything else that turns", "rotor", spins=True),
    )
}  # fmt: skip
"""In the order in which they are offered."""
