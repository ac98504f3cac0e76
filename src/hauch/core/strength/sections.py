"""Blades that turn: the pull of what lies outside each section, and how it bends the section.

References
----------
Pull and bending of rotating blades: J. P. Den Hartog, Advanced Strength of Materials, ch. II; A.
    Stodola, Steam and Gas Turbines, vol. I, part III (blades whose sections' centres do not lie on
    one radius are bent by their own pull). Unsymmetric bending: S. Timoshenko, Strength of
    Materials, part I, ch. on bending in a plane which is not a plane of symmetry.
"""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from hauch.core.strength.limit import Place

Floats = NDArray[np.float64]

LIFT = 1.2
"""Lift coefficient with which the air may push at a blade at most: the highest of thin cambered
plates at the Reynolds numbers of prints, 20,000 to 100,000 (F. W. Schmitz, Aerodynamik des
Flugmodells).
"""
AIR = 1.2
"""Density of the air that pushes [kg/m3]."""
POINTS = 72
"""Points of an outline at which stress is told."""


@dataclass(frozen=True)
class Outline:
    """A closed outline: area [m2], centroid (x, y) [m], central second moments (xx, xy, yy) [m4],
    points less the centroid, evenly along it [m], length along its long axis [m].
    """

    area: float
    centre: Floats
    moments: Floats
    points: Floats
    chord: float

    @classmethod
    def of(cls, line: Floats) -> Outline:
        """Of a polygon (n, 2) [m], whichever way it turns, by Green's theorem (C. Steger, On the
        Calculation of Arbitrary Moments of Polygons, 1996).
        """
        start = line[0]
        x, y = (line - start).T
        x2, y2 = np.roll(x, -1), np.roll(y, -1)
        cross = x * y2 - x2 * y
        area = cross.sum() / 2
        cx, cy = ((x + x2) * cross).sum() / (6 * area), ((y + y2) * cross).sum() / (6 * area)
        xx = ((x * x + x * x2 + x2 * x2) * cross).sum() / 12 - area * cx * cx
        yy = ((y * y + y * y2 + y2 * y2) * cross).sum() / 12 - area * cy * cy
        xy = ((x * y2 + 2 * x * y + 2 * x2 * y2 + x2 * y) * cross).sum() / 24 - area * cx * cy
        centre = start + np.array([cx, cy])
        points = _evenly(line) - centre
        moments = np.sign(area) * np.array([xx, xy, yy])
        turn = 0.5 * math.atan2(2 * moments[1], moments[0] - moments[2])
        chord = float(np.ptp(points @ (math.cos(turn), math.sin(turn))))
        return cls(abs(float(area)), centre, moments, points, chord)


def _evenly(line: Floats) -> Floats:
    """A closed line by `POINTS` points, evenly along it."""
    closed = np.vstack([line, line[:1]])
    way = np.concatenate([[0.0], np.cumsum(np.linalg.norm(np.diff(closed, axis=0), axis=1))])
    at = np.linspace(0, way[-1], POINTS, endpoint=False)
    return np.column_stack([np.interp(at, way, closed[:, k]) for k in range(2)])


@dataclass(frozen=True)
class Sections:
    """One blade as sections on cylinders about the axis, from hub to tip; arrays over n stations.

    Parameters
    ----------
    radius : of the cylinders [m]
    turn : angle of the centroids about the axis, without jumps [rad]
    height : of the centroids along the axis [m]
    area : [m2]
    moments : second moments about the centroid, (n, 3): along the turn, mixed, along the axis [m4]
    outlines : points less the centroid, (n, points, 2): along the turn, along the axis [m]
    chord : [m]
    tip : radius at which the blade ends [m]
    """

    radius: Floats
    turn: Floats
    height: Floats
    area: Floats
    moments: Floats
    outlines: Floats
    chord: Floats
    tip: float

    @classmethod
    def of_outlines(cls, radius: Floats, outlines: Sequence[Outline], tip: float) -> Sections:
        """Sections on cylinders of radii [m], their outlines as radius times angle and height."""
        centre = np.array([o.centre for o in outlines])
        points = np.array([o.points for o in outlines])
        return cls(
            np.asarray(radius, float),
            np.unwrap(centre[:, 0] / radius),
            centre[:, 1],
            np.array([o.area for o in outlines]),
            np.array([o.moments for o in outlines]),
            points,
            np.array([o.chord for o in outlines]),
            tip,
        )

    @property
    def pitch(self) -> Floats:
        """Angle of the sections' long axis from the plane of rotation [rad]."""
        tt, tz, zz = self.moments.T
        return 0.5 * np.arctan2(2 * tz, tt - zz)

    @property
    def thickness(self) -> Floats:
        """Of a plate as stiff about the sections' soft axis [m]."""
        tt, tz, zz = self.moments.T
        least = (tt + zz) / 2 - np.hypot((tt - zz) / 2, tz)
        return np.sqrt(12 * least / self.area)


@dataclass(frozen=True)
class Foot:
    """What a blade brings onto its hub, over the square of the angular speed and density: pull [m4],
    moments of the pull about the turn's direction and the axis [m5]; that of the air about the chord
    over the square of the angular speed alone [N m s2]; chord [m] and pitch [rad] of the section
    there.
    """

    pull: float
    about_turn: float
    about_axis: float
    air: float
    chord: float
    pitch: float

    @property
    def about_chord(self) -> float:
        """Moment of the pull about the chord, in which a blade is soft [m5]."""
        return abs(self.about_turn * math.cos(self.pitch) + self.about_axis * math.sin(self.pitch))


@dataclass(frozen=True)
class Bent:
    """A turning blade; arrays over its stations.

    Parameters
    ----------
    radius : [m]
    pull, own : greatest stress of the plain pull, and with bending by it, over density and the
        square of the angular speed [m2]
    air : what the air adds to it at most, over the square of the angular speed [Pa s2]
    thickness : of a plate as stiff about its soft axis [m]
    growth, shift : of the tip outwards and along the axis, over density and the square of the
        angular speed, times Young's modulus [m3]
    foot : what comes onto the hub
    """

    radius: Floats
    pull: Floats
    own: Floats
    air: Floats
    thickness: Floats
    growth: float
    shift: float
    foot: Foot

    def place(self, density: float) -> Place:
        """The station that gives way first at a density [kg/m3]."""
        worst = int((density * self.own + self.air).argmax())
        return Place(
            "blade",
            f"The blades' section at {2000 * self.radius[worst]:.0f} mm diameter",
            float(self.own[worst]),
            float(self.air[worst]),
            float(self.thickness[worst]),
        )


def bending(blade: Sections, density: float) -> Bent:
    """Stress of a turning blade by its own pull, and by the air.

    Parameters
    ----------
    blade : its sections
    density : of its material [kg/m3]; it only weighs the air against the pull

    Notes
    -----
    With radius r0 of a station, r and theta of a piece outside and z above the station's centroid,
    dm = A dr: force ``N = int r cos(theta) dm``, moments about the centroid ``M_t = int r cos(theta)
    z dm`` (about the direction of the turn) and ``M_z = -r0 int r sin(theta) dm`` (the pull goes
    through the axis, so that its moment about the axis is nil). The stress of a point (t, z) is
    ``N/A + a t + b z`` with ``[[I_tt, I_tz], [I_tz, I_zz]] (a, b) = (-M_z, M_t)``. The air pushes
    square to the chord with `LIFT`, to the worse side. Twisting by the pull is not in it.
    """
    radius, count = blade.radius, len(blade.radius)
    edges = np.append(radius, blade.tip)

    def out(values: Floats) -> Floats:
        return np.append(values, values[-1])

    area, turn, height, chord = (
        out(v) for v in (blade.area, blade.turn, blade.height, blade.chord)
    )
    pitch = blade.pitch
    lean = out(pitch)
    force, about_turn, about_axis = np.zeros(count), np.zeros(count), np.zeros(count)
    push_turn, push_axis = np.zeros(count), np.zeros(count)
    for k in range(count):
        r = edges[k:]
        angle, rise = turn[k:] - turn[k], height[k:] - height[k]
        mass = area[k:] * r
        force[k] = np.trapezoid(mass * np.cos(angle), r)
        about_turn[k] = np.trapezoid(mass * np.cos(angle) * rise, r)
        about_axis[k] = -radius[k] * np.trapezoid(mass * np.sin(angle), r)
        pushed = LIFT * AIR / 2 * chord[k:] * r**2 * (r - radius[k])
        push_turn[k] = np.trapezoid(pushed * np.cos(lean[k:]), r)
        push_axis[k] = np.trapezoid(pushed * np.sin(lean[k:]), r)
    pull = force / blade.area
    own = np.abs(_stress(blade, pull, *_bends(blade, about_turn, about_axis))).max(axis=1)
    slopes = _bends(blade, about_turn, about_axis)
    both = [
        np.abs(
            _stress(
                blade,
                density * pull,
                *_bends(
                    blade,
                    density * about_turn + way * push_turn,
                    density * about_axis + way * push_axis,
                ),
            )
        ).max(axis=1)
        for way in (1, -1)
    ]
    growth, shift = _moves(blade, edges, pull, *slopes)
    return Bent(
        radius,
        pull,
        own,
        np.maximum(np.maximum(*both) - density * own, 0.0),
        blade.thickness,
        growth,
        shift,
        Foot(
            float(force[0]),
            float(about_turn[0]),
            float(about_axis[0]),
            float(np.hypot(push_turn[0], push_axis[0])),
            float(blade.chord[0]),
            float(pitch[0]),
        ),
    )


def _bends(blade: Sections, about_turn: Floats, about_axis: Floats) -> tuple[Floats, Floats]:
    """Slopes of the stress along the turn and along the axis, for moments at the stations."""
    tt, tz, zz = blade.moments.T
    whole = tt * zz - tz**2
    return (
        (-about_axis * zz - about_turn * tz) / whole,
        (about_turn * tt + about_axis * tz) / whole,
    )


def _stress(blade: Sections, pull: Floats, along: Floats, axial: Floats) -> Floats:
    return (
        pull[:, None]
        + along[:, None] * blade.outlines[:, :, 0]
        + axial[:, None] * blade.outlines[:, :, 1]
    )


def _moves(
    blade: Sections, edges: Floats, pull: Floats, along: Floats, axial: Floats
) -> tuple[float, float]:
    """How far the tip's outermost point goes outwards, and the tip's centroid along the axis: strain
    and curvature integrated from the foot.
    """
    step = np.diff(edges)
    tilt_along, tilt_axial = np.cumsum(along * step), np.cumsum(axial * step)
    tip = blade.outlines[-1]
    outwards = (pull * step).sum() + (tilt_along[-1] * tip[:, 0] + tilt_axial[-1] * tip[:, 1]).max()
    return float(outwards), float(-(tilt_axial * step).sum())
