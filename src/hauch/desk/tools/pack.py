"""The Desk's power pack."""

from __future__ import annotations

import math
from dataclasses import dataclass

import numpy as np

from hauch.core.geometry.draw_ducts import pack_drawing
from hauch.core.predict.model import modelled
from hauch.core.predict.pack import (
    DOUBT,
    NEVER_BELOW,
    Draw,
    Pack,
    RunTime,
    c_rate,
    charge_time,
    draw,
    power_at,
    pulse_of,
    run_time,
)
from hauch.core.quantity import Quantity, Step, exact
from hauch.desk.tools.base import (
    Answer,
    Chart,
    Figure,
    Input,
    Line,
    Remark,
    Setting,
    Tool,
    Values,
    register,
)

INPUTS = (
    Input("series", "Cells in series", "count", 3, "Cells", 1, 20),
    Input("parallel", "… in parallel", "count", 2, "Cells", 1, 20),
    Input("capacity", "Capacity of a cell", "charge", 2.5 * 3600, "Cells", 1, 1e6),
    Input("resistance", "Inner resistance of a cell", "resistance", 0.030, "Cells", 0, 10),
    Input("cut_off", "Cut-off of a cell", "voltage", 3.0, "Cells", 0, 5),
    Input("cell_current", "Most current of a cell", "current", 8.0, "Cells", 0.01, 500),
    Input(
        "power",
        "Motor at full throttle",
        "power",
        30.0,
        "Load",
        0.01,
        1e4,
        note="electrical, at the duty; from the rotor's own figures",
    ),
    Input("throttle", "Throttle", "percent", 70.0, "Load", 0, 100),
    Input("controller_current", "Controller's limit", "current", 20.0, "Load", 0.01, 1000),
    Input("controller_efficiency", "Controller's efficiency", "percent", 94.0, "Load", 1, 100),
    Input("cable_length", "Cable, one way", "length", 0.5, "Load", 0, 50),
    Input("cable_area", "Copper cross-section", "wire", 0.75e-6, "Load", 1e-9, 1e-3),
    Input("charge_current", "Charger", "current", 2.0, "Charger and supply", 0.01, 100),
    Input("supply_voltage", "Or a supply of", "voltage", 12.0, "Charger and supply", 1, 60),
    Input("supply_current", "… up to", "current", 3.0, "Charger and supply", 0.01, 100),
)


def pack_of(values: Values) -> Pack:
    """The pack of the values."""
    return Pack(
        round(values["series"]),
        round(values["parallel"]),
        values["capacity"],
        values["resistance"],
        values["cut_off"],
        values["cell_current"],
        values["cable_length"],
        values["cable_area"],
        values["controller_efficiency"] / 100,
        values["controller_current"],
    )


def load_at(share: float, values: Values, setting: Setting) -> float:
    """Power at a throttle [W]: from the chosen rotor's own curve, else with the cube of the
    throttle.
    """
    if not setting.load:
        return power_at(share, values["power"])
    shares, powers = zip(*setting.load, strict=True)
    if share < shares[0]:
        return powers[0] * (share / shares[0]) ** 3
    return float(np.exp(np.interp(math.log(share), np.log(shares), np.log(powers))))


@dataclass(frozen=True)
class _Model:
    """The pack under the load of the throttle, and at full throttle."""

    values: Values
    setting: Setting
    pack: Pack
    share: float
    power: float
    run: RunTime
    full: Draw
    most: Draw

    @property
    def supply(self) -> float:
        """What the supply gives the motor [W]."""
        volts, amps = self.values["supply_voltage"], self.values["supply_current"]
        return float(volts * amps * self.pack.controller_efficiency)


def work(values: Values, setting: Setting) -> Answer:
    """Run time, sag, heat; what charger and supply can do."""
    model = _model(values, setting)
    return Answer(
        pack_drawing(model.pack),
        _figures(model),
        [
            _time_chart(model.pack, model.values, setting),
            _heat_chart(model.pack, model.values, setting),
            _voltage_chart(model.pack, model.power, model.run.left),
        ],
        _remarks(model),
        tables=[_table(model)],
    )


def _model(values: Values, setting: Setting) -> _Model:
    pack = pack_of(values)
    if setting.load:
        values = {**values, "power": setting.load[-1][1]}
    share = max(values["throttle"], 1.0) / 100
    power = load_at(share, values, setting)
    run = run_time(pack, power)
    full, most = draw(pack, power, 1.0), draw(pack, values["power"], 1.0)
    return _Model(values, setting, pack, share, power, run, full, most)


def _steps(model: _Model) -> tuple[Step, ...]:
    pack, run = model.pack, model.run
    return (
        Step(
            "Power at this throttle",
            "from the rotor's curve" if model.setting.load else "P = P_full s³",
            (("P_full", model.values["power"], "W"), ("s", 100 * model.share, "%")),
            model.power,
            "W",
            "fan laws: speed with throttle, power with its cube",
        ),
        Step(
            "Current from a full pack",
            "P / η = (U₀ − I R) I",
            (("U₀", pack.open_voltage(1.0), "V"), ("R", pack.inner + pack.cable, "ohm")),
            model.full.current,
            "A",
            "smaller root",
        ),
        Step(
            "Until a cell falls to its cut-off",
            "t = Σ ΔQ / I",
            (("C", pack.capacity * pack.parallel, "A s"), ("U_cut", pack.cut_off, "V")),
            run.time,
            "s",
            f"{100 * run.left:.0f} % of the charge stay in it",
        ),
    )


def _figures(model: _Model) -> list[Figure]:
    values, pack, run, full = model.values, model.pack, model.run, model.full
    steps = _steps(model)
    heat = Step(
        "Heat in the cells",
        "I² R",
        (("I", run.current, "A"), ("R", pack.inner, "ohm")),
        run.heat,
        "W",
        "mean over the run",
    )

    def of_cells(
        value: float,
        unit: str,
        steps: tuple[Step, ...] = (),
        doubt: float = DOUBT,
        absolute: float = 0.0,
    ) -> Quantity:
        why = "capacity and resistance of real cells"
        return modelled(value, unit, "pack", why, doubt, steps, absolute)

    lasts = of_cells(run.time if run.time else math.nan, "s", steps)
    sags = 0.05 * pack.series + DOUBT * full.current * pack.inner
    sag = of_cells(full.load_voltage, "V", steps, 0.0, sags)
    drop = of_cells(full.current * pack.cable, "V")
    charging = of_cells(charge_time(pack, values["charge_current"]), "s")
    current = of_cells(full.current, "A", steps)
    warm = of_cells(run.heat, "W", (*steps, heat))
    rate = exact(c_rate(pack, model.most.current), "")
    pulse = exact(pulse_of(model.share), "s")
    return [
        Figure("time", "Runs for", "duration", lasts, True),
        Figure("current", "Current from a full pack", "current", current, True),
        Figure("sag", "Voltage at the controller, full pack", "voltage", sag, True),
        Figure("heat", "Heat in the cells", "power", warm, True),
        Figure("c_rate", "C rate at full throttle", "number", rate),
        Figure("cable", "Lost in the cable", "power", of_cells(full.cable_heat, "W")),
        Figure("drop", "Voltage drop of the cable", "voltage", drop),
        Figure("charging", "Charges in", "duration", charging),
        Figure("supply", "Supply gives the motor", "power", exact(model.supply, "W")),
        Figure("pulse", "Servo pulse for this throttle", "pulse", pulse),
    ]


def _table(model: _Model) -> tuple[str, tuple[str, ...], list[tuple[str, ...]]]:
    def load(share: float) -> float:
        return load_at(share, model.values, model.setting)

    rows: list[tuple[str, ...]] = [
        (
            f"{s} %",
            f"{1000 * pulse_of(s / 100):.2f} ms",
            f"{load(s / 100):.1f} W",
            _minutes(model.pack, load(max(s, 1) / 100)),
        )
        for s in range(0, 101, 10)
    ]
    return ("Servo pulse, power and run time", ("throttle", "pulse", "power", "runs for"), rows)


def _minutes(pack: Pack, power: float) -> str:
    time = run_time(pack, power, 60).time
    return f"{time / 60:,.0f} min" if time < 360000 else "days"


def _time_chart(pack: Pack, values: Values, setting: Setting) -> Chart:
    grid = [0.2 + 0.05 * k for k in range(17)]
    times = [run_time(pack, load_at(s, values, setting), 60).time for s in grid]
    return Chart(
        "time",
        "Run time over throttle",
        ("percent", "throttle"),
        ("duration", "run time"),
        (Line("pack", tuple(100 * s for s in grid), tuple(times)),),
        marks=(("now", values["throttle"]),),
    )


def _heat_chart(pack: Pack, values: Values, setting: Setting) -> Chart:
    """Heat in cells, cable and controller from a full pack."""
    grid = [0.1 + 0.05 * k for k in range(19)]
    draws = [draw(pack, load_at(s, values, setting)) for s in grid]
    percent = tuple(100 * s for s in grid)
    lines = (
        Line("cells", percent, tuple(d.pack_heat for d in draws)),
        Line("cable", percent, tuple(d.cable_heat for d in draws)),
        Line(
            "controller",
            percent,
            tuple((1 - pack.controller_efficiency) * d.current * d.load_voltage for d in draws),
        ),
    )
    return Chart(
        "heat",
        "Heat over throttle",
        ("percent", "throttle"),
        ("power", "heat"),
        lines,
        marks=(("now", values["throttle"]),),
    )


def _voltage_chart(pack: Pack, power: float, left: float) -> Chart:
    grid = [1 - k / 40 for k in range(41) if 1 - k / 40 >= left]
    under = [draw(pack, power, s).pack_voltage for s in grid]
    return Chart(
        "voltage",
        "Voltage over what is left",
        ("percent", "charge left"),
        ("voltage", "voltage"),
        (
            Line("under load", tuple(100 * s for s in grid), tuple(under)),
            Line(
                "without load",
                tuple(100 * s for s in grid),
                tuple(pack.open_voltage(s) for s in grid),
                dashed=True,
            ),
        ),
    )


def _remarks(model: _Model) -> list[Remark]:
    return _of_the_load(model) + _of_the_cells(model)


def _of_the_load(model: _Model) -> list[Remark]:
    """Whether pack, controller and cable give full throttle."""
    values, pack, most = model.values, model.pack, model.most.current
    found = []
    if math.isnan(most):
        found.append(
            Remark(
                "stop",
                f"The pack cannot give {values['power']:g} W at all: its resistance takes more than"
                " half of the voltage. More cells in parallel, or a thicker cable.",
            )
        )
    else:
        if most / pack.parallel > pack.cell_current:
            found.append(
                Remark(
                    "stop",
                    f"At full throttle each cell gives {most / pack.parallel:.1f} A; it may give"
                    f" {pack.cell_current:g} A. Put {math.ceil(most / pack.cell_current)} in"
                    " parallel.",
                )
            )
        if most > pack.controller_current:
            found.append(
                Remark(
                    "stop",
                    f"At full throttle the controller takes {most:.1f} A and is made for"
                    f" {pack.controller_current:g} A.",
                )
            )
        if most * pack.cable > 0.05 * pack.open_voltage(0.5):
            found.append(
                Remark(
                    "care",
                    f"The cable takes {most * pack.cable:.2f} V at full throttle, more than 5 %; it"
                    " gets warm. Take a thicker or shorter one.",
                )
            )
    return found


def _of_the_cells(model: _Model) -> list[Remark]:
    """Whether the cells are treated as they must be, and what else can feed the motor."""
    values, pack, supply, power = model.values, model.pack, model.supply, model.power
    found = []
    if not model.run.time:
        found.append(
            Remark(
                "stop",
                "Under this load the cells are below their cut-off at once: it does not run.",
            )
        )
    if pack.cut_off < NEVER_BELOW + 0.3:
        found.append(
            Remark(
                "care",
                f"A cut-off of {pack.cut_off:g} V leaves little before {NEVER_BELOW} V, where cells"
                " are damaged; with a load that stops and starts take 3.0 V or more.",
            )
        )
    if supply < power:
        found.append(
            Remark(
                "care",
                f"The supply gives {supply:.1f} W, this throttle needs {power:.1f} W: it will drop"
                f" out or limit. Throttle below {100 * (supply / values['power']) ** (1 / 3):.0f} %"
                " or take a stronger one.",
            )
        )
    if values["charge_current"] > pack.capacity * pack.parallel / 3600:
        found.append(
            Remark(
                "care",
                f"Charging at {values['charge_current']:g} A is more than 1 C; most cells want half"
                " of it.",
            )
        )
    return found


TOOL = register(
    Tool(
        "pack",
        "Power pack",
        "How long does it run, what sags, what gets warm?",
        INPUTS,
        work,
        "Lithium-ion cells at 15 to 35 °C, loads whose power goes with the cube of the throttle,"
        " without ageing. Run time within 20 % (95 %); cold or old cells give far less.",
        drives=True,
        cautions=(
            (
                "Lithium cells: protection board, matched cells of one age, the right charger,"
                " fire-safe charging, never unattended. Below 0 °C do not charge."
            ),
            (
                "Mains supplies and variable transformers: guarded, by people competent in it;"
                " local codes and licensed electricians first."
            ),
        ),
    )
)
