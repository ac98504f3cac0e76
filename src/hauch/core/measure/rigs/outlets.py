"""The outlet row: its constants, its drawing, and what is measured on it."""

from __future__ import annotations

from hauch.core.geometry.drawing import Arrow, Note
from hauch.core.measure.procedure import Procedure
from hauch.core.measure.rigs.base import Constant, RigKind, Sketch, length
from hauch.core.measure.rigs.common import SPIN, by_place
from hauch.core.measure.run import RunInput
from hauch.core.quantity import Quantity, derive


def _draw(r: Sketch) -> None:
    count, spacing, size = max(int(r["places"]), 2), r["spacing"], r["outlet"]
    length = spacing * (count - 1)
    r.d.box(-size, -spacing * 0.25, length + 2 * size, spacing * 0.25, "part")
    r.fan(-size, -spacing * 0.125, spacing * 0.25)
    for outlet in range(count):
        x = outlet * spacing
        r.d.box(x - size / 2, 0, size, spacing * 0.15)
        r.d.arrows.append(Arrow((x, spacing * 0.18), (x, spacing * 0.42)))
        r.d.notes.append(Note((x, spacing * 0.5), str(outlet + 1)))
    r.sensor("air_speed", 0, spacing * 0.28)
    r.dimension("spacing", (0, -spacing * 0.25), (spacing, -spacing * 0.25), "below")
    r.dimension(
        "outlet",
        (length - size / 2, -spacing * 0.25),
        (length + size / 2, -spacing * 0.25),
        "below",
        1,
        "⌀ ",
    )


RIG = RigKind(
    key="outlets",
    label="Outlet row",
    what="A duct with several outlets, each read with the same anemometer in turn.",
    constants=(
        Constant("places", "Outlets", "number", 2, 60, 3, needed=True, whole=True),
        length("outlet", "Diameter of the probe", 0.07, 0.001, 1.0),
        length("spacing", "Distance between outlets", 0.25, 0.005, 5.0),
    ),
    channels=("air_speed", "speed"),
    caution=SPIN,
    draw=_draw,
)


def imbalance(run: RunInput) -> Quantity:
    """Imbalance of a row of outlets [%]: largest less smallest speed, over their mean; one meter
    reads all, so its slope cancels.
    """
    means = by_place(run, "air_speed")
    return derive(
        "Imbalance of the outlets",
        "100 (v_max − v_min) / v̄",
        lambda **x: 100 * (max(x.values()) - min(x.values())) * len(x) / sum(x.values()),
        means,
        "%",
        "definition; outlets of equal area",
    )


PROCEDURES = (
    Procedure(
        rig=RIG.key,
        key="imbalance",
        label="Balance of the outlets",
        short="Balance",
        metric="imbalance",
        kind="percent",
        direction=-1,
        log=False,
        change_unit="points of %",
        needs=(("air_speed",),),
        optional=(),
        places=True,
        by_speed=False,
        reduce=imbalance,
    ),
)
