"""Materials that are printed with, and what a print of one holds: layers, infill and temperature
enter here, and nowhere else.

References
----------
Strength along and across layers, stiffness: typical values of filament makers' data sheets, strength
    lowered to what prints reach; a print's own test bar goes before them. Infill: L. J. Gibson, M. F.
    Ashby, Cellular Solids, 2nd edition, ch. 4 (strength of a honeycomb pulled in its plane goes with
    the square of its density).
"""

from __future__ import annotations

from dataclasses import dataclass


@dataclass(frozen=True, slots=True)
class Material:
    """A printed material: density [kg/m3], tensile strength along and across its layers [Pa], heat
    that it stands [degC], temperature at which it is annealed [degC] (None where it is not) with
    what it shrinks along and grows across the layers (shares), what to mind, and Young's modulus
    [Pa].
    """

    key: str
    label: str
    density: float
    along: float
    across: float
    heat: float
    anneal: float | None = None
    shrinks: float = 0.0
    grows: float = 0.0
    cautions: str = ""
    stiffness: float = 2.0e9


MATERIALS: dict[str, Material] = {
    m.key: m
    for m in (
        Material(
            "pla",
            "PLA",
            1240,
            45e6,
            22e6,
            55,
            85,
            0.020,
            0.010,
            "Softens in a car in the sun. Creeps under a steady load.",
            3.0e9,
        ),
        Material(
            "petg",
            "PETG",
            1270,
            42e6,
            20e6,
            70,
            None,
            cautions="Strings; scrape its threads off before it is balanced.",
            stiffness=2.1e9,
        ),
        Material(
            "abs",
            "ABS or ASA",
            1060,
            34e6,
            15e6,
            90,
            100,
            0.008,
            0.004,
            "Its fumes are unhealthy: print and anneal it with the window open or an outlet.",
            2.0e9,
        ),
        Material(
            "pa",
            "Polyamide, dry",
            1120,
            48e6,
            26e6,
            110,
            90,
            0.006,
            0.003,
            "Takes up water and grows soft and larger by it: dry before printing, weigh dry.",
            2.0e9,
        ),
        Material(
            "pa_cf",
            "Polyamide with carbon fibre",
            1180,
            70e6,
            22e6,
            130,
            100,
            0.004,
            0.003,
            "Its dust holds fibres: sand it wet, wear a mask, keep it off electronics.",
            5.5e9,
        ),
        Material(
            "resin",
            "Tough resin",
            1150,
            40e6,
            38e6,
            55,
            None,
            cautions=(
                "Uncured resin and its solvent harm skin and lungs: gloves, outlet, cure it"
                " through."
            ),
            stiffness=1.8e9,
        ),
    )
}

ROOM = 23.0
"""Temperature of the data sheets' strengths [degC] (ISO 527)."""
WARM = 40.0
"""How warm a spinning print is taken to get at most [degC]: beside its motor, in a room. Our rule."""
LEFT_AT_HEAT = 0.5
"""Share of its strength that a plastic has left at the heat that it stands; between it and the room
on a straight line, beyond it none. Our rule, for amorphous plastics near their softening.
"""


@dataclass(frozen=True, slots=True)
class Printed:
    """How a part is printed, as far as its strength goes.

    Parameters
    ----------
    material : what it is printed in
    flat : whether its layers lie square to its axis
    shell : thickness of the solid shell of its walls, each side [m]; infinite for a solid print
    infill : share of what is inside the shell
    warm : temperature it gets at most [degC]
    """

    material: Material
    flat: bool = True
    shell: float = float("inf")
    infill: float = 1.0
    warm: float = WARM

    def __post_init__(self) -> None:
        if not (self.shell > 0 and 0 <= self.infill <= 1):
            raise ValueError(
                f"the shell must be above 0 and the infill a share, got {self.shell} and"
                f" {self.infill}"
            )

    def solid(self, thickness: float) -> float:
        """Share of a wall's strength that its print has [0, 1]: the shell whole, infill by the
        square of its share. The mass is not lowered with it, which is on the safe side.
        """
        core = max(0.0, 1 - 2 * self.shell / thickness) if thickness > 0 else 0.0
        return 1 - (1 - self.infill**2) * core

    @property
    def warmth(self) -> float:
        """Share of its strength that is left as warm as it gets; 0 beyond the heat that it stands."""
        stands = self.material.heat
        if self.warm >= stands:
            return LEFT_AT_HEAT if self.warm == stands else 0.0
        return 1 - (1 - LEFT_AT_HEAT) * max(0.0, self.warm - ROOM) / (stands - ROOM)

    def held(self, thickness: float, *, axial: bool = False) -> float:
        """Strength of a wall [Pa] against a pull square to the axis, or along it."""
        layers = self.material.along if self.flat != axial else self.material.across
        return layers * self.solid(thickness) * self.warmth

    def __str__(self) -> str:
        lies = "flat" if self.flat else "standing"
        return f"{self.material.label}, layers {lies}, up to {self.warm:.0f} °C"
