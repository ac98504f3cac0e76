"""All that one run was read with, as reductions take it."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field
from typing import Any

import numpy as np

from hauch.core.air import room_air
from hauch.core.measure.channels import CHANNELS, SPEEDS
from hauch.core.measure.laws import Law
from hauch.core.measure.meter import Meter, read
from hauch.core.measure.taking import highest
from hauch.core.quantity import Influence, Quantity, derive, exact, measured


class NoResult(ValueError):
    """The figure cannot be had; the message says why and what to do, ``marks`` what was found in a
    trace.
    """

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
    rig : name -> (value, standard uncertainty) [SI]: ``bore``, ``profile_factor``, ``distance``,
        ``standby_power``
    rig_key : identity of the rig and its state
    temperature, pressure, humidity : room air [degC, Pa, %]
    positions : channel key -> traverse point of each reading, where a traverse was read
    correlation : channel key -> how many dense readings count as one, see `meter.read`
    steady : channel key -> quantity found by a trace fit, which replaces the mean of the readings
    common_speed : speed [1/min] to convert to, None to leave the figure at the speed it was read
    reporting_distance : distance [m] to which a sound level is moved, None to leave it
    equal : what the round holds equal [W or dB(A)], None where it holds nothing
    as_read : whether figures are left in the air and at the speed in which they were read
    highest : channels of which the highest steady value counts, not the mean
    hold : samples of a recording that make one steady value
    """

    run: str
    readings: Mapping[str, Sequence[float] | np.ndarray]
    meters: Mapping[str, Meter]
    rig: Mapping[str, tuple[float, float]]
    rig_key: str
    temperature: float
    pressure: float
    humidity: float
    positions: Mapping[str, Sequence[int] | np.ndarray] = field(default_factory=dict)
    correlation: Mapping[str, float] = field(default_factory=dict)
    steady: Mapping[str, Quantity] = field(default_factory=dict)
    common_speed: float | None = None
    reporting_distance: float | None = None
    equal: float | None = None
    as_read: bool = False
    highest: frozenset[str] = frozenset()
    hold: int = 1

    def has(self, channel: str) -> bool:
        """Whether the channel was read, by a meter that is known: what has none is not used."""
        read_at_all = len(self.readings.get(channel, ())) > 0
        return channel in self.steady or (read_at_all and channel in self.meters)

    def meter(self, channel: str) -> Meter:
        """The meter that reads a channel.

        Raises
        ------
        NoResult : none is set
        """
        meter = self.meters.get(channel)
        if meter is None:
            raise NoResult(
                f"No meter is set for {CHANNELS[channel].label.lower()} on this rig. Choose one in"
                " Stores."
            )
        return meter

    def mean(self, channel: str) -> Quantity:
        """The channel's mean with doubt, or its highest steady value where the rules take that."""
        if channel in self.steady:
            return self.steady[channel]
        if not len(self.readings.get(channel, ())):
            raise NoResult(f"{CHANNELS[channel].label} was not read. Add at least one reading.")
        if channel in self.highest:
            return highest(
                channel, self.readings[channel], self.meter(channel), self.run, self.hold
            )
        return read(
            channel,
            self.readings[channel],
            self.meter(channel),
            self.run,
            correlation=self.correlation.get(channel, 1.0),
        )

    def constant(self, name: str, label: str, unit: str) -> Quantity:
        """A constant of the rig with its doubt, common to all its runs."""
        if name not in self.rig:
            raise NoResult(f"The rig's {label} is not known. Enter it in Stores.")
        value, u = self.rig[name]
        return measured(
            value, unit, [(Influence(f"rig:{self.rig_key}:{name}", label, "common", "B"), u)]
        )

    def density(self) -> Quantity:
        """Air density in the room during the run."""
        return room_air(self.temperature, self.pressure, self.humidity)

    def electrical_input(self) -> Quantity:
        """Electrical power [W] as it was read, or volts times amps of direct current."""
        if self.has("power"):
            return self.mean("power")
        return derive(
            "Direct current power",
            "P = U I",
            lambda U, I: U * I,  # noqa: E741
            {"U": self.mean("voltage"), "I": self.mean("current")},
            "W",
            "definition of electrical power, direct current",
        )

    def rotor_speed(self) -> Quantity:
        """Speed of the part [1/min]; of several rotors their mean, which is what flow and pressure
        go with while they stay near each other.
        """
        read_ones = [key for key in SPEEDS if self.has(key)]
        if len(read_ones) < 2:
            return self.mean("speed")
        speeds = {f"n{i}": self.mean(key) for i, key in enumerate(read_ones, 1)}
        values = [q.value for q in speeds.values()]
        slowest, fastest = min(values), max(values)
        note = (
            ""
            if fastest <= 0 or slowest >= 0.9 * fastest
            else f"the rotors are {100 * (1 - slowest / fastest):.0f} % apart"
        )
        return derive(
            "Mean speed of the rotors",
            "n = 1/r Σ nᵢ",
            lambda **n: sum(n.values()) / len(n),
            speeds,
            "1/min",
            "definition",
            note=note,
        )

    def at_common_speed(self, quantity: Quantity, law: Law, symbol: str) -> Quantity:
        """The figure at the common speed that the test asks for; as it is where none is asked.

        Raises
        ------
        NoResult : the speed was not read, or the part stood still
        """
        if self.common_speed is None:
            return quantity
        if not self.has("speed"):
            raise NoResult(
                f"The rule converts to {self.common_speed:g} 1/min, but the speed was not read. Add"
                " it to this run."
            )
        speed = self.rotor_speed()
        if speed.value <= 0:
            raise NoResult(
                "The speed reads 0 1/min: the part stood still. Record it as did not finish."
            )
        return derive(
            f"To {self.common_speed:,.0f} 1/min",
            law.formula(symbol),
            lambda q, n, n_c: law.scaled(q, speed_ratio=n_c / n),
            {"q": quantity, "n": speed, "n_c": exact(self.common_speed, "1/min")},
            quantity.unit,
            "fan laws, ISO 5801:2017, 15.3",
            note=law.said,
            symbols={"q": symbol, "n_c": "n₀"},
        )
