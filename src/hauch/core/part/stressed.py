"""What a rotor's mesh says of its stress: blades on a hub, or a wheel with blades on a plate."""

from __future__ import annotations

from typing import TYPE_CHECKING

import numpy as np

from hauch.core.part import MM
from hauch.core.part.blades import Blades
from hauch.core.part.rays import Caster
from hauch.core.part.turned import NotComputed, hub_of, wheel_of
from hauch.core.strength.hub import hub_place
from hauch.core.strength.limit import Stressed
from hauch.core.strength.sections import bending
from hauch.core.strength.wheel import flexed

if TYPE_CHECKING:
    import trimesh


def stressed(
    mesh: trimesh.Trimesh, caster: Caster, blades: Blades | None, bore: float, density: float
) -> Stressed:
    """Stress of a rotor by its own pull.

    Parameters
    ----------
    mesh, caster : on the z axis [mm]
    blades : as measured on it
    bore : diameter of the hole on the axis [mm], 0 for none
    density : of its material [kg/m3]; it only weighs the air against the pull
    """
    tip = float(np.hypot(mesh.vertices[:, 0], mesh.vertices[:, 1]).max()) * MM
    try:
        return _stressed(mesh, caster, blades, bore, density, tip)
    except NotComputed as problem:
        return Stressed(tip, why_not=str(problem))


def _stressed(
    mesh: trimesh.Trimesh,
    caster: Caster,
    blades: Blades | None,
    bore: float,
    density: float,
    tip: float,
) -> Stressed:
    if blades is None:
        raise NotComputed("no blades were found on it.")
    if not blades.stations:
        wheel = flexed(wheel_of(mesh, caster, bore, blades.count, blades.hub))
        return Stressed(tip, wheel.places, growth=wheel.growth, shift=wheel.shift)
    if not blades.reach_the_tip:
        raise NotComputed(
            "its blades could not be followed to their tips, as where a ring joins them there."
        )
    bent = [bending(blade, density) for blade in blades.sections()]
    worst = max(bent, key=lambda b: float((density * b.own + b.air).max()))
    hub = hub_of(caster, blades.hub)
    feet = max((b.foot for b in bent), key=lambda f: f.about_chord)
    return Stressed(
        tip,
        (worst.place(density), hub_place(hub, blades.count, feet)),
        growth=max(b.growth for b in bent),
        shift=max((b.shift for b in bent), key=abs),
    )
