"""A bench with its rigs and meters: what would be read when a fan runs on it at a moment.

Readings are physics, times the true errors of rig and meter (which the analysis must not know),
plus scatter, rounded to the meter's last digit. All random numbers come from the seed and the run's
name, so the same run reads the same.
"""

from __future__ import annotations

import hashlib
import math
from dataclasses import dataclass, field

import numpy as np

from hauch.core.rig.fan import Fan, block_conductance


@dataclass(frozen=True, slots=True)
class Room:
    """Room air at a moment: temperature [degC], pressure [Pa], humidity [%], density [kg/m3]."""

    temperature: float
    pressure: float
    humidity: float

    @property
    def density(self) -> float:
        """Ideal gas mixture of dry air and vapour (Magnus formula for saturation), independent of
        the analysis.
        """
        kelvin = self.temperature + 273.15
        vapour = (
            self.humidity
            / 100
            * 611.2
            * math.exp(17.62 * self.temperature / (243.12 + self.temperature))
        )
        return (self.pressure - vapour) / (287.058 * kelvin) + vapour / (461.495 * kelvin)


@dataclass(frozen=True, slots=True)
class Shift:
    """Slow change of the bench: share by which the tunnel's reading falls per hour, and K per hour
    in the room.
    """

    speed_per_hour: float = 0.0
    room_per_hour: float = 0.25


@dataclass(frozen=True, slots=True)
class Faults:
    """Faults on request: a louder room [dB], samples lost, samples spiked, a soak cut short (share
    of the full time).
    """

    background: float = 0.0
    dropout: tuple[int, int] | None = None
    spike: int | None = None
    cut_short: float = 1.0


@dataclass(frozen=True)
class Bench:
    """The loft's bench. Parameters are true values; what the stores believe of them differs a
    little.
    """

    seed: int = 140
    bore: float = 0.1252
    profile_factor: float = 0.846
    resistance: float = 23_500.0
    """Six trays [Pa s2/m6]."""
    background: float = 36.0
    sound_distance: float = 1.0
    heat: float = 120.0
    """Heater of the hot block [W]."""
    soak_seconds: float = 900.0
    time_constant: float = 140.0
    standby: float = 0.42
    shift: Shift = field(default_factory=Shift)
    true_errors: dict[str, float] = field(
        default_factory=lambda: {
            "air_speed": 1.006,
            "static_pressure": 0.992,
            "sound_level": 0.35,
            "power": 1.002,
        }
    )

    def room(self, hours: float) -> Room:
        """Room air some hours after the start of the session: warming by day, a slow front passing."""
        return Room(
            20.6 + self.shift.room_per_hour * (hours % 24) + 0.4 * math.sin(hours / 3.1),
            96_300 + 220 * math.sin(hours / 17),
            52 - 0.7 * (hours % 24),
        )

    def random(self, run: str) -> np.random.Generator:
        """The random numbers of one run."""
        digest = hashlib.sha256(f"{self.seed}/{run}".encode()).digest()
        return np.random.default_rng(int.from_bytes(digest[:8], "little"))

    def _fan_state(self, fan: Fan, room: Room, random: np.random.Generator) -> tuple[float, float]:
        speed = fan.speed * (1 + 0.0015 * random.standard_normal())
        return speed, fan.working_flow(self.resistance, speed, room.density)

    def tunnel(self, fan: Fan, run: str, hours: float, count: int = 10) -> dict[str, np.ndarray]:
        """Air speed on the axis [m/s] and rotor speed [1/min], ``count`` readings each."""
        random = self.random(run)
        speed, flow = self._fan_state(fan, self.room(hours), random)
        axis = flow / (math.pi / 4 * self.bore**2) / self.profile_factor
        mounted = 1 + 0.004 * random.standard_normal()
        indicated = (
            axis * mounted * self.true_errors["air_speed"] * (1 - self.shift.speed_per_hour * hours)
        )
        return {
            "air_speed": np.round(indicated * (1 + 0.009 * random.standard_normal(count)), 2),
            "speed": np.round(speed + 2 * random.standard_normal(count)),
        }

    def chamber(self, fan: Fan, run: str, hours: float, count: int = 8) -> dict[str, np.ndarray]:
        """Static pressure before the trays [Pa] and rotor speed [1/min]."""
        random = self.random(run)
        room = self.room(hours)
        speed, flow = self._fan_state(fan, room, random)
        pressure = (
            fan.pressure(flow, speed, room.density)
            * (1 + 0.006 * random.standard_normal())
            * self.true_errors["static_pressure"]
        )
        return {
            "static_pressure": np.round(pressure + 0.12 * random.standard_normal(count), 1),
            "speed": np.round(speed + 2 * random.standard_normal(count)),
        }

    def sound_spot(
        self, fan: Fan, run: str, hours: float, count: int = 6, faults: Faults = Faults()
    ) -> dict[str, np.ndarray]:
        """Level with the fan and background without it [dB(A)]."""
        random = self.random(run)
        speed, _ = self._fan_state(fan, self.room(hours), random)
        background = self.background + faults.background
        own = (
            fan.level_at(speed)
            - 20 * math.log10(self.sound_distance)
            + 0.25 * random.standard_normal()
        )
        total = (
            10 * math.log10(10 ** (own / 10) + 10 ** (background / 10))
            + self.true_errors["sound_level"]
        )
        return {
            "sound_level": np.round(total + 0.25 * random.standard_normal(count), 1),
            "background_level": np.round(
                background + self.true_errors["sound_level"] + 0.4 * random.standard_normal(count),
                1,
            ),
        }

    def supply(self, fan: Fan, run: str, hours: float, count: int = 6) -> dict[str, np.ndarray]:
        """Voltage [V] and current [A] at the supply, standby included."""
        random = self.random(run)
        room = self.room(hours)
        speed, flow = self._fan_state(fan, room, random)
        power = (
            fan.power(flow, speed, room.density) * (1 + 0.006 * random.standard_normal())
            + self.standby
        ) * self.true_errors["power"]
        voltage = 12.0 + 0.003 * random.standard_normal(count)
        return {
            "voltage": np.round(voltage, 3),
            "current": np.round(power / voltage + 0.0008 * random.standard_normal(count), 3),
        }

    def hot_block(
        self, fan: Fan, run: str, hours: float, interval: float = 1.0, faults: Faults = Faults()
    ) -> tuple[np.ndarray, dict[str, np.ndarray]]:
        """A soak: seconds from the start, and load and room temperature [degC] with rotor speed
        [1/min].

        Rise = heat / (h A), with h A as `block_conductance` has it.
        """
        random = self.random(run)
        room = self.room(hours)
        speed, flow = self._fan_state(fan, room, random)
        conductance = block_conductance(flow) * (1 + 0.006 * random.standard_normal())
        times = np.arange(0.0, self.soak_seconds * faults.cut_short, interval)
        drift = self.shift.room_per_hour * times / 3600
        warming = 1 - np.exp(-times / self.time_constant)
        followed = drift - self.shift.room_per_hour * self.time_constant / 3600 * warming
        load = room.temperature + followed + self.heat / conductance * warming
        channels = {
            "load_temperature": np.round(load + 0.05 * random.standard_normal(times.size), 2),
            "room_temperature": np.round(
                room.temperature + drift + 0.02 * random.standard_normal(times.size), 2
            ),
            "speed": np.round(speed + 2 * random.standard_normal(times.size)),
        }
        if faults.dropout:
            for values in channels.values():
                values[faults.dropout[0] : faults.dropout[1]] = np.nan
        if faults.spike is not None:
            channels["load_temperature"][faults.spike] = 151.3
        return times, channels
