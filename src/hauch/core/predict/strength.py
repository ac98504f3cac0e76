"""Whether a spinning print holds: stress at blade root and hub, burst margin, permissible unbalance.

References
----------
Rotating blades and rings: J. P. Den Hartog, Advanced Strength of Materials, ch. II. Unbalance: ISO 21940-11:2016, 6 (G = e omega).
Strength of prints along and across layers: typical values of filament makers' data sheets, lowered to what prints reach; a print's own
test bar goes before them.
"""

from __future__ import annotations

import math
from dataclasses import dataclass

import numpy as np

from hauch.core.predict.blading import Blading


@dataclass(frozen=True, slots=True)
class Material:
    """A printed material: density [kg/m3], tensile strength along and across its layers [Pa], heat that it stands [degC], temperature at which it is
    annealed [degC] (None where it is not) with what it shrinks along and grows across the layers (shares), and what to mind."""

    key: str
    label: str
    density: float
    along: float
    across: float
    heat: float
    anneal: float | None = None
    shrinks: float = 0.0
    grows: float = 0.0
    cautions: str = ""


MATERIALS: dict[str, Material] = {
    m.key: m
    for m in (
        Material("pla", "PLA", 1240, 45e6, 22e6, 55, 85, 0.020, 0.010, "Softens in a car in the sun. Creeps under a steady load."),
        Material("petg", "PETG", 1270, 42e6, 20e6, 70, None, cautions="Strings; scrape its threads off before it is balanced."),
        Material(
            "abs",
            "ABS or ASA",
            1060,
            34e6,
            15e6,
            90,
            100,
            0.008,
            0.004,
            "Its fumes are unhealthy: print and anneal it with the window open or an outlet.",
        ),
        Material(
            "pa",
            "Polyamide, dry",
            1120,
            48e6,
            26e6,
            110,
            90,
            0.006,
            0.003,
            "Takes up water and grows soft and larger by it: dry before printing, weigh dry.",
        ),
        Material(
            "pa_cf",
            "Polyamide with carbon fibre",
            1180,
            70e6,
            22e6,
            130,
            100,
            0.004,
            0.003,
            "Its dust holds fibres: sand it wet, wear a mask, keep it off electronics.",
        ),
        Material(
            "resin",
            "Tough resin",
            1150,
            40e6,
            38e6,
            55,
            None,
            cautions="Uncured resin and its solvent harm skin and lungs: gloves, outlet, cure it through.",
        ),
    )
}
MARGIN_ASKED = 4.0
"""Strength over stress that is asked of a print before it is spun: twice in speed. Our rule, on the safe side of scatter between prints."""


@dataclass(frozen=True, slots=True)
class Spin:
    """Stress [Pa] at blade root and hub at a speed, the strength that meets it, and the speed at which the weaker one gives way [1/min]."""

    root: float
    hub: float
    root_strength: float
    hub_strength: float
    tip_speed: float
    burst_speed: float
    margin: float


def spin(row: Blading, speed: float, material: Material, wall: float, layers: str = "flat") -> Spin:
    """Centrifugal stress of a rotor.

    Parameters
    ----------
    row : the blading
    speed : [1/min]
    wall : of the hub's shell [m]
    layers : ``"flat"`` where the layers lie across the axis (blades are pulled along them), ``"standing"`` where they are pulled apart

    Notes
    -----
    Root: pull of the blade, omega2 times the integral of rho A r dr, over the section at the root. Hub: a thin ring of its own
    mass, rho (omega R)2, that also carries the blades, B F / (2 pi A) with A = wall * depth. Bending by the air (small beside it)
    and notches are not in it: the margin asked covers them.
    """
    omega = 2 * math.pi * speed / 60
    at = row.stations(60)
    pull = float(np.sum(material.density * omega**2 * at.section_area * at.radius * at.width))
    root = pull / float(at.section_area[0])
    outer = row.hub / 2
    depth = max(row.chord[0] * math.sin(row.pitch[0]), 2 * wall)
    hub = material.density * (omega * (outer - wall / 2)) ** 2 + row.blades * pull / (2 * math.pi * wall * depth)
    root_strength = material.along if layers == "flat" else material.across
    hub_strength = material.along if layers == "flat" else material.across
    margin = min(root_strength / root, hub_strength / hub)
    return Spin(root, hub, root_strength, hub_strength, omega * row.tip / 2, speed * math.sqrt(margin), margin)


def permissible_unbalance(grade: float, mass: float, speed: float) -> float:
    """Permissible residual unbalance [kg m]: U = G m / omega (ISO 21940-11:2016, 6.3).

    Parameters
    ----------
    grade : balance quality grade G [m/s], 0.0063 for G 6.3
    mass : [kg]
    speed : [1/min]
    """
    return grade * mass / (2 * math.pi * speed / 60)
