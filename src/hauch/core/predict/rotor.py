"""An axial rotor in a duct: pressure, torque and efficiency over the flow by blade elements.

References
----------
Blade elements and cascade momentum: S. L. Dixon, C. A. Hall, Fluid Mechanics and Thermodynamics of
    Turbomachinery, 7th edition,
ch. 5 (mean velocity, loss = cd / sin) and 3 (annulus and secondary drag of A. R. Howell, Proc.
    IMechE 153 (1945) 441). Tip
clearance: N. A. Cumpsty, Compressor Aerodynamics (1989), ch. 8: about 2 % for each 1 % of the span.
    Sudden widening behind the
hub: Borda-Carnot. Entrance loss: I. E. Idelchik, Handbook of Hydraulic Resistance, ch. 3. Fan
    pressures: ISO 5801:2017, 3.
"""

from __future__ import annotations

from dataclasses import dataclass
from functools import lru_cache

import numpy as np
import scipy
from numpy.typing import NDArray

from hauch.core.predict.blading import STATIONS, Blading, Stations
from hauch.core.predict.cascade import cascade_factor
from hauch.core.predict.model import AIR_DENSITY, AIR_VISCOSITY, refuse
from hauch.core.predict.section import Polars, polars, section_forces

Array = NDArray[np.float64]

INLETS = {
    "bell": ("Bell mouth", 0.05),
    "rounded": ("Rounded frame", 0.2),
    "sharp": ("Sharp edge", 0.5),
}
"""Entrance: name and loss coefficient on the velocity in the bore."""
TIP_LOSS = 2.0
"""Share of pressure lost for each share of the span that the gap takes."""
SECONDARY_DRAG = 0.018
ANNULUS_DRAG = 0.020
STEPS = 26
"""Halvings in the search for the mean velocity: to 1e-8 of the wheel speed."""
LEAST_TRUSTED_FLOW = 0.45
"""Share of the free flow below which the flow through such a rotor turns back at hub and tip, and
blade elements lose their meaning.
"""
DOUBTS = {"pressure": 0.10, "torque": 0.10, "stalled": 0.25}
"""Standard uncertainty of the model, share of the value; our assumption from the spread of the
published cases in docs/validation.md.
"""


@dataclass(frozen=True)
class Installed:
    """Rows of blades in a bore at a speed.

    Parameters
    ----------
    rows : one or two rows in the order of the flow
    speed : of the first row [1/min]
    turns : +1 or -1 for each row, its direction; two in series turn alike (push-pull) or against
        one another
    bore : of the duct [m]
    inlet : key in `INLETS`
    straightened : vanes or struts between two rows take the swirl out (its energy is lost)
    density : [kg/m3]
    reynolds_speed : speed at which the sections' Reynolds numbers are taken; as running where it is
        None
    """

    rows: tuple[Blading, ...]
    speed: float
    turns: tuple[int, ...] = (1,)
    inlet: str = "rounded"
    straightened: bool = False
    density: float = AIR_DENSITY
    reynolds_speed: float | None = None

    @property
    def bore(self) -> float:
        """Of the duct [m]."""
        return self.rows[0].tip + 2 * self.rows[0].gap

    def problems(self) -> dict[str, str]:
        """A sentence for each thing that cannot be."""
        found = {key: text for row in self.rows for key, text in row.problems().items()}
        if not self.speed > 0:
            found["speed"] = f"The speed is {self.speed:g} 1/min; it must be above 0."
        elif not found and (tip := np.pi * self.rows[0].tip * self.speed / 60) > 100:
            found["speed"] = (
                f"The tips would run at {tip:.0f} m/s; the model holds below 100 m/s, where air"
                " does not yet compress noticeably."
            )
        return found


@dataclass(frozen=True)
class Loading:
    """What happens along the radius of one row (flows, stations)."""

    radius: Array
    angle: Array
    lift: Array
    drag: Array
    stall: Array
    swirl: Array
    axial: Array

    @property
    def stalled(self) -> NDArray[np.bool_]:
        """Whether a station works above its stall angle."""
        return self.angle > self.stall


@dataclass(frozen=True)
class RotorCurve:
    """The curve of a rotor: arrays over flow. Pressures in the sense of ISO 5801 between free inlet
    and duct outlet.

    ``flow`` [m3/s], ``total`` and ``static`` [Pa], ``torque`` [N m], ``power`` at the shaft [W],
    ``stalled`` share of the span.
    """

    flow: Array
    total: Array
    static: Array
    torque: Array
    power: Array
    stalled: Array
    rows: tuple[Loading, ...]
    speed: float
    density: float

    @property
    def total_efficiency(self) -> Array:
        """Air power over shaft power; NaN where the rotor gives no pressure."""
        return _ratio(self.flow * self.total, self.power)

    @property
    def static_efficiency(self) -> Array:
        """Static air power over shaft power; NaN where the rotor gives no static pressure."""
        return _ratio(self.flow * self.static, self.power)

    @property
    def free_flow(self) -> float:
        """Flow at which the static pressure is gone [m3/s]; NaN where the curve does not come down
        to it.
        """
        return self.meets(0.0)

    def at(self, flow: float, what: str) -> float:
        """A column at a flow, by a curve that does not overshoot."""
        return float(scipy.interpolate.PchipInterpolator(self.flow, getattr(self, what))(flow))

    def meets(self, resistance: float, exponent: float = 2.0, column: str = "static") -> float:
        """Flow at which a pressure is resistance * flow^exponent [m3/s]: the largest, which is the
        stable one; NaN where none is.
        """
        pressure = getattr(self, column)
        curve = scipy.interpolate.PchipInterpolator(self.flow, pressure)

        def over(q):
            return float(curve(q)) - resistance * max(q, 0.0) ** exponent

        values = pressure - resistance * self.flow**exponent
        for i in range(len(self.flow) - 2, -1, -1):
            if values[i] >= 0 > values[i + 1]:
                return float(scipy.optimize.brentq(over, self.flow[i], self.flow[i + 1]))
        return float("nan")

    @property
    def best(self) -> int:
        """Index of the best total efficiency."""
        return int(np.argmax(np.nan_to_num(self.total_efficiency, nan=-np.inf)))


def _ratio(air: Array, shaft: Array) -> Array:
    good = (air > 0) & (shaft > 0)
    return np.where(good, air / np.where(good, shaft, 1.0), np.nan)


@lru_cache(maxsize=256)
def _polars(row: Blading, speed: float, density: float, count: int) -> Polars:
    """Section tables of a row at the Reynolds numbers of a moderate through-flow: of every second
    station, the others between them.

    The tables only find the mean velocity; the forces there are asked of the sections themselves.
    """
    at = Stations(row, np.linspace(0, 1, max(count // 2 + 1, 9)))
    wheel = 2 * np.pi * speed / 60 * at.radius
    reynolds = density * np.hypot(wheel, 0.25 * wheel[-1]) * at.chord / AIR_VISCOSITY
    return polars(row.family, at.thickness / at.chord, at.camber, reynolds).between(
        at.share, row.stations(count).share
    )


def _mean_velocity(
    at: Stations, table: Polars, lattice: Array, axial: Array, wheel: Array
) -> Array:
    """Tangential part of the mean relative velocity [m/s], (flows, stations), where blade force and
    turning agree.

    ``axial`` (flows, 1), ``wheel`` (flows, stations): wheel speed less the swirl that comes in. The
    blade cannot turn the air by more than the wheel speed, so the mean lies above half of it.
    """

    def surplus(tangential: Array) -> Array:
        angle = np.degrees(at.pitch - np.arctan2(axial, tangential))
        cl, cd = table.at(angle)
        cl = lattice * cl
        return 2 * (wheel - tangential) * axial - at.solidity / 2 * np.hypot(axial, tangential) * (
            cl * axial + cd * tangential
        )

    low, high = 0.5 * wheel, 2.0 * wheel
    low_value, high_value = surplus(low), surplus(high)
    for _ in range(STEPS):
        middle = 0.5 * (low + high)
        value = surplus(middle)
        below = value > 0
        low, high = np.where(below, middle, low), np.where(below, high, middle)
    middle = 0.5 * (low + high)
    return np.where(low_value <= 0, 0.5 * wheel, np.where(high_value >= 0, 2.0 * wheel, middle))


def _row(
    installed: Installed, row: Blading, turn: int, flow: Array, swirl_in: Array, count: int
) -> tuple[Array, Array, Loading]:
    """Static pressure rise and torque of one row over the flows, and its loading."""
    density = installed.density
    at = row.stations(count)
    omega = 2 * np.pi * installed.speed / 60
    axial = np.maximum(flow, 1e-9)[:, None] / (np.pi / 4 * (installed.bore**2 - row.hub**2))
    wheel = omega * at.radius - turn * swirl_in
    table = _polars(row, installed.reynolds_speed or installed.speed, density, count)
    lattice = cascade_factor(at.solidity, np.pi / 2 - at.pitch)
    tangential = _mean_velocity(at, table, lattice, axial, wheel)
    speed, direction = np.hypot(axial, tangential), np.arctan2(axial, tangential)
    angle = np.degrees(at.pitch - direction)
    reynolds = (
        density
        * speed
        * at.chord
        / AIR_VISCOSITY
        * ((installed.reynolds_speed or installed.speed) / installed.speed)
    )
    cl, cd = section_forces(
        row.family,
        np.broadcast_to(at.thickness / at.chord, angle.shape),
        np.broadcast_to(at.camber, angle.shape),
        angle,
        reynolds,
    )
    cl = lattice * cl
    cd = (
        np.maximum(cd, 1e-3)
        + SECONDARY_DRAG * cl**2
        + ANNULUS_DRAG * (2 * np.pi * at.radius / row.blades) / row.span
    )
    around = cl * np.sin(direction) + cd * np.cos(direction)
    swirl = np.clip(at.solidity / 2 * speed**2 / axial * around, -wheel, wheel)
    rise = at.solidity / 2 * density * speed**2 * (cl * np.cos(direction) - cd * np.sin(direction))
    work = density * (omega * at.radius) * swirl  # Euler
    kept = work - density * turn * swirl_in * swirl - density * swirl**2 / 2
    rise = np.minimum(rise, np.maximum(kept, 0))
    share = 2 * at.radius * at.width * 4 / (row.tip**2 - row.hub**2)
    pressure = (rise * share).sum(axis=1)
    pressure = np.where(
        pressure > 0, pressure * max(1 - TIP_LOSS * row.gap / row.span, 0), pressure
    )
    force = at.solidity / 2 * density * speed**2 * around * 2 * np.pi * at.radius
    torque = (force * at.radius * at.width).sum(axis=1)
    loading = Loading(
        at.radius,
        angle,
        cl,
        cd,
        np.broadcast_to(table.stall, angle.shape),
        swirl_in + turn * swirl,
        axial,
    )
    return pressure, torque, loading


def rotor_curve(
    installed: Installed, flows: Array | int = 15, stations: int = STATIONS
) -> RotorCurve:
    """The curve of rows of blades in a duct.

    Parameters
    ----------
    installed : rows, speed, entrance
    flows : [m3/s], rising, or how many from almost none to a little beyond the free flow
    stations : along the radius

    Raises
    ------
    CannotBe : geometry that cannot be, with a sentence for each reason

    Notes
    -----
    Axial flow is imposed and even over the annulus. At each station the drag and lift of the
    section at the mean relative velocity give the swirl (cascade momentum) and the static rise;
    what turning costs is loss, so that no curve beats Euler's work. Valid where the tips run below
    100 m/s and above about 45 % of the free flow; below, stations stall and the figures are only a
    guide (`RotorCurve.stalled`).
    """
    refuse(installed.problems())
    if not isinstance(flows, int):
        return _curve(installed, np.asarray(flows, float), stations)
    for reach in (0.75, 1.1, 1.6):
        curve = _curve(
            installed, reach * _free_scale(installed) * np.linspace(0.02, 1.0, flows), stations
        )
        if curve.static[-1] < 0:
            break
    return curve


def _curve(installed: Installed, flow: Array, stations: int) -> RotorCurve:
    pressure, torque = np.zeros(len(flow)), np.zeros(len(flow))
    swirl = np.zeros((len(flow), stations))
    rows = []
    for row, turn in zip(installed.rows, installed.turns, strict=True):
        rise, moment, loading = _row(installed, row, turn, flow, swirl, stations)
        pressure, torque = pressure + rise, torque + moment
        swirl = np.zeros_like(swirl) if installed.straightened else loading.swirl
        rows.append(loading)
    bore, hub = installed.bore, installed.rows[-1].hub
    duct = flow / (np.pi / 4 * bore**2)
    ring = flow / (np.pi / 4 * (bore**2 - hub**2))
    half = installed.density / 2
    total = pressure - half * (ring - duct) ** 2 - half * INLETS[installed.inlet][1] * duct**2
    power = torque * 2 * np.pi * installed.speed / 60
    stalled = np.mean([loading.stalled.mean(axis=1) for loading in rows], axis=0)
    return RotorCurve(
        flow,
        total,
        total - half * duct**2,
        torque,
        power,
        stalled,
        tuple(rows),
        installed.speed,
        installed.density,
    )


def _free_scale(installed: Installed) -> float:
    """A flow that lies surely beyond the free flow [m3/s]: where the outer blades meet the air at
    their zero-lift angle.
    """
    row = installed.rows[0]
    at = row.stations(5)
    angle = np.minimum(
        at.pitch + 2 * at.camber + np.radians(3), np.radians(70)
    )  # thin arc: zero lift near -2 f (radians)
    axial = 2 * np.pi * installed.speed / 60 * at.radius * np.tan(angle)
    weight = at.radius * at.width
    mean = float((axial * weight).sum() / weight.sum())
    return mean * np.pi / 4 * (installed.bore**2 - row.hub**2)


def blade_tones(blades: int, speed: float, count: int = 4) -> list[float]:
    """Blade-passing frequency and its harmonics [Hz]: B n / 60, 2 B n / 60, ..."""
    return [k * blades * speed / 60 for k in range(1, count + 1)]


SOUND_POWER_BASE = 37.0
"""VDI 2081-1: sound power level of fans [dB] at 1 m3/s and 1 Pa, within 4 dB."""


def sound_power(flow: float, total: float) -> float:
    """Level of the sound power of a fan near its best point [dB]: 37 + 10 lg(Q / 1 m3/s) + 20 lg(dp
    / 1 Pa) (VDI 2081-1, within 4 dB).
    """
    if not (flow > 0 and total > 0):
        return float("nan")
    return float(SOUND_POWER_BASE + 10 * np.log10(flow) + 20 * np.log10(total))
