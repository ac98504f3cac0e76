"""How a part prints: which way up, what overhangs, mass by walls and infill, time, cost; annealing
and its shrinkage.

References
----------
Overhang: faces that look down by more than 45 degrees from upright need support (the common rule of
    filament printing). Time: volume over the rate at
which a nozzle lays it, and a pause a layer; within 25 %, from slicer to slicer and printer to
    printer. Heating through: a plate of thickness t
takes about t2 / a with a the thermal diffusivity (H. S. Carslaw, J. C. Jaeger, Conduction of Heat
    in Solids, ch. 3.3, both sides heated).
"""

from __future__ import annotations

import math
from dataclasses import dataclass
from typing import TYPE_CHECKING

import numpy as np
from numpy.typing import NDArray

from hauch.core.strength.material import Material, Printed

if TYPE_CHECKING:
    import trimesh

Floats = NDArray[np.float64]

DOWN = math.cos(math.radians(45))
"""How much of a face's normal looks down where it overhangs."""
STANDS = 0.01
"""Share of its outline that a part must touch the bed with to stand by itself."""
DIRECTIONS: dict[str, tuple[float, float, float]] = {
    "z up": (0, 0, 1),
    "z down": (0, 0, -1),
    "x up": (1, 0, 0),
    "x down": (-1, 0, 0),
    "y up": (0, 1, 0),
    "y down": (0, -1, 0),
}
LAYER_PAUSE = 3.0
"""Seconds that a layer takes besides its lines: moves and cooling."""
DIFFUSIVITY = 1.1e-7
"""Of printed polymers [m2/s] (0.2 W/(m K), 1.5 kJ/(kg K), 1,200 kg/m3)."""


@dataclass(frozen=True, slots=True)
class Settings:
    """How a print is made: height and width of a line [m], walls, infill as a share, speed of the
    nozzle [m/s].
    """

    layer: float = 0.0002
    line: float = 0.00045
    walls: int = 3
    infill: float = 0.25
    speed: float = 0.06

    def problems(self) -> dict[str, str]:
        """A sentence for each setting that cannot be."""
        found: dict[str, str] = {}
        for key, low, high, what in (
            ("layer", 2e-5, 1e-3, "Layers are 0.02 to 1 mm high"),
            ("line", 1e-4, 2e-3, "Lines are 0.1 to 2 mm wide"),
            ("infill", 0.0, 1.0, "Infill is 0 to 100 %"),
            ("speed", 1e-3, 0.6, "A nozzle moves at 1 to 600 mm/s"),
            ("walls", 1, 40, "There are 1 to 40 walls"),
        ):
            if not low <= getattr(self, key) <= high:
                found[key] = f"{what}."
        return found

    def printed(self, material: Material, *, flat: bool) -> Printed:
        """How a part of these settings is printed, as far as its strength goes; ``flat`` where its
        layers lie square to its axis.
        """
        return Printed(material, flat, self.walls * self.line, self.infill)


USUAL = Settings()
"""Settings that a print is reckoned with until others are said."""


@dataclass(frozen=True)
class Laid:
    """A way to lay a part: its name and direction, area that overhangs [mm2], area on the bed
    [mm2], height [mm].
    """

    name: str
    up: tuple[float, float, float]
    overhang: float
    bed: float
    height: float


def lay(mesh: trimesh.Trimesh, name: str) -> Laid:
    """Overhang of a part [mm] with a direction up."""
    up = np.array(DIRECTIONS[name], float)
    height = np.asarray(mesh.vertices) @ up
    low, high = float(height.min()), float(height.max())
    down = np.asarray(mesh.face_normals) @ up < -DOWN
    a, b, c = (height[corner] < low + 0.05 for corner in np.asarray(mesh.faces).T)
    on_bed = a & b & c
    area = np.asarray(mesh.area_faces)
    return Laid(
        name,
        DIRECTIONS[name],
        float(area[down & ~on_bed].sum()),
        float(area[down & on_bed].sum()),
        high - low,
    )


def best_way_up(mesh: trimesh.Trimesh) -> Laid:
    """The way up with the least overhang, a support for what would stand on an edge counted in;
    less height breaks ties.
    """
    size = np.ptp(np.asarray(mesh.bounds), axis=0)
    costs = []
    for name in DIRECTIONS:
        way = lay(mesh, name)
        under = float(np.prod(size[np.array(way.up) == 0]))
        raft = under if way.bed < STANDS * under else 0.0  # it would stand on an edge
        costs.append((round((way.overhang + raft) / 50), way.height, way))
    return min(costs, key=lambda c: c[:2])[2]


@dataclass(frozen=True)
class PrintFigures:
    """Plastic laid [m3], mass [kg], time [s] and cost of the material; share that is wall."""

    plastic: float
    mass: float
    time: float
    cost: float
    wall_share: float


def print_figures(
    volume: float,
    area: float,
    thickness: Floats,
    height: float,
    overhang: float,
    settings: Settings,
    density: float,
    price: float,
) -> PrintFigures:
    """Mass, time and cost of a print.

    Parameters
    ----------
    volume, area : of the part [m3, m2]
    thickness : walls at points spread evenly over the surface [m]
    height : as it is laid [m]
    overhang : area that needs support [m2]
    density : of the material [kg/m3]
    price : of a kilogram

    Notes
    -----
    Each point of the surface has behind it as much wall as the settings lay, at most half of the
    thickness there; what is left is infill. Supports are counted as a tenth of the column below the
    overhang, a third of the height tall.
    """
    shell = settings.walls * settings.line
    known = thickness[np.isfinite(thickness)]
    behind = float(np.minimum(shell, known / 2).mean()) if len(known) else shell
    wall = min(area * behind, volume)
    plastic = wall + settings.infill * (volume - wall)
    support = 0.1 * overhang * height / 3
    rate = settings.layer * settings.line * settings.speed
    time = (plastic + support) / rate + height / settings.layer * LAYER_PAUSE
    mass = density * plastic
    return PrintFigures(
        plastic,
        mass,
        time,
        (mass + density * support) * price,
        wall / volume if volume else math.nan,
    )


@dataclass(frozen=True)
class Annealing:
    """An oven's program: ramp and hold [s], temperature [degC], and how much shorter along and
    taller across the layers it becomes (shares).
    """

    ramp: float
    hold: float
    temperature: float
    along: float
    across: float


def annealing(thickness: float, temperature: float, along: float, across: float) -> Annealing:
    """How long a part of a wall thickness [m] is held: three times the time in which heat goes
    through, at least half an hour; ramped at 20 K an hour for each 2 mm of wall, so that it does
    not warp.
    """
    through = thickness**2 / DIFFUSIVITY
    slow = 20.0 / 3600 * min(0.002 / max(thickness, 1e-4), 3.0)
    return Annealing(
        max(temperature - 20.0, 0.0) / slow, max(3 * through, 1800.0), temperature, along, across
    )
