"""Fan laws: the same fan at another speed and in other air.

References
----------
ISO 5801:2017, 15.3 (conversion rules for small changes of speed and density): Q ~ n, Δp ~ ρ n², P ~
    ρ n³.
"""

from __future__ import annotations


def flow_at_speed(flow, measured_speed, wanted_speed):
    """Volume flow [m3/s] at another speed [1/min]; density does not change it."""
    return flow * _ratio(measured_speed, wanted_speed)


def pressure_at_speed(pressure, measured_speed, wanted_speed, measured_density, wanted_density):
    """Fan pressure [Pa] at another speed [1/min] and air density [kg/m3]."""
    return (
        pressure * _ratio(measured_speed, wanted_speed) ** 2 * (wanted_density / measured_density)
    )


def power_at_speed(power, measured_speed, wanted_speed, measured_density, wanted_density):
    """Impeller power [W] at another speed [1/min] and air density [kg/m3]."""
    return power * _ratio(measured_speed, wanted_speed) ** 3 * (wanted_density / measured_density)


def _ratio(measured_speed, wanted_speed):
    if not measured_speed > 0:
        raise ValueError(f"the measured speed must be above 0 1/min, got {measured_speed:g}")
    return wanted_speed / measured_speed
