"""Drawings of the Desk that air flows through or presses on: ducts, intakes, silencers, slits,
cushions, packs; each from the figures that the prediction uses.
"""

from __future__ import annotations

import math
from collections.abc import Sequence

from hauch.core.geometry.drawing import Arrow, Dimension, Drawing, Note
from hauch.core.geometry.solids import branch_paths
from hauch.core.predict.cushion import Cushion
from hauch.core.predict.duct import Shared, Splitter
from hauch.core.predict.intake import (
    KINDS,
    PERFORATED,
    Element,
    choke_places,
    steep_places,
)
from hauch.core.predict.pack import Pack
from hauch.core.predict.silencer import PerforatedTube, QuarterWave, Silencer
from hauch.core.predict.slit import Slit


def duct_drawing(duct: Splitter, shared: Shared) -> Drawing:
    """Plan of trunk and branches as wide as they are; arrows as wide as the flows."""
    d = Drawing("Duct in plan, arrows as wide as the flows")
    w = duct.width / 2
    unit = duct.width / shared.total
    d.shape([(0, -w), (duct.length, -w), (duct.length, w), (0, w)], "hollow")
    for i, (b, path) in enumerate(zip(duct.branches, branch_paths(duct), strict=True)):
        left = [
            (z - b.width / 2 * math.sin(at) * -1, x + b.width / 2 * math.cos(at))
            for x, z, at in path
        ]
        right = [
            (z + b.width / 2 * math.sin(at) * -1, x - b.width / 2 * math.cos(at))
            for x, z, at in path
        ]
        d.shape([*left, *right[::-1]], "hollow", of=f"branches_{i}")
    d.arrows.append(
        Arrow((-0.4 * duct.width, 0), (duct.length * 0.85, 0), width=0.8 * unit * shared.total)
    )
    for b, path, q in zip(duct.branches, branch_paths(duct), shared.flows, strict=True):
        (x0, z0, _), (x, z, at) = path[len(path) // 2], path[-1]
        reach = 0.6 * duct.width
        d.line(*((pz, px) for px, pz, _ in path[:: max(len(path) // 12, 1)]), (z, x), layer="axis")
        d.arrows.append(
            Arrow(
                (z, x), (z + reach * math.cos(at), x + reach * math.sin(at)), width=0.8 * unit * q
            )
        )
        d.notes.append(
            Note(
                (z + 1.3 * reach * math.cos(at), x + 1.3 * reach * math.sin(at)),
                f"{b.name}, {100 * q / shared.total:.0f} %",
                "start",
            )
        )
        if b.aim != (0.0, 0.0):
            aim = (duct.length + b.aim[1], b.aim[0])
            d.circle(aim, 0.06 * duct.width, "keep_out")
            d.line((z, x), aim, layer="thin")
        del x0, z0
    d.dimensions.append(Dimension((0, -w), (0, w), "left", duct.width, of="width"))
    d.dimensions.append(
        Dimension((0, -w), (duct.length, -w), "below", duct.length, of="length", quiet=True)
    )
    return d


def intake_drawing(chain: Sequence[Element]) -> Drawing:
    """The intake unrolled as a strip as wide as its diameters, chokes and steep widenings marked."""
    d = Drawing("Intake as a strip, as wide as it is along its path")
    chokes, steep = set(choke_places(chain)), set(steep_places(chain))
    x, before = 0.0, chain[0].diameter
    top = max(e.diameter for e in chain) / 2
    for i, e in enumerate(chain):
        length = max(e.length, 0.12 * top)
        a, b = before / 2, e.diameter / 2
        d.shape(
            [(x, a), (x + length, b), (x + length, -b), (x, -a)],
            "stalled" if i in chokes or i in steep else "hollow",
            of=f"elements_{i}",
        )
        if e.kind in PERFORATED:
            for k in range(-4, 5):
                d.circle((x + length / 2, k * b / 4.5), 0.02 * top, "body")
        if e.kind == "filter":
            d.line(
                *[(x + length * (0.2 + 0.6 * (k % 2)), -b + 2 * b * k / 14) for k in range(15)],
                layer="thin",
            )
        if e.kind == "sensor":
            d.line((x + length / 2, -b), (x + length / 2, 0), layer="part")
        d.notes.append(
            Note(
                (x + length / 2, top * (1.16 if i % 2 else 1.34)),
                f"{i + 1} {KINDS[e.kind].label.lower()}",
                "middle",
            )
        )
        x, before = x + length, e.diameter
    d.line((-0.3 * top, 0), (x + 0.4 * top, 0), layer="axis")
    d.arrows.append(Arrow((-0.5 * top, 0), (-0.1 * top, 0)))
    d.arrows.append(Arrow((x + 0.1 * top, 0), (x + 0.5 * top, 0)))
    d.dimensions.append(
        Dimension(
            (0, -chain[0].diameter / 2),
            (0, chain[0].diameter / 2),
            "left",
            chain[0].diameter,
            1,
            prefix="ø ",
        )
    )
    d.dimensions.append(
        Dimension((x, -before / 2), (x, before / 2), "right", before, 1, prefix="ø ")
    )
    return d


def silencer_drawing(part: Silencer) -> Drawing:
    """Section along the duct."""
    d = Drawing("Silencer in section")
    r = part.duct / 2
    if isinstance(part, QuarterWave):
        run = part.branch * 3
        d.box(-run / 2, -r, run, 2 * r, "hollow")
        d.box(-part.branch / 2, r, part.branch, part.length, "hollow")
        d.dimensions.append(
            Dimension(
                (part.branch / 2, r),
                (part.branch / 2, r + part.length),
                "right",
                part.length,
                of="length",
            )
        )
        d.dimensions.append(
            Dimension(
                (-part.branch / 2, r + part.length),
                (part.branch / 2, r + part.length),
                "above",
                part.branch,
                prefix="ø ",
                of="branch",
            )
        )
        ends = (-run / 2, run / 2)
    else:
        stub = part.length * 0.35
        d.box(0, -part.chamber / 2, part.length, part.chamber, "hollow")
        d.box(-stub, -r, stub, 2 * r, "hollow")
        d.box(part.length, -r, stub, 2 * r, "hollow")
        if isinstance(part, PerforatedTube):
            count = max(3, min(24, int(part.length / part.hole / 2)))
            for side in (1, -1):
                for k in range(count):
                    x = part.length * (k + 0.5) / count
                    d.line(
                        (x - part.length * 0.25 / count, side * r),
                        (x + part.length * 0.25 / count, side * r),
                        layer="part",
                    )
        d.dimensions.append(
            Dimension(
                (0, -part.chamber / 2),
                (part.length, -part.chamber / 2),
                "below",
                part.length,
                of="length",
            )
        )
        d.dimensions.append(
            Dimension(
                (part.length, -part.chamber / 2),
                (part.length, part.chamber / 2),
                "right",
                part.chamber,
                2,
                prefix="ø ",
                of="chamber",
            )
        )
        ends = (-stub, part.length + stub)
    d.dimensions.append(
        Dimension((ends[0], -r), (ends[0], r), "left", part.duct, prefix="ø ", of="duct")
    )
    d.line((ends[0] * 1.1, 0), (ends[1] + 0.1 * (ends[1] - ends[0]), 0), layer="axis")
    d.arrows.append(Arrow((ends[0], 0), (ends[0] + 0.25 * (ends[1] - ends[0]), 0)))
    return d


def slit_drawing(slit: Slit) -> Drawing:
    """Section through the gap, drawn 1:1 in the gap's own size: the length is broken off."""
    d = Drawing("Slit in section, the gap to scale")
    g = slit.gap
    for side in (1, -1):
        d.shape(
            [
                (-8 * g, side * 3.5 * g),
                (-3 * g, side * 3.5 * g),
                (0, side * 0.5 * g),
                (0, side * 1.6 * g),
                (-2 * g, side * 5.5 * g),
                (-8 * g, side * 5.5 * g),
            ],
            "body",
        )
    d.shape([(0, -0.5 * g), (0, 0.5 * g), (10 * g, 1.8 * g), (10 * g, -1.8 * g)], "stream")
    d.arrows.append(Arrow((-7 * g, 0), (-3 * g, 0)))
    d.arrows.append(Arrow((0.5 * g, 0), (9 * g, 0)))
    d.dimensions.append(Dimension((0, -0.5 * g), (0, 0.5 * g), "right", slit.gap, of="gap"))
    d.notes.append(Note((-5.5 * g, 0.8 * g), f"{slit.gauge / 1e5:.2f} bar", "middle"))
    return d


def cushion_drawing(c: Cushion, gap: float, nozzle: float, inward: float, jet: bool) -> Drawing:
    """Section through the cushion; the gap is drawn tenfold, its dimension is true."""
    wide = math.sqrt(c.area)
    d = Drawing("Air cushion in section, gap drawn tenfold")
    h, wall = min(10 * gap, 0.4 * wide), 0.02 * wide
    top = h + 0.22 * wide
    d.line((-0.75 * wide, 0), (0.75 * wide, 0), layer="part")
    for side in (1, -1):
        edge = side * wide / 2
        d.shape(
            [(edge, h), (edge, top), (edge - side * wall, top), (edge - side * wall, h)], "body"
        )
        reach = 0.16 * wide
        if jet:
            lean = math.sin(inward)
            t = min(10 * nozzle, 0.12 * wide)
            d.shape(
                [
                    (edge - side * (wall + t), h),
                    (edge - side * (wall + t), top - 2 * wall),
                    (edge - side * (2 * wall + t), top - 2 * wall),
                    (edge - side * (2 * wall + t), h),
                ],
                "body",
            )
            d.arrows.append(
                Arrow(
                    (edge - side * (wall + t / 2), h + 0.1 * wide),
                    (edge - side * (wall + t / 2 + lean * h), 0.15 * h),
                )
            )
        d.arrows.append(
            Arrow((edge - side * 0.02 * wide, h * 0.4), (edge + side * reach, h * 0.25))
        )
    d.box(-wide / 2, top - wall, wide, wall, "body")
    d.shape(
        [
            (-wide / 2 + wall, h * 0.2),
            (wide / 2 - wall, h * 0.2),
            (wide / 2 - wall, top - wall),
            (-wide / 2 + wall, top - wall),
        ],
        "stream",
    )
    d.notes.append(Note((0, (top + h) / 2), f"{c.pressure:.0f} Pa", "middle"))
    d.dimensions.append(Dimension((wide / 2, 0), (wide / 2, h), "right", gap, 1))
    d.dimensions.append(Dimension((-wide / 2, top), (wide / 2, top), "above", wide, of="area"))
    return d


CELL = (0.0185, 0.065)
"""Diameter and length at which a cell is drawn [m]."""


def pack_drawing(pack: Pack) -> Drawing:
    """Cells in series (along) and parallel (up), cable, controller and motor."""
    d = Drawing(f"{pack.series} cells in series, {pack.parallel} in parallel, cable and controller")
    dia, length = CELL
    for s in range(pack.series):
        for p in range(pack.parallel):
            d.box(s * (length * 1.08), p * dia * 1.15, length, dia, "body")
            d.box(
                s * (length * 1.08) + length,
                p * dia * 1.15 + dia * 0.35,
                length * 0.04,
                dia * 0.3,
                "part",
            )
    right, high = pack.series * length * 1.08, pack.parallel * dia * 1.15
    end = right + 2.2 * length
    d.line((right, high * 0.5), (end, high * 0.5), layer="part")
    d.notes.append(Note((right + 1.1 * length, high * 0.5 + 0.5 * dia), "cable", "middle"))
    d.box(end, high * 0.5 - dia, length, 2 * dia, "hollow")
    d.notes.append(Note((end + length / 2, high * 0.5), "controller", "middle"))
    d.line((end + length, high * 0.5), (end + 1.6 * length, high * 0.5), layer="part")
    d.circle((end + 2.0 * length, high * 0.5), 0.4 * length, "hollow")
    d.notes.append(Note((end + 2.0 * length, high * 0.5), "M", "middle"))
    return d
