"""Silencers in a duct below the first cross mode: transmission loss over frequency, and the length
for a tone.

References
----------
M. L. Munjal, Acoustics of Ducts and Mufflers, 2nd edition (2014), ch. 2: expansion chamber (eq.
    2.105), quarter-wave side branch,
side-branch resonator. Perforated tube in a chamber as a resonator: L. L. Beranek, I. L. Vér, Noise
    and Vibration Control
Engineering (1992), ch. 10; valid while the chamber is short against the wave. Cross modes begin at
    0.586 c / d.
"""

from __future__ import annotations

import math
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from hauch.core.predict.model import SOUND_SPEED, refuse

Array = NDArray[np.float64]

CROSS_MODE = 0.586
"""First cross mode of a round duct: f = 0.586 c / d (first zero of J1', 1.841 / pi)."""
MOST_LOSS = 60.0
"""Losses above are cut off: leaks and the walls' own sound go around a silencer before [dB]."""
DOUBT = 2.0
"""Standard uncertainty of a transmission loss of a printed silencer with flow [dB]; our assumption."""


@dataclass(frozen=True, slots=True)
class Chamber:
    """An expansion chamber: duct and chamber diameter, length [m]."""

    duct: float
    chamber: float
    length: float

    def problems(self) -> dict[str, str]:
        """A sentence for each thing that cannot be."""
        found = _positive({"duct": self.duct, "chamber": self.chamber, "length": self.length})
        if not found and self.chamber <= self.duct:
            found["chamber"] = (
                f"The chamber ({1000 * self.chamber:g} mm) must be wider than the duct"
                f" ({1000 * self.duct:g} mm), else it is a piece of duct."
            )
        return found

    def loss(self, frequency: Array | float, sound_speed: float = SOUND_SPEED) -> Array:
        """Transmission loss [dB]: 10 lg(1 + (m - 1/m)2 sin2(k L) / 4), m the ratio of areas."""
        m = (self.chamber / self.duct) ** 2
        k = 2 * np.pi * np.asarray(frequency, float) / sound_speed
        return 10 * np.log10(1 + 0.25 * (m - 1 / m) ** 2 * np.sin(k * self.length) ** 2)

    def limit(self, sound_speed: float = SOUND_SPEED) -> float:
        """Frequency of the first cross mode in the chamber [Hz]; the formula does not hold above."""
        return CROSS_MODE * sound_speed / self.chamber

    @staticmethod
    def length_for(frequency: float, sound_speed: float = SOUND_SPEED) -> float:
        """Length with the most loss at a frequency [m]: a quarter wave."""
        return sound_speed / (4 * frequency)


@dataclass(frozen=True, slots=True)
class QuarterWave:
    """A closed side branch: duct and branch diameter, length [m]."""

    duct: float
    branch: float
    length: float

    def problems(self) -> dict[str, str]:
        """A sentence for each thing that cannot be."""
        found = _positive({"duct": self.duct, "branch": self.branch, "length": self.length})
        if not found and self.branch > self.duct:
            found["branch"] = (
                f"The branch ({1000 * self.branch:g} mm) cannot be wider than the duct that it sits"
                f" on ({1000 * self.duct:g} mm)."
            )
        return found

    @property
    def sounding_length(self) -> float:
        """Length with the end correction of a flanged opening, 0.425 d [m]."""
        return self.length + 0.425 * self.branch

    def loss(self, frequency: Array | float, sound_speed: float = SOUND_SPEED) -> Array:
        """Transmission loss [dB]: 10 lg(1 + (m tan(k L))2 / 4), m branch over duct area, cut at
        `MOST_LOSS`.
        """
        m = (self.branch / self.duct) ** 2
        k = 2 * np.pi * np.asarray(frequency, float) / sound_speed
        return np.minimum(
            10 * np.log10(1 + 0.25 * (m * np.tan(k * self.sounding_length)) ** 2), MOST_LOSS
        )

    def limit(self, sound_speed: float = SOUND_SPEED) -> float:
        """Frequency of the first cross mode in the duct [Hz]."""
        return CROSS_MODE * sound_speed / self.duct

    def length_for(self, frequency: float, sound_speed: float = SOUND_SPEED) -> float:
        """Length that is tuned to a frequency [m]: a quarter wave less the end correction."""
        return sound_speed / (4 * frequency) - 0.425 * self.branch


@dataclass(frozen=True, slots=True)
class PerforatedTube:
    """A perforated tube in a closed chamber: duct and chamber diameter, length, hole diameter, wall
    [m], open share of the tube's surface.
    """

    duct: float
    chamber: float
    length: float
    hole: float
    wall: float
    open_share: float

    def problems(self) -> dict[str, str]:
        """A sentence for each thing that cannot be."""
        found = _positive(
            {
                "duct": self.duct,
                "chamber": self.chamber,
                "length": self.length,
                "hole": self.hole,
                "wall": self.wall,
            }
        )
        if not found and self.chamber <= self.duct + 2 * self.wall:
            found["chamber"] = (
                f"The chamber ({1000 * self.chamber:g} mm) must be wider than the perforated tube"
                f" ({1000 * (self.duct + 2 * self.wall):g} mm)."
            )
        if not 0 < self.open_share <= 0.5:
            found["open_share"] = (
                f"An open share of {100 * self.open_share:g} % cannot be; it lies between 0 and"
                " 50 %."
            )
        return found

    @property
    def volume(self) -> float:
        """Of the air around the tube [m3]."""
        return math.pi / 4 * (self.chamber**2 - (self.duct + 2 * self.wall) ** 2) * self.length

    @property
    def conductivity(self) -> float:
        """Of all holes [m]: n S / (t + 0.85 d (1 - 0.7 sqrt(sigma)))."""
        open_area = self.open_share * math.pi * self.duct * self.length
        return open_area / (self.wall + 0.85 * self.hole * (1 - 0.7 * math.sqrt(self.open_share)))

    def resonance(self, sound_speed: float = SOUND_SPEED) -> float:
        """Frequency of the most loss [Hz]: c / 2 pi sqrt(G / V)."""
        return sound_speed / (2 * math.pi) * math.sqrt(self.conductivity / self.volume)

    def loss(self, frequency: Array | float, sound_speed: float = SOUND_SPEED) -> Array:
        """Transmission loss [dB] of a resonator beside the duct: 10 lg(1 + (sqrt(G V) / (2 S) /
        (f/f0 - f0/f))2), cut at `MOST_LOSS`.
        """
        ratio = np.asarray(frequency, float) / self.resonance(sound_speed)
        strength = math.sqrt(self.conductivity * self.volume) / (2 * math.pi / 4 * self.duct**2)
        off = np.where(np.abs(ratio - 1 / ratio) < 1e-9, 1e-9, ratio - 1 / ratio)
        return np.minimum(10 * np.log10(1 + (strength / off) ** 2), MOST_LOSS)

    def limit(self, sound_speed: float = SOUND_SPEED) -> float:
        """Frequency up to which the chamber is short against the wave [Hz]: its length an eighth of
        it, or the first cross mode.
        """
        return min(sound_speed / (8 * self.length), CROSS_MODE * sound_speed / self.chamber)


def _positive(lengths: dict[str, float]) -> dict[str, str]:
    return {
        key: f"{key.capitalize()} is {1000 * v:g} mm; it must be above 0."
        for key, v in lengths.items()
        if not v > 0
    }


Silencer = Chamber | QuarterWave | PerforatedTube


def curve(part: Silencer, frequencies: Array, sound_speed: float = SOUND_SPEED) -> Array:
    """Transmission loss over frequency [dB].

    Raises
    ------
    CannotBe : geometry that cannot be
    """
    refuse(part.problems())
    return part.loss(frequencies, sound_speed)
