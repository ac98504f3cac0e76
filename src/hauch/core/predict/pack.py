"""A power pack: cells, sag, run time, charger and supply, controller and cable, servo pulses.

References
----------
Cell voltage over charge: the plateau that makers' data sheets of lithium-ion cells (graphite,
    nickel oxides) share, at low current. Copper: IEC 60028,
17.24 nOhm m at 20 degC. Rotor power with the cube of speed: fan laws, ISO 5801:2017, 15.3.
"""

from __future__ import annotations

import math
from dataclasses import dataclass

import numpy as np

from hauch.core.predict.model import refuse

COPPER = 1.724e-8
"""Resistivity of annealed copper at 20 degC [ohm m]."""
CHARGE = np.array([0.0, 0.05, 0.1, 0.2, 0.4, 0.6, 0.8, 0.9, 1.0])
OPEN_VOLTAGE = np.array([3.00, 3.35, 3.48, 3.58, 3.68, 3.82, 3.98, 4.08, 4.20])
"""Open voltage of a lithium-ion cell [V] by share of its charge: typical, within about 0.05 V
between makers.
"""
NEVER_BELOW = 2.5
"""Voltage of a cell below which it is damaged [V]."""
PULSE = (1.0e-3, 2.0e-3)
"""Servo pulses of no and of full throttle [s]."""
CHARGE_TAIL = 1.25
"""Charging takes this many times capacity over current: the last tenth goes in at falling current."""
DOUBT = 0.10


@dataclass(frozen=True, slots=True)
class Pack:
    """Cells in series and parallel: capacity [A s] and inner resistance [ohm] of one, cut-off of
    one [V], most current of one [A], and the way to the load.

    ``cable_length`` one way [m], ``cable_area`` [m2], ``controller_efficiency`` of what goes in,
    ``controller_current`` its limit [A].
    """

    series: int
    parallel: int
    capacity: float
    resistance: float
    cut_off: float = 3.0
    cell_current: float = 10.0
    cable_length: float = 0.3
    cable_area: float = 0.75e-6
    controller_efficiency: float = 0.95
    controller_current: float = 10.0

    @property
    def inner(self) -> float:
        """Resistance of the pack [ohm]."""
        return self.resistance * self.series / self.parallel

    @property
    def cable(self) -> float:
        """Resistance of both wires [ohm]."""
        return COPPER * 2 * self.cable_length / self.cable_area

    def open_voltage(self, charge: float) -> float:
        """Of the pack without load [V] at a share of its charge."""
        return self.series * float(np.interp(charge, CHARGE, OPEN_VOLTAGE))

    def problems(self) -> dict[str, str]:
        """A sentence for each thing that cannot be."""
        found = {}
        if not 1 <= self.series <= 20:
            found["series"] = (
                f"{self.series} cells in series cannot be; 1 to 20 (above 60 V other rules hold)."
            )
        if not 1 <= self.parallel <= 20:
            found["parallel"] = f"{self.parallel} cells in parallel cannot be; 1 to 20."
        for key, name in (
            ("capacity", "The capacity"),
            ("cable_area", "The cable's cross-section"),
            ("controller_current", "The controller's current"),
            ("cell_current", "The cell's current"),
        ):
            if not getattr(self, key) > 0:
                found[key] = f"{name} must be above 0."
        if self.resistance < 0:
            found["resistance"] = "The inner resistance cannot be negative."
        if self.cable_length < 0:
            found["cable_length"] = "The cable's length cannot be negative."
        if not NEVER_BELOW <= self.cut_off < 4.0:
            found["cut_off"] = (
                f"A cut-off of {self.cut_off:g} V a cell cannot be; it lies between {NEVER_BELOW}"
                " V, below which cells are damaged, and 4 V."
            )
        if not 0.3 < self.controller_efficiency <= 1:
            found["controller_efficiency"] = (
                "The controller's efficiency must lie between 30 and 100 %."
            )
        return found


@dataclass(frozen=True, slots=True)
class Draw:
    """What a load draws at one moment: current [A], voltage at the pack and at the controller [V],
    heat in the pack and in the cable [W]; NaN where the pack cannot give it.
    """

    current: float
    pack_voltage: float
    load_voltage: float
    pack_heat: float
    cable_heat: float


def draw(pack: Pack, power: float, charge: float = 1.0) -> Draw:
    """Current for a power at the motor's terminals [W]: the smaller root of P / eta = (U0 - I R) I
    with pack and cable in R.
    """
    total = pack.inner + pack.cable
    u0, p = pack.open_voltage(charge), power / pack.controller_efficiency
    root = u0 * u0 - 4 * total * p
    if root < 0:
        return Draw(*[math.nan] * 5)
    current = (u0 - math.sqrt(root)) / (2 * total) if total > 0 else p / u0
    at_pack = u0 - current * pack.inner
    return Draw(
        current,
        at_pack,
        at_pack - current * pack.cable,
        current**2 * pack.inner,
        current**2 * pack.cable,
    )


@dataclass(frozen=True, slots=True)
class RunTime:
    """How long a pack runs at a power [s], the mean current [A], the charge that is left when it
    cuts off (share), the heat in the pack [W].
    """

    time: float
    current: float
    left: float
    heat: float


def run_time(pack: Pack, power: float, steps: int = 200) -> RunTime:
    """Time from full until the voltage under load falls to the cut-off.

    Raises
    ------
    CannotBe : a pack that cannot be
    """
    refuse(pack.problems() | ({} if power > 0 else {"power": "The power must be above 0."}))
    charge, time, heat = 1.0, 0.0, 0.0
    size = pack.capacity * pack.parallel / steps
    for _ in range(steps):
        now = draw(pack, power, charge)
        if math.isnan(now.current) or now.pack_voltage < pack.cut_off * pack.series:
            break
        time += size / now.current
        heat += now.pack_heat * size / now.current
        charge -= 1 / steps
    used = (1 - charge) * pack.capacity * pack.parallel
    return RunTime(
        time, used / time if time else math.nan, max(charge, 0.0), heat / time if time else math.nan
    )


def c_rate(pack: Pack, current: float) -> float:
    """Current over the pack's capacity in one hour [1/h]: 1 empties it in an hour."""
    return current * 3600 / (pack.capacity * pack.parallel)


def charge_time(pack: Pack, current: float) -> float:
    """Time to charge from empty [s] at a charger's current [A]."""
    refuse({} if current > 0 else {"charge_current": "The charger's current must be above 0."})
    return CHARGE_TAIL * pack.capacity * pack.parallel / current


def pulse_of(throttle: float) -> float:
    """Servo pulse of a throttle [s]: 1 ms at 0, 2 ms at 1.

    Raises
    ------
    ValueError : throttle outside 0 to 1
    """
    if not 0 <= throttle <= 1:
        raise ValueError(f"throttle must be between 0 and 1, got {throttle:g}")
    return PULSE[0] + throttle * (PULSE[1] - PULSE[0])


def throttle_of(pulse: float) -> float:
    """Throttle of a servo pulse [s]; pulses outside 1 to 2 ms count as the nearer end."""
    return min(max((pulse - PULSE[0]) / (PULSE[1] - PULSE[0]), 0.0), 1.0)


def power_at(throttle: float, full: float) -> float:
    """Power at a throttle, with the cube of speed and speed with throttle [W]."""
    return full * throttle**3
