"""An axial rotor in a duct: pressure, torque and efficiency over the flow by blade elements.

References
----------
Blade elements and cascade momentum: S. L. Dixon, C. A. Hall, Fluid Mechanics and Thermodynamics of
    Turbomachinery, 7th edition, ch. 5 (mean velocity, loss = cd / sin), 6 (radial equilibrium) and 3
    (annulus and secondary drag of A. R. Howell, Proc. IMechE 153 (1945) 441). Tip clearance: N. A.
    Cumpsty, Compressor Aerodynamics (1989), ch. 8: about 2 % for each 1 % of the span. Entrance
    loss: I. E. Idelchik, Handbook of Hydraulic Resistance, ch. 3. Fan pressures: ISO 5801:2017, 3.
"""

from __future__ import annotations

from dataclasses import dataclass, replace
from functools import cached_property, lru_cache

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
ROUNDS = 12
"""Rounds in which the profile behind a row is found."""
DAMPING = 0.5
HALVINGS = 12
"""Halvings in the search for the profile: to a thousandth of the mean speed."""
LEAST_AXIAL = 0.03
"""Axial speed over its mean that is left at least where the flow would turn back."""
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
    """The curve of a rotor: arrays over flow. Pressures in the sense of ISO 5801 from the free inlet
    to the annulus behind the rotor; nothing is won back behind the hub.

    ``flow`` [m3/s], ``total`` and ``static`` [Pa], the mean of the annulus, ``wall``, the static
    pressure at its wall [Pa], which swirl holds above the mean, ``torque`` [N m], ``power`` at the
    shaft [W], ``stalled`` share of the span.
    """

    flow: Array
    total: Array
    static: Array
    wall: Array
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


@dataclass
class _Stage:
    """One row at work; arrays over (flows, stations) but for `mean` (flows, 1)."""

    installed: Installed
    row: Blading
    at: Stations
    table: Polars
    lattice: Array
    mean: Array
    wheel: Array

    @classmethod
    def of(
        cls, installed: Installed, row: Blading, turn: int, flow: Array, swirl_in: Array, count: int
    ) -> _Stage:
        at = row.stations(count)
        omega = 2 * np.pi * installed.speed / 60
        return cls(
            installed,
            row,
            at,
            _polars(row, installed.reynolds_speed or installed.speed, installed.density, count),
            cascade_factor(at.solidity, np.pi / 2 - at.pitch),
            np.maximum(flow, 1e-9)[:, None] / (np.pi / 4 * (installed.bore**2 - row.hub**2)),
            omega * at.radius - turn * swirl_in,
        )

    @cached_property
    def weight(self) -> Array:
        """Share of the annulus that each station stands for."""
        part = self.at.radius * self.at.width
        return part / part.sum()

    def surplus(self, axial: Array, tangential: Array) -> Array:
        """What is left between turning and blade force at a tangential mean velocity."""
        angle = np.degrees(self.at.pitch - np.arctan2(axial, tangential))
        cl, cd = self.table.at(angle)
        push = self.lattice * cl * axial + cd * tangential
        return (
            2 * (self.wheel - tangential) * axial
            - self.at.solidity / 2 * np.hypot(axial, tangential) * push
        )

    def mean_velocity(self, axial: Array) -> Array:
        """Tangential part of the mean relative velocity [m/s] where blade force and turning agree.
        The blade cannot turn the air by more than the wheel speed, so it lies above half of that.
        """
        low, high = 0.5 * self.wheel, 2.0 * self.wheel
        low_value, high_value = self.surplus(axial, low), self.surplus(axial, high)
        for _ in range(STEPS):
            middle = 0.5 * (low + high)
            below = self.surplus(axial, middle) > 0
            low, high = np.where(below, middle, low), np.where(below, high, middle)
        middle = 0.5 * (low + high)
        return np.where(
            low_value <= 0, 0.5 * self.wheel, np.where(high_value >= 0, 2.0 * self.wheel, middle)
        )

    def followed(self, axial: Array, tangential: Array) -> Array:
        """The same from a near guess, one step of the secant."""
        step = 0.01 * np.maximum(np.abs(self.wheel), 1e-6)
        here = self.surplus(axial, tangential)
        slope = (self.surplus(axial, tangential + step) - here) / step
        moved = np.where(slope < 0, -here / np.where(slope < 0, slope, -1.0), 0.0)
        most = 0.1 * np.abs(self.wheel)
        return np.clip(tangential + np.clip(moved, -most, most), 0.5 * self.wheel, 2.0 * self.wheel)

    def drags(self, cl: Array, cd: Array) -> Array:
        """Drag with that of the secondary flow and of the walls."""
        walls = 2 * np.pi * self.at.radius / self.row.blades / self.row.span
        return np.maximum(cd, 1e-3) + SECONDARY_DRAG * cl**2 + ANNULUS_DRAG * walls

    def forces(self, axial: Array, tangential: Array, cl: Array, cd: Array) -> tuple[Array, Array]:
        """Swirl added [m/s] and head added over density [m2/s2]: static rise and the swirl's own."""
        speed, direction = np.hypot(axial, tangential), np.arctan2(axial, tangential)
        around = cl * np.sin(direction) + cd * np.cos(direction)
        along = cl * np.cos(direction) - cd * np.sin(direction)
        swirl = np.clip(self.at.solidity / 2 * speed**2 / axial * around, -self.wheel, self.wheel)
        rise = self.at.solidity / 2 * speed**2 * along
        work = self.wheel * swirl  # Euler, less what the incoming swirl takes
        return swirl, np.minimum(rise + swirl**2 / 2, np.maximum(work, 0))


def _profile(stage: _Stage, head: Array, swirl: Array) -> Array:
    """Axial speed behind a row over its mean (flows, stations), by radial equilibrium: ``c dc/dr =
    dh/dr - (s/r) d(r s)/dr`` with head h over density and swirl s (Dixon and Hall, ch. 6).
    """
    r = stage.at.radius
    moment = r * swirl
    steps = np.diff(head, axis=1) - np.diff(moment, axis=1) * (
        (moment[:, 1:] + moment[:, :-1]) / (r[1:] ** 2 + r[:-1] ** 2)
    )
    grown = np.concatenate([np.zeros((len(head), 1)), np.cumsum(2 * steps, axis=1)], axis=1)
    mean, least = stage.mean, LEAST_AXIAL * stage.mean
    low = -grown.max(axis=1, keepdims=True)
    high = (2 * mean) ** 2 + np.abs(grown).max(axis=1, keepdims=True)
    for _ in range(HALVINGS):
        base = 0.5 * (low + high)
        speed = np.sqrt(np.maximum(base + grown, least**2))
        below = (speed * stage.weight).sum(axis=1, keepdims=True) < mean
        low, high = np.where(below, base, low), np.where(below, high, base)
    return speed / (speed * stage.weight).sum(axis=1, keepdims=True)


@dataclass(frozen=True)
class _Behind:
    """The air behind a row, over (flows, stations): head over density [m2/s2] above that before the
    first row, swirl in the first row's sense [m/s], axial speed over its mean.
    """

    head: Array
    swirl: Array
    profile: Array


def _row(stage: _Stage, before: _Behind, turn: int) -> tuple[_Behind, Array, Loading]:
    """The air behind one row, its torque over the flows, and its loading.

    Its discs see the mean of the profiles before and behind; they are found in rounds with the
    section tables, then the sections themselves are asked.
    """
    installed, at = stage.installed, stage.at
    disc = before.profile
    tangential = stage.mean_velocity(stage.mean * disc)
    for _ in range(ROUNDS):
        axial = stage.mean * disc
        tangential = stage.followed(axial, tangential)
        cl, cd = stage.table.at(np.degrees(at.pitch - np.arctan2(axial, tangential)))
        cl = stage.lattice * cl
        swirl, head = stage.forces(axial, tangential, cl, stage.drags(cl, cd))
        behind = _profile(stage, before.head + head, before.swirl + turn * swirl)
        disc = disc + DAMPING * ((before.profile + behind) / 2 - disc)
    axial = stage.mean * disc
    tangential = stage.followed(axial, tangential)
    speed, direction = np.hypot(axial, tangential), np.arctan2(axial, tangential)
    angle = np.degrees(at.pitch - direction)
    of_speed = (installed.reynolds_speed or installed.speed) / installed.speed
    cl, cd = section_forces(
        stage.row.family,
        np.broadcast_to(at.thickness / at.chord, angle.shape),
        np.broadcast_to(at.camber, angle.shape),
        angle,
        installed.density * speed * at.chord / AIR_VISCOSITY * of_speed,
    )
    cl = stage.lattice * cl
    cd = stage.drags(cl, cd)
    swirl, head = stage.forces(axial, tangential, cl, cd)
    after = _Behind(before.head + head, before.swirl + turn * swirl, behind)
    around = cl * np.sin(direction) + cd * np.cos(direction)
    force = at.solidity / 2 * installed.density * speed**2 * around * 2 * np.pi * at.radius
    torque = (force * at.radius * at.width).sum(axis=1)
    stall = np.broadcast_to(stage.table.stall, angle.shape)
    return after, torque, Loading(at.radius, angle, cl, cd, stall, after.swirl, axial)


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
    At each station the drag and lift of the section at the mean relative velocity give the swirl
    (cascade momentum) and the head; what turning costs is loss, so that no curve beats Euler's work.
    Behind a row radial equilibrium holds; its disc meets the mean of the profiles before and behind.
    Behind the hub the air is dead, so that no pressure comes back there. Valid where the tips run below
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
    shape = (len(flow), stations)
    air = _Behind(np.zeros(shape), np.zeros(shape), np.ones(shape))
    torque, rows, kept = np.zeros(len(flow)), [], 1.0
    for row, turn in zip(installed.rows, installed.turns, strict=True):
        filled = replace(row, tip=installed.bore)  # the gap takes pressure, not torque
        stage = _Stage.of(installed, filled, turn, flow, air.swirl, stations)
        air, moment, loading = _row(stage, air, turn)
        torque = torque + moment
        rows.append(loading)
        kept *= max(1 - TIP_LOSS * row.gap / row.span, 0.0)
        if installed.straightened:
            air = _Behind(air.head - air.swirl**2 / 2, np.zeros(shape), air.profile)
    half, weight = installed.density / 2, stage.weight
    duct = flow / (np.pi / 4 * installed.bore**2)
    through = (stage.mean * air.profile) ** 2
    # static pressure in the annulus: head less what moves along, around, and came in slower
    rise = (2 * air.head - air.swirl**2 - through + stage.mean**2) * half
    pressure = (rise * weight).sum(axis=1)
    pressure = np.where(pressure > 0, pressure * kept, pressure)
    entrance = INLETS[installed.inlet][1] * duct**2
    static = pressure - half * (stage.mean[:, 0] ** 2 + entrance)
    wall = static + (rise[:, -1] - (rise * weight).sum(axis=1)) * kept
    return RotorCurve(
        flow,
        static + half * duct**2,
        static,
        wall,
        torque,
        torque * 2 * np.pi * installed.speed / 60,
        np.mean([loading.stalled.mean(axis=1) for loading in rows], axis=0),
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
