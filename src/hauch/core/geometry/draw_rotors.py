"""Drawings of the Desk that turn or blow: rotors, impellers, rings; each from the figures that the
prediction uses.
"""

from __future__ import annotations

import math
from collections.abc import Sequence

import numpy as np

from hauch.core.geometry.bladed import blade_rings
from hauch.core.geometry.drawing import Arrow, Dimension, Drawing, Note
from hauch.core.geometry.profiles import ring_profile
from hauch.core.predict.blading import Blading
from hauch.core.predict.impeller import Impeller
from hauch.core.predict.ring import Driven, Ring
from hauch.core.predict.section import outline

SECTIONS = (0.0, 0.25, 0.5, 0.75, 1.0)
"""Where along the span blade sections are drawn."""


def rotor_drawing(rows: Sequence[Blading], bore: float, stalled: Sequence[float] = ()) -> Drawing:
    """Plan of the first row, and its unrolled sections beside it; those that stall at the duty are
    marked.

    Parameters
    ----------
    stalled : shares of the span that are stalled in the first row
    """
    row = rows[0]
    d = Drawing(f"Rotor with {row.blades} blades in plan, and its sections unrolled")
    d.circle((0, 0), bore / 2, "mount")
    rings = blade_rings(row, 13, 17)
    edge = np.vstack([rings[:, 8, :2], rings[::-1, 0, :2]])
    for k in range(row.blades):
        turn = 2 * math.pi * k / row.blades
        c, s = math.cos(turn), math.sin(turn)
        d.shape([(float(c * x - s * y), float(s * x + c * y)) for x, y in edge], "body")
    d.circle((0, 0), row.hub / 2, "body")
    d.line((-0.06 * bore, 0), (0.06 * bore, 0), layer="axis")
    d.line((0, -0.06 * bore), (0, 0.06 * bore), layer="axis")
    r = row.tip / 2
    d.dimensions.append(
        Dimension((-r, -bore / 2), (r, -bore / 2), "below", row.tip, 2, prefix="ø ", of="tip")
    )
    d.dimensions.append(
        Dimension(
            (r, -bore / 2), (bore / 2, -bore / 2), "below", bore / 2 - r, of="gap", quiet=True
        )
    )
    d.dimensions.append(
        Dimension(
            (-row.hub / 2, -bore / 2),
            (row.hub / 2, -bore / 2),
            "below",
            row.hub,
            prefix="ø ",
            of="hub",
        )
    )
    _sections(d, row, bore, stalled)
    return d


def _sections(d: Drawing, row: Blading, bore: float, stalled: Sequence[float]) -> None:
    left, step = bore * 0.68, bore / len(SECTIONS)
    tall, wide = (
        max(np.array(row.chord) * np.sin(row.pitch)),
        max(np.array(row.chord) * np.cos(row.pitch)),
    )
    scale = min(1.0, 0.95 * step / tall, 0.5 * bore / wide)
    for i, share in enumerate(SECTIONS):

        def at(curve, share=share):
            return float(row.along(curve, np.array([share]))[0])

        chord, pitch, camber, thickness = (
            at(c) for c in (row.chord, row.pitch, row.camber, row.thickness)
        )
        shape = outline(row.family, thickness / chord, camber, 21)
        x, y = (
            scale * (0.5 - shape[:, 0]) * chord,
            -scale * shape[:, 1] * chord,
        )  # the convex side meets the air
        middle = (left + bore * 0.3, -bore / 2 + step * (i + 0.5))
        points = [
            (
                middle[0] + float(u * math.cos(pitch) + v * math.sin(pitch)),
                middle[1] + float(-u * math.sin(pitch) + v * math.cos(pitch)),
            )
            for u, v in zip(x, y, strict=True)
        ]
        off = any(abs(share - s) <= 0.13 for s in stalled)
        d.shape(points, "stalled" if off else "body")
        d.notes.append(
            Note(
                (left + bore * 0.56, middle[1]),
                f"{math.degrees(pitch):.0f}°{' stalled' if off else ''}",
                "start",
            )
        )
    d.notes.append(
        Note(
            (left + bore * 0.3, bore / 2 + 0.02 * bore),
            f"sections{'' if scale == 1 else f' at {100 * scale:.0f} %'}, hub below",
            "middle",
        )
    )
    d.arrows.append(Arrow((left, -bore * 0.3), (left, bore * 0.3)))
    d.notes.append(Note((left, -bore * 0.37), "air", "middle"))


def impeller_drawing(wheel: Impeller) -> Drawing:
    """Plan with the blades, half section beside it."""
    d = Drawing(f"Wheel with {wheel.blades} blades, plan and half section")
    outer, inner = wheel.outer / 2, wheel.inner / 2
    d.circle((0, 0), outer, "part")
    d.circle((0, 0), wheel.eye / 2, "thin")
    radius = np.linspace(inner, outer, 24)
    angle = np.linspace(wheel.inner_angle, wheel.outer_angle, 24)
    slope = 1 / (radius * np.tan(angle))
    turn = -np.concatenate([[0], np.cumsum((slope[1:] + slope[:-1]) / 2 * np.diff(radius))])
    half = wheel.thickness / 2 / (radius * np.sin(angle))
    for k in range(wheel.blades):
        at = turn + 2 * math.pi * k / wheel.blades
        sides = [
            list(
                zip(
                    (radius * np.cos(at + s * half)).tolist(),
                    (radius * np.sin(at + s * half)).tolist(),
                    strict=True,
                )
            )
            for s in (1, -1)
        ]
        d.shape([*sides[0], *sides[1][::-1]], "body")
    left = outer * 1.5
    d.shape(
        [
            (left, inner),
            (left + wheel.inner_width, inner),
            (left + wheel.outer_width, outer),
            (left, outer),
        ],
        "body",
    )
    d.line((left - 0.1 * outer, 0), (left + wheel.inner_width + 0.2 * outer, 0), layer="axis")
    d.line((left, 0), (left, outer), layer="part")
    d.arrows.append(
        Arrow(
            (left + wheel.inner_width + 0.35 * outer, inner * 0.5),
            (left + wheel.inner_width * 0.4, inner * 0.5),
        )
    )
    d.arrows.append(
        Arrow(
            (left + wheel.outer_width * 0.5, outer * 1.02),
            (left + wheel.outer_width * 0.5, outer * 1.3),
        )
    )
    d.dimensions.append(
        Dimension(
            (-outer, -outer), (outer, -outer), "below", wheel.outer, 2, prefix="ø ", of="outer"
        )
    )
    d.dimensions.append(
        Dimension((-inner, -outer), (inner, -outer), "below", wheel.inner, prefix="ø ", of="inner")
    )
    eye = wheel.eye / 2
    d.dimensions.append(
        Dimension(
            (-eye, outer), (eye, outer), "above", wheel.eye, prefix="ø ", of="eye", quiet=True
        )
    )
    d.dimensions.append(
        Dimension(
            (left, inner),
            (left + wheel.inner_width, inner),
            "below",
            wheel.inner_width,
            of="inner_width",
            quiet=True,
        )
    )
    d.dimensions.append(
        Dimension(
            (left, outer),
            (left + wheel.outer_width, outer),
            "above",
            wheel.outer_width,
            of="outer_width",
        )
    )
    return d


def ring_drawing(ring: Ring, at_work: Driven) -> Drawing:
    """Section through the axis with slot and streams; arrows as long as the speeds."""
    shape = ring_profile(ring)
    d = Drawing("Ring in section, slot jets, entrained and outgoing stream")
    for side in (1, -1):

        def turned(profile, side=side):
            return [(z, side * r) for r, z in profile]

        d.shape(turned(shape.solid), "body")
        d.shape(turned(shape.hollow), "hollow")
    d.line((-0.6 * ring.depth, 0), (ring.depth * 2.4, 0), layer="axis")
    through = (at_work.exit_flow - at_work.jet_flow) / ring.throat_area
    unit = 0.9 * ring.depth / max(at_work.jet, 1e-6)
    for side in (1, -1):
        r = side * (ring.throat / 2 - ring.slot / 2)
        d.arrows.append(Arrow((shape.slot_end, r), (shape.slot_end + unit * at_work.jet, r)))
        for share in (0.25, 0.7):
            r = side * share * (ring.throat / 2 - ring.slot)
            start = -0.2 * ring.depth
            d.arrows.append(Arrow((start - unit * through, r), (start, r)))
            r *= ring.exit / ring.throat
            d.arrows.append(
                Arrow((1.15 * ring.depth, r), (1.15 * ring.depth + unit * at_work.thrown, r))
            )
    d.shape(
        [
            (shape.slot_end, -ring.throat / 2),
            (shape.slot_end, ring.throat / 2),
            (ring.depth, ring.exit / 2),
            (2.2 * ring.depth, ring.exit / 2 + 0.1 * ring.depth),
            (2.2 * ring.depth, -ring.exit / 2 - 0.1 * ring.depth),
            (ring.depth, -ring.exit / 2),
        ],
        "stream",
    )
    d.dimensions.append(
        Dimension(
            (0, -ring.throat / 2),
            (0, ring.throat / 2),
            "left",
            ring.throat,
            prefix="ø ",
            of="throat",
        )
    )
    d.dimensions.append(
        Dimension(
            (ring.depth, -ring.exit / 2),
            (ring.depth, ring.exit / 2),
            "right",
            ring.exit,
            prefix="ø ",
            of="exit",
            quiet=True,
        )
    )
    d.dimensions.append(
        Dimension(
            (0, -shape.outer_radius),
            (0, shape.outer_radius),
            "left",
            2 * shape.outer_radius,
            2,
            prefix="ø ",
        )
    )
    d.dimensions.append(
        Dimension(
            (0, -shape.outer_radius),
            (ring.depth, -shape.outer_radius),
            "below",
            ring.depth,
            of="depth",
        )
    )
    outside = shape.outer_radius + 0.12 * ring.depth
    d.line(
        (shape.slot_end, ring.throat / 2 - ring.slot / 2),
        (shape.slot_end + 0.35 * ring.depth, outside),
        layer="thin",
    )
    d.notes.append(
        Note((shape.slot_end + 0.4 * ring.depth, outside), "slot", "start", ring.slot, of="slot")
    )
    return d
