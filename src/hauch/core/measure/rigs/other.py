"""Any other meter: what it shows is read off, for figures of one's own."""

from __future__ import annotations

from hauch.core.geometry.drawing import Note
from hauch.core.measure.procedure import Procedure
from hauch.core.measure.rigs.base import RigKind, Sketch, length

READ_OFF = ("reading", "reading_2", "reading_3")
"""Channels without a unit of their own: that of the figure is taken as it was given."""


def _draw(r: Sketch) -> None:
    part = r["part"]
    r.d.box(-part / 2, -part / 2, part, part, "part")
    r.d.notes.append(Note((0.0, 0.62 * part), "part"))
    for place, channel in enumerate(READ_OFF):
        y = (0.32 - 0.32 * place) * part
        r.d.line((part / 2, y), (1.2 * part, y), layer="thin")
        r.d.box(1.2 * part, y - 0.12 * part, 0.55 * part, 0.24 * part, "mount")
        r.sensor(channel, 1.475 * part, y)
    r.d.notes.append(Note((1.475 * part, 0.62 * part), "what you read off"))
    r.dimension("part", (-part / 2, -part / 2), (part / 2, -part / 2), "below")


RIG = RigKind(
    key="other",
    label="Any other meter",
    what="A meter for something that no other rig reads: up to three readings, and a formula of your own.",
    constants=(length("part", "Part, across", 0.1, 0.001, 5.0),),
    channels=(*READ_OFF, "speed", "throttle"),
    caution="Whatever spins, is hot or holds pressure stays behind its guard while you read.",
    draw=_draw,
)

PROCEDURES: tuple[Procedure, ...] = ()
"""None of its own: what is made of its readings is said by a formula."""
