"""The meshes of the demo's entries, from the generator; no database, so that a process beside the
one that loads the demo can make them.
"""

from __future__ import annotations

import math
from collections.abc import Callable
from typing import TYPE_CHECKING, Any

import numpy as np

from hauch.core.geometry.solids import (
    Hub,
    Plate,
    bell_mouth_solid,
    ring_solid,
    rotor_solid,
    silencer_solid,
    splitter_solid,
    with_plate,
)
from hauch.core.part.pose import UNITS
from hauch.core.predict.silencer import Chamber, PerforatedTube
from hauch.core.rig.bench import Bench
from hauch.desk.tools import TOOLS
from hauch.desk.tools.duct import splitter
from hauch.desk.tools.ring import ring_of
from hauch.desk.tools.rotor_inputs import blading
from hauch.formats import mesh

if TYPE_CHECKING:
    import trimesh

TRAYS = Bench().resistance
"""Six trays [Pa s2/m6]."""
BASE: dict[str, Any] = {
    "hub": 0.056, "tip": 0.1344, "gap": 0.0008, "speed": 2010.0, "motor_efficiency": 66.0, "pitch": (0.87, 0.735, 0.60, 0.482, 0.363),
    "chord": (0.0225, 0.0289, 0.0353, 0.0439, 0.0524), "camber": (8.2, 8.1, 8.0, 7.9, 7.8), "system_pressure": TRAYS * 0.05**2, "system_flow": 0.05,
}  # fmt: skip
"""What all rotors share: the bore of the Loft-140, its speed without the loft's long cable, six
trays.
"""


def rotor_inputs(blades: int, chord: float, pitch: float) -> dict[str, Any]:
    """A rotor for the cabinet, blowing through six trays."""
    curves = {
        "chord": [round(c * chord, 4) for c in BASE["chord"]],
        "pitch": [math.radians(round(math.degrees(p * pitch), 1)) for p in BASE["pitch"]],
        "camber": list(BASE["camber"]),
    }
    return TOOLS["rotor"].start() | BASE | curves | {"blades": blades}


SPAN, AROUND = 22, 19
"""Points along and around a blade of the demo: fine enough to look at, small enough to load
quickly.
"""


def _rotor(
    blades: int,
    chord: float,
    pitch: float,
    *,
    shaft: float = 0.004,
    ring: float = 0.0,
    shifts: tuple[float, ...] = (),
    **changes: Any,
) -> trimesh.Trimesh:
    values = rotor_inputs(blades, chord, pitch) | {"wall": 0.0016, "depth": 0.024} | changes
    return rotor_solid(
        blading(values),
        Hub(shaft, values["wall"], values["depth"]),
        SPAN,
        AROUND,
        edge=0.001,
        shifts=shifts,
        tip_ring=ring,
    )


def _thinner(factor: float) -> list[float]:
    return [factor * t for t in TOOLS["rotor"].start()["thickness"]]


def _ring(**changes: float) -> trimesh.Trimesh:
    values = TOOLS["ring"].start() | changes
    return ring_solid(ring_of(values), values["neck_length"])


def _two_rings() -> trimesh.Trimesh:
    """One ring in another, not joined: the fault of the Brezel."""
    inner = ring_solid(
        ring_of(
            TOOLS["ring"].start() | {"throat": 0.168, "exit": 0.175, "depth": 0.06, "neck": 0.036}
        ),
        0.02,
    )
    return _ring(throat=0.232, exit=0.244, depth=0.075, neck_length=0.02) + inner


def _duct(*outlets: float, **changes: Any) -> trimesh.Trimesh:
    values = TOOLS["duct"].start() | changes
    values["branches"] = [
        row | {"outlet": a}
        for row, a in zip(values["branches"], outlets or (8e-4,) * 3, strict=True)
    ]
    return with_plate(splitter_solid(splitter(values)), SHELF, (values["width"], values["height"]))


ROOF = Plate(0.180, 0.162, 0.0052)
SHELF = Plate(0.140, 0.1245, 0.0043)


def _mouth(lip: float, length: float) -> trimesh.Trimesh:
    """A bell mouth on the roof's plate, the plate on z = 0."""
    made = bell_mouth_solid(0.150, lip, length, 0.002, 0.006)
    turned = np.diag([1.0, -1.0, -1.0, 1.0])
    turned[2, 3] = lip + length
    made.apply_transform(turned)
    return with_plate(made, ROOF, 0.150)


PARTS: dict[tuple[str, str, int], tuple[str, Callable[[], trimesh.Trimesh]]] = {
    ("cabinet-rotor", "Distel", 1): ("distel-v1.stl", lambda: _rotor(9, 1.04, 1.04, shaft=0.0034)),
    ("cabinet-rotor", "Distel", 2): ("distel-v2.stl", lambda: _rotor(9, 1.04, 1.04, sweep=-0.10)),
    ("cabinet-rotor", "Schwalbe", 1): ("schwalbe.stl", lambda: _rotor(5, 1.12, 1.06)),
    ("cabinet-rotor", "Kamm", 1): ("kamm.stl", lambda: _rotor(7, 1.10, 1.0, sweep=0.16)),
    ("cabinet-rotor", "Weidenkorb", 1): ("weidenkorb.3mf", lambda: _rotor(9, 0.9, 1.0, ring=0.0016)),
    ("cabinet-rotor", "Zaunkönig", 1): ("zaunkoenig-v1.stl", lambda: _rotor(7, 1.05, 1.0)),
    ("cabinet-rotor", "Zaunkönig", 2): ("zaunkoenig-v2.stl", lambda: _rotor(7, 1.05, 1.0, shifts=(0.0, 0.03, 0.01, -0.02, 0.01, -0.03, -0.01))),
    ("cabinet-rotor", "Mohn", 1): ("mohn.stl", lambda: _rotor(7, 1.20, 0.96, thickness=_thinner(0.8))),
    ("cabinet-rotor", "Löffel", 1): ("loeffel.stl", lambda: _rotor(6, 1.05, 1.02, lean=0.002)),
    ("cabinet-rotor", "Pusteblume", 1): ("pusteblume.stl", lambda: _rotor(15, 0.55, 0.90)),
    ("cabinet-rotor", "Ringelnatter", 1): ("ringelnatter.stl", lambda: _rotor(8, 1.10, 1.05, tip=0.1356, gap=0.0002)),
    ("hushed-inlet", "Muschel", 1): ("muschel.stl", lambda: _mouth(0.028, 0.060)),
    ("hushed-inlet", "Farn", 1): ("farn.stl", lambda: _mouth(0.020, 0.110)),
    ("hushed-inlet", "Moosbett", 1): ("moosbett.stl", lambda: with_plate(silencer_solid(PerforatedTube(0.150, 0.216, 0.12, 0.012, 0.002, 0.12), 0.002, 0.02), ROOF, 0.150)),
    ("hushed-inlet", "Trichterling", 1): ("trichterling.stl", lambda: _mouth(0.0415, 0.050)),
    ("hushed-inlet", "Lerche", 1): ("lerche.stl", lambda: with_plate(silencer_solid(Chamber(0.150, 0.225, 0.14), 0.002, 0.02), ROOF, 0.150)),
    ("hushed-inlet", "Kiesel", 1): ("kiesel.stl", lambda: _mouth(0.012, 0.040)),
    ("warm-air-splitter", "Gabel", 1): ("gabel.stl", _duct),
    ("warm-air-splitter", "Flussdelta", 1): ("flussdelta.stl", lambda: _duct(7.8e-4, 7.1e-4, 8e-4)),
    ("warm-air-splitter", "Efeu", 1): ("efeu.stl", lambda: _duct(11e-4, 9e-4, 8e-4)),
    ("warm-air-splitter", "Harke", 1): ("harke.stl", lambda: _duct(6e-4, 6e-4, 6e-4)),
    ("packing-table-ring", "Heiligenschein", 1): ("heiligenschein.stl", lambda: _ring(slot=0.0008, throat=0.2, exit=0.212)),
    ("packing-table-ring", "Brezel", 1): ("brezel.stl", _two_rings),
    ("packing-table-ring", "Nebelring", 1): ("nebelring-v1.stl", lambda: _ring(depth=0.11, exit=0.205)),
    ("packing-table-ring", "Nebelring", 2): ("nebelring-v2.stl", lambda: _ring(depth=0.088, exit=0.198)),
}  # fmt: skip
"""Round, entry, version -> name of the file and what makes it."""

INCHES = "loeffel.stl"
"""Drawn in inches, as its designer confirmed."""


def file_of(key: tuple[str, str, int]) -> bytes:
    """The file that is handed in for a version."""
    name, make = PARTS[key]
    solid = make()
    if name == INCHES:
        solid.apply_scale(1 / UNITS["inch"][1])
    return mesh.to_3mf(solid, key[1]) if name.endswith("3mf") else mesh.to_stl(solid)
