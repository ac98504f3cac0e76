"""Parts as watertight solids, made from the same figures as their predictions. Lengths in metres; z
along the flow.

Booleans: manifold3d, which gives a watertight result for watertight bodies. Each maker returns a
`trimesh.Trimesh`.
"""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass
from typing import TYPE_CHECKING, Any, TypeAlias

import manifold3d
import numpy as np
from numpy.typing import NDArray

from hauch.core.geometry.bladed import blade_depth, blade_rings, boss_of
from hauch.core.geometry.profiles import neck_radius, ring_profile
from hauch.core.predict.blading import Blading
from hauch.core.predict.duct import Splitter
from hauch.core.predict.impeller import Impeller
from hauch.core.predict.model import refuse
from hauch.core.predict.ring import Ring
from hauch.core.predict.silencer import Chamber, PerforatedTube, QuarterWave, Silencer

if TYPE_CHECKING:
    import trimesh

Array = NDArray[np.float64]
Body: TypeAlias = manifold3d.Manifold
SCALE = 1000.0
"""Booleans are done in millimetres, where their tolerance is far below a print's."""
MOST_HOLES = 1500
"""Of a perforated tube: more take a minute and print closed."""
STUB = 0.03
"""Duct at both ends of a silencer [m]."""
SMOOTH = 180
"""Pieces of a full turn."""


@dataclass(frozen=True, slots=True)
class Hub:
    """The hub of a rotor: shaft bore, wall of its shell, depth along the axis, radius of the
    rounded nose's edge [m].
    """

    shaft: float = 0.004
    wall: float = 0.0016
    depth: float = 0.02


def _body(points: Array, faces: Array) -> Body:
    return Body(
        manifold3d.Mesh(
            np.ascontiguousarray(points * SCALE, np.float32), np.ascontiguousarray(faces, np.uint32)
        )
    )


def _mesh(body: Body) -> trimesh.Trimesh:
    import trimesh

    raw = body.to_mesh()
    points = np.asarray(raw.vert_properties[:, :3], float) / SCALE
    merge = np.arange(len(points))
    if len(raw.merge_from_vert):
        merge[np.asarray(raw.merge_from_vert)] = np.asarray(raw.merge_to_vert)
    made = trimesh.Trimesh(points, merge[np.asarray(raw.tri_verts)], process=False)
    made.remove_unreferenced_vertices()
    if not len(made.faces) or not made.is_watertight or made.volume <= 0:
        refuse(
            {
                "wall": (
                    "With these figures walls run into one another or vanish, so no closed part can"
                    " be made. Check walls, gaps and depths against one another."
                )
            }
        )
    return made


def cylinder(radius: float, length: float, z: float = 0.0, pieces: int = SMOOTH) -> Body:
    """A cylinder along z from a height on [m]."""
    return Body.cylinder(length * SCALE, radius * SCALE, radius * SCALE, pieces).translate(
        (0, 0, z * SCALE)
    )


def revolved(profile: Sequence[tuple[float, float]], pieces: int = SMOOTH) -> Body:
    """A profile (radius, z) turned about the z axis."""
    section = manifold3d.CrossSection([np.asarray(profile) * SCALE], manifold3d.FillRule.Positive)
    if section.area() < 1e-9:
        section = manifold3d.CrossSection(
            [np.asarray(profile)[::-1] * SCALE], manifold3d.FillRule.Positive
        )
    return Body.revolve(section, pieces)


def loft(rings: Array) -> Body:
    """A solid through closed rings of points, shape (rings, points, 3), all turning alike.

    Its ends are closed by rungs between the two halves of a ring, so that a thin curved section is
    not left by its own cap, as it would be by a fan about its middle.
    """
    count, around, _ = rings.shape
    points = rings.reshape(-1, 3)
    i, j = np.meshgrid(np.arange(count - 1), np.arange(around), indexing="ij")
    a, b = i * around + j, i * around + (j + 1) % around
    c, d = a + around, b + around
    sides = np.concatenate(
        [np.stack([a, b, d], -1).reshape(-1, 3), np.stack([a, d, c], -1).reshape(-1, 3)]
    )
    k = np.arange((around - 1) // 2)
    rungs = np.concatenate(
        [
            np.column_stack([k, k + 1, around - 1 - k]),
            np.column_stack([k + 1, around - 2 - k, around - 1 - k]),
        ]
    )
    rungs = rungs[
        (rungs[:, 0] != rungs[:, 1]) & (rungs[:, 1] != rungs[:, 2]) & (rungs[:, 0] != rungs[:, 2])
    ]
    faces = np.concatenate([sides, rungs[:, ::-1], rungs + (count - 1) * around])
    made = _body(points, faces)
    return made if made.volume() > 0 else _body(points, faces[:, ::-1])


def rotor_solid(
    row: Blading,
    hub: Hub,
    spanwise: int = 40,
    around: int = 33,
    *,
    edge: float = 0.0,
    shifts: Sequence[float] = (),
    tip_ring: float = 0.0,
) -> trimesh.Trimesh:
    """A rotor: blades on a cup-shaped hub with a boss for the shaft; the blades' middle plane at z
    = 0.

    ``edge`` is the least thickness of a blade towards its tail [m]; ``shifts`` moves each blade out
    of its even place around the hub [rad]; ``tip_ring`` is the thickness of a ring around the tips
    [m], 0 for none.

    Raises
    ------
    CannotBe : a blading that cannot be
    """
    refuse(row.problems() | hub_problems(row, hub))
    blade = loft(
        blade_rings(row, spanwise, around, root=min(hub.wall * 0.7, row.hub / 4), edge=edge)
    )
    turned = [
        360 / row.blades * k + math.degrees(shifts[k] if k < len(shifts) else 0.0)
        for k in range(row.blades)
    ]
    blades = [blade.rotate((0, 0, at)) for at in turned]
    if tip_ring > 0:
        low, high = blade_depth(row)
        outer, height = row.tip / 2, min(high - low, hub.depth) * 0.6
        room = cylinder(outer, 4 * hub.depth, -2 * hub.depth)
        blades = [b ^ room for b in blades]
        blades.append(
            cylinder(outer, height, -height / 2) - cylinder(outer - tip_ring, 2 * height, -height)
        )
    bottom = -hub.depth / 2
    shell = cylinder(row.hub / 2, hub.depth, bottom) - cylinder(
        row.hub / 2 - hub.wall, hub.depth, bottom + hub.wall
    )
    boss = cylinder(hub.shaft / 2 + max(hub.wall, 0.002), hub.depth * 0.8, bottom)
    bore = cylinder(hub.shaft / 2, 2 * hub.depth, -hub.depth, 64)
    cavity = cylinder(row.hub / 2 - hub.wall, 4 * hub.depth + 0.2, -2 * hub.depth - 0.1)
    solid = Body.batch_boolean([shell, *[b - cavity for b in blades]], manifold3d.OpType.Add) + boss
    return _mesh(solid - bore)


def hub_problems(row: Blading, hub: Hub) -> dict[str, str]:
    """A sentence for each thing about a hub that cannot be."""
    found: dict[str, str] = {}
    if not hub.wall > 0:
        found["wall"] = f"The hub's wall is {1000 * hub.wall:g} mm; it must be above 0."
    elif hub.wall * 2 + hub.shaft + 0.004 >= row.hub:
        found["wall"] = (
            f"A shaft of {1000 * hub.shaft:g} mm, its boss and walls of {1000 * hub.wall:g} mm do"
            f" not fit into a hub of {1000 * row.hub:g} mm."
        )
    if not hub.depth > 2 * max(hub.wall, 0):
        found["depth"] = f"A hub {1000 * hub.depth:g} mm deep is no deeper than its walls."
    if not hub.shaft > 0:
        found["shaft"] = f"The shaft is {1000 * hub.shaft:g} mm; it must be above 0."
    return found


def impeller_solid(
    wheel: Impeller, shaft: float = 0.004, plate: float = 0.0016, pieces: int = 24
) -> trimesh.Trimesh:
    """An open wheel: back plate, boss, and blades whose angle goes evenly from inlet to outlet."""
    refuse(wheel.problems())
    radius = np.linspace(wheel.inner / 2, wheel.outer / 2, pieces)
    angle = np.linspace(wheel.inner_angle, wheel.outer_angle, pieces)
    slope = 1 / (radius * np.tan(angle))
    turn = -np.concatenate([[0], np.cumsum((slope[1:] + slope[:-1]) / 2 * np.diff(radius))])
    half = wheel.thickness / 2 / (radius * np.sin(angle))
    sides = [
        np.column_stack([radius * np.cos(turn + s * half), radius * np.sin(turn + s * half)])
        for s in (1, -1)
    ]
    plan = manifold3d.CrossSection(
        [np.vstack([sides[0][::-1], sides[1]]) * SCALE], manifold3d.FillRule.NonZero
    )
    height = max(wheel.inner_width, wheel.outer_width)
    blade = Body.extrude(plan, (height + plate) * SCALE)
    room = revolved(
        [
            (0, 0),
            (wheel.outer / 2, 0),
            (wheel.outer / 2, plate + wheel.outer_width),
            (wheel.inner / 2, plate + wheel.inner_width),
            (0, plate + wheel.inner_width),
        ]
    )
    blades = [(blade.rotate((0, 0, 360 / wheel.blades * k))) ^ room for k in range(wheel.blades)]
    wall, above = boss_of(wheel)
    disc = cylinder(wheel.outer / 2, plate) + cylinder(shaft / 2 + wall, plate + above)
    return _mesh(
        Body.batch_boolean([disc, *blades], manifold3d.OpType.Add)
        - cylinder(shaft / 2, 2 * height + 0.02, -0.01, 64)
    )


def ring_solid(ring: Ring, neck_length: float = 0.05) -> trimesh.Trimesh:
    """A bladeless ring with its plenum, slot all around and neck (downwards, -y)."""
    refuse(ring.problems())
    shape = ring_profile(ring)
    middle = shape.plenum_middle
    reach = shape.outer_radius + neck_length

    def tube(r, length, start):
        return cylinder(r, length).rotate((90, 0, 0)).translate((0, -start * SCALE, middle * SCALE))

    bore = neck_radius(ring)
    start = (shape.inner_edge + shape.outer_radius) / 2  # in the plenum, clear of the throat's wall
    around = cylinder(start, 1.0, -0.5)
    outside = revolved(shape.solid) + (tube(bore + ring.wall, reach - start, start) - around)
    hollow = revolved(shape.hollow) + (tube(bore, reach, start) - around)
    return _mesh(outside - hollow)


def bell_mouth_solid(
    diameter: float, lip: float, length: float, wall: float, flange: float = 0.01
) -> trimesh.Trimesh:
    """A bell mouth: quarter circle lip on a straight tube with a flange at its end."""
    arc = np.linspace(0, np.pi / 2, 24)
    inner = [
        (diameter / 2 + lip * (1 - math.sin(a)), lip * (1 - math.cos(a))) for a in arc
    ]  # from the plane of the lip inwards
    inner += [(diameter / 2, lip + length)]
    outer = [
        (diameter / 2 + wall + flange, lip + length),
        (diameter / 2 + wall + flange, lip + length - 2 * wall),
        (diameter / 2 + wall, lip + length - 2 * wall),
    ]
    outer += [
        (diameter / 2 + wall + lip * (1 - math.sin(a)), wall + lip * (1 - math.cos(a)))
        for a in arc[::-1]
    ]
    outer += [(diameter / 2 + lip + wall, 0.0)]
    return _mesh(revolved([*inner, *outer]))


@dataclass(frozen=True, slots=True)
class Plate:
    """A square mounting plate with four holes: side, distance of the holes, their diameter,
    thickness [m].
    """

    side: float
    pitch: float
    hole: float
    thickness: float = 0.003


def with_plate(
    solid: trimesh.Trimesh, plate: Plate, opening: float | tuple[float, float]
) -> trimesh.Trimesh:
    """A part with a mounting plate on its plane z = 0, open over a diameter or a width and height
    [m].
    """
    body = Body(
        manifold3d.Mesh(
            np.ascontiguousarray(solid.vertices * SCALE, np.float32),
            np.ascontiguousarray(solid.faces, np.uint32),
        )
    )
    sheet = Body.cube(
        (plate.side * SCALE, plate.side * SCALE, plate.thickness * SCALE), True
    ).translate((0, 0, plate.thickness / 2 * SCALE))
    half = plate.pitch / 2 * SCALE
    pins = [
        cylinder(plate.hole / 2, 3 * plate.thickness, -plate.thickness, 48).translate((x, y, 0))
        for x in (-half, half)
        for y in (-half, half)
    ]
    if isinstance(opening, tuple):
        through = Body.cube(
            (opening[0] * SCALE, opening[1] * SCALE, 4 * plate.thickness * SCALE), True
        )
    else:
        through = cylinder(opening / 2, 4 * plate.thickness, -2 * plate.thickness)
    return _mesh(body + (sheet - through - Body.batch_boolean(pins, manifold3d.OpType.Add)))


def splitter_solid(duct: Splitter) -> trimesh.Trimesh:
    """Trunk and branches with open ends; trunk along z, branches spread in the x-z plane."""
    refuse(duct.problems())
    over = 0.001
    outers: list[Any] = []
    inners: list[Any] = []
    for wall, bucket, extra in ((duct.wall, outers, 0.0), (0.0, inners, over)):
        bucket.append(
            _tube(
                [(0, -extra, 0), (0, duct.length + duct.width / 4, 0)],
                [(duct.width, duct.height)] * 2,
                wall,
            )
        )
        for branch, path in zip(duct.branches, branch_paths(duct), strict=True):
            share = np.linspace(0, 1, len(path))
            tall = branch.outlet / branch.width
            sizes = [
                (branch.width, branch.height + (tall - branch.height) * max(0.0, (s - 0.7) / 0.3))
                for s in share
            ]
            bucket.append(_tube(_longer(path, extra), sizes, wall))
    solid = Body.batch_boolean(outers, manifold3d.OpType.Add) - Body.batch_boolean(
        inners, manifold3d.OpType.Add
    )
    return _mesh(solid)


def branch_paths(duct: Splitter, pieces: int = 24) -> list[list[tuple[float, float, float]]]:
    """Middle lines of the branches in the x-z plane: (x, z, direction from z) [m, rad]; first along
    the split angle, then the bend back towards the trunk's direction. The first branch lies at the
    greatest x.
    """
    count = len(duct.branches)
    made = []
    for i, b in enumerate(duct.branches):
        side = 0.0 if count == 1 else 1 - 2 * i / (count - 1)
        sign = math.copysign(1.0, side) if abs(side) > 1e-9 else 0.0
        start = side * max(duct.width / 2 - b.width / 2, 0.0) * 0.5
        direction = sign * b.split
        radius = max(b.bend_radius, 0.5) * b.width
        arc = radius * b.bend
        path = [(start, duct.length, direction)]
        step = (b.length + arc) / pieces
        x, z = start, duct.length

        def turned(s, b=b, arc=arc):
            return b.bend * min(max((s - b.length / 2) / arc, 0.0), 1.0) if arc > 0 else 0.0

        for k in range(pieces):
            middle = direction - (sign or 1.0) * turned((k + 0.5) * step)
            x, z = x + step * math.sin(middle), z + step * math.cos(middle)
            path.append((x, z, direction - (sign or 1.0) * turned((k + 1) * step)))
        made.append(path)
    return made


def _longer(
    path: Sequence[tuple[float, float, float]], extra: float
) -> list[tuple[float, float, float]]:
    x, z, at = path[-1]
    return [*path[:-1], (x + extra * math.sin(at), z + extra * math.cos(at), at)]


def _tube(
    path: Sequence[tuple[float, float, float]], sizes: Sequence[tuple[float, float]], wall: float
) -> Body:
    """A solid bar of rectangular section along a path in the x-z plane."""
    rings = []
    for (x, z, at), (width, height) in zip(path, sizes, strict=True):
        across, w, h = (
            np.array([math.cos(at), 0, -math.sin(at)]),
            width / 2 + wall,
            height / 2 + wall,
        )
        up = np.array([0, 1, 0])
        middle = np.array([x, 0, z])
        rings.append(
            [
                middle + sx * w * across + sy * h * up
                for sx, sy in ((1, 1), (-1, 1), (-1, -1), (1, -1))
            ]
        )
    return loft(np.array(rings))


def silencer_solid(part: Silencer, wall: float = 0.0016, stub: float = STUB) -> trimesh.Trimesh:
    """A silencer with a stub of duct at both ends."""
    refuse(
        part.problems()
        | ({} if wall > 0 else {"wall": f"The wall is {1000 * wall:g} mm; it must be above 0."})
    )
    if isinstance(part, PerforatedTube) and (holes := hole_count(part)) > MOST_HOLES:
        refuse(
            {
                "hole": (
                    f"The tube would have {holes:,} holes; at most {MOST_HOLES:,} are made. Take"
                    " larger holes or a smaller open share."
                )
            }
        )
    if isinstance(part, QuarterWave):
        run = part.branch + 2 * stub

        def tube(r, length):
            return cylinder(r, length).rotate((90, 0, 0)).translate((0, 0, run / 2 * SCALE))

        reach = part.duct / 2 + part.length
        solid = cylinder(part.duct / 2 + wall, run) + tube(part.branch / 2 + wall, reach + wall)
        return _mesh(
            solid - cylinder(part.duct / 2, 2 * run, -run / 2) - tube(part.branch / 2, reach)
        )
    duct, chamber, length = part.duct / 2, part.chamber / 2, part.length
    outside = cylinder(duct + wall, length + 2 * wall + 2 * stub) + cylinder(
        chamber + wall, length + 2 * wall, stub
    )
    through = cylinder(duct, length + 4 * (wall + stub), -stub)
    room = cylinder(chamber, length, stub + wall)
    if isinstance(part, Chamber):
        return _mesh(outside - room - through)
    tube = cylinder(duct + part.wall, length + 2 * wall, stub)
    return _mesh(outside - room + (tube - _holes(part, stub + wall)) - through)


def hole_count(part: PerforatedTube) -> int:
    """Holes that make the open share of the tube."""
    return max(1, round(part.open_share * part.duct * part.length * 4 / part.hole**2))


def _holes(part: PerforatedTube, start: float) -> Body:
    """Radial holes, in staggered rows."""
    count = hole_count(part)
    around = max(
        1,
        min(
            round(math.sqrt(count * math.pi * part.duct / part.length)),
            int(math.pi * part.duct / (1.3 * part.hole)),
        ),
    )
    rows = max(1, round(count / around))
    reach = part.duct / 2 + 2 * part.wall
    pin = cylinder(part.hole / 2, reach, 0, 16).rotate((0, 90, 0))
    pins = [
        pin.rotate((0, 0, 360 / around * (k + 0.5 * (row % 2)))).translate(
            (0, 0, (start + part.length * (row + 0.5) / rows) * SCALE)
        )
        for row in range(rows)
        for k in range(around)
    ]
    return Body.batch_boolean(pins, manifold3d.OpType.Add)
