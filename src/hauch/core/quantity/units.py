"""Units at the edges: what files and people write, and what the core computes in (SI).

Pint does the conversion; here stand the spellings that loggers use and the units that each kind of
figure is shown in.
"""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, replace
from functools import lru_cache
from typing import TYPE_CHECKING

import numpy as np

if TYPE_CHECKING:
    import pint

DEFINITIONS = (
    # NIST SP 811, table B.8: conventional millimetre of water
    "conventional_mmH2O = 9.80665 pascal",
    "conventional_inH2O = 249.08891 pascal",  # 25.4 conventional millimetres
    "rev_per_minute = 1 / minute",
    "decibel_a = 1",
    "share_percent = 1",  # humidity and throttle stay in percent
    "panel_point = 1",  # points that a judge gives
    "sone = 1",
    "acum = 1",
)


@lru_cache(maxsize=1)
def registry() -> pint.UnitRegistry:
    """Made when the first figure is converted: that takes a second, and not every process needs it."""
    import pint

    made: pint.UnitRegistry = pint.UnitRegistry(cache_folder=None)
    for definition in DEFINITIONS:
        made.define(definition)
    return made


class UnitUnknown(ValueError):
    """A unit that nobody knows, or one of the wrong kind."""


CHOICES: dict[str, tuple[str, ...]] = {
    "air_speed": ("m/s", "km/h", "ft/min", "mph", "kn"),
    "volume_flow": ("m³/h", "m³/s", "L/s", "L/min", "cfm"),
    "pressure": ("Pa", "hPa", "mbar", "mmH2O", "inH2O"),
    "air_pressure": ("hPa", "kPa", "mbar", "mmHg", "inHg"),
    "length": ("mm", "cm", "m", "in"),
    "area": ("cm²", "mm²", "m²", "in²"),
    "volume": ("L", "m³", "ft³"),
    "mass": ("g", "kg", "oz", "lb"),
    "force": ("N", "mN", "ozf", "lbf"),
    "torque": ("N m", "N mm", "N cm", "ozf in"),
    "temperature": ("°C", "°F", "K"),
    "temperature_difference": ("K", "Δ°F"),
    "vibration": ("mm/s", "in/s"),
}
"""Units that a person may choose for a kind of figure, whatever the others are shown in."""


def system_of(preset: str, own: Mapping[str, str]) -> str:
    """The units of a person as one text: ``si``, ``workshop`` or ``inch``, and the units of their own
    by kind. `Kind.shown` takes it like a preset.
    """
    said = [f"{kind}={unit}" for kind, unit in own.items() if unit in CHOICES.get(kind, ())]
    return ";".join([preset, *said])


@lru_cache(maxsize=512)
def _parts_of(system: str) -> tuple[str, dict[str, str]]:
    preset, *own = system.split(";")
    return preset, dict(one.split("=", 1) for one in own)


class Units(dict[str, str]):
    """The unit of a kind by unit system, also for a system with units of its own."""

    def __init__(self, kind: str, units: Mapping[str, str]):
        super().__init__(units)
        self.kind = kind

    def __missing__(self, system: str) -> str:
        preset, own = _parts_of(system)
        if preset == system or preset not in self:
            raise KeyError(system)
        return own.get(self.kind, self[preset])


@dataclass(frozen=True, slots=True)
class Kind:
    """A kind of figure: its SI unit, what it may be called and how it is shown.

    ``shown`` holds the unit for the unit systems ``si``, ``workshop`` and ``inch``, and for each made
    of one of them by `system_of`.
    """

    key: str
    label: str
    unit: str
    shown: dict[str, str]
    spellings: dict[str, str]


def _same(unit: str) -> dict[str, str]:
    return {"si": unit, "workshop": unit, "inch": unit}


_SPEED = {
    "m/s": "meter/second", "mps": "meter/second", "m s-1": "meter/second", "km/h": "kilometer/hour",
    "kmh": "kilometer/hour", "kph": "kilometer/hour", "ft/min": "foot/minute", "fpm": "foot/minute",
    "ft/s": "foot/second", "mph": "mile/hour", "kn": "knot",
}  # fmt: skip
_PRESSURE = {
    "pa": "pascal", "hpa": "hectopascal", "kpa": "kilopascal", "mbar": "millibar", "bar": "bar",
    "mmh2o": "conventional_mmH2O", "mmws": "conventional_mmH2O", "inh2o": "conventional_inH2O",
    "inwc": "conventional_inH2O", "inwg": "conventional_inH2O", "psi": "psi", "mmhg": "mmHg", "inhg": "inHg",
}  # fmt: skip
_FLOW = {
    "m3/s": "meter**3/second", "m³/s": "meter**3/second", "m3/h": "meter**3/hour", "m³/h": "meter**3/hour",
    "l/s": "liter/second", "l/min": "liter/minute", "cfm": "foot**3/minute",
}  # fmt: skip
_TEMPERATURE = {
    "degc": "degC", "°c": "degC", "c": "degC", "celsius": "degC",
    "degf": "degF", "°f": "degF", "f": "degF", "k": "kelvin",
}  # fmt: skip

OWN_KIND = "own:"
"""Key of the kind of a figure of one's own, before its unit: it is kept and shown in that."""


class Kinds(dict[str, Kind]):
    """Kinds by key, also that of each figure of one's own."""

    def __missing__(self, key: str) -> Kind:
        if not key.startswith(OWN_KIND):
            raise KeyError(key)
        unit = key.removeprefix(OWN_KIND)
        return Kind(key, "Figure", unit, Units(key, _same(unit)), {unit.casefold(): ""})


KINDS: dict[str, Kind] = Kinds(
    (kind.key, replace(kind, shown=Units(kind.key, kind.shown)))
    for kind in (
        Kind("air_speed", "Air speed", "m/s", {"si": "m/s", "workshop": "km/h", "inch": "ft/min"}, _SPEED),
        Kind("pressure", "Pressure", "Pa", {"si": "Pa", "workshop": "mmH2O", "inch": "inH2O"}, _PRESSURE),
        Kind("air_pressure", "Air pressure", "Pa", {"si": "hPa", "workshop": "hPa", "inch": "inHg"}, _PRESSURE),
        Kind("volume_flow", "Volume flow", "m3/s", {"si": "m³/s", "workshop": "m³/h", "inch": "cfm"}, _FLOW),
        Kind("level", "Sound level", "dB(A)", _same("dB(A)"),
             {"db(a)": "decibel_a", "dba": "decibel_a", "db a": "decibel_a", "db": "decibel_a"}),
        Kind("temperature", "Temperature", "degC", {"si": "°C", "workshop": "°C", "inch": "°F"}, _TEMPERATURE),
        Kind("temperature_difference", "Temperature rise", "K", {"si": "K", "workshop": "K", "inch": "Δ°F"},
             {"k": "kelvin", "δ°f": "delta_degF", "delta_degf": "delta_degF"}),
        Kind("rotational_speed", "Speed", "1/min", _same("1/min"),
             {"1/min": "rev_per_minute", "rpm": "rev_per_minute", "u/min": "rev_per_minute",
              "min-1": "rev_per_minute", "r/min": "rev_per_minute", "rev/min": "rev_per_minute", "tr/min": "rev_per_minute",
              "giri/min": "rev_per_minute", "omw/min": "rev_per_minute", "hz": "hertz", "1/s": "hertz"}),
        Kind("voltage", "Voltage", "V", _same("V"), {"v": "volt", "mv": "millivolt"}),
        Kind("current", "Current", "A", _same("A"), {"a": "ampere", "ma": "milliampere"}),
        Kind("power", "Power", "W", _same("W"), {"w": "watt", "mw": "milliwatt", "kw": "kilowatt"}),
        Kind("percent", "Share", "%", _same("%"), {"%": "share_percent", "%rh": "share_percent", "pct": "share_percent"}),
        Kind("density", "Density", "kg/m3", _same("kg/m³"), {"kg/m3": "kilogram/meter**3", "kg/m³": "kilogram/meter**3"}),
        Kind("length", "Length", "m", {"si": "m", "workshop": "mm", "inch": "in"},
             {"m": "meter", "mm": "millimeter", "cm": "centimeter", "in": "inch"}),
        Kind("area", "Area", "m2", {"si": "cm²", "workshop": "cm²", "inch": "in²"},
             {"m2": "meter**2", "m²": "meter**2", "cm2": "centimeter**2", "cm²": "centimeter**2", "mm²": "millimeter**2", "mm2": "millimeter**2",
              "in2": "inch**2", "in²": "inch**2"}),
        Kind("volume", "Volume", "m3", {"si": "m³", "workshop": "L", "inch": "ft³"},
             {"m3": "meter**3", "m³": "meter**3", "l": "liter", "ft3": "foot**3", "ft³": "foot**3"}),
        Kind("body_volume", "Volume", "m3", {"si": "cm³", "workshop": "cm³", "inch": "in³"},
             {"m3": "meter**3", "cm3": "centimeter**3", "cm³": "centimeter**3", "in3": "inch**3", "in³": "inch**3"}),
        Kind("mass", "Mass", "kg", {"si": "kg", "workshop": "g", "inch": "oz"}, {"kg": "kilogram", "g": "gram", "oz": "ounce", "lb": "pound"}),
        Kind("torque", "Torque", "N m", {"si": "N m", "workshop": "N mm", "inch": "ozf in"},
             {"n m": "newton*meter", "nm": "newton*meter", "n mm": "newton*millimeter", "mnm": "newton*millimeter", "n cm": "newton*centimeter",
              "ozf in": "force_ounce*inch", "oz in": "force_ounce*inch"}),
        Kind("time", "Time", "s", _same("s"), {"s": "second", "min": "minute", "h": "hour"}),
        Kind("angle", "Angle", "rad", _same("°"), {"rad": "radian", "°": "degree", "deg": "degree"}),
        Kind("frequency", "Frequency", "Hz", _same("Hz"), {"hz": "hertz", "khz": "kilohertz"}),
        Kind("force", "Force", "N", {"si": "N", "workshop": "N", "inch": "ozf"}, {"n": "newton", "mn": "millinewton", "ozf": "force_ounce", "lbf": "force_pound"}),
        Kind("mass_flow", "Mass flow", "kg/s", {"si": "g/s", "workshop": "g/s", "inch": "lb/min"},
             {"kg/s": "kilogram/second", "g/s": "gram/second", "lb/min": "pound/minute"}),
        Kind("charge", "Capacity", "A s", _same("Ah"), {"a s": "ampere*second", "as": "ampere*second", "ah": "ampere*hour", "mah": "milliampere*hour"}),
        Kind("resistance", "Resistance", "ohm", _same("mΩ"), {"ohm": "ohm", "mω": "milliohm", "mohm": "milliohm"}),
        Kind("supply_pressure", "Pressure above the room", "Pa", {"si": "bar", "workshop": "bar", "inch": "psi"}, _PRESSURE),
        Kind("inertia", "Inertia", "kg m2", {"si": "kg m²", "workshop": "g cm²", "inch": "oz in²"},
             {"kg m2": "kilogram*meter**2", "kg m²": "kilogram*meter**2", "g cm²": "gram*centimeter**2", "oz in²": "ounce*inch**2"}),
        Kind("unbalance", "Unbalance", "kg m", {"si": "g mm", "workshop": "g mm", "inch": "oz in"},
             {"kg m": "kilogram*meter", "g mm": "gram*millimeter", "oz in": "ounce*inch"}),
        Kind("stress", "Stress", "Pa", {"si": "MPa", "workshop": "MPa", "inch": "psi"}, {"pa": "pascal", "mpa": "megapascal", "psi": "psi"}),
        Kind("duration", "Duration", "s", _same("min"), {"s": "second", "min": "minute", "h": "hour"}),
        Kind("decibel", "Loss", "dB", _same("dB"), {"db": "decibel_a"}),
        Kind("loudness", "Loudness", "sone", _same("sone"), {"sone": "sone"}),
        Kind("sharpness", "Sharpness", "acum", _same("acum"), {"acum": "acum"}),
        Kind("pulse", "Pulse", "s", _same("ms"), {"s": "second", "ms": "millisecond"}),
        Kind("wire", "Cross-section", "m2", _same("mm²"), {"m2": "meter**2", "mm2": "millimeter**2", "mm²": "millimeter**2"}),
        Kind("vibration", "Vibration velocity", "m/s r.m.s.", {"si": "mm/s", "workshop": "mm/s", "inch": "in/s"},
             {"m/s r.m.s.": "meter/second", "m/s": "meter/second", "mm/s": "millimeter/second", "in/s": "inch/second"}),
        Kind("thermal_resistance", "Thermal resistance", "K/W", _same("K/W"), {"k/w": "kelvin/watt"}),
        Kind("points", "Points", "points", _same("points"), {"points": "panel_point", "": "panel_point"}),
        Kind("number", "Number", "", _same(""), {"": "dimensionless"}),
    )
)  # fmt: skip

PINT_OF_SI = {
    "m/s": "meter/second", "Pa": "pascal", "m3/s": "meter**3/second", "dB(A)": "decibel_a", "degC": "degC", "K": "kelvin",
    "1/min": "rev_per_minute", "V": "volt", "A": "ampere", "W": "watt", "%": "share_percent", "kg/m3": "kilogram/meter**3",
    "m": "meter", "m2": "meter**2", "m3": "meter**3", "kg": "kilogram", "N m": "newton*meter", "s": "second",
    "kg m2": "kilogram*meter**2", "kg m": "kilogram*meter", "rad": "radian", "Hz": "hertz", "N": "newton", "kg/s": "kilogram/second", "A s": "ampere*second",
    "sone": "sone", "acum": "acum", "ohm": "ohm", "dB": "decibel_a", "points": "panel_point",
    "K/W": "kelvin/watt", "m/s r.m.s.": "meter/second", "": "dimensionless",
}  # fmt: skip
KIND_OF_UNIT = {kind.unit: kind.key for kind in reversed(KINDS.values())}


@lru_cache(maxsize=512)
def _line(kind_key: str, written: str) -> tuple[float, float]:
    """Slope and offset that bring a written unit to the kind's SI unit."""
    kind = KINDS[kind_key]
    name = kind.spellings.get(written.strip().casefold().replace("_", "/"))
    if name is None:
        known = ", ".join(sorted(kind.spellings)) or "no unit"
        raise UnitUnknown(
            f"The unit “{written}” is not known for {kind.label.lower()}. Known are: {known}."
        )
    if kind_key.startswith(OWN_KIND):
        return 1.0, 0.0
    target = PINT_OF_SI[kind.unit]
    quantity = registry().Quantity
    zero = quantity(0.0, name).to(target).magnitude
    # Far from zero, so that an offset costs no digits.
    far = quantity(1e5, name).to(target).magnitude
    return float((far - zero) / 1e5), float(zero)


def to_si(value: float | np.ndarray, written: str, kind: str) -> float | np.ndarray:
    """Convert from a written unit to the SI unit of its kind.

    Raises
    ------
    UnitUnknown : with the unit, the kind and what is known
    """
    slope, offset = _line(kind, written)
    return value * slope + offset


def from_si(value: float | np.ndarray, written: str, kind: str) -> float | np.ndarray:
    """Convert from the SI unit of a kind to a unit that is written or shown."""
    slope, offset = _line(kind, written)
    return (value - offset) / slope


def factor_from_si(written: str, kind: str) -> float:
    """How many written units one SI unit is, for differences and doubts (no offset)."""
    return 1 / _line(kind, written)[0]
