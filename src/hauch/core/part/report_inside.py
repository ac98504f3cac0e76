"""Of the check of a part: its walls and passages, slots, screws and the ring."""

from __future__ import annotations

import math
from collections.abc import Mapping
from typing import TYPE_CHECKING, Any

import numpy as np
from numpy.typing import NDArray

from hauch.core.part import MM
from hauch.core.part.findings import CheckInput, Report
from hauch.core.part.passage import free_areas, holes_along, openings, screw_hole, steep
from hauch.core.part.pose import (
    Placed,
)
from hauch.core.part.rays import Caster, Samples, Walls
from hauch.core.part.slot import find_slot
from hauch.core.predict.model import modelled
from hauch.core.quantity import Quantity, Step, exact

if TYPE_CHECKING:
    pass


Floats = NDArray[np.float64]


THIN_SHARE = 0.02
"""Share of the surface whose thinnest walls are told as the least wall: edges and rays through
corners are below it.
"""


THIN_CARE, THIN_BACK = 0.08, 0.40
"""Shares of the surface with less wall than is asked that mean care and sending back."""


CLOSED = 0.15
"""Share of the way around from which what closes a slot is more than ribs: twelve of 3 mm close 8 %
of a ring of 150 mm.
"""


OVERLAP = 0.01
"""Share of rays that meet another wall from outside before the far side of their own."""


SUDDEN = math.radians(45)
"""Half angle of a widening above which it is a step, as of a chamber, and no diffuser."""


def _where(points: Floats, part: str) -> str:
    """Where the middle of some points lies, in words."""
    x, y, z = np.median(points, axis=0)
    if part in {"rotor", "ring"}:
        return (
            f"around {np.median(np.hypot(points[:, 0], points[:, 1])):.0f} mm from the axis,"
            f" {z:.0f} mm from the mounting plane"
        )
    return f"around x {x:.0f}, y {y:.0f}, z {z:.0f} mm"


def add_walls(report: Report, wall: Walls, samples: Samples, asked: CheckInput) -> None:
    """How thick the walls are, and where they are thin."""
    least = asked.envelope["wall"] / MM
    thin = wall.thinnest(THIN_SHARE)
    known = np.isfinite(wall.thickness)
    below = known & (wall.thickness < least * 0.95)
    share = float(below.sum() / max(known.sum(), 1))
    steps = (
        Step(
            "Rays along the inward normal",
            "distance to the far side",
            (("rays", float(known.sum()), ""),),
            thin * MM,
            "m",
            "",
            f"all but {100 * THIN_SHARE:.0f} % of the surface is thicker",
        ),
    )
    report.add(
        "wall",
        "Walls",
        "Thinnest wall",
        "length",
        modelled(thin * MM, "m", "part:rays", "rays hit between edges", 0.05, steps),
    )
    report.add(
        "wall_middle",
        "Walls",
        "Wall in the middle of the spread",
        "length",
        exact(float(np.nanmedian(wall.thickness)) * MM, "m"),
    )
    report.add(
        "thin_share",
        "Walls",
        "Surface with less wall than asked",
        "percent",
        exact(100 * share, "%"),
    )
    report.data["walls"] = np.histogram(
        wall.thickness[known], bins=24, range=(0, max(4 * least, 4.0))
    )[0].tolist()
    if share > THIN_CARE:
        where = _where(samples.points[below], asked.envelope.family)
        report.say(
            "back" if share > THIN_BACK else "care",
            f"{100 * share:.0f} % of the surface has less wall than the {least:g} mm that are"
            f" asked, down to {thin:.2f} mm, {where}.",
        )
    else:
        report.say(
            "well",
            f"Walls are thick enough: {100 * (1 - share):.0f} % of the surface has the {least:g} mm"
            " that are asked.",
        )
    crossed = float(wall.overlapping.mean())
    if crossed > OVERLAP:
        report.say(
            "care",
            "Surfaces run through one another"
            f" {_where(samples.points[wall.overlapping], asked.envelope.family)} ({100 * crossed:.0f}"
            " % of the rays met another wall from outside). A printer may leave voids there: unite"
            " the bodies before you export.",
        )


def add_passages(report: Report, placed: Placed, caster: Caster, asked: CheckInput) -> None:
    """Openings and areas of ducts, intakes and rings."""
    found = openings(placed.mesh)
    report.data["openings"] = [
        [round(o.area, 1), *(round(v, 1) for v in o.centre), *(round(v, 2) for v in o.direction)]
        for o in found[:12]
    ]
    _screws(report, placed, caster, asked)
    if asked.envelope.family == "ring":
        _ring(report, placed, caster, found)
        return
    inlet = [o for o in found if o.direction[2] < -0.7]
    outlets = [o for o in found if o.direction[2] >= -0.7]
    if inlet and outlets:
        feed, out = inlet[0].area, sum(o.area for o in outlets)
        report.add("inlet", "Passages", "Opening at the mounting side", "area", _area(feed))
        for n, o in enumerate(outlets[:8], 1):
            report.add(f"outlet_{n}", "Passages", f"Opening {n}", "area", _area(o.area))
        if asked.envelope.part == "duct":
            report.add("outlets", "Passages", "All outlets", "area", _area(out))
            if out < 0.75 * feed:
                report.say(
                    "care",
                    f"The outlets have {out / 100:.1f} cm² together, less than the {feed / 100:.1f}"
                    " cm² that feed them: they choke the duct.",
                )
            elif out > 1.6 * feed:
                report.say(
                    "care",
                    f"The outlets have {out / feed:.1f} times the area of the inlet: the air"
                    " separates and leaves where it likes.",
                )
            else:
                report.say(
                    "well", f"The outlets have {out / feed:.2f} times the area of the inlet."
                )
    cuts = free_areas(placed.mesh)
    report.data["areas"] = [[round(c.place, 2), round(c.area, 1)] for c in cuts]
    if cuts and asked.envelope.part == "intake":
        least = min(cuts, key=lambda c: c.area)
        end = cuts[0].area
        report.add(
            "least_area", "Passages", "Least free area across the axis", "area", _area(least.area)
        )
        if least.area < 0.95 * end:
            report.say(
                "care",
                f"It narrows to {least.area / 100:.1f} cm² at {least.place:.0f} mm; at the mounting"
                f" side it has {end / 100:.1f} cm². That chokes it.",
            )
        widening = [w for w in steep(cuts, forward=False) if w[1] < SUDDEN]
        if widening:
            place, angle = max(widening, key=lambda w: w[1])
            report.say(
                "care",
                f"With the flow it widens by {math.degrees(angle):.0f}° a side at {place:.0f} mm:"
                " above 7° the stream leaves the wall.",
            )


def _area(value: float) -> Quantity:
    return modelled(value * MM**2, "m2", "part:facets", "facets of curved surfaces", 0.002)


def _screws(report: Report, placed: Placed, caster: Caster, asked: CheckInput) -> None:
    """Holes of the mounting pattern."""
    values: Mapping[str, float] = asked.envelope.values
    if "hole_pitch" not in values:
        return
    half, hole = values["hole_pitch"] / 2 / MM, values["hole"] / MM
    places = [(x, y) for x in (-half, half) for y in (-half, half)]
    met = sum(screw_hole(caster, x, y, hole) for x, y in places)
    if met == len(places):
        report.say("well", f"All {met} mounting holes of {hole:g} mm are where the frame has them.")
        return
    frame = f"{len(places)} mounting holes of {hole:g} mm"
    others = [] if met else holes_along(placed.mesh, caster)
    if others:
        away = [math.hypot(h.x, h.y) for h in others]
        several = len(others) > 1
        report.say(
            "care",
            f"None of the {frame}, {values['hole_pitch'] / MM:g} mm apart, was found. The part has"
            f" {len(others)} hole{'s' if several else ''} along its axis,"
            f" {_range([h.diameter for h in others], 1)} mm wide and {_range(away, 0)} mm from it:"
            f" {'they do' if several else 'it does'} not meet the frame's.",
        )
    elif met:
        report.say(
            "care",
            f"{met} of {frame} were found {values['hole_pitch'] / MM:g} mm apart.",
        )
    else:
        report.say(
            "care",
            f"No mounting hole was found; the frame has {len(places)} of {hole:g} mm,"
            f" {values['hole_pitch'] / MM:g} mm apart.",
        )


def _range(values: list[float], digits: int) -> str:
    """The least and the greatest value, or the one that both round to."""
    low, high = (f"{v:.{digits}f}" for v in (min(values), max(values)))
    return low if low == high else f"{low} to {high}"


def _ring(report: Report, placed: Placed, caster: Caster, found: list[Any]) -> None:
    neck = max((o for o in found if o.direction[1] < -0.7), key=lambda o: o.area, default=None)
    slot = find_slot(placed.mesh, caster)
    if neck is not None:
        report.add("neck", "Passages", "Neck", "area", _area(neck.area))
    if slot is None:
        report.say("back", "No slot was found that goes all around the ring.")
        return
    steps = (
        Step(
            "Narrowest place of the passage to the plenum",
            "shortest line that closes it in half sections, rays across between them",
            (("wedges", len(slot.widths), ""),),
            slot.mean * MM,
            "m",
            note=f"ribs close {100 * slot.closed:.1f} % of the way around" if slot.closed else "",
        ),
    )
    report.add(
        "slot",
        "Passages",
        "Slot width",
        "length",
        modelled(slot.mean * MM, "m", "part:slot", "facets of the lips", 0.01, steps),
    )
    report.add("slot_area", "Passages", "Slot area between ribs", "area", _area(slot.area))
    report.data["slot"] = [round(w, 4) for w in slot.widths]
    if slot.closed > CLOSED:
        report.say(
            "care",
            f"The slot is closed over {100 * slot.closed:.0f} % of the way around the ring: it"
            " blows unevenly.",
        )
    spread = max(slot.widths) - min(slot.widths)
    if spread > 0.1 * slot.mean:
        report.say(
            "care",
            f"The slot is {min(slot.widths):.2f} to {max(slot.widths):.2f} mm wide around the ring:"
            " it blows unevenly.",
        )
    if neck is not None:
        if slot.area > neck.area:
            report.say(
                "care",
                f"The slot has {slot.area / 100:.1f} cm², the neck only {neck.area / 100:.1f} cm²:"
                f" the neck chokes it. A slot of {slot.mean * neck.area / slot.area:.2f} mm"
                " has the neck's area.",
            )
        else:
            report.say(
                "well",
                f"The slot's {slot.area / 100:.1f} cm² are fed by a neck of {neck.area / 100:.1f}"
                " cm².",
            )
