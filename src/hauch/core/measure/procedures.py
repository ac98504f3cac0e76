"""Procedures: how the readings of one run become its comparable figure.

Each procedure is a row of `PROCEDURES`: what it must be given and the function that reduces it. A figure that cannot
be had raises `NoResult` with the reason.
"""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass, field
from typing import Any

import numpy as np

from hauch.core.air import STANDARD_DENSITY, room_air
from hauch.core.measure import laws, tunnel
from hauch.core.measure.channels import CHANNELS
from hauch.core.measure.meter import Meter, read
from hauch.core.quantity import Influence, Quantity, derive, exact, measured
from hauch.core.sound.level import BackgroundTooLoud, at_distance, without_background


class NoResult(ValueError):
    """The figure cannot be had; the message says why and what to do, ``marks`` what was found in a trace."""

    def __init__(self, message: str, marks: Sequence[Any] = ()):
        super().__init__(message)
        self.marks = tuple(marks)


@dataclass(frozen=True, slots=True)
class RunInput:
    """All that one run was read with.

    Parameters
    ----------
    run : identity of the run
    readings : channel key -> values, shape (n,) [SI unit of the channel]
    meters : channel key -> meter
    rig : name -> (value, standard uncertainty) [SI]: ``bore``, ``profile_factor``, ``distance``, ``standby_power``
    rig_key : identity of the rig and its state
    temperature, pressure, humidity : room air [degC, Pa, %]
    positions : channel key -> traverse point of each reading, where a traverse was read
    correlation : channel key -> how many dense readings count as one, see `meter.read`
    steady : channel key -> quantity found by a trace fit, which replaces the mean of the readings
    common_speed : speed [1/min] to convert to, None to leave the figure at the speed it was read
    reporting_distance : distance [m] to which a sound level is moved, None to leave it
    """

    run: str
    readings: Mapping[str, Sequence[float]]
    meters: Mapping[str, Meter]
    rig: Mapping[str, tuple[float, float]]
    rig_key: str
    temperature: float
    pressure: float
    humidity: float
    positions: Mapping[str, Sequence[int]] = field(default_factory=dict)
    correlation: Mapping[str, float] = field(default_factory=dict)
    steady: Mapping[str, Quantity] = field(default_factory=dict)
    common_speed: float | None = None
    reporting_distance: float | None = None

    def has(self, channel: str) -> bool:
        """Whether the channel was read."""
        return channel in self.steady or len(self.readings.get(channel, ())) > 0

    def mean(self, channel: str) -> Quantity:
        """The channel's mean with doubt."""
        if channel in self.steady:
            return self.steady[channel]
        if not self.has(channel):
            raise NoResult(f"{CHANNELS[channel].label} was not read. Add at least one reading.")
        meter = self.meters.get(channel)
        if meter is None:
            raise NoResult(f"No meter is set for {CHANNELS[channel].label.lower()} on this rig. Choose one in Stores.")
        return read(channel, self.readings[channel], meter, self.run, correlation=self.correlation.get(channel, 1.0))

    def constant(self, name: str, label: str, unit: str) -> Quantity:
        """A constant of the rig with its doubt, common to all its runs."""
        if name not in self.rig:
            raise NoResult(f"The rig's {label} is not known. Enter it in Stores.")
        value, u = self.rig[name]
        return measured(value, unit, [(Influence(f"rig:{self.rig_key}:{name}", label, "common", "B"), u)])

    def density(self) -> Quantity:
        """Air density in the room during the run."""
        return room_air(self.temperature, self.pressure, self.humidity)


def _air_speed(run: RunInput) -> Quantity:
    if run.has("pitot_pressure") and not run.has("air_speed"):
        return derive(
            "Air speed from the pitot tube", "v = √(2 Δp / ρ)", lambda p, rho: tunnel.pitot_speed(max(p, 0.0), rho),
            {"p": run.mean("pitot_pressure"), "rho": run.density()}, "m/s", "ISO 3966:2020, 12.1",
            symbols={"p": "Δp", "rho": "ρ"},
        )  # fmt: skip
    speed = run.mean("air_speed")
    meter = run.meters["air_speed"] if "air_speed" in run.meters else Meter("", "")
    if meter.principle == "hot_wire":
        return derive(
            "Hot wire to the room's air", "v = v_ind ρ₀ / ρ", lambda v, rho, rho_0: v * rho_0 / rho,
            {"v": speed, "rho": run.density(), "rho_0": exact(meter.calibration_density, "kg/m3")}, "m/s",
            "a hot wire indicates mass flux ρ v: L. V. King, Phil. Trans. R. Soc. A 214 (1914) 373", symbols={"v": "v_ind", "rho": "ρ", "rho_0": "ρ₀"},
        )  # fmt: skip
    return speed


def _traverse(run: RunInput) -> Quantity | None:
    positions = run.positions.get("air_speed")
    if positions is None or len(set(positions)) < 2:
        return None
    values, points = np.asarray(run.readings["air_speed"], float), np.asarray(positions)
    means = {f"v{p}": read("air_speed", values[points == p], run.meters["air_speed"], f"{run.run}:point{p}") for p in sorted(set(positions))}
    return derive(
        "Traverse mean", "v̄ = 1/n Σ vᵢ", lambda **v: float(tunnel.traverse_mean(list(v.values()))), means, "m/s",
        "ISO 3966:2020, 9.2: points of equal weight",
    )  # fmt: skip


def airflow(run: RunInput) -> Quantity:
    """Volume flow [m3/s] of a tunnel run: speed, profile, area, common speed where agreed."""
    bore = run.constant("bore", "bore of the tube", "m")
    traversed = _traverse(run)
    if traversed is not None:
        flow = derive("Volume flow", "Q = π/4 d² v̄", lambda v, d: tunnel.round_area(d) * v, {"v": traversed, "d": bore}, "m3/s",
                      "ISO 3966:2020, 4.2", symbols={"v": "v̄"})  # fmt: skip
    else:
        factor = run.constant("profile_factor", "profile factor of the tube", "")
        flow = derive(
            "Volume flow", "Q = k π/4 d² v", lambda v, k, d: k * tunnel.round_area(d) * v, {"v": _air_speed(run), "k": factor, "d": bore},
            "m3/s", "ISO 3966:2020: one centre point, profile factor from the rig's own traverse",
        )  # fmt: skip
    return _at_common_speed(run, flow, "Q ~ n", lambda q, n, n_c: laws.flow_at_speed(q, n, n_c), "flow goes with speed")


def static_pressure(run: RunInput) -> Quantity:
    """Static pressure [Pa] in standard air of 1.2 kg/m3, at the common speed where agreed."""
    p = run.mean("static_pressure")
    standard = derive(
        "To standard air", "Δp₀ = Δp 1.2 / ρ", lambda p, rho, rho_0: p * rho_0 / rho,
        {"p": p, "rho": run.density(), "rho_0": exact(STANDARD_DENSITY, "kg/m3")}, "Pa", "ISO 5801:2017, 15.3",
        symbols={"p": "Δp", "rho": "ρ", "rho_0": "ρ₀"},
    )  # fmt: skip
    return _at_common_speed(
        run, standard, "Δp ~ n²", lambda q, n, n_c: laws.pressure_at_speed(q, n, n_c, 1.0, 1.0), "pressure goes with speed squared"
    )


def sound_level(run: RunInput) -> Quantity:
    """A-weighted level [dB(A)] without the background, at the reporting distance where agreed."""
    total = run.mean("sound_level")
    if not run.has("background_level"):
        raise NoResult("The background level was not read. Switch the part off, read the room, and add it to this run.")
    background = run.mean("background_level")
    try:
        without_background(total.value, background.value)
    except BackgroundTooLoud as problem:
        raise NoResult(str(problem)) from problem
    # The meter's own error is in both readings; the subtraction carries it once, since the cause has the same key.
    level = derive(
        "Without the background", "L = 10 lg (10^(L₁/10) − 10^(L₂/10))", _subtract, {"total": total, "background": background}, "dB(A)",
        "ISO 3744:2010, 8.2.3", symbols={"total": "L₁", "background": "L₂"},
        note="" if total.value - background.value >= 6 else "Background within 6 dB: grade 3 (ISO 3746).",
    )  # fmt: skip
    if run.reporting_distance is None:
        return level
    return derive(
        "To the reporting distance", "L − 20 lg (r / r₀)", lambda L, r0, r: at_distance(L, r0, r),
        {"L": level, "r0": run.constant("distance", "distance of the sound level meter", "m"), "r": exact(run.reporting_distance, "m")}, "dB(A)",
        "inverse square law: small source, free field assumed", symbols={"r0": "r₀"},
    )  # fmt: skip


def _subtract(total: float, background: float) -> float:
    return without_background(total, min(background, total - 1.0))


def temperature_rise(run: RunInput) -> Quantity:
    """Rise of the load over the room [K], settled."""
    return derive(
        "Rise over the room", "ΔT = T_load − T_room", lambda load, room: load - room,
        {"load": run.mean("load_temperature"), "room": run.mean("room_temperature")}, "K", "both read at the same moments",
        symbols={"load": "T_load", "room": "T_room"},
    )  # fmt: skip


def electrical_power(run: RunInput) -> Quantity:
    """Electrical input power [W] without the supply's standby, at the common speed where agreed."""
    if run.has("power"):
        power = run.mean("power")
    else:
        power = derive("Direct current power", "P = U I", lambda U, I: U * I, {"U": run.mean("voltage"), "I": run.mean("current")}, "W",  # noqa: E741
                       "definition of electrical power, direct current")  # fmt: skip
    if run.rig.get("standby_power", (0.0, 0.0))[0] > 0:
        power = derive(
            "Standby taken off", "P = P₁ − P₀", lambda P, P0: P - P0, {"P": power, "P0": run.constant("standby_power", "standby power", "W")}, "W",
            "supply read without the part", symbols={"P": "P₁", "P0": "P₀"},
        )  # fmt: skip
    if power.value <= 0:
        raise NoResult(f"The electrical power comes out as {power.value:.3g} W. Check the voltage, the current and the standby power.")
    return _at_common_speed(run, power, "P ~ n³", lambda q, n, n_c: laws.power_at_speed(q, n, n_c, 1.0, 1.0), "power goes with speed cubed")


def _at_common_speed(run: RunInput, quantity: Quantity, law: str, function: Callable[..., float], note: str) -> Quantity:
    if run.common_speed is None:
        return quantity
    if not run.has("speed"):
        raise NoResult(f"The rule converts to {run.common_speed:g} 1/min, but the speed was not read. Add it to this run.")
    speed = run.mean("speed")
    if speed.value <= 0:
        raise NoResult("The speed reads 0 1/min: the part stood still. Record it as did not finish.")
    return derive(
        f"To {run.common_speed:,.0f} 1/min", law, function, {"q": quantity, "n": speed, "n_c": exact(run.common_speed, "1/min")}, quantity.unit,
        "fan laws, ISO 5801:2017, 15.3", note=note, symbols={"q": "x", "n_c": "n₀"},
    )  # fmt: skip


@dataclass(frozen=True, slots=True)
class Procedure:
    """A way to test: the rig it needs, what is read and the figure it gives.

    ``needs`` lists alternatives: one whole group of channels must be there. ``log`` says whether figures are compared
    as ratios (True) or as differences (levels).
    """

    key: str
    label: str
    short: str
    rig: str
    needs: tuple[tuple[str, ...], ...]
    metric: str
    kind: str
    direction: int
    log: bool
    reduce: Callable[[RunInput], Quantity]
    optional: tuple[str, ...] = ("speed",)


PROCEDURES: dict[str, Procedure] = {
    procedure.key: procedure
    for procedure in (
        Procedure(
            "airflow", "Airflow in the tunnel", "Air", "tunnel", (("air_speed",), ("pitot_pressure",)), "airflow", "volume_flow", +1, True, airflow
        ),
        Procedure(
            "static_pressure", "Static pressure at the chamber", "Pressure", "chamber", (("static_pressure",),), "static pressure", "pressure", +1,
            True, static_pressure,
        ),
        Procedure(
            "sound_level", "Noise at the sound spot", "Noise", "sound_spot", (("sound_level", "background_level"),), "noise", "level", -1, False,
            sound_level,
        ),
        Procedure(
            "temperature_rise", "Temperature rise of the hot block", "Rise", "hot_block", (("load_temperature", "room_temperature"),),
            "temperature rise", "temperature_difference", -1, True, temperature_rise,
        ),
        Procedure(
            "electrical_power", "Electrical power", "Power", "power", (("voltage", "current"), ("power",)), "power", "power", -1, True,
            electrical_power,
        ),
    )
}  # fmt: skip


def channels_of(procedure: Procedure) -> tuple[str, ...]:
    """All channels that a procedure can use, in order."""
    return tuple(dict.fromkeys([c for group in procedure.needs for c in group] + list(procedure.optional)))


def fed_by(procedure: Procedure, channels: set[str]) -> bool:
    """Whether the channels at hand are enough for the procedure."""
    return any(set(group) <= channels for group in procedure.needs)
