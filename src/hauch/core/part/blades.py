"""Blades measured on the mesh of a rotor: how many, chord and pitch along the radius, and what
spinning does to them.

References
----------
Sections on cylinders about the axis, as blade elements are defined (ISO 5801 takes pitch from the
    plane of rotation). Stress of a rotating blade
and of a thin ring: J. P. Den Hartog, Advanced Strength of Materials, ch. II. Rotating disc with a
    hole: W. C. Young, R. G. Budynas, Roark's
Formulas, 7th edition, table 16.1: sigma = rho omega2 / 4 [(3 + nu) R2 + (1 - nu) r2] at the hole.
"""

from __future__ import annotations

from collections import Counter
from dataclasses import dataclass, field
from typing import TYPE_CHECKING

import numpy as np
import scipy
from numpy.typing import NDArray

from hauch.core.part import MM
from hauch.core.part.sections import Loop, cylinder_cuts, plane_cuts

if TYPE_CHECKING:
    import trimesh

Floats = NDArray[np.float64]

CUTS = 44
POISSON = 0.38
"""Of printed thermoplastics; the stress at a hole changes by 1 % for each 0.03."""


@dataclass(frozen=True)
class Station:
    """The blades where a cylinder cuts them: radius, mean chord, greatest thickness [mm], pitch
    from the plane of rotation [rad], area of all [mm2]; and their outlines, unrolled (radius times
    angle, z) [mm].
    """

    radius: float
    chord: float
    pitch: float
    thickness: float
    area: float
    outlines: tuple[Floats, ...] = field(default=(), repr=False, compare=False)

    def in_space(self, points: int = 28) -> list[list[list[float]]]:
        """Outlines as closed lines in space (x, y, z) [mm], each of so many points at most."""
        made = []
        for outline in self.outlines:
            thin = outline[:: max(len(outline) // points, 1)]
            angle = thin[:, 0] / self.radius
            line = np.column_stack(
                [self.radius * np.cos(angle), self.radius * np.sin(angle), thin[:, 1]]
            )
            made.append(np.round(line, 2).tolist())
        return made


@dataclass(frozen=True)
class Blades:
    """Blades of a rotor: their count, where they leave the hub and end [mm], and their stations
    (none on a wheel whose blades stand on a plate).
    """

    count: int
    hub: float
    tip: float
    stations: tuple[Station, ...]


def _section(loop: Loop) -> tuple[float, float, float]:
    """Chord, pitch and thickness of one blade section: the farthest pair of points makes the chord."""
    points = loop.points
    try:
        hull = points[scipy.spatial.ConvexHull(points).vertices]
    except scipy.spatial.QhullError:
        hull = points
    apart = np.linalg.norm(hull[:, None] - hull[None, :], axis=2)
    i, j = np.unravel_index(apart.argmax(), apart.shape)
    along = (hull[j] - hull[i]) / apart[i, j]
    across = (points - hull[i]) @ np.array([-along[1], along[0]])
    position = (points - hull[i]) @ along
    order = np.argsort(position)
    bins = np.linspace(0, apart[i, j], 18)
    where = np.clip(np.digitize(position[order], bins), 1, len(bins) - 1)
    thick = [
        np.ptp(across[order][where == k]) for k in range(2, len(bins) - 2) if (where == k).sum() > 1
    ]
    pitch = float(np.arctan2(abs(along[1]), abs(along[0])))
    return (
        float(apart[i, j]),
        pitch,
        float(np.median(sorted(thick)[-3:])) if thick else float("nan"),
    )


def measure_blades(mesh: trimesh.Trimesh) -> Blades | None:
    """Blades of a rotor on the z axis; None where fewer than two are found.

    Notes
    -----
    Axial blades are separate islands on cylinders; the widest stretch of radius with the same
    number of them is the blading. Where there is none (blades on a plate or under a cover) islands
    are counted in cuts across the axis.
    """
    radius = np.hypot(mesh.vertices[:, 0], mesh.vertices[:, 1])
    tip = float(radius.max())
    levels = np.linspace(0.1, 0.99, CUTS) * tip
    islands = []
    for _, loops in cylinder_cuts(mesh, levels):
        whole = any(c.around for c in loops)
        single = [c for c in loops if not c.around and c.area > 0]
        most = max((c.area for c in single), default=0.0)
        islands.append([] if whole else [c for c in single if c.area > 0.2 * most])
    counts = [len(i) for i in islands]
    runs: list[tuple[int, int, int]] = []  # length, start, count
    start = 0
    for k in range(1, len(counts) + 1):
        if k == len(counts) or counts[k] != counts[start]:
            if counts[start] >= 2:
                runs.append((k - start, start, counts[start]))
            start = k
    if runs and max(runs)[0] >= 5:
        length, first, count = max(runs)
        stations = []
        for k in range(first, first + length):
            parts = np.array([_section(c) for c in islands[k]])
            chord, pitch, thick = np.nanmedian(parts, axis=0)
            stations.append(
                Station(
                    float(levels[k]),
                    float(chord),
                    float(pitch),
                    float(thick),
                    float(sum(c.area for c in islands[k])),
                    tuple(c.points for c in islands[k]),
                )
            )
        return Blades(count, stations[0].radius, tip, tuple(stations))
    return _on_a_plate(mesh, tip)


def _on_a_plate(mesh: trimesh.Trimesh, tip: float) -> Blades | None:
    low, high = mesh.bounds[:, 2]
    found: Counter[int] = Counter()
    inner = tip
    for _, loops in plane_cuts(mesh, 2, np.linspace(low, high, 22)[1:-1]):
        islands = [c for c in loops if c.area > 0 and np.linalg.norm(c.centre) > 0.2 * tip]
        if len(islands) >= 2:
            found[len(islands)] += 1
            inner = min(inner, *(float(np.linalg.norm(c.points, axis=1).min()) for c in islands))
    if not found:
        return None
    return Blades(found.most_common(1)[0][0], inner, tip, ())


@dataclass(frozen=True)
class Pull:
    """Stress for each (rad/s)2 and kg/m3: at the worst station of the blades (and its radius) and
    at the hub or plate [m2].
    """

    blade: float
    blade_radius: float
    hub: float


def pull_of(mesh: trimesh.Trimesh, blades: Blades | None, volume: float, bore: float) -> Pull:
    """What spinning does, before material and speed: sigma = rho omega2 times these.

    Parameters
    ----------
    mesh : on the z axis [mm]
    volume : of the part [mm3]
    bore : diameter of the hole on the axis [mm]

    Notes
    -----
    Blades: the pull of all that lies outside a station over the area there. Hub: a ring (or, for a
    plate, a disc with a hole) of its own mass that also carries the blades. Bending by sweep, lean
    and the air, and notches, are not in it; the speed limit allows for them.
    """
    tip = blades.tip if blades else float(np.hypot(mesh.vertices[:, 0], mesh.vertices[:, 1]).max())
    depth = float(np.ptp(mesh.vertices[:, 2]))
    hole = bore / 2
    if blades is None or len(blades.stations) < 3:
        heavy = max(volume / (np.pi * (tip**2 - hole**2) * max(_plate(mesh), 1e-6)), 1.0)
        disc = ((3 + POISSON) * tip**2 + (1 - POISSON) * hole**2) / 4 * heavy
        return Pull(float("nan"), float("nan"), disc * MM**2)
    r = np.array([s.radius for s in blades.stations] + [tip])
    area = np.array([s.area for s in blades.stations] + [blades.stations[-1].area * 0.5])
    moment = np.array([np.trapezoid(area[k:] * r[k:], r[k:]) for k in range(len(r))])
    stress = moment[:-1] / area[:-1]
    worst = int(stress.argmax())
    hub = blades.hub
    inner_volume = max(volume - float(np.trapezoid(area, r)), 1e-6)
    ring_area = inner_volume / (2 * np.pi * 0.6 * hub)
    own = hub**2
    carried = moment[0] / (2 * np.pi * min(ring_area, hub * depth))
    return Pull(float(stress[worst]) * MM**2, float(r[worst]), float(own + carried) * MM**2)


def _plate(mesh: trimesh.Trimesh) -> float:
    """Thickness of the plate of a wheel [mm]: how high the material reaches at the thinnest ring
    between two thirds of its radius and its rim.
    """
    tip = float(np.hypot(mesh.vertices[:, 0], mesh.vertices[:, 1]).max())
    least = np.inf
    for r, loops in cylinder_cuts(mesh, np.linspace(0.6, 0.95, 6) * tip):
        area = sum(c.area for c in loops if not c.around)
        around = [c for c in loops if c.around]
        if len(around) >= 2:
            heights = sorted(float(np.median(c.points[:, 1])) for c in around)
            least = min(least, heights[-1] - heights[0] + max(area, 0.0) / (2 * np.pi * r))
    return least if np.isfinite(least) else float(np.ptp(mesh.vertices[:, 2]))
