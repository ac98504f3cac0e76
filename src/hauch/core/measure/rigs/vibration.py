"""The vibration stand: its constants, its drawing, and what is measured on it."""

from __future__ import annotations

from hauch.core.geometry.drawing import Note
from hauch.core.measure.procedure import Procedure
from hauch.core.measure.rigs.base import Constant, RigKind, Sketch, length
from hauch.core.measure.rigs.common import SPIN
from hauch.core.measure.run import RunInput
from hauch.core.quantity import Quantity, derive


def _draw(r: Sketch) -> None:
    base, height, off = r["base"], r["shaft_height"], r["sensor_from_axis"]
    r.d.box(-base / 2, -0.08 * base, base, 0.08 * base, "mount")
    for x in (-0.35, 0.35):
        if r["flexible"] >= 0.5:
            r.d.line(
                *(
                    (x * base + 0.02 * base * (-1) ** i, -0.08 * base - 0.02 * base * i)
                    for i in range(6)
                ),
                layer="thin",
            )
        else:
            r.d.box(x * base - 0.04 * base, -0.18 * base, 0.08 * base, 0.1 * base, "thin")
    r.d.box(-0.05 * base, 0, 0.1 * base, height, "mount")
    r.d.circle((0, height), 0.06 * base, "part")
    r.d.circle((0, height), 0.34 * base, "space")
    r.d.line((-0.45 * base, height), (0.45 * base, height), layer="axis")
    r.sensor("vibration", off, height)
    r.sensor("speed", -0.34 * base, height + 0.1 * base)
    r.dimension("base", (-base / 2, -0.18 * base), (base / 2, -0.18 * base), "below")
    r.dimension("shaft_height", (base / 2, 0), (base / 2, height), "right")
    r.d.notes.append(Note((0, height + 0.4 * base), "part, behind its guard"))


RIG = RigKind(
    key="vibration",
    label="Vibration stand",
    what="Accelerometer at the bearing of the running part; velocity r.m.s. from 10 to 1000 Hz.",
    constants=(
        Constant("flexible", "Flexible mounting (1) or rigid (0)", "number", 0, 1, 0, whole=True),
        length("base", "Base, across", 0.3),
        length("shaft_height", "Height of the shaft", 0.12, 0.005, 3.0),
        length("sensor_from_axis", "Sensor, from the axis", 0.03, 0.0, 1.0),
    ),
    channels=("vibration", "speed", "throttle"),
    caution=SPIN + " Look the part over before each start: what shakes loosens itself.",
    draw=_draw,
)


CATEGORIES = {
    "BV-5": (0.0014, 0.0018),
    "BV-4": (0.0018, 0.0028),
    "BV-3": (0.0028, 0.0035),
    "BV-2": (0.0035, 0.0056),
    "BV-1": (0.0090, 0.0112),
}
"""Most vibration velocity r.m.s. [m/s] of each category, rigidly and flexibly mounted (ISO
14694:2003, table 4).
"""


def category(velocity: float, flexible: bool) -> str:
    """The strictest category that a velocity r.m.s. [m/s] keeps; empty where it keeps none. NaN
    keeps none.
    """
    return next((key for key, limits in CATEGORIES.items() if velocity <= limits[flexible]), "")


def vibration(run: RunInput) -> Quantity:
    """Vibration velocity r.m.s. [m/s] at the bearing, with the category that it keeps."""
    value = run.mean("vibration")
    flexible = run.rig.get("flexible", (0.0, 0.0))[0] >= 0.5
    kept = category(value.value, flexible)
    note = f"{'flexible' if flexible else 'rigid'} mounting: " + (
        f"keeps {kept}" if kept else "keeps no category, balance it again"
    )
    return derive(
        "Balance category",
        "v ≤ v_limit",
        lambda v: v,
        {"v": value},
        "m/s r.m.s.",
        "ISO 14694:2003, table 4 (r.m.s., test at the maker's works)",
        note=note,
    )


PROCEDURES = (
    Procedure(
        rig=RIG.key,
        key="vibration",
        label="Vibration at the bearing",
        short="Vibration",
        metric="vibration velocity",
        kind="vibration",
        direction=-1,
        log=True,
        needs=(("vibration",),),
        by_speed=False,
        reduce=vibration,
    ),
)
