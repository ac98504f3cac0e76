"""The envelope of a round: what a part must fit, as parameters, as a drawing and as solids to model
against.

Axes: z along the flow with the mounting plane at z = 0, x to the right, y upwards, origin on the
axis of the bore. SI.
"""

from __future__ import annotations

import itertools
import math
from collections.abc import Mapping
from dataclasses import dataclass, field
from typing import Any

from hauch.core.geometry.drawing import Dimension, Drawing, Note
from hauch.core.geometry.kinds import PART_KINDS


@dataclass(frozen=True, slots=True)
class Parameter:
    """One critical dimension [m] (or a count), with the range in which it can be and what it starts
    with.
    """

    key: str
    label: str
    start: float
    low: float = 1e-4
    high: float = 5.0
    count: bool = False


_MOUNT = (
    Parameter("mount_square", "Side of the mounting square", 0.140), Parameter("hole_pitch", "Distance of the holes along a side", 0.1245),
    Parameter("hole", "Diameter of the holes", 0.0043), Parameter("bore", "Bore", 0.136),
)  # fmt: skip
_BOX = (
    Parameter("length", "Greatest length along the axis", 0.2),
    Parameter("width", "Greatest width", 0.2),
    Parameter("height", "Greatest height", 0.2),
)
_WALL = Parameter("wall", "Least wall", 0.0012, 0.0002, 0.05)

_FAMILIES: dict[str, tuple[Parameter, ...]] = {
    "rotor": (
        *_MOUNT, Parameter("depth", "Depth", 0.026), Parameter("shaft", "Shaft", 0.004), Parameter("hub", "Least diameter of the hub", 0.040),
        Parameter("tip_gap", "Least tip gap", 0.0008, 0.0), Parameter("wall", "Least wall and blade", 0.0010, 0.0002, 0.05),
    ),
    "mounted": (*_MOUNT, *_BOX, _WALL),
    "ring": (
        Parameter("outer", "Greatest outer diameter", 0.26), Parameter("opening", "Least free opening", 0.14), Parameter("depth", "Greatest depth", 0.08),
        Parameter("neck", "Bore of the neck", 0.05), Parameter("neck_drop", "Axis above the neck's end", 0.2), _WALL,
    ),
}  # fmt: skip
PARTS = {kind.key: _FAMILIES[kind.family] for kind in PART_KINDS.values()}
"""Kind of part -> its critical dimensions."""

PLATE = 0.003
"""Thickness of the mounting plate in the reference solid [m]."""


@dataclass(frozen=True, slots=True)
class Box:
    """An upright box: least corner and size [m]."""

    at: tuple[float, float, float]
    size: tuple[float, float, float]

    def overlaps(self, other: Box) -> bool:
        """Whether two boxes share space; touching faces do not."""
        return all(
            a < b + t and b < a + s
            for a, s, b, t in zip(self.at, self.size, other.at, other.size, strict=True)
        )


@dataclass(frozen=True, slots=True)
class Cylinder:
    """A cylinder along z (``axis`` 2) or y (``axis`` 1): centre of its base, radius, length [m]."""

    at: tuple[float, float, float]
    radius: float
    length: float
    axis: int = 2


@dataclass(frozen=True, slots=True)
class KeepOut:
    """A neighbour that the part must stay clear of."""

    name: str
    box: Box


@dataclass(frozen=True, slots=True)
class Body:
    """A solid: what is added less what is cut away."""

    name: str
    add: tuple[Box | Cylinder, ...]
    cut: tuple[Box | Cylinder, ...] = ()


@dataclass(frozen=True)
class Envelope:
    """What a part of a kind must fit. ``values`` by parameter key [m]."""

    part: str
    values: Mapping[str, float]
    keep_outs: tuple[KeepOut, ...] = field(default=())

    def __getitem__(self, key: str) -> float:
        return self.values[key]

    @property
    def family(self) -> str:
        """Which parameters it has: ``rotor``, ``ring`` or ``mounted``."""
        return PART_KINDS[self.part].family

    def as_json(self) -> dict[str, Any]:
        """Plain values for storage and export."""
        boxes = [
            {"name": k.name, "at": list(k.box.at), "size": list(k.box.size)} for k in self.keep_outs
        ]
        return {"values": dict(self.values), "keep_outs": boxes}

    @classmethod
    def from_json(cls, part: str, stored: Mapping[str, Any]) -> Envelope:
        """The envelope as it was stored; missing parameters take their start value. Raises
        ValueError for other shapes.
        """
        try:
            values = {
                p.key: float(stored.get("values", {}).get(p.key, p.start)) for p in PARTS[part]
            }
            keep_outs = tuple(
                KeepOut(str(k["name"]), Box(_three(k["at"]), _three(k["size"])))
                for k in stored.get("keep_outs", ())
            )
        except (TypeError, KeyError, AttributeError) as problem:
            raise ValueError(f"the envelope cannot be read: {problem}") from problem
        return cls(part, values, keep_outs)

    @property
    def swept_radius(self) -> float:
        """Greatest radius of a rotor [m]: bore less tip gap."""
        return self["bore"] / 2 - self["tip_gap"]

    def problems(self) -> dict[str, str]:
        """A sentence for each thing that cannot be, by parameter key (or ``keep_out_N``)."""
        found: dict[str, str] = {}
        for p in PARTS[self.part]:
            value = self.values.get(p.key, math.nan)
            if not math.isfinite(value):
                found[p.key] = f"{p.label} is missing."
            elif not p.low <= value <= p.high:
                found[p.key] = (
                    f"{p.label}: {1000 * value:g} mm cannot be; it lies between {1000 * p.low:g}"
                    f" and {1000 * p.high:g} mm. Check the sign and the unit."
                )
        if not found:
            found |= _together(self)
        return found | self._keep_out_problems(complete=not found)

    def _keep_out_problems(self, *, complete: bool) -> dict[str, str]:
        found: dict[str, str] = {}
        for number, one in enumerate(self.keep_outs):
            key = f"keep_out_{number}"
            if not all(math.isfinite(v) for v in (*one.box.at, *one.box.size)):
                found[key] = f"Keep-out “{one.name}”: a number is missing."
            elif min(one.box.size) <= 0:
                found[key] = (
                    f"Keep-out “{one.name}” has a side of {1000 * min(one.box.size):g} mm. Every"
                    " side must be above 0."
                )
        for (i, one), (j, other) in itertools.combinations(enumerate(self.keep_outs), 2):
            if (
                f"keep_out_{i}" not in found
                and f"keep_out_{j}" not in found
                and one.box.overlaps(other.box)
            ):
                found[f"keep_out_{j}"] = (
                    f"Keep-outs “{one.name}” and “{other.name}” overlap. Make one of them smaller,"
                    " or make them one box."
                )
        if complete:
            inner = self._needed_space()
            for number, one in enumerate(self.keep_outs):
                if (
                    f"keep_out_{number}" not in found
                    and inner is not None
                    and one.box.overlaps(inner)
                ):
                    found[f"keep_out_{number}"] = (
                        f"Keep-out “{one.name}” reaches into the bore, where the part has to be."
                    )
        return found

    def _needed_space(self) -> Box | None:
        """A box inside the bore that every part needs."""
        if self.family == "ring":
            return None
        half = self["bore"] / 2 / math.sqrt(2)
        length = self["depth"] if self.family == "rotor" else PLATE
        return Box((-half, -half, 0.0), (2 * half, 2 * half, length))


def _three(values: Any) -> tuple[float, float, float]:
    x, y, z = (float(v) for v in values)
    return x, y, z


def _together(e: Envelope) -> dict[str, str]:
    """Dimensions that cannot stand together."""
    mm = {key: 1000 * value for key, value in e.values.items()}
    found: dict[str, str] = {}
    if e.family == "ring":
        if e["opening"] + 2 * e["wall"] >= e["outer"]:
            found["opening"] = (
                f"The free opening ({mm['opening']:g} mm) leaves no ring inside the outer diameter"
                f" ({mm['outer']:g} mm)."
            )
        if e["neck"] >= e["outer"]:
            found["neck"] = (
                f"The neck ({mm['neck']:g} mm) is wider than the ring ({mm['outer']:g} mm)."
            )
        if e["neck_drop"] <= e["outer"] / 2:
            found["neck_drop"] = (
                f"The neck ends {mm['neck_drop']:g} mm below the axis, inside the ring. It must be"
                f" more than {mm['outer'] / 2:g} mm."
            )
        return found
    if e["bore"] + 2 * e["wall"] > e["mount_square"]:
        found["bore"] = (
            f"The bore ({mm['bore']:g} mm) and its wall do not fit the mounting square"
            f" ({mm['mount_square']:g} mm)."
        )
    if e["hole_pitch"] + e["hole"] > e["mount_square"]:
        found["hole_pitch"] = (
            f"The holes run out of the mounting square: {mm['hole_pitch']:g} mm apart on a side of"
            f" {mm['mount_square']:g} mm."
        )
    elif e["hole_pitch"] / math.sqrt(2) - e["hole"] / 2 < e["bore"] / 2:
        found["hole_pitch"] = (
            f"The holes cut into the bore: at {mm['hole_pitch']:g} mm apart they lie"
            f" {1000 * e['hole_pitch'] / math.sqrt(2):.4g} mm from the axis."
        )
    if e.family == "rotor":
        if e["hub"] >= e["bore"]:
            found["hub"] = (
                f"The hub ({mm['hub']:g} mm) is larger than the bore ({mm['bore']:g} mm)."
            )
        elif e["hub"] / 2 >= e.swept_radius:
            found["tip_gap"] = (
                f"A tip gap of {mm['tip_gap']:g} mm leaves no room for blades between hub and bore."
            )
        if e["shaft"] + 2 * e["wall"] >= e["hub"]:
            found["shaft"] = (
                f"The shaft ({mm['shaft']:g} mm) leaves no wall in the hub ({mm['hub']:g} mm)."
            )
    elif e["bore"] > min(e["width"], e["height"]):
        found["width"] = (
            f"The space ({mm['width']:g} x {mm['height']:g} mm) is narrower than the bore"
            f" ({mm['bore']:g} mm)."
        )
    return found


def _holes(e: Envelope) -> list[tuple[float, float]]:
    half = e["hole_pitch"] / 2
    return [(x, y) for x in (-half, half) for y in (-half, half)]


def reference_bodies(e: Envelope) -> list[Body]:
    """Solids to model against: frame or mounting plate with bore and holes, shaft, neck, and the
    keep-outs.
    """
    if e.family == "ring":
        outer = e["neck"] / 2 + e["wall"]
        at = (0.0, -e["neck_drop"], e["depth"] / 2)
        bodies = [
            Body(
                "neck",
                (Cylinder(at, outer, 0.02, axis=1),),
                (Cylinder((0.0, at[1] - 0.001, at[2]), e["neck"] / 2, 0.022, axis=1),),
            )
        ]
    else:
        depth = e["depth"] if e.family == "rotor" else PLATE
        side = e["mount_square"]
        cuts = [Cylinder((0.0, 0.0, -0.001), e["bore"] / 2, depth + 0.002)]
        cuts += [Cylinder((x, y, -0.001), e["hole"] / 2, depth + 0.002) for x, y in _holes(e)]
        bodies = [
            Body("frame", (Box((-side / 2, -side / 2, 0.0), (side, side, depth)),), tuple(cuts))
        ]
        if e.family == "rotor":
            bodies.append(Body("shaft", (Cylinder((0.0, 0.0, 0.0), e["shaft"] / 2, depth),)))
    return bodies + [Body(k.name, (k.box,)) for k in e.keep_outs]


def envelope_drawing(e: Envelope) -> Drawing:
    """Front view and side view with dimensions."""
    drawing = Drawing(f"Envelope of a {PART_KINDS[e.part].label}")
    if e.family == "ring":
        _ring_views(drawing, e)
    else:
        _mount_views(drawing, e)
    return drawing


def _mount_views(d: Drawing, e: Envelope) -> None:
    side, bore = e["mount_square"], e["bore"]
    half = side / 2
    edge = -half if e.family == "rotor" else -e["width"] / 2
    bottom = min(
        [
            -half if e.family == "rotor" else -max(half, e["height"] / 2),
            *(k.box.at[1] for k in e.keep_outs),
        ]
    )
    d.box(-half, -half, side, side, "mount")
    d.circle((0, 0), bore / 2, "part")
    for x, y in _holes(e):
        d.circle((x, y), e["hole"] / 2, "mount")
    reach = half * 1.08
    d.line((-reach, 0), (reach, 0), layer="axis")
    d.line((0, -reach), (0, reach), layer="axis")
    d.dimensions += [
        Dimension((-half, bottom), (half, bottom), "below", side, 2, prefix="□ "),
        Dimension(
            (-e["hole_pitch"] / 2, bottom),
            (e["hole_pitch"] / 2, bottom),
            "below",
            e["hole_pitch"],
            1,
        ),
        Dimension(
            (-e["hole_pitch"] / 2 - e["hole"] / 2, bottom),
            (-e["hole_pitch"] / 2 + e["hole"] / 2, bottom),
            "below",
            e["hole"],
            3,
            prefix="4 × ⌀ ",
        ),
        Dimension(
            (min(-half, edge), -bore / 2),
            (min(-half, edge), bore / 2),
            "left",
            bore,
            1,
            prefix="⌀ ",
        ),
    ]
    length = e["depth"] if e.family == "rotor" else e["length"]
    left = max([half, *(k.box.at[0] + k.box.size[0] for k in e.keep_outs)]) + max(0.35 * side, 0.04)
    if e.family == "rotor":
        _rotor_views(d, e, left, bottom)
    else:
        d.box(left, -half, PLATE, side, "mount")
        d.box(left, -e["height"] / 2, length, e["height"], "space")
        d.box(-e["width"] / 2, -e["height"] / 2, e["width"], e["height"], "space")
        top = e["height"] / 2
        d.dimensions += [
            Dimension((left, bottom), (left + length, bottom), "below", length),
            Dimension((left + length, -top), (left + length, top), "right", e["height"]),
            Dimension(
                (-e["width"] / 2, max(half, top)),
                (e["width"] / 2, max(half, top)),
                "above",
                e["width"],
            ),
        ]
        d.line((left - 0.1 * side, 0), (left + length + 0.1 * side, 0), layer="axis")
    for k in e.keep_outs:
        (x, y, z), (dx, dy, dz) = k.box.at, k.box.size
        d.box(x, y, dx, dy, "keep_out")
        d.box(left + z, y, dz, dy, "keep_out")
        d.notes.append(Note((left + z + dz / 2, y + 0.86 * dy), k.name))


def _rotor_views(d: Drawing, e: Envelope, left: float, bottom: float) -> None:
    half, depth, hub = e["mount_square"] / 2, e["depth"], e["hub"]
    d.circle((0, 0), e.swept_radius, "space")
    d.circle((0, 0), hub / 2, "part")
    d.circle((0, 0), e["shaft"] / 2, "part")
    for low, high in ((-half, -e["bore"] / 2), (e["bore"] / 2, half)):
        d.box(left, low, depth, high - low, "mount")
    d.box(left, -e.swept_radius, depth, 2 * e.swept_radius, "space")
    d.box(left, -hub / 2, depth, hub, "part")
    d.line(
        (left - 0.25 * depth, -e["shaft"] / 2), (left + 1.25 * depth, -e["shaft"] / 2), layer="thin"
    )
    d.line(
        (left - 0.25 * depth, e["shaft"] / 2), (left + 1.25 * depth, e["shaft"] / 2), layer="thin"
    )
    d.line((left - 0.5 * depth, 0), (left + 1.5 * depth, 0), layer="axis")
    right = left + depth
    d.dimensions += [
        Dimension((left, bottom), (right, bottom), "below", depth),
        Dimension(
            (right, -e.swept_radius),
            (right, e.swept_radius),
            "right",
            2 * e.swept_radius,
            3,
            prefix="⌀ ",
        ),
        Dimension((right, -hub / 2), (right, hub / 2), "right", hub, 2, prefix="⌀ ≥ "),
        Dimension(
            (right, -e["shaft"] / 2), (right, e["shaft"] / 2), "right", e["shaft"], 1, prefix="⌀ "
        ),
    ]


def _ring_views(d: Drawing, e: Envelope) -> None:
    outer, opening, neck, drop, depth = (
        e["outer"] / 2,
        e["opening"] / 2,
        e["neck"] / 2,
        e["neck_drop"],
        e["depth"],
    )
    d.circle((0, 0), outer, "space")
    d.circle((0, 0), opening, "part")
    d.line((-neck, -drop), (-neck, -math.sqrt(max(outer**2 - neck**2, 0.0))), layer="mount")
    d.line((neck, -drop), (neck, -math.sqrt(max(outer**2 - neck**2, 0.0))), layer="mount")
    d.line((-neck, -drop), (neck, -drop), layer="mount")
    d.line((-outer * 1.1, 0), (outer * 1.1, 0), layer="axis")
    d.line((0, -drop * 1.05), (0, outer * 1.1), layer="axis")
    left = max([outer, *(k.box.at[0] + k.box.size[0] for k in e.keep_outs)]) + 0.9 * outer
    d.box(left, -outer, depth, 2 * outer, "space")
    d.box(left + depth / 2 - neck, -drop, 2 * neck, drop - outer, "mount")
    d.line((left - 0.3 * outer, 0), (left + depth + 0.3 * outer, 0), layer="axis")
    d.dimensions += [
        Dimension((-outer, outer), (outer, outer), "above", 2 * outer, 1, prefix="⌀ ≤ "),
        Dimension((-outer, -opening), (-outer, opening), "left", 2 * opening, 1, prefix="⌀ ≥ "),
        Dimension((-neck, -drop), (neck, -drop), "below", 2 * neck, 1, prefix="⌀ "),
        Dimension((left + depth, -drop), (left + depth, 0), "right", drop),
        Dimension((left, outer), (left + depth, outer), "above", depth, 1, prefix="≤ "),
    ]
    for k in e.keep_outs:
        (x, y, z), (dx, dy, dz) = k.box.at, k.box.size
        d.box(x, y, dx, dy, "keep_out")
        d.box(left + z, y, dz, dy, "keep_out")
        d.notes.append(Note((left + z + dz / 2, y + dy / 2), k.name))
