"""The lift rig: its constants, its drawing, and what is measured on it."""

from __future__ import annotations

from hauch.core.geometry.drawing import Arrow, Note
from hauch.core.measure.procedure import Procedure
from hauch.core.measure.rigs.base import Constant, RigKind, Sketch, length
from hauch.core.measure.run import NoResult, RunInput
from hauch.core.quantity import Quantity


def _draw(r: Sketch) -> None:
    span, gap = r["span"], r["span"] * 0.05
    r.d.line((-span, 0), (span, 0))
    r.d.shape(
        (
            (-span / 2, gap),
            (span / 2, gap),
            (span / 2, gap + span * 0.14),
            (-span / 2, gap + span * 0.14),
        )
    )
    r.d.box(-span * 0.12, gap + span * 0.14, span * 0.24, span * 0.18, "mount")
    r.d.notes.append(Note((0, gap + span * 0.36), "load"))
    for x in (-1, 1):
        r.d.arrows.append(Arrow((x * span * 0.5, gap * 0.5), (x * span * 0.75, gap * 0.5)))
    r.sensor("gap", span / 2, gap * 0.5)
    r.sensor("static_pressure", -span * 0.2, gap)
    r.dimension("span", (-span / 2, 0), (span / 2, 0), "below")


RIG = RigKind(
    key="lift",
    label="Lift rig",
    what="Air-cushion part with weights; hover gap against load.",
    constants=(
        Constant(
            "cushion_area",
            "Area of the cushion",
            "area",
            1e-4,
            20.0,
            0.09,
            needed=True,
            doubt=0.002,
        ),
        Constant("load", "Load, with the part", "mass", 0.001, 1000.0, 1.5),
        length("span", "Span of the cushion", 0.3),
    ),
    channels=("gap", "static_pressure", "speed"),
    caution="Secure the weights; a cushion that tips throws them.",
    draw=_draw,
)


def hover_gap(run: RunInput) -> Quantity:
    """Hover gap [m] under the rig's load."""
    gap = run.mean("gap")
    if gap.value <= 0:
        raise NoResult(
            "The gap is 0: the cushion did not lift. Record it as did not finish, or take weights"
            " off."
        )
    return gap


PROCEDURES = (
    Procedure(
        rig=RIG.key,
        key="hover_gap",
        label="Hover gap on the lift rig",
        short="Gap",
        metric="hover gap",
        kind="length",
        direction=+1,
        log=True,
        needs=(("gap",),),
        by_speed=False,
        reduce=hover_gap,
    ),
)
