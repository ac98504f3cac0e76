"""What the demo's parts do, against the reference fan: for the history of its rounds and for the
simulated meters, which show the same part again. No database.
"""

from __future__ import annotations

from hauch.core.rig import Fan, Loft140

CABINET: dict[str, tuple[float, float, float, float]] = {
    "Distel": (1.090, 1.10, -1.6, 1.04),
    "Schwalbe": (1.130, 1.14, 0.9, 1.13),
    "Kamm": (1.060, 1.07, -0.5, 1.05),
    "Weidenkorb": (1.052, 1.06, -0.6, 1.00),
    "Zaunkönig": (1.018, 1.02, -1.1, 1.01),
    "Mohn": (0.988, 0.97, 0.2, 1.00),
    "Löffel": (0.945, 0.93, 1.1, 1.05),
    "Pusteblume": (0.890, 0.86, -0.4, 0.93),
    "Ringelnatter": (1.16, 1.2, 0.5, 1.2),
}
"""Entries of the first round: flow, pressure, level [dB], power."""

INLETS: dict[str, tuple[float, float]] = {
    "Muschel": (0.985, -2.4),
    "Farn": (0.992, -1.1),
    "Moosbett": (0.938, -4.1),
    "Trichterling": (1.021, -0.9),
    "Lerche": (0.978, -2.9),
    "Kiesel": (1.008, -0.3),
}
"""Entries of the second round: air, level [dB]."""

WORN = 1 - 0.0045 * 5
"""What the clogged screen of the roof blower leaves of its air."""

L_02 = Loft140.changed("L-02", flow=1.012, pressure=1.010, level=0.2, power=1.006)
"""The reference specimen in use."""


def blower(air: float, level: float) -> Fan:
    """The roof blower behind an inlet."""
    return Loft140.changed(
        "blower", flow=1.5 * air, pressure=2.0 * air * air, level=6.0 + level, power=1.8
    )


def fans() -> dict[str, Fan]:
    """All that the simulated meters know by name."""
    return {
        "Loft-140 L-02": L_02,
        "Roof inlet I-01": blower(WORN, 0.0),
        **{name: Loft140.changed(name, *factors) for name, factors in CABINET.items()},
        **{name: blower(WORN * air, level) for name, (air, level) in INLETS.items()},
    }
