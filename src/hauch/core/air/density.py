"""Density of moist air.

References
----------
A. Picard, R. S. Davis, M. Glaeser, K. Fujii, "Revised formula for the density of moist air
    (CIPM-2007)",
Metrologia 45 (2008) 149-155, equations 1 to A1.4.
"""

from __future__ import annotations

from dataclasses import replace

import numpy as np

from hauch.core.quantity import Influence, Quantity, derive, measured

STANDARD_DENSITY = 1.2
"""Density of standard air [kg/m3] (ISO 5801:2017, 3.1.4)."""

RANGE = {"temperature": (15.0, 27.0), "pressure": (60_000.0, 110_000.0)}
"""Range in which the authors state the formula's own uncertainty [degC, Pa]; outside it the doubt
is widened.
"""

MOLAR_GAS_CONSTANT = 8.314472  # J/(mol K), CODATA 2006, as used in the paper
MOLAR_MASS_DRY_AIR = 28.96546e-3  # kg/mol, at 400 umol/mol of carbon dioxide


def saturation_pressure(temperature: float | np.ndarray):
    """Pressure of saturated water vapour [Pa] at a temperature [degC]; CIPM-2007, eq. A1.1."""
    kelvin = np.asarray(temperature) + 273.15
    return np.exp(
        1.2378847e-5 * kelvin**2 - 1.9121316e-2 * kelvin + 33.93711047 - 6.3431645e3 / kelvin
    )


def room_readings(temperature: float, pressure: float, humidity: float) -> dict[str, Quantity]:
    """Temperature [degC], pressure [Pa] and humidity [%] of the room with the doubt of a workshop's
    instruments: standard uncertainties 0.3 K, 100 Pa and 3 %, common to the rig.
    """

    def common(name: str, label: str) -> Influence:
        return Influence(f"room:{name}", label, "common", "B")

    return {
        "temperature": measured(
            temperature, "degC", [(common("temperature", "room thermometer"), 0.3)]
        ),
        "pressure": measured(pressure, "Pa", [(common("pressure", "barometer"), 100.0)]),
        "humidity": measured(humidity, "%", [(common("humidity", "hygrometer"), 3.0)]),
    }


def moist_air_density(
    temperature: float | np.ndarray, pressure: float | np.ndarray, humidity: float | np.ndarray
):
    """Density of moist air by CIPM-2007 [kg/m3].

    Parameters
    ----------
    temperature : air temperature [degC]
    pressure : barometric pressure [Pa]
    humidity : relative humidity [%]

    Raises
    ------
    ValueError : temperature outside -40 to 60 degC, pressure outside 50 000 to 120 000 Pa, humidity
        outside 0 to 100 %

    Notes
    -----
    Relative standard uncertainty of the formula 22e-6 within `RANGE`. NaN in gives NaN out.
    """
    for name, value, low, high, unit in (
        ("air temperature", temperature, -40.0, 60.0, "degC"),
        ("air pressure", pressure, 50_000.0, 120_000.0, "Pa"),
        ("relative humidity", humidity, 0.0, 100.0, "%"),
    ):
        outside = (np.asarray(value) < low) | (np.asarray(value) > high)
        if np.any(outside):
            first = np.asarray(value)[outside].flat[0] if np.ndim(value) else value
            raise ValueError(
                f"{name} must be between {low:g} and {high:g} {unit}, got {first:g} {unit}"
            )
    kelvin = np.asarray(temperature) + 273.15
    saturation = saturation_pressure(temperature)
    enhancement = 1.00062 + 3.14e-8 * pressure + 5.6e-7 * np.asarray(temperature) ** 2
    vapour = np.asarray(humidity) / 100 * enhancement * saturation / pressure
    t = np.asarray(temperature)
    compressibility = (
        1
        - pressure
        / kelvin
        * (
            1.58123e-6
            - 2.9331e-8 * t
            + 1.1043e-10 * t**2
            + (5.707e-6 - 2.051e-8 * t) * vapour
            + (1.9898e-4 - 2.376e-6 * t) * vapour**2
        )
        + (pressure / kelvin) ** 2 * (1.83e-11 - 0.765e-8 * vapour**2)
    )
    density = (
        pressure
        * MOLAR_MASS_DRY_AIR
        / (compressibility * MOLAR_GAS_CONSTANT * kelvin)
        * (1 - 0.3780 * vapour)
    )
    return float(density) if np.ndim(density) == 0 else density


def room_air(temperature: float, pressure: float, humidity: float) -> Quantity:
    """Air density with doubt and working, from one set of room readings.

    Parameters
    ----------
    temperature : [degC]
    pressure : [Pa]
    humidity : [%]

    Notes
    -----
    Doubt of the room's instruments: see `room_readings`. Outside the paper's range the formula's own
    doubt is taken ten times as large.
    """
    readings = room_readings(temperature, pressure, humidity)

    def capped(temperature, pressure, humidity):
        return moist_air_density(temperature, pressure, min(max(humidity, 0.0), 100.0))

    density = derive(
        "Air density in the room",
        "ρ = p M (1 − 0.378 x) / (Z R T)",
        capped,
        readings,
        "kg/m3",
        "CIPM-2007, Picard et al. 2008, eq. 1",
        symbols={"temperature": "t", "pressure": "p", "humidity": "h"},
    )
    inside = all(
        low <= value <= high
        for value, (low, high) in (
            (temperature, RANGE["temperature"]),
            (pressure, RANGE["pressure"]),
        )
    )
    formula = Influence("air:formula", "air density formula", "common", "B")
    parts = {**density.parts, formula: density.value * (22e-6 if inside else 220e-6)}
    note = (
        ""
        if inside
        else (
            "Outside 15 to 27 °C or 600 to 1,100 hPa the formula's own uncertainty is taken ten times as"
            " large."
        )
    )
    return Quantity(
        density.value,
        "kg/m3",
        parts,
        (*density.working[:-1], replace(density.working[-1], note=note)),
    )
