"""The power supply: its constants, its drawing, and what is measured on it."""

from __future__ import annotations

from hauch.core.geometry.drawing import Note
from hauch.core.measure import laws
from hauch.core.measure.procedure import Procedure
from hauch.core.measure.rigs.base import Constant, RigKind, Sketch
from hauch.core.measure.rigs.common import converted
from hauch.core.measure.run import NoResult, RunInput
from hauch.core.quantity import Quantity, derive


def _draw(r: Sketch) -> None:
    r.d.box(0, 0, 0.16, 0.1, "mount")
    r.d.notes.append(Note((0.08, 0.115), "supply"))
    r.d.circle((0.46, 0.05), 0.05, "mount")
    r.d.notes.append(Note((0.46, 0.115), "part"))
    r.d.line((0.16, 0.075), (0.418, 0.075))
    r.d.line((0.16, 0.025), (0.418, 0.025))
    r.d.line((0.36, 0.025), (0.36, 0.075), layer="thin")
    r.sensor("current", 0.25, 0.075)
    r.sensor("voltage", 0.36, 0.05)
    r.sensor("power", 0.08, 0.05)
    r.d.notes.append(Note((0.3, -0.03), "read the voltage at the part: the cable drops some of it"))


RIG = RigKind(
    key="power",
    label="Power supply",
    what="Volts and amps of a supply, a wall meter or a battery.",
    constants=(
        Constant("standby_power", "Standby power", "power", 0.0, 500.0, 0.4),
        Constant("cable_resistance", "Resistance of the cable", "number", 0.0, 10.0, 0.05),
    ),
    channels=("voltage", "current", "power", "speed", "throttle"),
    caution=(
        "Mains and variable transformers: guarded, by people competent in it. Lithium cells:"
        " protection board, matched cells, fire-safe charging."
    ),
    draw=_draw,
)


def electrical_power(run: RunInput) -> Quantity:
    """Electrical input power [W] without the supply's standby, in standard air of 1.2 kg/m3, at the
    common speed where agreed.
    """
    power = run.electrical_input()
    if run.rig.get("standby_power", (0.0, 0.0))[0] > 0:
        power = derive(
            "Standby taken off",
            "P = P₁ − P₀",
            lambda P, P0: P - P0,
            {"P": power, "P0": run.constant("standby_power", "standby power", "W")},
            "W",
            "supply read without the part",
            symbols={"P": "P₁", "P0": "P₀"},
        )
    if power.value <= 0:
        raise NoResult(
            f"The electrical power comes out as {power.value:.3g} W. Check the voltage, the current"
            " and the standby power."
        )
    return converted(run, power, laws.ELECTRICAL_POWER, "P")


PROCEDURES = (
    Procedure(
        rig=RIG.key,
        key="electrical_power",
        label="Electrical power",
        short="Power",
        metric="power",
        kind="power",
        direction=-1,
        log=True,
        needs=(("voltage", "current"), ("power",)),
        reduce=electrical_power,
    ),
)
