"""The blading of an axial rotor: its geometry along the radius, and what of it cannot be."""

from __future__ import annotations

from dataclasses import dataclass, replace
from functools import cached_property, lru_cache

import numpy as np
import scipy
from numpy.typing import NDArray

from hauch.core.predict.section import FAMILIES, TAIL, thickness_shape

Array = NDArray[np.float64]

CONTROLS = 5
"""Points that a curve along the radius is given by, evenly from hub to tip."""
STATIONS = 25


@dataclass(frozen=True)
class Blading:
    """One row of blades. Curves hold `CONTROLS` values from hub to tip.

    Parameters
    ----------
    blades : number
    hub, tip : diameters [m]
    chord : [m]
    pitch : angle of the chord from the plane of rotation [rad]
    camber : greatest camber, share of the chord
    thickness : greatest thickness [m]
    family : key in `FAMILIES`
    sweep, lean : of the tip against the hub, along the rotation and along the axis [rad, m]
    gap : between blade tip and bore [m]
    """

    blades: int
    hub: float
    tip: float
    chord: tuple[float, ...]
    pitch: tuple[float, ...]
    camber: tuple[float, ...]
    thickness: tuple[float, ...]
    family: str = "arc"
    sweep: float = 0.0
    lean: float = 0.0
    gap: float = 0.001

    def scaled(self, factor: float) -> Blading:
        """The same shape in another size."""

        def long(curve):
            return tuple(factor * v for v in curve)

        return replace(
            self,
            hub=factor * self.hub,
            tip=factor * self.tip,
            chord=long(self.chord),
            thickness=long(self.thickness),
            lean=factor * self.lean,
            gap=factor * self.gap,
        )

    def along(self, curve: tuple[float, ...], share: Array) -> Array:
        """A curve at shares of the span; it never overshoots its points (F. N. Fritsch, J. Butland,
        SIAM J. Sci. Comput. 5 (1984) 300).
        """
        return scipy.interpolate.PchipInterpolator(np.linspace(0, 1, len(curve)), curve)(share)

    @property
    def span(self) -> float:
        """Length of a blade [m]."""
        return (self.tip - self.hub) / 2

    def stations(self, count: int = STATIONS) -> Stations:
        """The blading at the middles of even pieces of the span."""
        return _stations(self, count)

    def problems(self) -> dict[str, str]:
        """A sentence for each thing that cannot be, by input."""
        found: dict[str, str] = {}

        def mm(v):
            return f"{1000 * v:.4g} mm"

        if not 1 <= self.blades <= 60:
            found["blades"] = f"{self.blades} blades cannot be; a rotor has 1 to 60."
        if not self.hub > 0:
            found["hub"] = f"The hub's diameter is {mm(self.hub)}; it must be above 0."
        if self.hub >= self.tip:
            found["tip"] = (
                f"The tip's diameter ({mm(self.tip)}) must be larger than the hub's"
                f" ({mm(self.hub)})."
            )
        if self.gap < 0:
            found["gap"] = f"The tip gap is {mm(self.gap)}: the rotor would cut into its bore."
        if self.family not in FAMILIES:
            found["family"] = f"The section family “{self.family}” is not known."
        for name, curve, low, high, unit, scale in (
            ("chord", self.chord, 1e-3, 1.0, "mm", 1e3),
            ("pitch", self.pitch, np.radians(1), np.radians(89), "degrees", 180 / np.pi),
            ("camber", self.camber, -0.02, 0.15, "% of the chord", 100),
            ("thickness", self.thickness, 2e-4, 0.1, "mm", 1e3),
        ):
            for at, value in enumerate(curve):
                if not low <= value <= high:
                    found.setdefault(
                        name,
                        f"{name.capitalize()} {at + 1} of {len(curve)} from the hub is"
                        f" {scale * value:.4g}; it must lie between {scale * low:.4g} and"
                        f" {scale * high:.4g} {unit}.",
                    )
        if found:
            return found
        rows = self.stations()
        thin = rows.thickness / rows.chord
        if (thin > 0.4).any():
            found["thickness"] = (
                "The blade is thicker than 40 % of its chord at"
                f" {mm(2 * rows.radius[thin.argmax()])} diameter; make it thinner or the chord"
                " longer."
            )
        self._overlap(found)
        return found

    def _overlap(self, found: dict[str, str]) -> None:
        """Blades of one row that cut into one another: parallel sections on a cylinder, one spacing
        apart.
        """
        share = np.linspace(0, 1, 21)
        radius = self.hub / 2 + share * self.span
        chord, pitch, thickness = (
            self.along(c, share) for c in (self.chord, self.pitch, self.thickness)
        )
        spacing = 2 * np.pi * radius / self.blades
        touch = (spacing * np.sin(pitch) < thickness) & (spacing * np.cos(pitch) < chord)
        if touch.any():
            at = int(touch.argmax())
            where = "at the hub" if at == 0 else f"at {2000 * radius[at]:.0f} mm diameter"
            found["blades"] = (
                f"The blades overlap {where}: {1000 * spacing[at] * np.sin(pitch[at]):.1f} mm from"
                f" blade to blade, which are {1000 * thickness[at]:.1f} mm thick. Take fewer"
                " blades, more pitch, a shorter chord or a larger hub."
            )

    def hides(self) -> float:
        """Diameter up to which blades cover one another seen along the axis [m]; 0 where none do.
        Such a rotor prints only with supports.
        """
        share = np.linspace(0, 1, 41)
        radius = self.hub / 2 + share * self.span
        covered = (
            self.along(self.chord, share) * np.cos(self.along(self.pitch, share))
            > 2 * np.pi * radius / self.blades
        )
        return float(2 * radius[covered].max()) if covered.any() else 0.0


@dataclass(frozen=True)
class Stations:
    """A blading at shares of its span (arrays over stations) [m, rad]."""

    blading: Blading
    share: Array

    @cached_property
    def radius(self) -> Array:
        return self.blading.hub / 2 + self.share * self.blading.span

    @cached_property
    def chord(self) -> Array:
        return self.blading.along(self.blading.chord, self.share)

    @cached_property
    def pitch(self) -> Array:
        return self.blading.along(self.blading.pitch, self.share)

    @cached_property
    def camber(self) -> Array:
        return self.blading.along(self.blading.camber, self.share)

    @cached_property
    def thickness(self) -> Array:
        return self.blading.along(self.blading.thickness, self.share)

    @cached_property
    def width(self) -> Array:
        """Span of each piece [m]."""
        return np.full(len(self.share), self.blading.span / len(self.share))

    @cached_property
    def solidity(self) -> Array:
        return self.blading.blades * self.chord / (2 * np.pi * self.radius)

    @cached_property
    def section_area(self) -> Array:
        """Area of the blade section [m2]: that of its thickness, and of its tail."""
        x = 0.5 * (1 - np.cos(np.linspace(0, np.pi, 65)))
        unit = 2 * np.trapezoid(thickness_shape(self.blading.family, x), x)
        return unit * self.chord * self.thickness + TAIL / 2 * self.chord**2


@lru_cache(maxsize=512)
def _stations(blading: Blading, count: int) -> Stations:
    return Stations(blading, (np.arange(count) + 0.5) / count)
