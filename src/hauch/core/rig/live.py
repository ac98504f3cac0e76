"""The bench as it goes on: what every meter shows at every moment while somebody turns the
throttle, and what goes wrong on request.

Time is given from outside; the rig advances in even ticks and keeps what its meters saw, so that a
meter can be asked late. Random numbers come from the seed, so that the same rig at the same ticks
reads the same.
"""

from __future__ import annotations

import hashlib
import math
from collections.abc import Mapping
from dataclasses import dataclass, field, replace

import numpy as np

from hauch.core.rig.fan import Fan, Loft140, block_conductance

CHANNELS = (
    "air_speed",
    "static_pressure",
    "orifice_pressure",
    "test_depression",
    "sound_level",
    "load_temperature",
    "room_temperature",
    "outlet_temperature",
    "case_temperature",
    "voltage",
    "current",
    "power",
    "speed",
    "speed_2",
    "scale_mass",
    "torque",
    "vibration",
    "throttle",
)
"""What the meters of a rig show, in SI."""

DIGITS = {
    "air_speed": 0.01,
    "static_pressure": 0.1,
    "orifice_pressure": 0.1,
    "test_depression": 0.1,
    "sound_level": 0.1,
    "load_temperature": 0.01,
    "room_temperature": 0.01,
    "outlet_temperature": 0.01,
    "case_temperature": 0.01,
    "voltage": 0.001,
    "current": 0.001,
    "power": 0.01,
    "speed": 1.0,
    "speed_2": 1.0,
    "scale_mass": 1e-4,
    "torque": 1e-4,
    "vibration": 1e-5,
    "throttle": 0.1,
}
"""Last digit of each meter."""

SCATTER = {
    "air_speed": 0.03,
    "static_pressure": 0.12,
    "orifice_pressure": 0.15,
    "test_depression": 0.4,
    "sound_level": 0.2,
    "load_temperature": 0.03,
    "room_temperature": 0.015,
    "outlet_temperature": 0.02,
    "case_temperature": 0.02,
    "voltage": 0.003,
    "current": 0.002,
    "power": 0.015,
    "speed": 1.5,
    "speed_2": 1.5,
    "scale_mass": 2e-4,
    "torque": 3e-4,
    "vibration": 2e-5,
    "throttle": 0.0,
}
"""White scatter of each meter, standard deviation in its unit."""

KEPT_SECONDS = 600
"""How far back a meter can be asked."""

BARE_SPEED = 1900.0
"""Speed of the drive without a part at full throttle [1/min]."""

START_AT = 7.0
"""Throttle [%] below which a rotor does not break loose."""


@dataclass
class Fault:
    """Something wrong with one channel until a tick: lost, stuck, a spike of some size, another
    unit by a factor.
    """

    kind: str
    until: int
    size: float = 0.0


@dataclass
class LiveRig:
    """One bench with its part.

    Parameters
    ----------
    seed : of all its scatter
    rate : ticks a second
    fan : the part that is mounted, None for an empty rig
    resistance : of the system [Pa s2/m6]; ``damper`` multiplies it
    """

    seed: int = 140
    rate: float = 50.0
    fan: Fan | None = Loft140
    resistance: float = 23_500.0
    damper: float = 1.0
    bore: float = 0.1252
    profile_factor: float = 0.846
    background: float = 33.0
    heat: float = 120.0
    room: float = 21.2
    load_seconds: float = 110.0
    spin_seconds: float = 0.8
    supply: float = 12.0
    air_share: float = 1.0
    """Share of the tunnel's centre speed that the anemometer feels where it stands."""
    battery: float = 0.0
    """Capacity of a battery [A s]; 0 runs on the mains."""
    drift_per_hour: float = 0.0
    turned_over: bool = False
    """Whether the part hangs head down."""
    full_scale: float = 2.0
    """Sound pressure [Pa] at which the meter's range ends and cuts."""
    only_upright: bool = False
    """A part whose bearing does not start head down."""
    throttle: float = 0.0
    stalled: bool = False
    speed: float = 0.0
    load: float = math.nan
    used: float = 0.0
    turbulence: float = 0.0
    tick: int = -1
    began: int = -1
    parts: Mapping[str, Fan] = field(default_factory=dict)
    """What is known of parts by name."""
    faults: dict[str, list[Fault]] = field(default_factory=dict)
    last: dict[str, float] = field(default_factory=dict)

    def __post_init__(self) -> None:
        self.size = int(KEPT_SECONDS * self.rate)
        self.kept = np.full((len(CHANNELS), self.size), np.nan)
        self.load = self.room if math.isnan(self.load) else self.load

    def start(self, seconds: float) -> None:
        """Begin at a time; nothing is kept of what was before."""
        self.tick = self.began = math.floor(seconds * self.rate)

    def mount(self, name: str) -> None:
        """Put a part on: one that is known by its name, the reference, any other as a variant that
        its name decides, always the same one; an empty name takes it off.
        """
        self.stalled, self.throttle, self.speed = False, 0.0, 0.0
        if not name:
            self.fan = None
            return
        if name in self.parts:
            self.fan = self.parts[name]
            return
        if name.startswith("Loft-140"):
            self.fan = Loft140
            return
        digest = hashlib.sha256(name.encode()).digest()
        flow, pressure, level, power = (b / 255 - 0.5 for b in digest[:4])
        self.fan = Loft140.changed(
            name, 1 + 0.16 * flow, 1 + 0.2 * pressure, 5 * level, 1 + 0.12 * power
        )

    def fault(self, channel: str, kind: str, seconds: float = 0.0, size: float = 0.0) -> None:
        """Make something go wrong from now on: dropout, stuck or unit for some seconds, spike once,
        stall until the throttle is closed.
        """
        if kind == "stall":
            self.stalled = True
            return
        if channel not in CHANNELS:
            raise ValueError(f"this bench reads no “{channel}”")
        if kind not in {"dropout", "stuck", "unit", "spike"}:
            raise ValueError(
                f"no fault of kind “{kind}”; there are dropout, stuck, unit, spike and stall"
            )
        until = self.tick + 1 if kind == "spike" else self.tick + max(int(seconds * self.rate), 1)
        self.faults.setdefault(channel, []).append(Fault(kind, until, size))

    def set_throttle(self, percent: float) -> None:
        """Turn the throttle [0 to 100 %]; closing it frees a stalled rotor."""
        if not 0 <= percent <= 100:
            raise ValueError(f"a throttle turns from 0 to 100 %, not to {percent:g}")
        self.throttle = percent
        if percent < START_AT:
            self.stalled = False

    def advance(self, seconds: float) -> None:
        """Go on to a time [s]; times that are over already change nothing."""
        if self.tick < 0:
            self.start(seconds)
        target = math.floor(seconds * self.rate)
        if target - self.tick > self.size:
            self.tick = target - self.size
        while self.tick < target:
            count = min(target - self.tick, int(self.rate))
            self._block(count)

    def _block(self, count: int) -> None:
        """Up to one second of ticks in which the throttle stands still."""
        dt = 1 / self.rate
        at = self.tick + 1 + np.arange(count)
        random = np.random.default_rng([self.seed, self.tick & 0xFFFFFFFF])
        fan, volts = self.fan, self._volts()
        sticks = (
            self.stalled or self.throttle < START_AT or (self.only_upright and self.turned_over)
        )
        top = BARE_SPEED if fan is None else fan.speed
        wanted = 0.0 if sticks else top * (self.throttle / 100) ** 0.92 * (volts / 12.0)
        decay = np.exp(-dt * (1 + np.arange(count)) / (0.3 if self.stalled else self.spin_seconds))
        speed = wanted + (self.speed - wanted) * decay
        self.speed = float(speed[-1]) if abs(speed[-1]) > 1 else 0.0
        true = self._physics(fan, speed, volts, sticks)
        flow = true.pop("flow")
        cooled = self.heat / block_conductance(float(flow.mean()))
        load = (
            self.room
            + cooled
            + (self.load - self.room - cooled)
            * np.exp(-dt * (1 + np.arange(count)) / self.load_seconds)
        )
        self.load = float(load[-1])
        hours = (at - self.began) * dt / 3600
        true["room_temperature"] = self.room + 0.25 * hours
        true["load_temperature"] = load + 0.25 * hours
        true["outlet_temperature"] = self.room + np.where(
            flow > 1e-4, self.heat / (1.2 * np.maximum(flow, 1e-3) * 1006), 0.0
        )
        true["case_temperature"] = self.room + 0.18 * (load - self.room)
        true["air_speed"] = (
            true["air_speed"] * (1 - self.drift_per_hour * hours) * (1 + self._gusts(random, count))
        )
        true["throttle"] = np.full(count, self.throttle)
        self.used += float(np.sum(true["current"])) * dt
        for row, key in enumerate(CHANNELS):
            shown = true[key] + SCATTER[key] * random.standard_normal(count)
            if key in {
                "air_speed",
                "speed",
                "speed_2",
                "current",
                "power",
                "vibration",
                "static_pressure",
                "orifice_pressure",
                "test_depression",
            }:
                shown = np.where(true[key] == 0, 0.0, np.maximum(shown, 0.0))
            self.kept[row, at % self.size] = self._faulty(
                key, np.round(shown / DIGITS[key]) * DIGITS[key], at
            )
        self.tick += count

    def _physics(
        self, fan: Fan | None, speed: np.ndarray, volts: float, sticks: bool
    ) -> dict[str, np.ndarray]:
        """What is true at each tick: everything that follows from the speed by the fan laws."""
        if fan is None:
            ratio, normal, lift, watts, level = speed / BARE_SPEED, 0.0, 0.0, 0.0, 20.0
        else:
            normal = fan.working_flow(self.resistance * self.damper, fan.speed, 1.2)
            ratio, lift = speed / fan.speed, fan.pressure(normal, fan.speed, 1.2)
            watts, level = fan.power(normal, fan.speed, 1.2) - fan.idle_power, fan.level
        flow = normal * ratio
        power = watts * ratio**3 + (fan.idle_power if fan else 0.9) * ratio**1.5
        if sticks and fan is not None and self.throttle >= START_AT:
            power = (
                power + 0.8 * (self.throttle / 100) ** 2 * volts
            )  # a rotor that is held takes its starting current
        own = level + 50 * np.log10(np.maximum(ratio, 1e-3))
        omega = speed * 2 * math.pi / 60
        return {
            "flow": flow,
            "air_speed": self.air_share * flow / (math.pi / 4 * self.bore**2) / self.profile_factor,
            "static_pressure": lift * ratio**2,
            "orifice_pressure": 0.6 * (flow / (0.61 * math.pi / 4 * 0.08**2)) ** 2,
            "test_depression": 14.0 * lift * ratio**1.95,
            "sound_level": 10 * np.log10(10 ** (own / 10) + 10 ** (self.background / 10)),
            "voltage": np.full_like(speed, volts - 0.05 * float(power.mean()) / 12),
            "current": power / max(volts, 0.1),
            "power": power,
            "speed": speed,
            "speed_2": 0.985 * speed,
            "scale_mass": 1.2 * flow**2 / 0.0145 / 9.80665,
            "torque": np.where(
                omega > 1,
                0.8 * watts * ratio**3 / np.maximum(omega, 1.0) + 0.004 + 1.5e-6 * speed,
                0.0,
            ),
            "vibration": 1.1e-3 * ratio + 0.4e-3 * ratio**2,
        }

    def _volts(self) -> float:
        if not self.battery:
            return self.supply
        left = max(1 - self.used / self.battery, 0.0)
        return self.supply * (0.86 + 0.14 * left) if left > 0.02 else self.supply * 0.5

    def _gusts(self, random: np.random.Generator, count: int) -> np.ndarray:
        """Turbulence: correlated over half a second, 0.6 %."""
        keep = math.exp(-1 / self.rate / 0.5)
        pushes = 0.006 * math.sqrt(1 - keep**2) * random.standard_normal(count)
        gusts = np.empty(count)
        for i in range(count):
            self.turbulence = keep * self.turbulence + pushes[i]
            gusts[i] = self.turbulence
        return gusts

    def _faulty(self, key: str, shown: np.ndarray, at: np.ndarray) -> np.ndarray:
        for fault in list(self.faults.get(key, ())):
            hit = at <= fault.until
            if fault.kind == "dropout":
                shown = np.where(hit, np.nan, shown)
            elif fault.kind == "stuck":
                shown = np.where(hit, self.last.get(key, shown[0]), shown)
            elif fault.kind == "unit":
                shown = np.where(hit, shown * (fault.size or 196.85), shown)
            elif fault.kind == "spike":
                shown = shown.copy()
                shown[0] += fault.size or 40 * SCATTER[key]
            if fault.until <= at[-1]:
                self.faults[key].remove(fault)
        if np.isfinite(shown[-1]):
            self.last[key] = float(shown[-1])
        return shown

    def now(self, channel: str) -> float:
        """What a meter shows at the last tick."""
        return float(self.kept[CHANNELS.index(channel), self.tick % self.size])

    def since(self, channel: str, after: int) -> tuple[int, np.ndarray]:
        """Samples of a channel after a tick, as far back as they are kept: number of the first one,
        and values, shape (n,).
        """
        first = max(after + 1, self.tick - self.size + 1, self.began + 1)
        at = np.arange(first, self.tick + 1)
        return first, self.kept[CHANNELS.index(channel), at % self.size]

    def sound(self, seconds: float, rate: int = 48_000) -> np.ndarray:
        """Sound pressure [Pa] at the meter as it is now: noise of the air, blade passing with
        harmonics, the room; cut at the end of its range.
        """
        count = int(seconds * rate)
        random = np.random.default_rng([self.seed, self.tick & 0xFFFFFFFF, 7])
        at = np.arange(count) / rate
        pascals = 2e-5 * 10 ** (self.now("sound_level") / 20)
        noise = np.cumsum(random.standard_normal(count))
        noise -= np.convolve(noise, np.ones(400) / 400, mode="same")
        noise *= 0.8 * pascals / max(float(np.std(noise)), 1e-12)
        passing = 7 * self.speed / 60
        tones = (
            sum((0.5 / k) * pascals * np.sin(2 * np.pi * k * passing * at + k) for k in (1, 2, 3))
            if passing > 1
            else 0.0
        )
        return np.clip(noise + tones, -self.full_scale, self.full_scale)

    def acceleration(self, seconds: float, rate: int = 6_400) -> np.ndarray:
        """Acceleration [m/s2] at the bearing as it is now: once a turn from unbalance, and the
        meter's own noise.
        """
        count = int(seconds * rate)
        random = np.random.default_rng([self.seed, self.tick & 0xFFFFFFFF, 9])
        turn = 2 * math.pi * self.speed / 60
        velocity = max(self.now("vibration"), 0.0)
        return turn * velocity * math.sqrt(2) * np.cos(
            turn * np.arange(count) / rate
        ) + 0.02 * random.standard_normal(count)


def bench_rig(number: int, rate: float = 50.0) -> LiveRig:
    """The rig of one of several benches: the same build, its own scatter."""
    return replace(LiveRig(seed=140 + number, rate=rate))
